"""``dotledger draft``."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from dotledger.cli.options.common import example, print_table, replace_option, say
from dotledger.errors import ArgumentError
from dotledger.files import check_output, read_regular, whole_file

__all__ = ["STARTER", "command"]

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
body = "raw"                          # raw, multipart, json (base64), address

[limits]
per_second = 5                        # what the service allows
at_once = 4

[[read]]                              # {"labels": [{"name": "lantern", "score": 0.91}]}
kind = "label"
each = "labels[]"
label = "name"
confidence = { at = "score" }         # scale = "percent", "thousandths", ... where it is not 0 to 1
"""
"""A description to begin with; it loads as it stands."""


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
@click.option("--out", metavar="FILE", help="Write the description there.")
@replace_option
def command(
    samples: tuple[str, ...],
    starter: bool,
    images: tuple[str, ...],
    words: str,
    name: str,
    address: str,
    out: str | None,
    replace: bool,
) -> None:
    """Draft a description from raw answers (SAMPLES, JSON files).

    Finds the lists, tells labels from attributes, recognises how boxes, confidences, points and
    ordered words are written, and says why; other candidates stand beside as comments. With the
    images' sizes it is surer. Every rule is tried on the samples; one that does not read what
    stands there is left open, as a comment. What the draft reads, does not use and cannot tell is
    shown.
    """
    from dotledger.services.drafting import described_draft, draft

    if starter:
        click.echo(STARTER, nl=False)
        return
    if not samples:
        raise click.UsageError("give raw answers (JSON files), or --starter")
    if out is not None:
        check_output(out, place="--out", inputs=(*samples, *images), replace=replace)
    answers = [_parsed(Path(sample)) for sample in samples]
    sizes = [_size(Path(image)) for image in images]
    if sizes and len(sizes) != len(answers):
        raise ArgumentError(
            "give one image for each sample, or none",
            place="--image",
            got=len(sizes),
            allowed=[str(len(answers))],
        )
    ordered = [word.strip() for word in words.split(",") if word.strip()]
    made = draft(answers, sizes, words=ordered)
    if not made.sure:
        raise ArgumentError(
            "nothing like a finding was recognised",
            place="SAMPLES",
            got=[question.partition(": ")[2] for question in made.questions] or "no list of things",
            next_step="Give more samples with their images (--image), or write the rule by hand.",
        )
    text = described_draft(made, name=name, address=address)
    if out is None:
        click.echo(text)
    else:
        with whole_file(out) as file:
            file.write_text(text, encoding="utf-8")
        say(f"written: {out}")
        _show(text, samples, sizes)
    if out is not None and not sizes:
        say("without --image boxes are shown as in images of 1000 x 1000 pixels")
    for question in made.questions:
        say(f"please check: {question}")
    if made.unused:
        say(f"not used: {', '.join(made.unused)}")


def _parsed(path: Path) -> Any:
    import orjson

    try:
        return orjson.loads(read_regular(path))
    except orjson.JSONDecodeError as error:
        raise ArgumentError(f"not JSON ({error})", place=str(path)) from error


def _size(path: Path) -> tuple[float, float]:
    from dotledger.images.facts import read_facts

    facts = read_facts(read_regular(path))
    return float(facts.width), float(facts.height)


def _show(text: str, samples: tuple[str, ...], sizes: list[tuple[float, float]]) -> None:
    """Show what the draft reads out of the samples."""
    from dotledger.report.terminal.tables import number, rows_table
    from dotledger.services.drafting import read_samples

    answers = [read_regular(sample) for sample in samples]
    rows = [
        (
            sample,
            f.kind,
            f.label,
            number(f.confidence),
            *(number(v, 1) for v in f.box or (None,) * 4),
        )
        for sample, reading in zip(samples, read_samples(text, answers, sizes), strict=False)
        for f in reading.found
    ]
    header = ("sample", "kind", "label", "confidence", "x0", "y0", "x1", "y1")
    print_table(rows_table("Read by the draft", header, rows[:40]))
