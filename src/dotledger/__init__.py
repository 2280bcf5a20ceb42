"""Dot Ledger: send images to recognition services, keep every answer, measure how right it is.

Everything here is imported when it is first used, so ``import dotledger`` costs little.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from dotledger.acting.copying import image_prints as image_prints
    from dotledger.acting.copying import near_copies as near_copies
    from dotledger.acting.cover import cover as cover
    from dotledger.core.boxes.overlap import overlap as overlap
    from dotledger.core.choosing.calibration import ConfidenceMap as ConfidenceMap
    from dotledger.core.choosing.calibration import fit_confidence_map as fit_confidence_map
    from dotledger.core.comparing.combining import combine as combine
    from dotledger.core.deciding.masking import mask_text as mask_text
    from dotledger.core.measuring.result import Measure as Measure
    from dotledger.core.pairing.rows import pair_tables as pair_tables
    from dotledger.core.tables.annotations import Annotations as Annotations
    from dotledger.core.tables.findings import Findings as Findings
    from dotledger.core.tables.image_names import match_images as match_images
    from dotledger.core.tables.reviewed import annotations_from_review as annotations_from_review
    from dotledger.drift_watch import watch as watch
    from dotledger.errors import DotLedgerError as DotLedgerError
    from dotledger.face import batches as batches
    from dotledger.face import check_conventions as check_conventions
    from dotledger.face import draft_description as draft_description
    from dotledger.face import failures as failures
    from dotledger.face import forecast as forecast
    from dotledger.face import measure as measure
    from dotledger.face import raw_answers as raw_answers
    from dotledger.face import reread as reread
    from dotledger.face import try_call as try_call
    from dotledger.face import usage as usage
    from dotledger.formats.annotations.front import load_annotations as load_annotations
    from dotledger.formats.annotations.front import read_annotations as read_annotations
    from dotledger.formats.annotations.front import read_image_facts as read_image_facts
    from dotledger.formats.annotations.front import read_review as read_review
    from dotledger.formats.annotations.front import write_annotations as write_annotations
    from dotledger.formats.prints_files import read_prints as read_prints
    from dotledger.formats.prints_files import write_prints as write_prints
    from dotledger.formats.rules_files import read_rules as read_rules
    from dotledger.formats.tables.tables import read_findings as read_findings
    from dotledger.formats.tables.tables import write_table as write_table
    from dotledger.formats.thresholds_files import read_thresholds as read_thresholds
    from dotledger.formats.thresholds_files import write_thresholds as write_thresholds
    from dotledger.images.gather import gather as gather
    from dotledger.kept import findings_of as findings_of
    from dotledger.ledger.store import Ledger as Ledger
    from dotledger.report.pages.report import write_report as write_report
    from dotledger.report.pictures.draw import draw as draw
    from dotledger.report.pictures.one import picture as picture
    from dotledger.report.plots import plot as plot
    from dotledger.report.plots import plot_style as plot_style
    from dotledger.sending.api import open_service as open_service
    from dotledger.sending.api import send as send
    from dotledger.sending.api import send_async as send_async
    from dotledger.services.description import load_description as load_description
    from dotledger.weighing import check_gates as check_gates
    from dotledger.weighing import choose_thresholds as choose_thresholds
    from dotledger.weighing import compare as compare
    from dotledger.weighing import decide as decide
    from dotledger.weighing import drift as drift

_HOMES = {
    "Annotations": "core.tables.annotations",
    "ConfidenceMap": "core.choosing.calibration",
    "DotLedgerError": "errors",
    "Findings": "core.tables.findings",
    "Ledger": "ledger.store",
    "Measure": "core.measuring.result",
    "annotations_from_review": "core.tables.reviewed",
    "batches": "face",
    "check_conventions": "face",
    "check_gates": "weighing",
    "choose_thresholds": "weighing",
    "combine": "core.comparing.combining",
    "compare": "weighing",
    "cover": "acting.cover",
    "decide": "weighing",
    "draft_description": "face",
    "drift": "weighing",
    "draw": "report.pictures.draw",
    "failures": "face",
    "findings_of": "kept",
    "fit_confidence_map": "core.choosing.calibration",
    "forecast": "face",
    "gather": "images.gather",
    "image_prints": "acting.copying",
    "load_annotations": "formats.annotations.front",
    "load_description": "services.description",
    "mask_text": "core.deciding.masking",
    "match_images": "core.tables.image_names",
    "measure": "face",
    "near_copies": "acting.copying",
    "open_service": "sending.api",
    "overlap": "core.boxes.overlap",
    "pair_tables": "core.pairing.rows",
    "picture": "report.pictures.one",
    "plot": "report.plots",
    "plot_style": "report.plots",
    "raw_answers": "face",
    "read_annotations": "formats.annotations.front",
    "read_findings": "formats.tables.tables",
    "read_image_facts": "formats.annotations.front",
    "read_prints": "formats.prints_files",
    "read_review": "formats.annotations.front",
    "read_rules": "formats.rules_files",
    "read_thresholds": "formats.thresholds_files",
    "reread": "face",
    "send": "sending.api",
    "send_async": "sending.api",
    "try_call": "face",
    "usage": "face",
    "watch": "drift_watch",
    "write_annotations": "formats.annotations.front",
    "write_prints": "formats.prints_files",
    "write_report": "report.pages.report",
    "write_table": "formats.tables.tables",
    "write_thresholds": "formats.thresholds_files",
}

__all__ = [
    "Annotations",
    "ConfidenceMap",
    "DotLedgerError",
    "Findings",
    "Ledger",
    "Measure",
    "__version__",
    "annotations_from_review",
    "batches",
    "check_conventions",
    "check_gates",
    "choose_thresholds",
    "combine",
    "compare",
    "cover",
    "decide",
    "draft_description",
    "draw",
    "drift",
    "failures",
    "findings_of",
    "fit_confidence_map",
    "forecast",
    "gather",
    "image_prints",
    "load_annotations",
    "load_description",
    "mask_text",
    "match_images",
    "measure",
    "near_copies",
    "open_service",
    "overlap",
    "pair_tables",
    "picture",
    "plot",
    "plot_style",
    "raw_answers",
    "read_annotations",
    "read_findings",
    "read_image_facts",
    "read_prints",
    "read_review",
    "read_rules",
    "read_thresholds",
    "reread",
    "send",
    "send_async",
    "try_call",
    "usage",
    "watch",
    "write_annotations",
    "write_prints",
    "write_report",
    "write_table",
    "write_thresholds",
]


def __getattr__(name: str) -> Any:
    if name == "__version__":
        from importlib.metadata import version

        return version("dot-ledger")
    if name not in _HOMES:
        raise AttributeError(f"module 'dotledger' has no attribute {name!r}")
    value = getattr(import_module(f"dotledger.{_HOMES[name]}"), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return __all__
