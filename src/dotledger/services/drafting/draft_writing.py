"""A whole draft: the envelope, a rule for each group, each checked by the reader itself."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from dotledger.core.boxes.image_frames import Frame
from dotledger.errors import DescriptionError
from dotledger.json_codec import AsData, to_json
from dotledger.reading.rule_reader import NOT_THERE, Read, Reading
from dotledger.services.answer_reading import Reader
from dotledger.services.drafting.box_drafting import Size, reported_size, toml_text
from dotledger.services.drafting.draft_evidence import LABEL_NAMES
from dotledger.services.drafting.field_account import FieldAccount, account_of
from dotledger.services.drafting.request_samples import Asked, call_toml, connect_toml, inline_toml
from dotledger.services.drafting.rule_drafting import RuleGuess, rule_from
from dotledger.services.drafting.sample_sections import groups_of, plain_name, written
from dotledger.services.drafting.sample_trees import Samples
from dotledger.services.drafting.whole_readings import best_reading
from dotledger.services.service_description import parse_description

__all__ = [
    "FIT",
    "Draft",
    "described_draft",
    "draft",
    "kinds_toml",
    "read_beside",
    "read_samples",
    "with_samples",
]

FIT = "answers fit the samples"
"""How a question ends that the file asks."""

Parts = list[tuple[Any, Size]]


class Draft(AsData, Struct, kw_only=True):
    """A drafted reading part of a description.

    Attributes
    ----------
    envelope : dict of str to str or list of str
        Keys of the ``[envelope]`` section.
    rules : list of RuleGuess
        In the order of the answer; those left open are comments.
    questions : list of str
        What no sample can tell.
    fields : FieldAccount
        Every field of the samples: read, an attribute, or not used.
    asked : Asked
        What is known of how the service is asked.
    """

    envelope: dict[str, str | list[str]] = field(default_factory=dict)
    rules: list[RuleGuess] = field(default_factory=list)
    questions: list[str] = field(default_factory=list)
    fields: FieldAccount = field(default_factory=FieldAccount)
    asked: Asked = field(default_factory=Asked)

    @property
    def sure(self) -> list[RuleGuess]:
        """The rules that read out of the samples what stands there."""
        return [rule for rule in self.rules if not rule.open]

    def toml(self, *, assume: bool = False) -> str:
        """Return the draft as commented TOML.

        Parameters
        ----------
        assume : bool, default False
            Write the likeliest answer to each question, instead of leaving it open.
        """
        parts = [f"# Please check: {question}" for question in self.questions]
        parts += [f"# Not used: {', '.join(self.fields.unused)}"] if self.fields.unused else []
        if self.envelope:
            inner = [f"{name} = {inline_toml(where)}" for name, where in self.envelope.items()]
            parts.append("\n".join(["[envelope]", *inner]))
        return "\n\n".join([*parts, *(rule.toml(assume=assume) for rule in self.rules)]) + "\n"

    def description(
        self,
        *,
        name: str = "mine",
        address: str = "https://service.example",
        assume: bool = False,
    ) -> str:
        """Return a whole description as commented TOML.

        What the samples leave open stands in it as a question: it can be read as a description
        once each is answered.

        Parameters
        ----------
        name : str
            Of the service; the key is looked for under it.
        address : str
            Where it is, if that is not known.
        assume : bool, default False
            Write the likeliest answer to each question: it may be wrong, and a comment says so.

        Returns
        -------
        str
            To be saved as a file and looked through.
        """
        return described_draft(self, name=name, address=address, assume=assume)


_BLANK = "where the service is: a blank"


def lines_to_edit(text: str, asked: Asked | None) -> list[tuple[int, str, str]]:
    """Return the three lines of a description that no answer tells: where, with which key, how.

    Parameters
    ----------
    text : str
        The description.
    asked : Asked or None
        What is known of the request.

    Returns
    -------
    list of (int, str, str)
        Number of the line, what stands there, and why.
    """
    known = asked or Asked()
    field = f", in the field {known.image_field}" if known.image_field else ""
    name = f" {known.name}" if known.name else ""
    reasons = {
        "address": "where the service is: from the request" if known.address else _BLANK,
        "place": f"how the key goes: from the request, as {known.place}{name}"
        if known.place
        else "how the key goes: a guess; with name and sources",
        "body": f"how the image goes: from the request{field}"
        if known.body
        else "how the image goes: a guess; most ways need image_field",
    }
    found = []
    for number, line in enumerate(text.splitlines(), 1):
        key = line.partition("=")[0].strip()
        if key in reasons:
            found.append((number, line.partition("  #")[0].strip(), reasons.pop(key)))
    return found


def draft(
    answers: Sequence[Any], sizes: Sequence[Size] = (), *, words: Sequence[str] = ()
) -> Draft:
    """Propose reading rules from sample answers.

    Every rule is tried by the reader on the samples; where it reads something else than stands
    there, other ways of writing its box are tried, and if none does it is left open.

    Parameters
    ----------
    answers : sequence
        Parsed JSON of one or more raw answers; the more, the surer.
    sizes : sequence of (width, height)
        Of the image sent for each answer, upright pixels; empty if not known.
    words : sequence of str
        The ordered words of the service's confidence scale, rising, where it uses words.

    Returns
    -------
    Draft
        Without rules if nothing like a finding was recognised.
    """
    known = list(sizes) or [(math.nan, math.nan)] * len(answers)
    made = Draft()
    parts, prefix = _image_parts(answers, known, made)
    working = _working_size(parts, made)
    groups = groups_of(parts)
    made.rules = [rule_from(one) for one in best_reading(groups, working, words)]
    if prefix and made.rules:
        made.envelope = {"images": prefix, **made.envelope}
    for rule in made.rules:
        rule.optional = _may_be_missing(rule, parts)
        rule.open = rule.open or _problem(rule, made.envelope, answers, known)
    made.questions = _questions(made)
    made.fields = _account(parts, made)
    return made


def _questions(made: Draft) -> list[str]:
    """Return in words what no sample tells: what is left open, and what is written all the same."""
    found = [text for rule in made.sure for text in _unclear(rule)]
    found += [text for rule in made.sure for text in rule.questions]
    found += [
        f"which way boxes at {rule.each} are turned, and whether by {rule.boxes[0].angle_in}"
        for rule in made.sure
        if rule.boxes and rule.boxes[0].angle
    ]
    return found + [f"{rule.each}: {rule.open}" for rule in made.rules if rule.open]


def _unclear(rule: RuleGuess) -> list[str]:
    """Return in words what a rule's lines ask."""
    found = []
    for key, choices in rule.unclear.items():
        if key == "confidence" and rule.order_of:
            found.append(f"the order of the words {', '.join(rule.order_of)}, from low to high")
        else:
            found.append(f"the {key} at {rule.each}: {len(choices)} {FIT}")
    return found


def _image_parts(answers: Sequence[Any], sizes: Sequence[Size], made: Draft) -> tuple[Parts, str]:
    """Recognise an envelope that holds one part for each image: a list of objects of lists."""
    parts = list(zip(answers, sizes, strict=True))
    tops = [answer for answer in answers if isinstance(answer, dict)]
    for name in tops[0] if tops else ():
        lists = [top.get(name) for top in tops]
        if all(_is_image_list(value) for value in lists) and len(tops[0]) <= 3:
            entry_id = _entry_id([e for value in lists if isinstance(value, list) for e in value])
            if entry_id:
                made.envelope["id"] = entry_id
            inner = [
                (e, size)
                for top, size in parts
                for e in (top.get(name) if isinstance(top, dict) else []) or []
            ]
            return inner, written([name, "[]"])
    return parts, ""


def _is_image_list(value: Any) -> bool:
    """Tell whether a list holds images: objects of sections, and no labels of their own."""
    if not isinstance(value, list) or not value:
        return False
    return all(
        isinstance(e, dict)
        and sum(_is_section(v) for v in e.values()) >= 2
        and not any(plain_name(name) in LABEL_NAMES for name in e)
        for e in value
    )


def _is_section(value: Any) -> bool:
    return isinstance(value, list) and all(isinstance(part, dict) for part in value)


def _entry_id(entries: Sequence[Mapping[str, Any]]) -> str:
    for name in ("id", "ref", "image_id", "image", "key", "index", "n"):
        values = [entry.get(name) for entry in entries]
        if values and all(isinstance(v, (str, int)) for v in values):
            return name
    return ""


def _working_size(parts: Parts, made: Draft) -> dict[int, Size]:
    """Recognise a reported size that differs from the image's: the service's working size."""
    found: dict[int, Size] = {}
    for place, (part, size) in enumerate(parts):
        reported = reported_size(part)
        if reported is None:
            return {}
        (width_at, width), (height_at, height) = reported
        found[place] = (float(width), float(height))
        differs = math.isnan(size[0]) or abs(width - size[0]) > 1.0
        if differs and "width" not in made.envelope:
            made.envelope |= {"width": width_at, "height": height_at}
    return found if "width" in made.envelope else {}


def _may_be_missing(rule: RuleGuess, parts: Parts) -> bool:
    """Tell whether some sample lacks the section that a rule goes through."""
    names = rule.each.partition("[")[0].partition("{")[0].strip(".")
    steps = [step.strip('"') for step in names.split(".") if step]
    return any(not _has(part, steps) for part, _ in parts)


def _has(part: Any, steps: Sequence[str]) -> bool:
    for step in steps:
        if not isinstance(part, dict) or step not in part:
            return False
        part = part[step]
    return True


def _problem(
    rule: RuleGuess,
    envelope: Mapping[str, str | list[str]],
    answers: Sequence[Any],
    sizes: Sequence[Size],
) -> str:
    """Return what is wrong with what a rule reads out of the samples; empty if nothing is."""
    text = described_draft(
        Draft(envelope=dict(envelope), rules=[rule]),
        name="draft",
        address="https://service.example",
        assume=True,
    )
    try:
        readings = read_samples(text, [to_json(answer) for answer in answers], sizes)
    except DescriptionError as error:
        return str(error)
    # What encloses a box that is turned may go beyond the image where the thing does not.
    turned = any(box.angle for box in rule.boxes[:1])
    quiet = (*_QUIET, _CLIPPED) if turned else _QUIET
    notes = [note for reading in readings for note in reading.notes if note[0] not in quiet]
    absent = sum(note[0] == NOT_THERE for reading in readings for note in reading.notes)
    read = sum(len(reading.found) for reading in readings) + absent
    # A part that a condition leaves out is understood, and is no finding.
    if read != rule.count:
        first = f": {notes[0][0]} {notes[0][1]}" if notes else ""
        return f"{read} of {rule.count} parts could be read{first}"
    known = bool(sizes) and not math.isnan(sizes[0][0])
    return f"{notes[0][0]}: {notes[0][1]}" if notes and known else ""


_CLIPPED = "box clipped to the image"
_QUIET = (NOT_THERE, "section never read")


def _account(parts: Parts, made: Draft) -> FieldAccount:
    """Return what the draft does with every field of the samples."""
    around = [at for at in made.envelope.values() if isinstance(at, str)]
    paths = [tuple(step for step in re.split(r"[.\[\]]+", at) if step) for at in around]
    return account_of([part for part, _ in parts], [rule.used for rule in made.sure], paths)


def kinds_toml(made: Draft) -> str:
    """Return the kinds that a draft reads, as TOML; without any rule one to begin with."""
    rules = made.sure or made.rules
    kinds = dict.fromkeys(rule.kind for rule in rules) or {"label": None}
    return ", ".join(f'"{kind}"' for kind in kinds)


def described_draft(made: Draft, *, name: str, address: str, assume: bool = False) -> str:
    """Return a whole description around a draft, which ``try`` accepts once the key is said.

    Parameters
    ----------
    assume : bool, default False
        Write the likeliest answer to each open question: the file loads, and may be wrong.
    """
    kinds = kinds_toml(made)
    key = str(made.envelope.get("id", "id"))
    several = (
        'body = "json"\nimage_field = "images"  # where the list of images goes\n'
        f'images = 2\neach = {{ {toml_text(key)} = "{{id}}", data = "{{image}}" }}\n'
        if "images" in made.envelope
        else ""
    )
    return f"""# Drafted; every guess says why. The rest is in docs/descriptions.md.
schema = 1
service = {toml_text(name)}

{connect_toml(made.asked, name, address)}

{call_toml(made.asked, kinds, several=several)}

{made.toml(assume=assume)}"""


def with_samples(made: Draft, samples: Samples) -> Draft:
    """Put into a draft what is around the findings, and how answers are written.

    Parameters
    ----------
    made : Draft
        From the samples' documents; it is changed.
    samples : Samples
        See `dotledger.services.drafting.sample_trees.samples_of`.
    """
    made.envelope = {**samples.envelope, **made.envelope}
    if not any(line.startswith("[call.job]") for line in made.asked.sections):
        made.asked.sections += samples.sections
        made.questions += samples.questions
    return made


def read_samples(text: str, answers: Sequence[bytes], sizes: Sequence[Size] = ()) -> list[Reading]:
    """Return what a description reads out of raw answers; an unreadable one gives no finding.

    Parameters
    ----------
    sizes : sequence of (float, float), default ()
        Width and height of their images; NaN or none where not known.
    """
    described = parse_description(text, name="the draft")
    reader, kinds = Reader(described), described.kinds
    known = _known_sizes(answers, sizes)
    readings: list[Reading] = []
    for answer, (width, height) in zip(answers, known, strict=True):
        frame = Frame(int(width), int(height), int(width), int(height))
        parts = reader.read(answer, described.call[0].name, kinds, [frame])
        readings += [part if isinstance(part, Reading) else Reading() for part in parts]
    return readings


def read_beside(
    text: str, answers: Sequence[bytes], sizes: Sequence[Size] = ()
) -> list[tuple[int, Read, Any]]:
    """Return what a description reads out of raw answers, each beside where it stands.

    Parameters
    ----------
    sizes : sequence of (float, float), default ()
        Width and height of their images; NaN or none where not known.

    Returns
    -------
    list of tuple of int, Read and object
        The number of the answer from 0, what is read, and the part of the answer it is read from.
    """
    described = parse_description(text, name="the draft")
    reader, known = Reader(described), _known_sizes(answers, sizes)
    return [
        (place, found, part)
        for place, (answer, (width, height)) in enumerate(zip(answers, known, strict=True))
        for found, part in reader.beside(
            answer,
            described.call[0].name,
            described.kinds,
            Frame(int(width), int(height), int(width), int(height)),
        )
    ]


def _known_sizes(answers: Sequence[bytes], sizes: Sequence[Size]) -> list[Size]:
    known = [(1000.0, 1000.0) if math.isnan(w) else (w, h) for w, h in sizes]
    return known or [(1000.0, 1000.0)] * len(answers)
