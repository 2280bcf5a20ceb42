"""``dotledger show``."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    batch_options,
    example,
    given_options,
    json_option,
    ledger_option,
    print_json,
    print_table,
    replace_option,
    say,
    service_name,
    threshold_of,
    threshold_option,
)
from dotledger.cli.options.writing_options import words_of, writing_options
from dotledger.core.spelling import nearest
from dotledger.errors import ArgumentError
from dotledger.text_display import plain_text

if TYPE_CHECKING:
    from dotledger.core.tables.annotations_table import Annotations
    from dotledger.core.tables.findings_table import Findings
    from dotledger.images.image_gathering import Item
    from dotledger.ledger.batch_queries import Batch, Sent
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.report.pictures.box_marks import Mark

__all__ = ["command"]


@click.command(
    name="show",
    epilog=example("dotledger show walk-02.jpg --service flint --annotations annotations.csv"),
)
@click.argument("image")
@ledger_option
@batch_options
@click.option("--annotations", metavar="PATH", help="Ground truth: right, wrong, missed.")
@click.option("--overlap", type=float, default=0.5, show_default=True, help="Required overlap.")
@threshold_option
@click.option("--rules", metavar="FILE", help="The verdict on it.")
@click.option("--raw", is_flag=True, help="Also the raw answers.")
@click.option("--request", is_flag=True, help="Also the requests, the key masked.")
@click.option("--picture", metavar="FILE", help="Draw it (.png).")
@writing_options
@replace_option
@json_option
def command(
    image: str,
    ledger: str,
    service: str | None,
    batch: int | None,
    annotations: str | None,
    overlap: float,
    threshold: str | None,
    rules: str | None,
    raw: bool,
    request: bool,
    picture: str | None,
    write: str | None,
    place: str,
    words: str | None,
    replace: bool,
    as_json: bool,
) -> None:
    """Show everything known about one IMAGE: file, calls, findings, verdict, errors.

    IMAGE is its name in the ledger, the end of it, or its address.
    """
    from dotledger.ledger.batch_queries import find_batch, sent_images
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.ledger_findings import findings_of, kept_items
    from dotledger.report.pictures.box_writing import box_writing
    from dotledger.report.pictures.contact_sheets import picture_marks
    from dotledger.safe_files import check_output

    if picture is None and (given := given_options(["write", "place", "words"])):
        raise click.UsageError(f"{given[0]} goes with --picture.")
    if picture is not None:
        check_output(picture, place="--picture", inputs=(ledger, annotations), replace=replace)
    with LedgerStore(ledger, create=False, read_only=True) as opened:
        kept = find_batch(opened, batch=batch, service=service_name(service))
        sent = _sent(image, sent_images(opened, kept))
        item = kept_items([sent], opened)[0]
        story = _story(opened, kept, sent, item, raw=raw)
        if request:
            story["request"] = _requests(kept, item)
        found = findings_of(opened, batch=kept.id)
        if rules is not None:
            story["verdict"] = _verdict(opened, kept, found, sent.name, rules)
    mine = found.take(found.image.among([sent.name]))
    truth = None if annotations is None else _truth(annotations, sent)
    story["findings"], story["missed"] = _judged(mine, truth, overlap, threshold_of(threshold))
    if picture is not None:
        writing = box_writing(found, write=write, place=place, words=words_of(words))
        marks = picture_marks(
            mine.cut(threshold_of(threshold)), truth, overlap=overlap, writing=writing
        )
        _draw(marks, item, Path(picture), place, story["verdict"])
    if as_json:
        print_json("show", story)
    else:
        _show(story, judged=truth is not None)


def _sent(image: str, sent: list[Sent]) -> Sent:
    """Return the image of this name; the end of a name will do where it is plain.

    An address is known without what may be secret in it; in a store by its name below the folder.
    """
    from dotledger.images.image_gathering import shown_address

    address = "://" in image
    image = shown_address(image) if address else image
    whole = [one for one in sent if one.name == image]
    whole = whole or [one for one in sent if address and image.endswith(f"/{one.name}")]
    ends = [one for one in sent if one.name.endswith(f"/{image}") or one.path.endswith(f"/{image}")]
    for found in (whole, ends):
        if len(found) == 1:
            return found[0]
    names = [one.name for one in whole or ends or sent]
    near = nearest(image, names, most=3)
    raise ArgumentError(
        "several images of this name" if whole or ends else "the batch holds no such image",
        place="IMAGE",
        got=image,
        allowed=(names if whole or ends else near or names)[:8],
    )


def _story(
    ledger: LedgerStore, batch: Batch, sent: Sent, item: Item, *, raw: bool
) -> dict[str, Any]:
    from dotledger.ledger.answer_queries import raw_answers
    from dotledger.ledger.batch_queries import failures, outcomes_of
    from dotledger.ledger.human_review_log import verdicts_of
    from dotledger.ledger.usage_queries import calls_about, preparations
    from dotledger.ledger_findings import asked_settings

    try:
        file = f"{len(item.read()):,} bytes, as it was sent"
    except OSError as error:
        file = str(error)
    reasons = {kind: why for name, kind, _, why in failures(ledger, batch) if name == sent.name}
    outcomes = outcomes_of(ledger, batch)[sent.name]
    story: dict[str, Any] = {
        "image": sent.name,
        "path": sent.path,
        "sha256": sent.sha,
        "file": file,
        "size": None if sent.width is None else [sent.width, sent.height],
        "batch": batch.id,
        "service": batch.service,
        "settings": dict(asked_settings(batch)),
        "prepared": list(dict(preparations(ledger, batch)).get(sent.name, ())),
        "calls": calls_about(ledger, batch, sent.position),
        "outcomes": {k: {"outcome": o, "reason": reasons.get(k, "")} for k, o in outcomes.items()},
        "reviews": verdicts_of(ledger, batch).get(sent.name, {}),
        "verdict": None,
    }
    if raw:
        answers = raw_answers(ledger, batch, [sent.position])
        story["raw"] = {call: data.decode("utf-8", "replace") for _, call, data in answers}
    return story


def _requests(batch: Batch, item: Item) -> dict[str, list[str]]:
    """Return the requests about an image, built again from the batch's description; see `Trial`."""
    from dotledger.images.image_gathering import Gathered
    from dotledger.sending.policies.send_plan import make_plan
    from dotledger.sending.trial_call import try_call
    from dotledger.services.service_description import stored_description

    described = stored_description(batch.description)
    nothing = Gathered(items=(), problems=(), source="")
    plan = make_plan(described, nothing, kinds=batch.kinds, round=batch.round)
    try:
        data = item.read()
    except OSError as error:
        raise ArgumentError(
            "the request holds the image, and that cannot be read",
            place="--request",
            got=str(error),
        ) from error
    address = item.where if "://" in item.where else ""
    return {
        call.name: try_call(plan, data, call=call.name, address=address, dry=True).request
        for call, _ in plan.calls
    }


def _verdict(
    ledger: LedgerStore, batch: Batch, found: Findings, image: str, rules: str
) -> dict[str, Any]:
    from dotledger.api.choosing import decide
    from dotledger.ledger.batch_queries import outcomes_of

    one = decide(found, rules, outcomes=outcomes_of(ledger, batch)).of(image)
    return {"verdict": one.verdict, "reasons": list(one.reasons)}


def _truth(annotations: str, sent: Sent) -> Annotations:
    from dotledger.core.tables.image_name_matching import annotations_matched
    from dotledger.formats.annotations.annotation_files import read_annotations

    truth = annotations_matched(read_annotations(annotations), [sent.name])
    mine = truth.take(truth.image.among([sent.name]))
    if not len(mine):
        raise ArgumentError("the annotations do not hold it", place="--annotations", got=sent.name)
    # What is looked for is known from all images: a label may be annotated in others only.
    kinds = [kind for kind in truth.kind.used() if kind]
    return dataclasses.replace(mine, vocabulary={kind: truth.labels(kind) for kind in kinds})


def _judged(
    found: Findings, truth: Annotations | None, overlap: float, threshold: Any
) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """Return the findings with what happens to each, and what was missed."""
    from dotledger.core.measurement.measure import measure
    from dotledger.core.tables.finding_details import attribute_cells
    from dotledger.report.pages.report_columns import STATES, page_run

    names = found.image.used() or [""]
    passes = dict.fromkeys(range(len(found)), True)
    if threshold is not None:
        from dotledger.core.tables.threshold_values import thresholds_of

        flags = thresholds_of(threshold, found, place="--threshold").passes(found)
        passes = dict(enumerate(flags.tolist()))
    judged = len(found) > 0 and truth is not None
    measured = measure(found, truth, overlap=overlap, draws=0) if judged and truth else None
    page = page_run("", found, names, measured=measured, annotations=truth)
    f, a = page.findings, page.annotations
    cells = [attribute_cells(one) for one in found.details or [None] * len(found)]
    rows = [
        {
            **{name: f[name][i] for name in ("kind", "label", "confidence", "box")},
            "state": _state(passes[f["row"][i]], STATES[f["state"][i]] if judged else ""),
            "reason": f["reason"][i],
            "more": f["more"][i],
            "attributes": cells[f["row"][i]],
        }
        for i in range(len(f["row"]))
    ]
    missed = [
        {"kind": a["kind"][j], "label": a["label"][j], "box": a["box"][j], "reason": a["reason"][j]}
        for j in range(len(a.get("row", ())))
        if a["counts"][j] and (a["pair"][j] < 0 or not passes[a["pair"][j]])
    ]
    return rows, missed


def _state(passes: bool, state: str) -> str:
    return state if passes else "below the threshold"


def _draw(
    marks: dict[str, tuple[list[Mark], str, str]],
    item: Item,
    path: Path,
    place: str,
    verdict: dict[str, Any] | None,
) -> None:
    from dotledger.images.image_preparation import decode_upright
    from dotledger.report.pictures.box_marks import Badge, draw_marks
    from dotledger.safe_files import whole_file

    mine, footer, _ = next(iter(marks.values()), ([], "", ""))
    badge = verdict and Badge(verdict=verdict["verdict"], why="; ".join(verdict["reasons"]))
    picture = decode_upright(item.read()).convert("RGB")
    with whole_file(path) as draft:
        drawn = draw_marks(picture, mine, footer=footer, place=place, badge=badge or None)
        drawn.save(draft, "PNG")
    say(f"drawn in {path}")


def _show(story: dict[str, Any], *, judged: bool) -> None:
    from dotledger.core.tables.table_origin import asked_with
    from dotledger.report.terminal.terminal_tables import plain, rows_table
    from dotledger.sending.trial_call import answer_text

    size = "" if story["size"] is None else f", {story['size'][0]:g} x {story['size'][1]:g} pixels"
    lines = [
        ("image", f"{story['image']}{size}"),
        ("file", f"{story['path'] or '(given as bytes)'}: {story['file']}"),
        ("SHA-256", story["sha256"] or "(never read)"),
        ("batch", f"{story['batch']}, {story['service']}"),
        *([("settings", asked_with(story["settings"], ()))] if story["settings"] else []),
        ("prepared", "; ".join(story["prepared"]) or "sent as it is"),
    ]
    for one in story["calls"]:
        moment = f"{one['started'][:19].replace('T', ' ')} UTC, {one['seconds']:.2f} s"
        cost = f"status {one['status']}, {one['price']:.4f} {one['currency']}"
        lines.append((f"call {one['call']}", f"{moment}, {cost}"))
        lines += [("its version", one["version"])] if one["version"] else []
        lines += list(one["headers"].items())
    lines += [
        (kind, one["outcome"] + (f": {one['reason']}" if one["reason"] else ""))
        for kind, one in story["outcomes"].items()
    ]
    if story["verdict"] is not None:
        lines.append(("verdict", f"{story['verdict']['verdict']}"))
        lines += [("", reason) for reason in story["verdict"]["reasons"]]
    lines += [("review", f"{who}: {word}") for who, word in story["reviews"].items()]
    print_table(rows_table("", ("", ""), [(what, plain(much)) for what, much in lines]))
    rows = [
        (
            one["kind"],
            plain(one["label"]),
            "asserted" if one["confidence"] is None else f"{one['confidence']:.2f}",
            "" if one["box"] is None else " ".join(f"{side:.0f}" for side in one["box"]),
            *((one["state"], plain(one["reason"])) if judged else (plain(one["more"]),)),
        )
        for one in story["findings"]
    ]
    rows += [
        (one["kind"], plain(one["label"]), "", " ".join(f"{s:.0f}" for s in one["box"] or ()),
         "missed", plain(one["reason"]))
        for one in story["missed"]
    ]  # fmt: skip
    header = ("kind", "label", "confidence", "box", *(("", "why") if judged else ("more",)))
    print_table("", rows_table("", header, rows) if rows else "Nothing was found.")
    for call, text in story.get("raw", {}).items():
        print_table("", f"The raw answer of {call}:")
        click.echo("\n".join(map(plain_text, answer_text(text.encode()).splitlines())))
    for call, lines_of in story.get("request", {}).items():
        print_table("", f"The request of {call}, as it is built from this batch's description:")
        click.echo("\n".join(f"  {plain_text(line)}" for line in lines_of))
