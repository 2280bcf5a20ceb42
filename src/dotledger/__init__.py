"""Dot Ledger: send images to recognition services, keep every answer, measure how right it is.

Everything here is imported when it is first used, so ``import dotledger`` costs little.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    __version__: str
    from dotledger.acting.face_covering import cover as cover
    from dotledger.acting.image_repair import repair_images as repair_images
    from dotledger.acting.near_copies import image_prints as image_prints
    from dotledger.acting.near_copies import near_copies as near_copies
    from dotledger.api.choosing import check_gates as check_gates
    from dotledger.api.choosing import choose_similarity as choose_similarity
    from dotledger.api.choosing import choose_thresholds as choose_thresholds
    from dotledger.api.choosing import compare as compare
    from dotledger.api.choosing import decide as decide
    from dotledger.api.choosing import drift as drift
    from dotledger.api.drift_watch import watch as watch
    from dotledger.api.forgetting import forget as forget
    from dotledger.api.public_calls import check_conventions as check_conventions
    from dotledger.api.public_calls import draft_description as draft_description
    from dotledger.api.public_calls import forecast as forecast
    from dotledger.api.public_calls import measure as measure
    from dotledger.api.public_calls import reread as reread
    from dotledger.api.public_calls import try_call as try_call
    from dotledger.core.boxes.box_overlap import overlap as overlap
    from dotledger.core.comparison.run_combination import combine as combine
    from dotledger.core.decisions.text_masking import mask_text as mask_text
    from dotledger.core.measurement.measure_result import Measure as Measure
    from dotledger.core.pairing.pairing_rows import pair_tables as pair_tables
    from dotledger.core.tables.annotations_table import Annotations as Annotations
    from dotledger.core.tables.findings_table import Findings as Findings
    from dotledger.core.tables.image_name_matching import match_images as match_images
    from dotledger.core.tables.reviewed_annotations import (
        annotations_from_review as annotations_from_review,
    )
    from dotledger.core.thresholds.confidence_map import ConfidenceMap as ConfidenceMap
    from dotledger.core.thresholds.confidence_map import fit_confidence_map as fit_confidence_map
    from dotledger.errors import DotLedgerError as DotLedgerError
    from dotledger.formats.annotations.annotation_files import read_annotations as read_annotations
    from dotledger.formats.annotations.annotation_files import read_image_facts as read_image_facts
    from dotledger.formats.annotations.annotation_files import read_review as read_review
    from dotledger.formats.annotations.annotation_files import (
        write_annotations as write_annotations,
    )
    from dotledger.formats.fingerprint_files import read_prints as read_prints
    from dotledger.formats.fingerprint_files import write_prints as write_prints
    from dotledger.formats.rules_files import read_rules as read_rules
    from dotledger.formats.tables.findings_files import read_findings as read_findings
    from dotledger.formats.tables.findings_files import write_table as write_table
    from dotledger.formats.tables.picture_pairs import measure_pairs as measure_pairs
    from dotledger.formats.thresholds_files import read_thresholds as read_thresholds
    from dotledger.formats.thresholds_files import write_thresholds as write_thresholds
    from dotledger.images.image_gathering import gather as gather
    from dotledger.ledger.ledger_access import Ledger as Ledger
    from dotledger.ledger_findings import findings_of as findings_of
    from dotledger.report.charts import plot as plot
    from dotledger.report.charts import plot_style as plot_style
    from dotledger.report.pages.html_report import write_report as write_report
    from dotledger.report.pictures.box_drawing import draw as draw
    from dotledger.report.pictures.single_picture import picture as picture
    from dotledger.sending.batch_api import open_service as open_service
    from dotledger.sending.batch_api import send as send
    from dotledger.sending.batch_api import send_async as send_async
    from dotledger.sending.event_posting import post_verdicts as post_verdicts
    from dotledger.services.service_description import read_description as read_description

_HOMES = {
    "Annotations": "core.tables.annotations_table",
    "ConfidenceMap": "core.thresholds.confidence_map",
    "DotLedgerError": "errors",
    "Findings": "core.tables.findings_table",
    "Ledger": "ledger.ledger_access",
    "Measure": "core.measurement.measure_result",
    "annotations_from_review": "core.tables.reviewed_annotations",
    "check_conventions": "api.public_calls",
    "check_gates": "api.choosing",
    "choose_similarity": "api.choosing",
    "choose_thresholds": "api.choosing",
    "combine": "core.comparison.run_combination",
    "compare": "api.choosing",
    "cover": "acting.face_covering",
    "decide": "api.choosing",
    "draft_description": "api.public_calls",
    "drift": "api.choosing",
    "draw": "report.pictures.box_drawing",
    "findings_of": "ledger_findings",
    "fit_confidence_map": "core.thresholds.confidence_map",
    "forecast": "api.public_calls",
    "forget": "api.forgetting",
    "gather": "images.image_gathering",
    "image_prints": "acting.near_copies",
    "read_description": "services.service_description",
    "mask_text": "core.decisions.text_masking",
    "match_images": "core.tables.image_name_matching",
    "measure": "api.public_calls",
    "measure_pairs": "formats.tables.picture_pairs",
    "near_copies": "acting.near_copies",
    "open_service": "sending.batch_api",
    "overlap": "core.boxes.box_overlap",
    "pair_tables": "core.pairing.pairing_rows",
    "picture": "report.pictures.single_picture",
    "plot": "report.charts",
    "plot_style": "report.charts",
    "post_verdicts": "sending.event_posting",
    "read_annotations": "formats.annotations.annotation_files",
    "read_findings": "formats.tables.findings_files",
    "read_image_facts": "formats.annotations.annotation_files",
    "read_prints": "formats.fingerprint_files",
    "read_review": "formats.annotations.annotation_files",
    "read_rules": "formats.rules_files",
    "read_thresholds": "formats.thresholds_files",
    "repair_images": "acting.image_repair",
    "reread": "api.public_calls",
    "send": "sending.batch_api",
    "send_async": "sending.batch_api",
    "try_call": "api.public_calls",
    "watch": "api.drift_watch",
    "write_annotations": "formats.annotations.annotation_files",
    "write_prints": "formats.fingerprint_files",
    "write_report": "report.pages.html_report",
    "write_table": "formats.tables.findings_files",
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
    "check_conventions",
    "check_gates",
    "choose_similarity",
    "choose_thresholds",
    "combine",
    "compare",
    "cover",
    "decide",
    "draft_description",
    "draw",
    "drift",
    "findings_of",
    "fit_confidence_map",
    "forecast",
    "forget",
    "gather",
    "image_prints",
    "mask_text",
    "match_images",
    "measure",
    "measure_pairs",
    "near_copies",
    "open_service",
    "overlap",
    "pair_tables",
    "picture",
    "plot",
    "plot_style",
    "post_verdicts",
    "read_annotations",
    "read_description",
    "read_findings",
    "read_image_facts",
    "read_prints",
    "read_review",
    "read_rules",
    "read_thresholds",
    "repair_images",
    "reread",
    "send",
    "send_async",
    "try_call",
    "watch",
    "write_annotations",
    "write_prints",
    "write_report",
    "write_table",
    "write_thresholds",
]


if not TYPE_CHECKING:  # a type checker would take any typo for a name that is there

    def __getattr__(name: str) -> Any:
        if name == "__version__":
            from importlib.metadata import version

            return version("dot-ledger")
        if name in _HOMES:
            value = getattr(import_module(f"dotledger.{_HOMES[name]}"), name)
            globals()[name] = value
            return value
        if not name.startswith("_"):
            from dotledger.api.deprecated_calls import DEPRECATED

            if name in DEPRECATED:
                return DEPRECATED[name]
        raise AttributeError(f"module 'dotledger' has no attribute {name!r}")


def __dir__() -> list[str]:
    return __all__
