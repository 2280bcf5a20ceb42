"""``dotledger sort``."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    asked_findings,
    batch_options,
    example,
    given_options,
    json_option,
    ledger_option,
    one_kind,
    print_json,
    print_table,
    say,
    say_problems,
    sent_shas,
    threshold_of,
    threshold_option,
)
from dotledger.cli.options.provenance import provenance, provenance_lines
from dotledger.cli.options.writing_options import words_of, writing_options
from dotledger.core.spelling import counted
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

    from dotledger.acting.image_sorting import Sorted
    from dotledger.acting.output_folders import Place
    from dotledger.acting.picture_sources import PictureSource
    from dotledger.core.tables.findings_table import Findings
    from dotledger.images.image_gathering import Item
    from dotledger.report.pictures.box_writing import BoxWriting

__all__ = ["command"]


@click.command(
    name="sort",
    epilog=example(
        "dotledger sort walk/images --ledger walk.ledger --service flint --kinds object --out out"
    ),
)
@click.argument("images", nargs=-1, required=True)
@click.option("--out", "folder", metavar="FOLDER", required=True, help="Where the folders go.")
@click.option("--findings", metavar="FILE", help="A findings file; without it, the ledger.")
@ledger_option
@batch_options
@click.option(
    "--kinds", "kind", metavar="KIND", help="Sort by its labels; by default by all labels."
)
@threshold_option
@click.option("--strongest", is_flag=True, help="Only the strongest finding of each image counts.")
@click.option(
    "--least", type=float, metavar="C", help="With --strongest: at least this, or undecided."
)
@click.option(
    "--by",
    type=click.Choice(["label", "person", "verdict", "outcome", "review"]),
    help="By default label; verdict with --rules.",
)
@click.option("--rules", metavar="FILE", help="The rules of the verdicts.")
@click.option(
    "--similarity",
    type=float,
    metavar="S",
    help="With --by person: a name that is less similar, or has no similarity, counts as none.",
)
@click.option("--crops", is_flag=True, help="Cut each finding out, into the folder of its label.")
@click.option(
    "--margin", type=float, metavar="SHARE", help="With --crops: of the box, on every side; 0.2."
)
@click.option(
    "--how",
    type=click.Choice(["copy", "link", "list"]),
    default="copy",
    show_default=True,
    help="Copies, links, or only the list.",
)
@click.option(
    "--drawn", is_flag=True, help="Write annotated copies (.png), with boxes and their texts."
)
@writing_options
@json_option
def command(
    images: tuple[str, ...],
    folder: str,
    findings: str | None,
    ledger: str,
    service: str | None,
    batch: int | None,
    kind: str | None,
    threshold: str | None,
    strongest: bool,
    least: float | None,
    by: str | None,
    rules: str | None,
    similarity: float | None,
    crops: bool,
    margin: float | None,
    how: Any,
    drawn: bool,
    write: str | None,
    place: str,
    words: str | None,
    as_json: bool,
) -> int:
    """Sort images into folders: by label, person's name, verdict, outcome or review.

    IMAGES may be annotated copies, covered copies and crops, too: they go where the image goes that
    they were made from, and a crop goes by the finding that it shows. An image with two labels
    goes to both. Images without findings, undecided images and images
    without an answer have folders of their own. Nothing that exists is written over; a second
    run adds nothing. A manifest (sorted.csv) says what went where and why.
    """
    kind = one_kind(kind)
    from dotledger.acting.finding_crops import crop_findings
    from dotledger.acting.image_sorting import sort_images
    from dotledger.acting.output_folders import WITHOUT
    from dotledger.acting.picture_sources import (
        findings_by_picture,
        picture_sources,
        source_lines,
    )
    from dotledger.core.tables.image_name_matching import match_images
    from dotledger.images.image_gathering import gather
    from dotledger.report.pictures.box_writing import box_writing

    by = by or ("verdict" if rules else "label")
    _check(by, strongest, least, rules, findings, similarity, crops, margin)
    _check_drawn(drawn, crops=crops, how=how)
    gathered = gather(images)
    found = asked_findings(findings, ledger, service, batch)
    sources = picture_sources(gathered.items, found.image.used())
    plain = [item.name for item in gathered.items if item.name not in sources]
    found, matched = match_images(found, plain)
    for line in (*matched.lines(), *source_lines(sources)):
        say(line)
    if crops:
        shas = None if findings is not None else sent_shas(found, ledger, matched.names)
        wanted = found if kind is None else found.filter(kind=kind)
        wanted = wanted.cut(threshold_of(threshold))
        cut = crop_findings(
            gathered, wanted, Path(folder), shas=shas, margin=0.2 if margin is None else margin
        )
        done = list(cut)
    else:
        asked = {"kind": kind, "threshold": threshold_of(threshold), "strongest": strongest}
        asked |= {"least": least, "similarity": similarity or 0.0}
        shown = findings_by_picture(found, sources) if by in ("label", "person") else found
        places = _places(by, shown, rules, ledger, matched.names, asked)
        for picture, source in sources.items():
            if by not in ("label", "person"):  # that is known of the image as a whole
                places[picture] = places.get(source.image, [])
            elif source.box is not None and picture not in places:
                places[picture] = [(WITHOUT, "the finding that it shows is not there any more")]
        maker = None
        if drawn:
            writing = box_writing(found, write=write, place=place, words=words_of(words))
            maker = _maker(found.cut(threshold_of(threshold)), writing, sources)
        done = list(sort_images(gathered, places, Path(folder), how=how, drawn=maker))
    _write_manifest(done, Path(folder))
    about = provenance(found, file=findings, threshold=threshold)
    if as_json:
        print_json("sort", {**about, "images": [_plain(one) for one in done]})
    else:
        print_table(*provenance_lines(about))
        _show(done, folder, how)
    states = ("new", "there already", "listed")
    problems = [(one.image, one.state) for one in done if one.state not in states]
    say_problems("not sorted", problems)
    return 3 if problems else 0


def _check(
    by: str,
    strongest: bool,
    least: float | None,
    rules: str | None,
    findings: str | None,
    similarity: float | None,
    crops: bool,
    margin: float | None,
) -> None:
    """Refuse options that would go unheard."""
    if least is not None and not strongest:
        raise ArgumentError("goes with --strongest", place="--least", got=least)
    if (by == "verdict") != (rules is not None):
        raise ArgumentError("--by verdict and --rules go together", place="--by", got=by)
    if by in ("outcome", "review") and findings is not None:
        raise ArgumentError("only a ledger knows it", place="--by", got=by)
    if similarity is not None and by != "person":
        raise ArgumentError("goes with --by person", place="--similarity", got=similarity)
    if crops and by != "label":
        raise ArgumentError("crops go by label", place="--by", got=by)
    if margin is not None and not crops:
        raise ArgumentError("goes with --crops", place="--margin", got=margin)


def _check_drawn(drawn: bool, *, crops: bool, how: str) -> None:
    if not drawn and (given := given_options(["write", "place", "words"])):
        raise click.UsageError(f"{given[0]} goes with --drawn.")
    if drawn and (crops or how != "copy"):
        raise ArgumentError("makes copies of whole images", place="--drawn", got=how)


def _maker(
    found: Findings, writing: BoxWriting, sources: Mapping[str, PictureSource]
) -> Callable[[Item], bytes]:
    """Return what draws an image with its findings, as PNG; what was drawn before stays as it is.

    Boxes lie elsewhere on a picture that was made from an image.
    """
    from io import BytesIO

    from dotledger.images.image_preparation import decode_upright
    from dotledger.report.pictures.box_marks import draw_marks
    from dotledger.report.pictures.contact_sheets import picture_marks

    marks = picture_marks(found, None, writing=writing)

    def drawn(item: Item) -> bytes:
        if item.name in sources:
            return item.read()
        mine, footer, _ = marks.get(item.name, ([], "", ""))
        image = decode_upright(item.read()).convert("RGB")
        buffer = BytesIO()
        draw_marks(image, mine, footer=footer, place=writing.place).save(buffer, "PNG")
        return buffer.getvalue()

    return drawn


def _places(
    by: str,
    found: Findings,
    rules: str | None,
    ledger: str,
    renamed: Mapping[str, str],
    asked: dict[str, Any],
) -> dict[str, list[Place]]:
    from dotledger.acting.sorting_places import places_by_label, places_by_person, places_by_verdict

    similarity = asked.pop("similarity")
    if by == "label":
        return places_by_label(found, **asked)
    if by == "person":
        return places_by_person(found, threshold=asked["threshold"], least_similarity=similarity)
    if by == "verdict":
        from dotledger.api.choosing import decide

        return places_by_verdict(decide(found, rules or ""))
    return _kept_places(by, found, ledger, renamed)


def _kept_places(
    by: str, found: Findings, ledger: str, renamed: Mapping[str, str]
) -> dict[str, list[Place]]:
    """Return places by what only the ledger knows of the batch."""
    from dotledger.acting.sorting_places import places_by_outcome, places_by_review
    from dotledger.ledger.batch_queries import find_batch, outcomes_of
    from dotledger.ledger.human_review_log import verdicts_of
    from dotledger.ledger.ledger_store import LedgerStore

    with LedgerStore(ledger, create=False, read_only=True) as opened:
        assert found.origin is not None
        kept = find_batch(opened, batch=found.origin.batch)
        outcomes = outcomes_of(opened, kept)
        reviews = verdicts_of(opened, kept)
    if by == "outcome":
        return places_by_outcome({renamed.get(n, n): one for n, one in outcomes.items()})
    mine = {renamed.get(name, name): one for name, one in reviews.items()}
    return places_by_review([renamed.get(name, name) for name in outcomes], mine)


def _plain(one: Sorted) -> dict[str, Any]:
    return {**vars(one), "path": None if one.path is None else str(one.path)}


def _write_manifest(done: list[Sorted], folder: Path) -> None:
    from dotledger.formats.tables.findings_files import write_rows
    from dotledger.safe_files import whole_file

    rows = [(one.image, one.place, one.why, str(one.path or "")) for one in done]
    folder.mkdir(parents=True, exist_ok=True)
    with whole_file(folder / "sorted.csv") as draft:
        write_rows(draft, ("image", "place", "why", "path"), rows)


def _show(done: list[Sorted], folder: str, how: str) -> None:
    from dotledger.report.terminal.terminal_tables import plain, rows_table

    counts = Counter(one.place for one in done)
    rows = [(plain(place), str(count)) for place, count in sorted(counts.items())]
    print_table(rows_table("", ("place", "images"), rows), "")
    new = sum(one.state == "new" for one in done)
    there = sum(one.state == "there already" for one in done)
    what = "listed only" if how == "list" else f"{counted(new, 'new file')}, {there} there already"
    print_table(f"In {folder}: {what}. What went where and why: {Path(folder) / 'sorted.csv'}")
