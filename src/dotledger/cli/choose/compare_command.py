"""``dotledger compare``."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import zip_longest
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    as_kinds,
    example,
    json_option,
    kinds_option,
    ledger_option,
    print_json,
    print_table,
    replace_option,
    say,
    threshold_of,
)
from dotledger.cli.options.comparing_options import (
    annotation_options,
    batch_of,
    compared_tables,
    where_of,
)
from dotledger.cli.options.provenance import provenance_lines, run_provenance
from dotledger.core.spelling import counted
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ArgumentError
from dotledger.safe_files import check_output

if TYPE_CHECKING:
    from dotledger.core.comparison.interrater_agreement import Agreement
    from dotledger.core.comparison.run_comparison import Comparison
    from dotledger.ledger.usage_queries import BatchCost

__all__ = ["command"]

_MATCH = "exact,spelling,case,folders,ending"


@click.command(
    name="compare",
    epilog=example("dotledger compare flint.csv marl.csv --annotations annotations.csv"),
)
@click.argument("runs", nargs=-1, required=True, metavar="RUN RUN ...")
@click.option("--annotations", metavar="PATH", help="The ground truth; without it, agreement.")
@annotation_options
@ledger_option
@click.option("--overlap", type=float, default=0.5, show_default=True, help="Required overlap.")
@click.option(
    "--threshold",
    "thresholds",
    multiple=True,
    metavar="T",
    help="One for all runs, or repeated for each in order; as of measure.",
)
@click.option("--aim", metavar="SENTENCE", help="Choose each run's thresholds; as of choose.")
@click.option(
    "--each",
    type=click.Choice(["kind", "label", "all"]),
    default="kind",
    show_default=True,
    help="With --aim, what has a threshold of its own.",
)
@kinds_option
@click.option(
    "--matters",
    type=float,
    default=0.0,
    show_default=True,
    metavar="D",
    help="The smallest difference that matters.",
)
@click.option(
    "--claim",
    "claims",
    multiple=True,
    metavar="TEXT",
    help="A claimed figure, such as 'recall 0.92' or 'precision of face 92%'.",
)
@click.option(
    "--together",
    type=int,
    metavar="K",
    help="Also all runs combined: what at least K of them found.",
)
@click.option("--labels", is_flag=True, help="Also by label.")
@click.option("--draws", type=int, default=1000, show_default=True, help="For intervals; 0: none.")
@click.option("--seed", type=int, default=0, show_default=True, help="Of the draws.")
@click.option("--csv", "csv_file", metavar="FILE", help="Write every difference to a .csv file.")
@click.option("--worklist", metavar="FILE", help="Write the images in dispute to a .csv file.")
@replace_option
@json_option
def command(
    runs: tuple[str, ...],
    annotations: str | None,
    ledger: str,
    overlap: float,
    thresholds: tuple[str, ...],
    aim: str | None,
    each: Any,
    kinds: str | None,
    matters: float,
    claims: tuple[str, ...],
    together: int | None,
    labels: bool,
    draws: int,
    seed: int,
    csv_file: str | None,
    worklist: str | None,
    replace: bool,
    as_json: bool,
    **truth: Any,
) -> None:
    """Compare two or more runs on the images all of them answered.

    A RUN is a findings file, a batch's number in the ledger, or a service's name for its newest
    batch (flint@spring for that of a round); NAME=RUN gives it a name. A difference is the later
    run minus the earlier. Without annotations the runs' agreement is shown, and where they
    disagree.
    """
    from dotledger.api.choosing import compare
    from dotledger.core.comparison.run_combination import combine

    for path, place in ((csv_file, "--csv"), (worklist, "--worklist")):
        if path is not None:
            check_output(path, place=place, inputs=(annotations, ledger, *runs), replace=replace)
    tables, truths, costs, files = _read(runs, annotations, ledger, truth)
    if together is not None:
        _check_name(tables, "together")
        tables["together"] = combine(tables, least=together)
        costs["together"] = _added(list(costs.values()))
    cuts = [threshold_of(text) for text in thresholds]
    if len(cuts) > 1 and together is not None:
        cuts.append(None)
    result = compare(
        *tables.values(),
        annotations=truths,
        names=list(tables),
        overlap=overlap,
        threshold=cuts if len(cuts) > 1 else (cuts[0] if cuts else None),
        aim=aim,
        each=each,
        kinds=as_kinds(kinds),
        matters=matters,
        claims=claims,
        draws=draws,
        seed=seed,
    )
    _write(result, csv_file, worklist)
    about = _about(tables, files, thresholds, annotations)
    if as_json:
        cost = {n: _plain(c) for n, c in costs.items() if c}
        output = "agreement" if annotations is None else "compare"
        print_json(output, {**about, **result.to_dict(), "cost": cost})
    else:
        print_table(*provenance_lines(about))
        _show(result, costs, labels=labels)


def _read(
    runs: Sequence[str], annotations: str | None, ledger: str, truth: Mapping[str, Any]
) -> tuple[dict[str, Findings], Any, dict[str, BatchCost | None], dict[str, str | None]]:
    tables: dict[str, Findings] = {}
    files: dict[str, str | None] = {}
    costs: dict[str, BatchCost | None] = {}
    truths = None
    for text in runs:
        given, _, rest = text.rpartition("=")
        where = where_of(batch_of(rest, ledger))
        if annotations is None:
            found = _findings(where, ledger)
        else:
            compared = compared_tables(
                findings_columns=None, annotations=annotations, names=None, merge=None,
                match=_MATCH, ledger=ledger, **where, **truth,
            )  # fmt: skip
            found, truths = compared.findings, compared.annotations
            for line in compared.suspicious():
                say(f"{given or rest}: {line}")
            if not tables:
                for line in compared.lines:
                    say(line)
        name = given or (Path(rest).stem if where["findings"] else rest)
        _check_name(tables, name)
        tables[name] = found
        costs[name] = _cost(found, ledger)
        files[name] = where["findings"]
    return tables, truths, costs, files


def _about(
    tables: Mapping[str, Findings],
    files: Mapping[str, str | None],
    thresholds: Sequence[str],
    annotations: str | None,
) -> dict[str, Any]:
    """Return whose runs are compared, each with the threshold that was given for it."""
    cuts = [*thresholds] if len(thresholds) > 1 else [*thresholds] * len(tables)
    runs = [
        run_provenance(found, name=name, file=files.get(name), threshold=cut)
        for (name, found), cut in zip_longest(tables.items(), cuts[: len(tables)])
    ]
    return {"about": {"runs": runs, "annotations": annotations}}


def _check_name(tables: Mapping[str, Any], name: str) -> None:
    if name in tables:
        raise ArgumentError(
            "two runs of one name",
            place="RUN",
            got=name,
            next_step="Name them: spring=FILE autumn=FILE.",
        )


def _findings(where: Mapping[str, Any], ledger: str) -> Findings:
    from dotledger.cli.options.common_options import asked_findings

    found = asked_findings(where["findings"], ledger, where["service"], where["batch"])
    assert isinstance(found, Findings)
    return found


def _cost(found: Findings, ledger: str) -> BatchCost | None:
    """Return what a run's answers cost, if the ledger that it came from is there."""
    batch = found.origin.batch if found.origin else None
    if batch is None or not ("://" in ledger or Path(ledger).exists()):
        return None
    from dotledger.ledger.batch_queries import batches
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.ledger.usage_queries import batch_cost

    with LedgerStore(ledger, create=False, read_only=True) as opened:
        known = {one.id: one for one in batches(opened)}
        kept = known.get(batch)
        same = kept is not None and found.origin and kept.service == found.origin.service
        return batch_cost(opened, kept) if kept and same else None


def _added(costs: Sequence[BatchCost | None]) -> BatchCost | None:
    """Return what the combination of several runs costs: all their calls."""
    from msgspec.structs import replace as changed

    known = [one for one in costs if one is not None]
    if len(known) < len(costs) or len({one.currency for one in known}) > 1:
        return None
    return changed(
        known[0],
        images=min(one.images for one in known),
        money=sum(one.money for one in known),
        seconds=sum(one.seconds for one in known),
    )


def _plain(cost: BatchCost) -> dict[str, Any]:
    from msgspec import to_builtins

    found: dict[str, Any] = to_builtins(cost)
    return found


def _write(result: Any, csv_file: str | None, worklist: str | None) -> None:
    from dotledger.formats.tables.result_files import write_frame

    if csv_file is not None:
        write_frame(result.frame(), Path(csv_file))
        say(f"Differences written to {csv_file}")
    if worklist is not None:
        import pandas as pd

        rows = result.disputed if hasattr(result, "disputed") else result.pair.changed
        write_frame(pd.DataFrame([dict(row) for row in rows]), Path(worklist))
        say(f"{counted(len(rows), 'row')} of images in dispute written to {worklist}")


def _show(
    result: Comparison | Agreement, costs: Mapping[str, BatchCost | None], *, labels: bool
) -> None:
    from dotledger.core.comparison.interrater_agreement import Agreement
    from dotledger.report.terminal.comparison_tables import agreement_parts, comparison_parts

    if isinstance(result, Agreement):
        print_table(*agreement_parts(result))
        if result.disputed:
            print_table(f"--worklist FILE writes all {len(result.disputed)} images in dispute.")
        return
    print_table(*comparison_parts(result, labels=labels, costs=costs))
