"""``dotledger cover``."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    asked_findings,
    batch_options,
    example,
    json_option,
    ledger_option,
    one_kind,
    print_json,
    print_table,
    replace_option,
    say,
    say_problems,
    sent_shas,
    threshold_of,
    threshold_option,
    truth_of,
)
from dotledger.cli.options.provenance import provenance, provenance_lines
from dotledger.core.spelling import counted
from dotledger.safe_files import check_output_folder

if TYPE_CHECKING:
    from dotledger.acting.folder_covering import CoveredImage, StillFound

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
@click.option(
    "--kinds", "kind", default="face", show_default=True, metavar="KIND", help="What is covered."
)
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
@click.option(
    "--check",
    "again",
    metavar="DESCRIPTION",
    help="Send what was covered to this service, and say what it still finds. Calls are paid for.",
)
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
    again: str | None,
    replace: bool,
    as_json: bool,
) -> int:
    """Cover faces, or anything else that was found, in copies of the images.

    The originals are never touched; a copy without anything to cover is the same bytes. With
    annotations the exit status is 1 if any annotated face is left open; it is 3 if some images
    could not be covered, such as one without an answer, or one that changed since it was sent.
    """
    kind = one_kind(kind) or "face"
    from dotledger.acting.folder_covering import cover_all
    from dotledger.core.tables.image_name_matching import annotations_matched, match_images
    from dotledger.images.image_gathering import gather

    check_output_folder(
        folder, place="--out", inputs=(*images, findings, annotations, ledger), replace=replace
    )
    gathered = gather(images)
    found = asked_findings(findings, ledger, service, batch)
    found, matched = match_images(found, [item.name for item in gathered.items])
    for line in matched.lines():
        say(line)
    truth = truth_of(annotations)
    if truth is not None:
        truth = annotations_matched(truth, [item.name for item in gathered.items])
        _say_strangers(truth, {item.name for item in gathered.items})
    done = list(
        cover_all(
            gathered,
            found,
            Path(folder),
            annotations=truth,
            shas=None if findings is not None else sent_shas(found, ledger, matched.names),
            kind=kind,
            label=labels or None,
            style=style,
            margin=margin,
            threshold=threshold_of(threshold),
        )
    )
    still = None if again is None else _still_found(again, done, kind, labels, threshold)
    about = provenance(found, file=findings, threshold=threshold, annotations=annotations)
    if as_json:
        found_again = {} if still is None else {one.name: one for one in still}
        rows = [_plain(one, found_again.get(one.name)) for one in done]
        print_json("cover", {**about, "images": rows})
    else:
        print_table(*provenance_lines(about))
        _show(done, kind, folder, annotated=annotations is not None)
        _show_still(still, kind)
    problems = [(one.name, one.problem) for one in done if one.problem]
    say_problems("not covered", problems)
    left = any(one.left_open for one in done) or any(one.seen for one in still or ())
    # A certificate that was asked for and cannot be given counts as faces left open.
    left = left or (truth is not None and not _all_known(done))
    return 1 if left else 3 if problems or any(one.problem for one in still or ()) else 0


def _all_known(done: list[CoveredImage]) -> bool:
    written = [one for one in done if one.path is not None]
    return all(one.annotated is not None for one in written) and any(
        one.annotated for one in written
    )


def _say_strangers(truth: Any, names: set[str]) -> None:
    """Name annotated images that are none of those to be covered."""
    others = [name for name in truth.image.used() if name not in names]
    if others:
        listed = ", ".join(others[:3]) + (", ..." if len(others) > 3 else "")
        say(f"Annotated, and none of the images given: {counted(len(others), 'image')} ({listed})")


def _still_found(
    description: str, done: list[CoveredImage], kind: str, labels: tuple[str, ...], threshold: Any
) -> list[StillFound]:
    from dotledger.acting.folder_covering import still_found
    from dotledger.sending.batch_api import open_service

    with open_service(description, kinds=[kind]) as service:
        limit = threshold_of(threshold)
        return list(still_found(done, service.look, kind=kind, label=labels, threshold=limit))


def _show_still(still: list[StillFound] | None, kind: str) -> None:
    from dotledger.report.terminal.terminal_tables import plain, rows_table

    if still is None:
        return
    again = [one for one in still if one.seen]
    failed = [one for one in still if one.problem]
    calls = counted(len(still), "covered image")
    found = f"{kind} is found in {counted(len(again), 'image')}" if again else f"no {kind} is found"
    print_table("", f"Asked again about {calls}: {found}.")
    rows = [
        (plain(one.name), f"{conf:.2f}", " ".join(f"{v:.0f}" for v in box), where)
        for one in again
        for conf, box, where in one.seen
    ]
    if rows:
        print_table("", rows_table("", ("image", "confidence", "box", "where"), rows[:20]))
    say_problems("not asked again", [(one.name, one.problem) for one in failed])


def _plain(one: CoveredImage, still: StillFound | None) -> dict[str, Any]:
    open_ones = [{"label": n, "box": list(b), "covered": share} for n, b, share in one.left_open]
    return {
        "image": one.name,
        "path": None if one.path is None else str(one.path),
        "covered": one.covered,
        "left_open": open_ones,
        "annotated": one.annotated,
        "below_threshold": one.below,
        "removed": list(one.removed),
        "still_found": None if still is None else [list(seen) for seen in still.seen],
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
    if below := sum(one.below for one in written):
        print_table(f"Left open by the threshold: {counted(below, kind)} found below it.")
    removed = Counter(word for one in written for word in one.removed)
    if removed:
        listed = ", ".join(f"{word} ({count})" for word, count in removed.most_common())
        print_table(f"Taken out of the metadata: {listed}.")
    if annotated:
        _show_open(written, kind)


def _show_open(written: list[CoveredImage], kind: str) -> None:
    from dotledger.report.terminal.terminal_tables import plain, rows_table

    open_ones = [(one, left) for one in written for left in one.left_open]
    unknown = [one.name for one in written if one.annotated is None]
    total = sum(one.annotated or 0 for one in written)
    images = sum(bool(one.annotated) for one in written)
    if unknown:
        listed = ", ".join(unknown[:3]) + (", ..." if unknown[3:] else "")
        print_table(
            f"Cannot tell for {counted(len(unknown), 'image')} ({listed}): no annotation says "
            f"anything about {kind} there."
        )
    if not open_ones:
        where = f"{counted(total, kind)} in {counted(images, 'image')}"
        if total:
            print_table(f"Every annotated {kind} in these copies is covered: {where}.")
        elif not unknown:
            print_table(f"Cannot tell: no {kind} is annotated in these images.")
        return
    print_table(f"Left open: {counted(len(open_ones), kind)}.")
    rows = [
        (plain(one.name), plain(label), " ".join(f"{v:.0f}" for v in box), f"{share:.0%}")
        for one, (label, box, share) in open_ones[:20]
    ]
    print_table("", rows_table("", ("image", "label", "box", "covered"), rows))
