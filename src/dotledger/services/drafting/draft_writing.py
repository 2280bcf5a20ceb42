"""A whole draft: the envelope, a rule for each group, each checked by the reader itself."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from dotledger.core.boxes.image_frames import Frame
from dotledger.errors import DescriptionError
from dotledger.json_codec import AsData, to_json
from dotledger.reading.rule_reader import NOT_THERE, Read, Reading
from dotledger.services.answer_reading import Reader
from dotledger.services.drafting.box_drafting import Size, reported_size, toml_text
from dotledger.services.drafting.request_samples import Asked, call_toml, connect_toml, inline_toml
from dotledger.services.drafting.rule_drafting import RuleGuess, amounts_of, rules_of
from dotledger.services.drafting.sample_sections import groups_of, written
from dotledger.services.drafting.sample_trees import Samples
from dotledger.services.service_description import parse_description

__all__ = [
    "Draft",
    "ambiguous",
    "described_draft",
    "draft",
    "read_beside",
    "read_samples",
    "with_samples",
]

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
    unused : list of str
        Sections of the answers that no rule reads.
    asked : Asked
        What is known of how the service is asked.
    """

    envelope: dict[str, str | list[str]] = field(default_factory=dict)
    rules: list[RuleGuess] = field(default_factory=list)
    questions: list[str] = field(default_factory=list)
    unused: list[str] = field(default_factory=list)
    asked: Asked = field(default_factory=Asked)

    @property
    def sure(self) -> list[RuleGuess]:
        """The rules that read out of the samples what stands there."""
        return [rule for rule in self.rules if not rule.open]

    def toml(self) -> str:
        """Return the draft as commented TOML."""
        parts = [f"# Please check: {question}" for question in self.questions]
        parts += [f"# Not used: {', '.join(self.unused)}"] if self.unused else []
        if self.envelope:
            inner = [f"{name} = {inline_toml(where)}" for name, where in self.envelope.items()]
            parts.append("\n".join(["[envelope]", *inner]))
        return "\n\n".join([*parts, *(rule.toml() for rule in self.rules)]) + "\n"

    def description(self, *, name: str = "mine", address: str = "https://service.example") -> str:
        """Return a whole description as commented TOML.

        Parameters
        ----------
        name : str
            Of the service; the key is looked for under it.
        address : str
            Where it is, if that is not known.

        Returns
        -------
        str
            To be saved as a file and looked through.
        """
        return described_draft(self, name=name, address=address)


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
    amounts = amounts_of(groups)
    made.rules = [
        rule
        for group in groups.values()
        for rule in rules_of(group, groups, working, words, amounts)
    ]
    if prefix and made.rules:
        made.envelope = {"images": prefix, **made.envelope}
    _agree(made.rules)
    for rule in made.rules:
        rule.optional = _may_be_missing(rule, parts)
        _settle(rule, made, answers, known)
    made.questions += [q for rule in made.sure for q in rule.questions + _box_questions(rule)]
    made.questions += [
        f"which way boxes at {rule.each} are turned, and whether by {rule.boxes[0].angle_in}"
        for rule in made.sure
        if rule.boxes and rule.boxes[0].angle
    ]
    made.questions += [f"{rule.each}: {rule.open}" for rule in made.rules if rule.open]
    made.unused = _unused(parts, made)
    return made


def _agree(rules: Sequence[RuleGuess]) -> None:
    """Rank boxes anew where several rules have a field of one name: it is written in one way."""
    named: dict[str, list[RuleGuess]] = {}
    for rule in rules:
        if rule.boxes and rule.boxes[0].order:
            named.setdefault(rule.boxes[0].at.rpartition(".")[2], []).append(rule)
    for several in named.values():
        scores: dict[tuple[str, ...], float] = defaultdict(float)
        for rule in several:
            for box in rule.boxes:
                scores[(box.form, *box.order)] += box.score
        for rule in several:
            clear = max(box.clear for other in several for box in other.boxes[:1])
            mean = [
                replace(box, score=scores[(box.form, *box.order)] / len(several), clear=clear)
                for box in rule.boxes
            ]
            rule.boxes = sorted(mean, key=lambda box: -box.score)


def _box_questions(rule: RuleGuess) -> list[str]:
    """Ask where two ways of reading four numbers fit the samples equally well."""
    ways = " or ".join(", ".join(order) for order in ambiguous(rule))
    return [f"the order of the boxes' numbers at {rule.each}: {ways}"] if ways else []


def ambiguous(rule: RuleGuess) -> list[tuple[str, ...]]:
    """Return the two ways of reading a rule's four numbers that fit the samples equally well.

    Returns
    -------
    list of tuple of str
        Empty if one of them is clearly better.
    """
    if len(rule.boxes) < 2:
        return []
    first, second = rule.boxes[:2]
    if not first.order or second.at != first.at or second.fits < first.fits:
        return []
    turned = {first.order, second.order} == _TURNED
    if first.clear >= _SURE if turned else first.score - second.score > _CLEAR:
        return []
    return [first.order, second.order]


_TURNED = {("x0", "y0", "x1", "y1"), ("y0", "x0", "y1", "x1")}
_SURE = 3.0
_CLEAR = 0.05
"""Two ways of writing boxes whose scores are closer are both possible."""


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
            return inner, written([name, "[]"], each=True)
    return parts, ""


def _is_image_list(value: Any) -> bool:
    """Tell whether a list holds images: objects that hold lists or sections of objects."""
    if not isinstance(value, list) or not value:
        return False
    return all(isinstance(e, dict) and sum(_is_section(v) for v in e.values()) >= 2 for e in value)


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


def _settle(rule: RuleGuess, made: Draft, answers: Sequence[Any], sizes: Sequence[Size]) -> None:
    """Let the reader try the rule, with each way of writing its box; leave it open if none does."""
    boxes = rule.boxes
    problem = ""
    for place in range(max(1, len(boxes))):
        rule.boxes = boxes[place : place + 1] + boxes[:place] + boxes[place + 1 :]
        problem = _problem(rule, made.envelope, answers, sizes)
        if not problem:
            return
    rule.boxes = boxes
    rule.open = problem


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
    if read != rule.count:
        first = f": {notes[0][0]} {notes[0][1]}" if notes else ""
        return f"{read} of {rule.count} parts could be read{first}"
    known = bool(sizes) and not math.isnan(sizes[0][0])
    return f"{notes[0][0]}: {notes[0][1]}" if notes and known else ""


_CLIPPED = "box clipped to the image"
_QUIET = (NOT_THERE, "section never read")


def _unused(parts: Parts, made: Draft) -> list[str]:
    """Return the sections of the answers that nothing of the draft looks at."""
    texts = [rule.toml() for rule in made.sure] + [str(at) for at in made.envelope.values()]
    names: dict[str, None] = {}
    for part, _ in parts:
        for name, value in part.items() if isinstance(part, dict) else ():
            if isinstance(value, (dict, list)) and value:
                names[name] = None
    return [name for name in names if not any(written([name]) in text for text in texts)]


def described_draft(made: Draft, *, name: str, address: str) -> str:
    """Return a whole description around a draft, which ``try`` accepts once the key is said."""
    rules = made.sure or made.rules
    kinds = ", ".join(f'"{kind}"' for kind in dict.fromkeys(rule.kind for rule in rules))
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

{made.toml()}"""


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
