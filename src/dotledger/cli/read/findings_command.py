"""``dotledger findings``."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    as_kinds,
    batch_options,
    example,
    json_option,
    kinds_option,
    ledger_option,
    print_json,
    print_table,
    replace_option,
    say,
    service_name,
    threshold_of,
    threshold_option,
)
from dotledger.cli.options.label_names import mapped_names, mapping_facts, mapping_lines
from dotledger.cli.options.provenance import provenance, provenance_lines
from dotledger.core.spelling import counted, first_of
from dotledger.errors import ArgumentError
from dotledger.reading.strict_toml import hinted
from dotledger.safe_files import check_output

if TYPE_CHECKING:
    from dotledger.core.tables.findings_table import Findings

__all__ = ["command"]


@click.command(
    name="findings",
    epilog=example("dotledger findings --service flint --threshold 0.5 --out flint.csv"),
)
@ledger_option
@batch_options
@click.option("--reading", type=int, help="This reading; by default the newest.")
@click.option("--names", metavar="FILE", help="Apply a mapping of label names.")
@click.option(
    "--merge", type=float, metavar="T", help="Merge boxes of a label that overlap so much."
)
@click.option("--notes", is_flag=True, help="Show what the reading set aside or noticed.")
@kinds_option
@threshold_option
@click.option(
    "--mask",
    "masks",
    multiple=True,
    metavar="PATTERN",
    help="Mask what matches in lines of text: telephone, e-mail, web address, a list of terms "
    "(.txt) or a regular expression; may be repeated.",
)
@click.option("--label", "labels", multiple=True, help="Only this label; may be repeated.")
@click.option(
    "--where", metavar="CONDITION", help="Only those, such as \"age < 18 and mood = 'happy'\"."
)
@click.option(
    "--strongest",
    type=click.IntRange(1),
    metavar="N",
    help="Only the N findings of each image with the highest confidence.",
)
@click.option(
    "--least",
    type=float,
    metavar="C",
    help="With --strongest: only those of at least this confidence; without any, undecided.",
)
@click.option(
    "--order",
    type=click.Choice(["answer", "confidence"]),
    default="answer",
    show_default=True,
    help="As the answers came, or by falling confidence.",
)
@click.option(
    "--most", type=click.IntRange(0), default=40, show_default=True, help="Rows to show; 0 for all."
)
@click.option(
    "--out", "out_file", metavar="FILE", help="Write all to a .csv, .jsonl or .parquet file."
)
@click.option(
    "--details", is_flag=True, help="With a .csv: a column of attributes and points, as JSON."
)
@click.option(
    "--columns",
    metavar="NAMES",
    help="Attributes as columns, with commas: age,mood; also person, similarity.",
)
@click.option(
    "--metadata",
    is_flag=True,
    help="With a .csv: also FILE-metadata.json, which tells other programs what the columns are.",
)
@replace_option
@json_option
def command(
    ledger: str,
    service: str | None,
    batch: int | None,
    reading: int | None,
    names: str | None,
    merge: float | None,
    notes: bool,
    kinds: str | None,
    threshold: str | None,
    masks: tuple[str, ...],
    labels: tuple[str, ...],
    where: str | None,
    strongest: int | None,
    least: float | None,
    order: str,
    most: int,
    out_file: str | None,
    details: bool,
    columns: str | None,
    metadata: bool,
    replace: bool,
    as_json: bool,
) -> None:
    """Show what a service found, or write it to a file.

    Files keep a row with an empty label for every image that was answered and holds nothing.
    """
    from dotledger.ledger_findings import findings_of

    service = service_name(service)
    if metadata and not (out_file or "").lower().endswith(".csv"):
        raise ArgumentError("goes with a .csv file", place="--metadata", allowed=["--out FILE.csv"])
    if out_file is not None:
        check_output(out_file, place="--out", inputs=(ledger, names), replace=replace)
    if notes:
        _show_notes(ledger, batch, service, reading, as_json)
        return
    at = threshold_of(threshold)
    which: dict[str, Any] = {
        "batch": batch,
        "service": service,
        "reading": reading,
        "kinds": as_kinds(kinds),
    }
    whole = (names, merge, strongest, least, masks or None, labels or None, columns, where)
    plain = order == "answer" and all(one is None for one in whole)
    if out_file is not None and plain and _goes_in_parts(out_file, at):
        _write_in_parts(ledger, out_file, at, which)
        return
    found = findings_of(ledger, threshold=at, **which)
    found, facts = _renamed(found, names, service)
    found = _where(_worked(found, merge, masks, labels), where)
    found = _strongest(found, strongest, least)
    found = found.by_confidence() if order == "confidence" else found
    about = provenance(found, threshold=threshold)
    more = _columns(found, columns)
    if out_file is not None:
        _write_file(found, out_file, more, details=details, metadata=metadata)
    elif as_json:
        records = _records(found, more)
        print_json("findings", {**about, **facts, "findings": records})
    else:
        print_table(*provenance_lines(about), "")
        _show(found, most, more)


def _columns(found: Findings, columns: str | None) -> dict[str, list[Any]]:
    """Return attributes as columns by name, a cell for each row; refuse what no finding has."""
    if columns is None:
        return {}
    from dotledger.core.tables.finding_details import attribute_cells

    rows = [attribute_cells(one) for one in found.details or [None] * len(found)]
    known = list(dict.fromkeys(["person", "similarity", *(name for row in rows for name in row)]))
    wanted = [name.strip() for name in columns.split(",") if name.strip()]
    _check_known("no finding has this attribute", wanted, known, place="--columns")
    return {name: [row.get(name) for row in rows] for name in wanted}


def _write_file(
    found: Findings,
    out_file: str,
    more: Mapping[str, list[Any]],
    *,
    details: bool,
    metadata: bool,
) -> None:
    if more:
        _write_with(found, out_file, more, details=details)
    else:
        _write(found, out_file, details)
    if metadata:
        _write_metadata(found, out_file)


def _write_with(
    found: Findings, out_file: str, more: Mapping[str, list[Any]], *, details: bool
) -> None:
    """Write findings with further columns, which readers of findings pass over."""
    from dotledger.formats.tables.origin_files import check_origin_place, write_origin
    from dotledger.formats.tables.result_files import write_frame

    check_origin_place(Path(out_file))
    write_frame(found.frame(details="json" if details else None).assign(**more), Path(out_file))
    write_origin(found.origin, Path(out_file))
    say(f"{counted(len(found), 'row')} written to {out_file}, with {', '.join(more)}")
    _say_left_out(found, details=details)


def _strongest(found: Findings, strongest: int | None, least: float | None) -> Findings:
    if least is not None and strongest is None:
        raise ArgumentError(
            "goes with --strongest", place="--least", got=least, allowed=["--threshold"]
        )
    return found if strongest is None else found.strongest(strongest, least=least)


def _where(found: Findings, condition: str | None) -> Findings:
    """Return the findings that satisfy a condition; images without any were still answered."""
    if condition is None:
        return found
    kept = found.where(condition)
    left = counted(int((~found.blank).sum() - (~kept.blank).sum()), "finding")
    say(f"{left} left out: they do not satisfy {condition!r}, or lack what it asks for")
    return kept


def _renamed(
    found: Findings, names: str | None, service: str | None
) -> tuple[Findings, dict[str, Any]]:
    if names is None:
        return found, {}
    mapped, _ = mapped_names(found, names, service or "")
    for line in mapping_lines(mapped, names):
        say(line)
    return mapped.findings, {"names": mapping_facts(mapped)}


def _worked(
    found: Findings,
    merge: float | None,
    masks: tuple[str, ...],
    labels: tuple[str, ...],
) -> Findings:
    """Return findings with repeats merged, text masked, of some labels only."""
    if merge is not None:
        found = _merged(found, merge)
    if masks:
        found = _masked(found, masks)
    if labels:
        _check_labels(found, labels)
        found = _only(found, labels)
    return found


def _write_in_parts(ledger: str, out_file: str, threshold: Any, which: dict[str, Any]) -> None:
    from dotledger.formats.tables.partitioned_files import write_in_parts
    from dotledger.ledger_findings import findings_by_parts

    with findings_by_parts(ledger, threshold=threshold, **which) as (parts, details):
        rows = write_in_parts(parts, out_file, details=details)
    say(f"{rows} rows written to {out_file}")


def _goes_in_parts(out_file: str, threshold: Any) -> bool:
    """Tell whether what is asked for never needs the whole table: memory stays flat then."""
    return out_file.lower().endswith(".parquet") and (
        threshold is None or isinstance(threshold, float | str)
    )


def _write_metadata(found: Findings, out_file: str) -> None:
    import time

    from dotledger.formats.tables.csvw_metadata import write_csv_metadata

    today = time.strftime("%Y-%m-%d", time.gmtime())
    say(f"what its columns are: {write_csv_metadata(found, out_file, created=today)}")


def _write(found: Findings, out_file: str, details: bool) -> None:
    from dotledger.formats.tables.findings_files import write_table

    say(f"{counted(len(found), 'row')} written to {write_table(found, out_file, details=details)}")
    if out_file.lower().endswith(".csv"):
        _say_left_out(found, details=details)


def _say_left_out(found: Findings, *, details: bool) -> None:
    left = sum(one is not None for one in found.details or ())
    if left and not details:
        say(f"Attributes and points of {counted(left, 'finding')} left out; --details keeps them.")


def _only(found: Findings, labels: tuple[str, ...]) -> Findings:
    """Return the findings with these labels; images without any were still answered."""
    origin = found.origin and dataclasses.replace(found.origin, only=labels)
    kept = found.without(~found.label.among(labels) & ~found.blank)
    return dataclasses.replace(kept, origin=origin)


def _check_labels(found: Findings, labels: tuple[str, ...]) -> None:
    """Refuse a label that no finding has: an empty table would look like an answer."""
    known = [label for label in found.label.used() if label]
    _check_known("no finding has this label", labels, known, place="--label")


def _check_known(what: str, wanted: Sequence[str], known: Sequence[str], *, place: str) -> None:
    for name in wanted:
        if name not in known:
            raise ArgumentError(
                hinted(what, name, known), place=place, got=name, allowed=known[:20]
            )


def _merged(found: Findings, overlap: float) -> Findings:
    from dotledger.core.arguments import check_overlap
    from dotledger.core.tables.duplicate_merging import merge_repeats

    check_overlap(overlap, place="--merge")
    kept, into = merge_repeats(found, overlap=overlap)
    say(f"{len(into) - len(kept)} repeated boxes merged")
    return kept


def _masked(found: Findings, masks: tuple[str, ...]) -> Findings:
    """Mask lines of text, and say how many places of each sort there were."""
    from collections import Counter

    from dotledger.core.decisions.rule_conditions import PATTERNS
    from dotledger.core.decisions.text_masking import mask_text
    from dotledger.formats.rules_files import pattern_of

    here = Path()
    patterns = [one if one in PATTERNS else pattern_of([one], here) for one in masks]
    masked, places = mask_text(found, patterns)
    counts = Counter(place.what for place in places)
    listed = ", ".join(f"{what} {count}" for what, count in counts.items())
    say(f"masked in lines of text: {listed or 'nothing'}")
    return masked


def _show_notes(
    ledger: str, batch: int | None, service: str | None, reading: int | None, as_json: bool
) -> None:
    from collections import Counter

    from dotledger.ledger.batch_queries import find_batch
    from dotledger.ledger.finding_queries import notes_of
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.report.terminal.terminal_tables import rows_table

    with LedgerStore(ledger, create=False) as opened:
        noted = notes_of(opened, find_batch(opened, batch=batch, service=service, reading=reading))
    if as_json:
        notes = [{"image": i, "reason": r, "value": v} for i, r, v in noted]
        print_json("notes", {"notes": notes})
        return
    counts = Counter(reason for _, reason, _ in noted)
    examples = {reason: f"{value} in {image}" for image, reason, value in reversed(noted)}
    rows = [(reason, str(n), examples[reason]) for reason, n in counts.most_common()]
    print_table(rows_table("", ("set aside or noticed", "times", "such as"), rows))


def _records(found: Findings, more: Mapping[str, list[Any]]) -> list[dict[str, Any]]:
    rows = found.frame().to_dict("records")
    plain: list[dict[str, Any]] = []
    for place, row in enumerate(rows):
        record = {str(k): None if v != v else v for k, v in row.items()}
        details = found.details[place] if found.details is not None else None
        cells = {"columns": {name: told[place] for name, told in more.items()}} if more else {}
        plain.append(record | ({"details": details.to_dict()} if details else {}) | cells)
    return plain


def _show(found: Findings, most: int, more: Mapping[str, list[Any]]) -> None:
    from dotledger.report.terminal.terminal_tables import number, rows_table

    shown = found.take(~found.blank)
    images, kinds, labels = (c.values() for c in (shown.image, shown.kind, shown.label))
    there = [place for place, blank in enumerate(found.blank) if not blank] if more else []
    told = [[cells[place] for place in there] for cells in more.values()]
    stop = len(shown) if most <= 0 else min(most, len(shown))
    rows = [
        (
            images[i],
            kinds[i],
            labels[i],
            number(float(shown.confidence[i])),
            *(_cell(cells[i]) for cells in told),
            *_box(shown, i),
        )
        for i in range(stop)
    ]
    header = ("image", "kind", "label", "confidence", *more, "x0", "y0", "x1", "y1")
    print_table(rows_table("", header, rows))
    empty = int(found.blank.sum())
    # Answers whose findings were cut held something: only a whole table tells of empty ones.
    origin = found.origin
    cut = origin is not None and bool(origin.removed or origin.only or origin.where)
    none = "have none of these left" if cut else "held nothing"
    print_table(f"{counted(len(shown), 'finding')}. {counted(empty, 'answer')} {none}.")
    for line in _cut_lines(found):
        print_table(line)
    if stop < len(shown):
        say(
            f"The first {stop} are shown. --most 0 shows all, --order confidence the strongest "
            "first, --out FILE writes all."
        )


def _cut_lines(found: Findings) -> list[str]:
    """Return how many findings were cut, by us and by the service, and who is undecided."""
    origin = found.origin
    if origin is None:
        return []
    lines = []
    if origin.cut:
        lines.append(f"Cut by the threshold: {counted(origin.removed, 'finding')}.")
    if origin.floor is not None:
        lines.append(
            f"Cut by the service itself: everything below {origin.floor:g}; how much is not known."
        )
    if origin.strongest is not None and origin.cut and (left := found.undecided()):
        lines.append(f"Undecided: {counted(len(left), 'image')}, {first_of(left, 5)}.")
    return lines


def _cell(value: Any) -> Any:
    from dotledger.report.terminal.terminal_tables import DASH, plain

    if isinstance(value, float):
        return f"{value:.4g}"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return DASH if value is None else plain(value)


def _box(table: Findings, row: int) -> list[str]:
    from dotledger.report.terminal.terminal_tables import number

    return [number(float(value), 1) for value in table.box[row]]
