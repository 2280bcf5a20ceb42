"""The rules in which descriptions say how values are read, checked when they are loaded."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Literal

import msgspec

from dotledger.core.boxes.box_forms import BOX_FORMS, BOX_UNITS
from dotledger.core.kinds import KINDS, KindName
from dotledger.reading.answer_paths import check_paths, compile_each
from dotledger.reading.confidence_formulas import formula
from dotledger.reading.confidence_scales import SCALES
from dotledger.reading.strict_toml import TomlPart, unknown

__all__ = ["BoxRule", "ConfidenceRule", "KindName", "Positive", "Rate", "ReadRule"]

AttributeType = Literal["choice", "flag", "number", "range", "shares", "list", "text", "person"]
Positive = Annotated[int, msgspec.Meta(gt=0)]
Rate = Annotated[float, msgspec.Meta(gt=0)]


class ConfidenceRule(TomlPart, frozen=True, kw_only=True):
    """Where the confidence stands and on what scale."""

    at: str
    scale: str = "fraction"
    range: tuple[float, float] | None = None
    words: tuple[tuple[str, float], ...] = ()
    absent: tuple[str, ...] = ()
    formula: str = ""
    decimal: Literal[".", ","] = "."

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        check_paths((self.at, "at"))
        known = (*SCALES, "range", "formula", "words", "yes-no")
        if self.scale not in known:
            raise ValueError(unknown("scale", self.scale, known))
        self._check_range_and_formula()
        if (self.scale == "words") != bool(self.words):
            raise ValueError("scale 'words' goes with words = [[word, confidence], ...], rising")
        if any(not 0.0 <= value <= 1.0 for _, value in self.words):
            raise ValueError("the confidence of a word is from 0 to 1")
        if [value for _, value in self.words] != sorted(value for _, value in self.words):
            raise ValueError("words stand in rising order")
        known_words = [word for word, _ in self.words]
        for word in self.absent:
            if word not in known_words:
                raise ValueError(unknown("word in absent", word, known_words))

    def _check_range_and_formula(self) -> None:
        if self.scale == "range" and self.range is None:
            raise ValueError("scale 'range' goes with range = [low, high]")
        if self.range is not None and self.scale not in ("range", "formula"):
            raise ValueError("range goes with scale 'range' or 'formula'")
        if (self.scale == "formula") != bool(self.formula):
            raise ValueError("scale 'formula' goes with formula, such as '1 / (1 + exp(-x))'")
        if self.range is not None and not self.range[0] < self.range[1]:
            raise ValueError("range = [low, high] needs low < high")
        if self.formula:
            formula(self.formula, self.range)


class Place(TomlPart, frozen=True, kw_only=True):
    """Where coordinates stand and what their numbers count."""

    at: str
    unit: str = "pixels"
    grid: Rate | None = None
    of: Literal["sent", "original", "working"] = "sent"
    upright: bool = True

    def __post_init__(self) -> None:
        """Refuse unknown units and what is not a path."""
        check_paths((self.at, "at"))
        if self.unit not in (*BOX_UNITS, "grid"):
            raise ValueError(unknown("unit", self.unit, (*BOX_UNITS, "grid")))
        if (self.unit == "grid") != (self.grid is not None):
            raise ValueError("unit 'grid' goes with grid = the number that the full width reads as")


class BoxRule(Place, frozen=True, kw_only=True):
    """Where the box stands and how it is written."""

    form: str = "corners"
    split: str = ""
    order: tuple[str, ...] = ()
    fields: Mapping[str, str] = msgspec.field(default_factory=dict)
    angle: str = ""
    angle_in: Literal["degrees", "radians"] = "degrees"
    turns: Literal["clockwise", "anticlockwise"] = "clockwise"
    lines: Literal["columns", "rows"] = "columns"

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        super().__post_init__()
        known = (*BOX_FORMS, "points", "runs")
        if self.form not in known:
            raise ValueError(unknown("form", self.form, known))
        if self.angle and self.form != "centre+size":
            raise ValueError("a box that is turned has the form 'centre+size'")
        check_paths((self.angle, "angle"))
        if self.form in ("points", "runs"):
            return
        if self.split and not self.order:
            raise ValueError("split goes with order: numbers in one text stand in an order")
        if bool(self.order) == bool(self.fields):
            raise ValueError("a box needs either order (a list) or fields (an object)")
        check_paths(*((path, f"fields.{name}") for name, path in self.fields.items()))
        wanted = BOX_FORMS[self.form]
        if sorted(self.order or self.fields) != sorted(wanted):
            raise ValueError(f"form {self.form!r} needs exactly {', '.join(wanted)}")


class PointsRule(TomlPart, frozen=True, kw_only=True):
    """Where landmark points stand: an object by name, or a list of named entries.

    Their numbers count what those of the box count, where nothing else is said.
    """

    at: str
    unit: str | None = None
    grid: Rate | None = None
    of: Literal["sent", "original", "working"] | None = None
    upright: bool | None = None
    name: str = ""
    x: str = "x"
    y: str = "y"
    order: tuple[str, ...] = ()
    step: Literal[2, 3] = 2

    def __post_init__(self) -> None:
        """Refuse unknown units and what is not a path."""
        check_paths((self.at, "at"), (self.x, "x"), (self.y, "y"))
        if self.step == 3 and not self.order:
            raise ValueError("step goes with order: the names of points in one flat list")
        if self.unit is not None and self.unit not in (*BOX_UNITS, "grid"):
            raise ValueError(unknown("unit", self.unit, (*BOX_UNITS, "grid")))

    def place(self, box: BoxRule | None) -> Place:
        """Return what the numbers count, with what is not said taken from the box."""
        like = box or Place(at=self.at)
        own_unit = self.unit is not None
        return Place(
            at=self.at,
            unit=self.unit if self.unit is not None else like.unit,
            grid=self.grid if own_unit else like.grid,
            of=self.of if self.of is not None else like.of,
            upright=like.upright if self.upright is None else self.upright,
        )


class AttributeRule(TomlPart, frozen=True, kw_only=True):
    """One attribute: a value that is no confidence.

    `confidence` says how sure the service is of the attribute, where it says so; `low` and
    `high` stand in a range; `floor` is the share below which no part of a whole leads,
    and no entry of a list counts; `similarity` goes with a person's name. If `at` is an object, the
    path starts there; if it is a plain name, the path starts at the finding. With `show` it is
    the text of a face that has no person's name.
    """

    at: str
    type: AttributeType = "text"
    unit: str = ""
    scale: float = 1.0
    confidence: ConfidenceRule | None = None
    low: str = "low"
    high: str = "high"
    floor: Annotated[float, msgspec.Meta(ge=0, le=1)] = 0.0
    similarity: str = ""
    show: bool = False

    def __post_init__(self) -> None:
        """Refuse what is not a path."""
        check_paths(
            (self.at, "at"),
            (self.low, "low"),
            (self.high, "high"),
            (self.similarity, "similarity"),
        )
        if self.similarity and self.type != "person":
            raise ValueError("similarity goes with type 'person'")


class Lookup(TomlPart, frozen=True, kw_only=True):
    """Where labels stand by their id.

    Either in a side table of the answer, with `id` and `name` as paths in its rows; or in a CSV
    `file` next to the description, with `id` and `name` as columns; or written out as `names`.
    """

    table: str = ""
    file: str = ""
    names: Mapping[str, str] = msgspec.field(default_factory=dict)
    id: str = "id"
    name: str = "name"

    def __post_init__(self) -> None:
        """Refuse what is not a path."""
        if sum(map(bool, (self.table, self.file, self.names))) != 1:
            raise ValueError("a lookup needs a table in the answer, or a file, or names")
        if not self.table:
            return
        compile_each(self.table, place="table")
        check_paths((self.id, "id"), (self.name, "name"))


class ReadRule(TomlPart, frozen=True, kw_only=True):
    """How findings of one kind are read out of an answer."""

    kind: KindName
    call: str = ""
    each: str
    label: str = ""
    always: str = ""
    case: Literal["lower", "as-is"] = "as-is"
    lookup: Lookup | None = None
    split: str = ""
    columns: str = ""
    confidence: ConfidenceRule | None = None
    box: BoxRule | None = None
    points: PointsRule | None = None
    attributes: Mapping[str, AttributeRule] = msgspec.field(default_factory=dict)
    parents: str = ""
    keep_if: str = ""
    optional: bool = False

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        check_paths(
            (self.label, "label"),
            (self.parents, "parents"),
            (self.keep_if, "keep_if"),
            (self.columns, "columns"),
        )
        compile_each(self.each)
        if bool(self.label) == bool(self.always):
            raise ValueError("a rule needs either label (where it stands) or always (a fixed one)")
        if KINDS[self.kind].judged == "boxes" and self.box is None:
            raise ValueError(f"a rule for {self.kind!r} needs a box")
