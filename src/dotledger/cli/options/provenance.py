"""Whose numbers an output tells: service, batch, round, day, threshold, tables."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from dotledger.core.tables.findings_table import Findings

__all__ = ["provenance", "provenance_lines", "run_provenance"]


def provenance(
    found: Findings,
    *,
    file: str | None = None,
    threshold: str | None = None,
    annotations: str | None = None,
) -> dict[str, Any]:
    """Return what an output about one table is about: a key of its JSON.

    `file` is where the findings were read from, if not from the ledger; `threshold` is the option
    as it was given.
    """
    return {
        "about": {
            "runs": [run_provenance(found, file=file, threshold=threshold)],
            "annotations": annotations,
        }
    }


def run_provenance(
    found: Findings, *, name: str = "", file: str | None = None, threshold: str | None = None
) -> dict[str, Any]:
    """Return whose findings a table holds; what is not known is empty or None."""
    from dotledger.core.tables.table_origin import Origin

    origin = found.origin or Origin()
    cut = [at for at, _ in origin.cut]
    return {
        "name": name,
        "service": origin.service,
        "batch": origin.batch,
        "reading": origin.reading,
        "round": origin.round,
        "sent": origin.sent,
        "settings": dict(origin.settings),
        "versions": list(origin.versions),
        "file": file,
        "threshold": threshold,
        "cut_before": [dict(at) if isinstance(at, Mapping) else at for at in cut],
    }


def provenance_lines(about: Mapping[str, Any]) -> list[str]:
    """Return the same in words: a line a run."""
    told = about["about"]
    truth = f"; annotations of {told['annotations']}" if told["annotations"] else ""
    runs: Sequence[Mapping[str, Any]] = told["runs"]
    return [f"{_run(run)}{truth if run is runs[-1] else ''}." for run in runs]


def _run(run: Mapping[str, Any]) -> str:
    from dotledger.core.tables.table_origin import asked_with

    name = f"{run['name']}: findings" if run["name"] else "Findings"
    whose = run["service"] or run["file"] or "a table"
    if run["batch"] is not None:
        whose += f", batch {run['batch']}"
    facts = [run["round"] and f"round {run['round']}", run["sent"] and f"sent {run['sent'][:10]}"]
    told = [", ".join(fact for fact in facts if fact), asked_with(run["settings"], run["versions"])]
    if known := "; ".join(fact for fact in told if fact):
        whose += f" ({known})"
    if run["service"] and run["file"]:
        whose += f", from {run['file']}"
    if run["threshold"] is not None:
        whose += f"; threshold {run['threshold']}"
    return f"{name} of {whose}"
