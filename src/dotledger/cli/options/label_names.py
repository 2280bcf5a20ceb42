"""What a mapping of label names leaves open, for commands that apply one."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from dotledger.core.spelling import counted, first_of

if TYPE_CHECKING:
    from dotledger.core.tables.findings_table import Findings
    from dotledger.core.tables.label_name_mapping import Mapped, NameMap

__all__ = ["mapped_names", "mapping_facts", "mapping_lines"]

_MOST = 10


def mapped_names(findings: Findings, place: str, service: str) -> tuple[Mapped, NameMap]:
    """Return findings with their labels mapped by a file, and the mapping."""
    from dotledger.core.tables.label_name_mapping import map_names
    from dotledger.formats.label_name_files import read_names

    names = read_names(Path(place))
    return map_names(findings, names, service=service), names


def mapping_facts(mapped: Mapped) -> dict[str, Any]:
    """Return the labels that a mapping does not name, and its entries that met no finding."""
    columns = ("kind", "label", "findings", "nearest")
    return {
        "left_out": mapped.left_out,
        "unmapped": [dict(zip(columns, row, strict=True)) for row in mapped.unmapped],
        "unused": [dict(zip(("kind", "label", "nearest"), r, strict=True)) for r in mapped.unused],
    }


def mapping_lines(mapped: Mapped, place: str) -> list[str]:
    """Return the same in words, the most frequent first, each with the nearest spelling."""
    unmapped = [_near(f"{label} ({count})", near) for _, label, count, near in mapped.unmapped]
    unused = [_near(label, near) for _, label, near in mapped.unused]
    left_out = counted(mapped.left_out, "finding")
    lines = [f"{left_out} left out by {place}."] if mapped.left_out else []
    lines += [f"Labels missing from {place}: {first_of(unmapped, _MOST)}."] if unmapped else []
    if unused:
        lines.append(f"Entries of {place} that match no finding: {first_of(unused, _MOST)}.")
    return lines


def _near(label: str, nearest: str) -> str:
    return f"{label}, like {nearest}" if nearest else label
