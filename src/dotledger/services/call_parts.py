"""A call: what is sent, how it is told what is wanted, in which steps, when, at what price."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Annotated, Any, Literal

import msgspec

from dotledger.core.kinds import KindName
from dotledger.reading.answer_paths import check_paths
from dotledger.reading.reading_rules import Positive, Rate
from dotledger.reading.strict_toml import TomlPart
from dotledger.services.body_forms import BODY_FORMS, BodyForm, holds_image, put_at

__all__ = ["Ask", "Bring", "Call", "Cost", "Job", "Money", "More", "OnlyIf", "Step"]

# To a type checker any text; the schema and the reader know the names of the registry.
if TYPE_CHECKING:
    BodyName = str
else:
    BodyName = Literal[tuple(BODY_FORMS)]
Money = Annotated[float, msgspec.Meta(ge=0)]


class Ask(TomlPart, frozen=True, kw_only=True):
    """How a call is told which kinds are wanted, for calls that serve several."""

    place: Literal["query", "form", "json"]
    name: str
    words: Mapping[KindName, str]
    join: str = ","
    separate: bool = False


class Bring(TomlPart, frozen=True, kw_only=True):
    """First the image is brought somewhere, then the service is asked with the id it got.

    `to` is where the answer says where the image itself goes, by PUT and without a key; without
    it the image goes to `path`. `id` is where the answer says what the image is known by.
    """

    path: str
    id: str
    method: Literal["POST", "PUT"] = "POST"
    to: str = ""
    remove: str = ""

    def __post_init__(self) -> None:
        """Refuse what is not a path."""
        check_paths((self.id, "id"), (self.to, "to"))


class Job(TomlPart, frozen=True, kw_only=True):
    """The answer comes later: it is asked for until it is there.

    Where to ask again is said by `path` with an `id`, by an `address`, or by a `header`.
    """

    id: str = ""
    path: str = ""
    address: str = ""
    header: str = ""
    state: str = ""
    done: tuple[str, ...] = ()
    failed: tuple[str, ...] = ()
    reason: str = ""
    result: str = ""
    every: Rate = 2.0
    longest: Rate = 600.0

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        names = ("id", "address", "state", "reason", "result")
        check_paths(*((getattr(self, name), name) for name in names))
        ways = [bool(self.id and self.path), bool(self.address), bool(self.header)]
        if sum(ways) != 1:
            raise ValueError("a job needs 'id' with 'path', or 'address', or 'header'")
        if self.id and "{id}" not in self.path:
            raise ValueError("the path of a job needs {id}")
        if (self.done or self.failed) and not self.state:
            raise ValueError("'done' and 'failed' are words of 'state', which is missing")


class More(TomlPart, frozen=True, kw_only=True):
    """The answer comes in parts: `next` is where one says which is the next.

    With `query` it is a value of that name in the query; without, an address.
    """

    next: str
    query: str = ""
    most: Positive = 50

    def __post_init__(self) -> None:
        """Refuse what is not a path."""
        check_paths((self.next, "next"))


class Step(TomlPart, frozen=True, kw_only=True):
    """What a thousand requests cost after so many requests of a month."""

    above: Positive
    per_1000: Money


class Cost(TomlPart, frozen=True, kw_only=True):
    """What a thousand cost, from the first of a month on, and by steps after so many.

    `per` says a thousand of what: requests, images, or operations (each kind asked of each image).
    """

    per: Literal["request", "image", "operation"] = "request"
    per_1000: Money = 0.0
    steps: tuple[Step, ...] = ()

    def __post_init__(self) -> None:
        """Raise ValueError if the steps are not in order."""
        above = [step.above for step in self.steps]
        if sorted(set(above)) != above:
            raise ValueError(f"the steps of a price begin one after another, not at {above}")


class OnlyIf(TomlPart, frozen=True, kw_only=True):
    """A call is made only where something of a kind was found before, by an earlier call."""

    kind: KindName
    labels: tuple[str, ...] = ()
    least: Annotated[float, msgspec.Meta(ge=0, le=1)] = 0.0

    def met_by(self, found: Iterable[tuple[str, str, float | None]]) -> bool:
        """Return whether one of (kind, label, confidence) is what is waited for.

        One without a confidence counts as certain; letter case does not matter.
        """
        wanted = {label.casefold() for label in self.labels}
        return any(
            kind == self.kind
            and (not wanted or label.casefold() in wanted)
            and (confidence is None or confidence >= self.least)
            for kind, label, confidence in found
        )

    def __str__(self) -> str:
        """Return what was not found, for people: ``no object person or child of 0.5 or more``."""
        labels = f" {' or '.join(self.labels)}" if self.labels else ""
        return f"no {self.kind}{labels}{f' of {self.least:g} or more' if self.least else ''}"


def _plain(value: Any) -> Any:
    """Return fields as they go into a document: something that may be changed."""
    if isinstance(value, Mapping):
        return {name: _plain(part) for name, part in value.items()}
    return [_plain(part) for part in value] if isinstance(value, list | tuple) else value


def _named(forms: Iterable[BodyForm]) -> str:
    return " or ".join(repr(form.name) for form in forms)


class Call(TomlPart, frozen=True, kw_only=True):
    """One way of calling the service."""

    name: str
    kinds: Annotated[tuple[KindName, ...], msgspec.Meta(min_length=1)]
    path: str
    method: Literal["POST", "PUT", "GET"] = "POST"
    body: BodyName = "raw"
    image_field: str = ""
    images: Positive = 1
    each: Mapping[str, Any] = msgspec.field(default_factory=dict)
    query: Mapping[str, str] = msgspec.field(default_factory=dict)
    headers: Mapping[str, str] = msgspec.field(default_factory=dict)
    form: Mapping[str, str] = msgspec.field(default_factory=dict)
    fields: Mapping[str, Any] = msgspec.field(default_factory=dict)
    parts: Mapping[str, Any] = msgspec.field(default_factory=dict)
    ask: Ask | None = None
    bring: Bring | None = None
    job: Job | None = None
    more: More | None = None
    only_if: OnlyIf | None = None
    price: Cost | None = None

    @property
    def fetched(self) -> bool:
        """Whether the service fetches the image from its address, which nobody brought it."""
        return BODY_FORMS[self.body].carries == "address" and self.bring is None

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        form = BODY_FORMS[self.body]
        self._check_body(form)
        if self.images > 1 and not form.several:
            names = _named(one for one in BODY_FORMS.values() if one.several)
            raise ValueError(f"several images in one request need a body of {names}")
        if self.bring is not None and form.carries != "address":
            raise ValueError("an image that is brought first has an id: a body of 'address'")
        if self.images > 1 and self.more is not None:
            raise ValueError("an answer in parts is about one image")
        if self.images > 1 and "each" in form.takes and not self.each:
            raise ValueError("several images in one request need 'each', the entry for one image")

    def _check_body(self, form: BodyForm) -> None:
        """Refuse what would not go into such a body, and a body without its image."""
        for key in ("form", "parts", "fields", "each"):
            if getattr(self, key) and key not in form.takes:
                names = _named(one for one in BODY_FORMS.values() if key in one.takes)
                raise ValueError(f"{key} belongs to a body of {names}")
        named = (self.query, self.form, self.fields)
        if form.needs_field and not self.image_field and not any(map(holds_image, named)):
            raise ValueError(f"a body of {self.body!r} needs image_field")
        fields = _plain(self.fields)
        if self.image_field and "fields" in form.takes:
            put_at(fields, self.image_field, "")
        if self.ask is not None and self.ask.place != "query":
            key = {"json": "fields"}.get(self.ask.place, self.ask.place)
            if key not in form.takes:
                names = _named(one for one in BODY_FORMS.values() if key in one.takes)
                raise ValueError(f"ask in {self.ask.place!r} belongs to a body of {names}")
            if key == "fields":
                put_at(fields, self.ask.name, "")
