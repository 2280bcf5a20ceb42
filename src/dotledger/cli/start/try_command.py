"""``dotledger try``."""

from __future__ import annotations

import io
import math
import re
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from msgspec.structs import asdict

from dotledger.cli.options.common_options import (
    as_kinds,
    code_option,
    described,
    example,
    json_option,
    ledger_option,
    print_json,
    print_table,
    replace_option,
    say,
    service_options,
    settings_of,
)
from dotledger.cli.start.draft_command import nothing_error, say_questions
from dotledger.errors import ArgumentError
from dotledger.safe_files import check_output, whole_file

if TYPE_CHECKING:
    from dotledger.report.pages.trial_page import TrialFinding
    from dotledger.sending.trial_call import Trial
    from dotledger.services.service_description import Description

__all__ = ["command"]

_ANSWER_LINES = 40


@click.command(name="try", epilog=example("dotledger try photo.jpg --service myservice.toml --dry"))
@click.argument("image", required=False)
@service_options
@ledger_option
@click.option("--call", "call_name", help="Which of the described calls; by default the first.")
@code_option
@click.option(
    "--dry", is_flag=True, help="Show what would be sent; send nothing, read no key, run no code."
)
@click.option(
    "--page", metavar="FILE", help="Also write it as a page (.html): image, boxes, answer."
)
@click.option("--draft", is_flag=True, help="Draft rules from the answer, into --service FILE.")
@replace_option
@json_option
def command(
    image: str | None,
    service: str,
    ledger: str,
    call_name: str | None,
    kinds: str | None,
    pairs: tuple[str, ...],
    allow_code: bool,
    dry: bool,
    page: str | None,
    draft: bool,
    replace: bool,
    as_json: bool,
) -> None:
    """Make one harmless call with one IMAGE and take it apart.

    Shows where the key was found, what was sent (the key masked), status and time, the raw
    answer and how it is read, and a next step for each usual mistake. IMAGE is a file or an
    address; a service that fetches images itself is sent the address unchanged. Without IMAGE a
    small made-up picture is sent. Nothing is written to a ledger. A description that has no
    [[read]] rules yet is tried, too; with --draft they are drafted from the answer and added to it.
    """
    from dotledger.images.image_gathering import Gathered
    from dotledger.sending.policies.send_plan import make_plan
    from dotledger.sending.trial_call import try_call

    if page is not None:
        check_output(page, place="--page", inputs=(image, service), replace=replace)
    read = described(service, ledger, keys=not dry, unfinished=True)
    description = read.with_settings(settings_of(pairs))
    if draft:
        _check_draft(service, description, dry=dry)
    nothing = Gathered(items=(), problems=(), source="")
    plan = make_plan(description, nothing, kinds=as_kinds(kinds))
    data, address = _picture(image) if image else (_made_up_picture(), "")
    trial = try_call(plan, data, address=address, call=call_name, allow_code=allow_code, dry=dry)
    if page is not None:
        _write_page(trial, data, description.service, call_name or plan.calls[0][0].name, page)
    if as_json:
        print_json("try", asdict(trial) | {"well": trial.well, "readings": _plain(trial)})
    else:
        _show(trial, dry=dry)
        if trial.well and not dry and not description.read and not draft:
            print_table(
                f"Next step: draft the rules from this answer: dotledger try {image or 'IMAGE'} "
                f"--service {service} --draft"
            )
    if draft and trial.well:
        _add_rules(Path(service), trial.answer.encode(), data)
    sys.exit(0 if trial.well else 2)


def _check_draft(service: str, description: Description, *, dry: bool) -> None:
    """Refuse to draft into what has rules already, or is no file, before a call is paid for."""
    if dry:
        raise click.UsageError("--draft needs an answer: it does not go with --dry")
    if not Path(service).is_file():
        raise click.UsageError("--draft adds rules to a description file: give one as --service")
    if len(description.call) > 1:
        raise click.UsageError("--draft is for a description of one call")
    if description.read:
        raise ArgumentError(
            "this description has [[read]] rules already",
            place=service,
            next_step="Draft into another file: dotledger draft ANSWER --out FILE.",
        )


def _add_rules(service: Path, answer: bytes, image: bytes) -> None:
    """Add the rules that an answer calls for to a description, which has none yet."""
    from dotledger.images.image_facts import read_facts
    from dotledger.services.drafting import kinds_toml, whole_draft
    from dotledger.services.service_description import parse_description

    facts = read_facts(image)
    made = whole_draft([answer], [(float(facts.width), float(facts.height))])
    if not made.sure:
        raise nothing_error(made, [answer])
    text = service.read_text(encoding="utf-8-sig").rstrip()
    # The call serves the kinds that its answer holds.
    text = re.sub(r"(?m)^kinds\s*=\s*\[[^\]]*\]", f"kinds = [{kinds_toml(made)}]", text, count=1)
    # What the file has already may not go with the rules: then it stays as it is.
    parse_description(f"{text}\n\n{made.toml(assume=True)}", name=f"{service} with its rules")
    with whole_file(service) as file:
        file.write_text(f"{text}\n\n{made.toml()}", encoding="utf-8")
    say(f"rules added to {service}: {', '.join(rule.each for rule in made.sure)}")
    say_questions(made)


def _write_page(trial: Trial, image: bytes, service: str, call: str, page: str) -> None:
    from dotledger.report.pages.trial_page import TrialAttempt, trial_page

    found = [one for reading in trial.readings for one in reading.found]
    notes = [f"{why}: {value}" for reading in trial.readings for why, value in reading.notes]
    unread = {k: why for reading in trial.readings for k, why in reading.unread.items()}
    notes += [f"{kind} unread: {why}" for kind, why in unread.items()]
    attempt = TrialAttempt(
        service=service,
        call=call,
        request=trial.request,
        status=trial.status,
        seconds=trial.seconds,
        answer=trial.answer,
        found=[_shown(one) for one in found],
        notes=notes,
        problem=trial.problem,
        next_steps=trial.next_steps,
    )
    with whole_file(Path(page)) as draft:
        draft.write_text(trial_page(attempt, image), encoding="utf-8", newline="\n")
    say(f"written to {page}")


def _shown(found: Any) -> TrialFinding:
    from dotledger.report.pages.report_columns import in_words
    from dotledger.report.pages.trial_page import TrialFinding
    from dotledger.report.pictures.box_writing import BoxWriting

    details = found.details
    sure = math.nan if found.confidence is None else found.confidence
    return TrialFinding(
        kind=found.kind,
        label=found.label,
        confidence=_number(found.confidence),
        box=found.box,
        more=in_words(_attributes(found)),
        text=BoxWriting().text(found.kind, found.label, sure, details),
        points=tuple(details.points.values()) if details else (),
        outline=details.polygon if details else (),
    )


def _attributes(found: Any) -> dict[str, Any]:
    return {} if found.details is None else found.details.attributes


def _number(confidence: float | None) -> str:
    return "asserted" if confidence is None else f"{confidence:.3g}"


def _picture(image: str) -> tuple[bytes, str]:
    """Return the image and its address, if it has one; refuse what no service can be sent."""
    from dotledger.errors import GatherError, ImageError
    from dotledger.images.image_facts import open_image
    from dotledger.images.image_gathering import gather

    item = gather(image).items[0]
    try:
        data = item.read()
        open_image(data)
    except (OSError, ImageError) as error:
        reason = getattr(error, "strerror", None) or getattr(error, "message", None) or str(error)
        raise GatherError(reason, place=item.name) from error
    return data, item.where if "://" in item.where else ""


def _made_up_picture() -> bytes:
    """Return a small JPEG: a warm disc on a dark ground."""
    from PIL import Image, ImageDraw

    image = Image.new("RGB", (320, 240), (34, 30, 60))
    ImageDraw.Draw(image).ellipse((110, 70, 210, 170), fill=(240, 150, 60))
    buffer = io.BytesIO()
    image.save(buffer, "JPEG")
    return buffer.getvalue()


def _plain(trial: Trial) -> list[dict[str, Any]]:
    return [
        {"found": [_finding(found) for found in reading.found], "notes": reading.notes}
        for reading in trial.readings
    ]


def _finding(found: Any) -> dict[str, Any]:
    details = found.details.to_dict() if found.details else {}
    return {**found._asdict(), "details": details}


def _show(trial: Trial, *, dry: bool) -> None:
    print_table(f"Goes to: {', '.join(trial.goes_to)}", f"Key: {trial.key}")
    if trial.signer:
        print_table(f"Signer: {trial.signer}")
    if trial.code:
        print_table(f"Code that would run: {', '.join(trial.code)}")
    if trial.request:
        print_table(
            "", "Would be sent:" if dry else "Sent:", *(f"  {line}" for line in trial.request)
        )
    if trial.status is not None:
        kind = trial.content_type or "no content type"
        print_table("", f"Answer: status {trial.status}, {kind}, {trial.seconds:.3f} s")
        lines = trial.answer.splitlines()
        print_table(*(f"  {line[:140]}" for line in lines[:_ANSWER_LINES]))
        if len(lines) > _ANSWER_LINES:
            print_table(f"  … {len(lines) - _ANSWER_LINES} more lines")
    for reading in trial.readings:
        _show_reading(reading)
    if trial.problem:
        print_table("", f"Problem: {trial.problem}")
    print_table(*(f"Next step: {step}" for step in trial.next_steps))


def _show_reading(reading: Any) -> None:
    from dotledger.reading.rule_reader import NOT_THERE
    from dotledger.report.terminal.terminal_tables import DASH, number, rows_table

    rows = [
        (
            found.kind,
            found.label,
            DASH if found.confidence is None else number(found.confidence),
            *(number(v, 1) for v in found.box or (None,) * 4),
        )
        for found in reading.found
    ]
    header = ("kind", "label", "confidence", "x0", "y0", "x1", "y1")
    print_table("", rows_table("Read as", header, rows))
    for reason, value in reading.notes:
        what = "Answered as not there" if reason == NOT_THERE else f"Set aside or noticed: {reason}"
        print_table(f"{what}: {value}")
