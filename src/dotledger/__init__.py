"""Dot Ledger: send images to recognition services, keep every answer, measure how right it is.

Everything here is imported when it is first used, so ``import dotledger`` costs little.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from dotledger.core.boxes import overlap as overlap
    from dotledger.core.measuring import measure as measure
    from dotledger.core.pairing import pair_tables as pair_tables
    from dotledger.core.comparison import Measure as Measure
    from dotledger.core.tables import Annotations as Annotations
    from dotledger.core.tables import Findings as Findings
    from dotledger.errors import DotLedgerError as DotLedgerError
    from dotledger.formats.tables import read_annotations as read_annotations
    from dotledger.formats.tables import read_findings as read_findings
    from dotledger.formats.tables import write_table as write_table
    from dotledger.images.gather import gather as gather
    from dotledger.ledger.store import Ledger as Ledger
    from dotledger.ledger.views import findings_of as findings_of
    from dotledger.report.api import draw as draw
    from dotledger.sending.api import send as send
    from dotledger.sending.api import send_async as send_async
    from dotledger.services.description import load_description as load_description

_HOMES = {
    "Annotations": "core.tables",
    "DotLedgerError": "errors",
    "Findings": "core.tables",
    "Ledger": "ledger.store",
    "Measure": "core.comparison",
    "draw": "report.api",
    "findings_of": "ledger.views",
    "gather": "images.gather",
    "load_description": "services.description",
    "measure": "core.measuring",
    "overlap": "core.boxes",
    "pair_tables": "core.pairing",
    "read_annotations": "formats.tables",
    "read_findings": "formats.tables",
    "send": "sending.api",
    "send_async": "sending.api",
    "write_table": "formats.tables",
}

__all__ = [
    "Annotations",
    "DotLedgerError",
    "Findings",
    "Ledger",
    "Measure",
    "__version__",
    "draw",
    "findings_of",
    "gather",
    "load_description",
    "measure",
    "overlap",
    "pair_tables",
    "read_annotations",
    "read_findings",
    "send",
    "send_async",
    "write_table",
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
