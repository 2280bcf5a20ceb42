"""``dotledger cover``."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common import (
    asked_findings,
    batch_options,
    example,
    json_option,
    ledger_option,
    print_json,
    print_table,
    replace_option,
    say,
    say_problems,
    threshold_of,
    threshold_option,
)
from dotledger.core.spelling import counted
from dotledger.files import check_output_folder

if TYPE_CHECKING:
    from dotledger.acting.covering import CoveredImage

__all__ = ["command"]


@click.command(
    name="cover",
    epilog=example("dotledger cover walk/images --ledger walk.ledger --service marl --out covered"),
)
@click.argument("images", nargs=-1, required=True)
@click.option("--out", "folder", metavar="FOLDER", required=True, help="Where the copies go.")
@click.option("--findings", metavar="FILE", help="A findings file; without it, the ledger.")
@ledger_option
@batch_options
@click.option("--kind", default="face", show_default=True, help="What is covered.")
@click.option("--label", "labels", multiple=True, help="Only this label; may be repeated.")
@click.option(
    "--style",
    type=click.Choice(["solid", "blurred", "blocks"]),
    default="solid",
    show_default=True,
    help="How it is covered.",
)
@click.option(
    "--margin", type=float, default=0.1, show_default=True, help="Of the box, on every side."
)
@threshold_option
@click.option("--annotations", metavar="PATH", help="Ground truth: says which are left open.")
@replace_option
@json_option
def command(
    images: tuple[str, ...],
    folder: str,
    findings: str | None,
    ledger: str,
    service: str | None,
    batch: int | None,
    kind: str,
    labels: tuple[str, ...],
    style: Any,
    margin: float,
    threshold: str | None,
    annotations: str | None,
    replace: bool,
    as_json: bool,
) -> int:
    """Cover faces, or anything else that was found, in copies of the images.

    The originals are never touched; a copy without anything to cover is the same bytes. With
    annotations the exit status is 1 if any annotated face is left open; it is 3 if some images
    could not be covered, such as one without an answer, or one that changed since it was sent.
    """
    from dotledger.acting.covering import cover_all
    from dotledger.core.tables.image_names import match_images
    from dotledger.images.gather import gather

    check_output_folder(
        folder, place="--out", inputs=(*images, findings, annotations, ledger), replace=replace
    )
    gathered = gather(images)
    found = asked_findings(findings, ledger, service, batch)
    found, matched = match_images(found, [item.name for item in gathered.items])
    for line in matched.lines():
        say(line)
    done = list(
        cover_all(
            gathered,
            found,
            Path(folder),
            annotations=_truth(annotations),
            shas=None if findings is not None else _shas(found, ledger, matched.names),
            kind=kind,
            label=labels or None,
            style=style,
            margin=margin,
            threshold=threshold_of(threshold),
        )
    )
    if as_json:
        print_json([_plain(one) for one in done])
    else:
        _show(done, kind, folder, annotated=annotations is not None)
    problems = [(one.name, one.problem) for one in done if one.problem]
    say_problems("not covered", problems)
    return 1 if any(one.left_open for one in done) else 3 if problems else 0


def _truth(annotations: str | None) -> Any:
    if annotations is None:
        return None
    from dotledger.formats.annotations.front import read_annotations

    return read_annotations(annotations)


def _shas(found: Any, ledger: str, renamed: Any) -> dict[str, str]:
    from dotledger.ledger.batches import find_batch, sent_images
    from dotledger.ledger.store import Ledger

    with Ledger(ledger, create=False, read_only=True) as opened:
        sent = sent_images(opened, find_batch(opened, batch=found.origin.batch))
    return {renamed.get(one.name, one.name): one.sha for one in sent if one.sha}


def _plain(one: CoveredImage) -> dict[str, Any]:
    open_ones = [{"label": n, "box": list(b), "covered": share} for n, b, share in one.left_open]
    return {
        "image": one.name,
        "path": None if one.path is None else str(one.path),
        "covered": one.covered,
        "left_open": open_ones,
        "removed": list(one.removed),
        "problem": one.problem,
    }


def _show(done: list[CoveredImage], kind: str, folder: str, *, annotated: bool) -> None:
    written = [one for one in done if one.path is not None]
    total = sum(one.covered for one in written)
    same = sum(one.covered == 0 for one in written)
    print_table(
        f"{counted(len(written), 'copy').replace('copys', 'copies')} in {folder}: "
        f"{counted(total, kind)} covered in {counted(len(written) - same, 'image')}; "
        f"{counted(same, 'image')} without any, the same bytes."
    )
    removed = Counter(word for one in written for word in one.removed)
    if removed:
        listed = ", ".join(f"{word} ({count})" for word, count in removed.most_common())
        print_table(f"Taken out of the metadata: {listed}.")
    if annotated:
        _show_open(written, kind)


def _show_open(written: list[CoveredImage], kind: str) -> None:
    from dotledger.report.terminal.tables import plain, rows_table

    open_ones = [(one, left) for one in written for left in one.left_open]
    if not open_ones:
        print_table(f"Every annotated {kind} is covered.")
        return
    print_table(f"Left open: {counted(len(open_ones), kind)}.")
    rows = [
        (plain(one.name), plain(label), " ".join(f"{v:.0f}" for v in box), f"{share:.0%}")
        for one, (label, box, share) in open_ones[:20]
    ]
    print_table("", rows_table("", ("image", "label", "box", "covered"), rows))
