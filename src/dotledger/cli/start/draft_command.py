"""``dotledger draft``."""

from __future__ import annotations

import sys
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

import click

from dotledger.cli.options.common_options import (
    example,
    in_options,
    print_table,
    replace_option,
    say,
)
from dotledger.errors import ArgumentError, DescriptionError
from dotledger.safe_files import check_output, read_regular, read_regular_or_pipe, whole_file

if TYPE_CHECKING:
    from dotledger.services.drafting import Draft
    from dotledger.services.drafting.request_samples import Asked
    from dotledger.services.drafting.saved_requests import Saved

__all__ = ["STARTER", "command", "nothing_error", "say_questions"]

_MOST_SHOWN = 40

STARTER = """\
# A description: how to call one service and read its answers. See docs/sending.md.
schema = 1
service = "mine"                      # small letters, digits, hyphens

[connect]
address = "https://service.example"   # where it is, without the call's own path

[connect.key]
place = "header"                      # header, query, basic, bearer, token, signed, none
name = "X-Api-Key"                    # the header's name
sources = ["env:MINE_KEY"]            # where the key comes from; never the key itself

[[call]]
name = "look"
kinds = ["label"]                     # label, object, face, unsafe, text, caption, colour, fact
path = "/v1/look"
body = "raw"                          # the whole body; or multipart, form, json, address, ...

[limits]
per_second = 5                        # what the service allows
at_once = 4

[[read]]                              # {"labels": [{"name": "lantern", "score": 0.91}]}
kind = "label"
each = "labels[]"
label = "name"
confidence = { at = "score" }         # scale = "percent", "thousandths", ... where it is not 0 to 1
"""
"""A description to begin with; it loads as it is."""


@click.command(
    name="draft",
    epilog=example("dotledger draft a.json b.json --image a.jpg --image b.jpg --out mine.toml"),
)
@click.argument("samples", nargs=-1)
@click.option("--starter", is_flag=True, help="Print a short commented description to begin with.")
@click.option("--image", "images", multiple=True, help="The image of each sample, in order.")
@click.option("--words", default="", help="The service's ordered words, rising, with commas.")
@click.option("--name", default="mine", show_default=True, help="What to call the service.")
@click.option("--address", default="https://service.example", help="Where it is.")
@click.option("--curl", metavar="FILE", help="A saved line for curl ('-': standard input).")
@click.option("--har", metavar="FILE", help="Requests as a browser or proxy saved them (HAR).")
@click.option("--openapi", metavar="FILE", help="The service's OpenAPI document, version 3.")
@click.option("--operation", default="", help="Which operation of it: its id or path.")
@click.option("--ask", is_flag=True, help="Ask what no sample tells.")
@click.option(
    "--names",
    metavar="FILE",
    help="Write this mapping of label names as SKOS (--out .ttl, .jsonld).",
)
@click.option("--out", metavar="FILE", help="Write the draft there.")
@replace_option
def command(
    samples: tuple[str, ...],
    starter: bool,
    images: tuple[str, ...],
    words: str,
    name: str,
    address: str,
    curl: str | None,
    har: str | None,
    openapi: str | None,
    operation: str,
    ask: bool,
    names: str | None,
    out: str | None,
    replace: bool,
) -> None:
    """Draft a description from raw answers (SAMPLES: JSON, lines of JSON, XML; '-': a pipe).

    Weighs every way of reading the samples and writes the likeliest one, with its reasons. If
    another one is nearly as likely, the file asks which one is right, and can be used once you
    have answered. Give the images too: their sizes settle the form of boxes, and
    both readings of an unclear box are drawn side by side. Every rule is tried on the samples.
    Each field of the samples is said to be read, carried as an attribute, or not used.

    The request is taken from a saved request or from the service's OpenAPI document; keys are
    never copied. Without an answer the draft has no rules: `try --draft` makes one call and adds
    them.
    """
    from dotledger.services.drafting import whole_draft

    if starter:
        click.echo(STARTER, nl=False)
        _say_lines(STARTER, None, None)
        return
    if names is not None:
        _write_names(names, out, replace=replace)
        return
    sources = [one for one in (curl, har, openapi) if one is not None]
    if len(sources) > 1 or not (samples or sources):
        raise click.UsageError(
            "give raw answers (SAMPLES), or one of --curl, --har and --openapi, or --starter"
        )
    if out is not None:
        check_output(out, place="--out", inputs=(*samples, *images, *sources), replace=replace)
    saved = _saved(curl, har, openapi, operation)
    raw = [_sample(sample) for sample in samples] or saved.answers
    if not raw and saved.asked.address:
        _write_request(saved, name, address, out, ask=ask)
        return
    named = list(samples) or [f"answer {n}" for n in range(1, len(raw) + 1)]
    sizes = [_size(read_regular(image)) for image in images]
    if not sizes and not samples and saved.images and all(saved.images):
        sizes = [_size(image) for image in saved.images[-len(raw) :]]
    if sizes and len(sizes) != len(raw):
        raise ArgumentError(
            "give one image for each sample, or none",
            place="--image",
            got=len(sizes),
            allowed=[str(len(raw))],
        )
    ordered = [word.strip() for word in words.split(",") if word.strip()]
    made = whole_draft(raw, sizes, words=ordered, saved=saved, ask=_asked if ask else None)
    _write(made, raw, named, sizes, name, address, out)
    if out is not None and images:
        _draw_questions(made, images, Path(out), replace=replace)


def _write_request(saved: Saved, name: str, address: str, out: str | None, *, ask: bool) -> None:
    """Write a description without rules: one call with it brings the answer to draft them from."""
    from dotledger.services.drafting import described_draft, request_draft

    made = request_draft(saved, ask=_asked if ask else None)
    text = described_draft(made, name=name, address=address)
    _put(text, out)
    _say_lines(text, made.asked, out)
    for question in made.questions:
        say(f"please check: {in_options(question)}")
    say(
        "there is no answer yet, and so no rule to read one; make one call and draft them from it: "
        f"dotledger try IMAGE --service {out or 'FILE'} --draft"
    )


def _sample(name: str) -> bytes:
    """Read a sample from a file, a pipe, or standard input."""
    from dotledger.services.drafting.sample_trees import unpacked

    return unpacked(sys.stdin.buffer.read() if name == "-" else read_regular_or_pipe(name))


def _draw_questions(made: Draft, images: tuple[str, ...], out: Path, *, replace: bool) -> None:
    """Draw both readings of a box side by side where the samples do not tell which is meant."""
    from dotledger.report.pictures.draft_pictures import readings_picture

    asked = [rule.unclear["box"] for rule in made.sure if "box" in rule.unclear]
    for number, choices in enumerate(asked, 1):
        path = out.with_name(f"{out.stem}-question-{number}.png")
        check_output(path, place="--out", inputs=images, replace=replace)
        sample = choices[0].samples[0]
        boxes = [
            [box for box, n in zip(c.boxes, c.samples, strict=True) if n == sample]
            for c in choices[:2]
        ]
        with whole_file(path) as file:
            readings_picture(read_regular(images[sample]), boxes).save(file, "PNG")
        say(f"the first two answers, drawn side by side: {path}")


def _write_names(names: str, out: str | None, *, replace: bool) -> None:
    from dotledger.formats.label_name_files import read_names, write_skos

    if out is None:
        raise click.UsageError("--names needs --out FILE, which ends in .ttl or .jsonld")
    mapping = read_names(Path(names))
    check_output(out, place="--out", inputs=(names,), replace=replace)
    say(f"written: {write_skos(mapping, out)}")


def _saved(curl: str | None, har: str | None, openapi: str | None, operation: str) -> Saved:
    """Return what is known of how the service is asked."""
    from dotledger.services.drafting import saved_from

    if operation and openapi is None:
        raise click.UsageError("--operation goes with --openapi")
    line = None
    if curl is not None:
        data = sys.stdin.buffer.read() if curl == "-" else read_regular(curl)
        line = data.decode("utf-8", "replace")
    return saved_from(
        curl=line,
        har=None if har is None else read_regular(har),
        openapi=None if openapi is None else read_regular(openapi),
        operation=operation,
    )


def _asked(text: str, allowed: list[str]) -> str:
    """Put one question on the screen, and return what was answered."""
    if not allowed:
        return str(click.prompt(text, err=True))
    say(f"{text}:")
    for number, one in enumerate(allowed, 1):
        say(f"  {number}  {one}")
    chosen = click.prompt("Number", type=click.IntRange(1, len(allowed)), default=1, err=True)
    return allowed[chosen - 1]


def _put(text: str, out: str | None) -> None:
    """Write a draft to its file; without one, print it."""
    if out is None:
        click.echo(text)
        return
    with whole_file(out) as file:
        file.write_text(text, encoding="utf-8")
    _remember(out)
    say(f"written: {out}")


def _say_lines(text: str, asked: Asked | None, out: str | None) -> None:
    """List the lines to edit or check, each with its value and the reason for it."""
    from dotledger.services.drafting.draft_writing import lines_to_edit

    lines = lines_to_edit(text, asked)
    wide = max((len(shown) for _, shown, _ in lines), default=0)
    known = asked is not None and asked.address and asked.body
    say(f"{'look at' if known else 'edit'} these lines{f' of {out}' if out else ''}:")
    for number, shown, why in lines:
        say(f"  {number:>3}  {shown:<{wide}}  {why}")


def _remember(out: str) -> None:
    """Agree to the key of a draft: the user has just asked for it, here."""
    from dotledger.cli.options.folder_trust import remember_keys
    from dotledger.services.service_description import read_unfinished

    with suppress(DescriptionError):  # one that is still to be completed is agreed to later
        remember_keys(read_unfinished(out))


def _write(
    made: Draft,
    raw: list[bytes],
    named: list[str],
    sizes: list[tuple[float, float]],
    name: str,
    address: str,
    out: str | None,
) -> None:
    """Write or print the description, then what it reads and what it cannot tell."""
    from dotledger.services.drafting import described_draft

    if not made.sure:
        raise nothing_error(made, raw)
    text = described_draft(made, name=name, address=address)
    _put(text, out)
    likeliest = described_draft(made, name=name, address=address, assume=True)
    open_too = any(rule.unclear for rule in made.sure)
    title = "Read by the draft" + (
        ", with the likeliest answer to each question" if open_too else ""
    )
    _show(title, likeliest, raw, named, sizes, aside=out is None)
    _say_lines(text, made.asked, out)
    if not sizes:
        say("without --image boxes are shown as in images of 1000 x 1000 pixels")
    say_questions(made)


def say_questions(made: Draft) -> None:
    """Say what a draft leaves open, and what it does not use."""
    from dotledger.services.drafting.draft_writing import FIT

    for question in made.questions:
        where = "please answer in the file" if question.endswith(FIT) else "please check"
        say(f"{where}: {in_options(question)}")
    if made.fields.attributes:
        say(f"carried as attributes: {', '.join(made.fields.attributes)}")
    if made.fields.unused:
        say(f"not used: {', '.join(made.fields.unused)}")


def nothing_error(made: Draft, raw: list[bytes]) -> ArgumentError:
    """Return the error for samples that no rule reads: what was doubted, or what is lacking."""
    from dotledger.services.drafting.sample_trees import nothing_said, samples_of

    why, next_step = nothing_said(samples_of(raw).documents)
    if made.questions:
        return ArgumentError(why, place="SAMPLES", got=made.questions, next_step=next_step)
    return ArgumentError(why, place="SAMPLES", next_step=next_step)


def _size(data: bytes) -> tuple[float, float]:
    from dotledger.images.image_facts import read_facts

    facts = read_facts(data)
    return float(facts.width), float(facts.height)


def _show(
    title: str,
    text: str,
    raw: list[bytes],
    named: list[str],
    sizes: list[tuple[float, float]],
    *,
    aside: bool,
) -> None:
    """Show what the draft reads out of the samples, next to the part of the sample."""
    from dotledger.report.terminal.terminal_tables import number, rows_table
    from dotledger.services.drafting import read_beside
    from dotledger.text_display import shown

    found = read_beside(text, raw, sizes)
    rows = [
        (
            named[place],
            f.kind,
            f.label,
            number(f.confidence),
            *(number(v, 1) for v in f.box or (None,) * 4),
            shown(part, 36),
        )
        for place, f, part in found[:_MOST_SHOWN]
    ]
    header = ("sample", "kind", "label", "confidence", "x0", "y0", "x1", "y1", "where it stands")
    table = rows_table(title, header, rows, ("where it stands",))
    print_table(table, aside=aside)
    if len(found) > _MOST_SHOWN:
        say(f"and {len(found) - _MOST_SHOWN:,} more")
