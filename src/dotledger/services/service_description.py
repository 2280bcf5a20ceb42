"""A service described in one file: how to connect, what to send, what it allows and costs."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec

from dotledger.core.kinds import BROADER, KINDS, LANDMARKS, KindName
from dotledger.errors import DescriptionError
from dotledger.json_codec import NotJSON, from_json, to_json
from dotledger.reading.answer_documents import Written, document_reader
from dotledger.reading.answer_paths import check_paths, compile_each
from dotledger.reading.confidence_scales import SCALES
from dotledger.reading.label_vocabularies import with_vocabularies
from dotledger.reading.reading_rules import Positive, Rate, ReadRule
from dotledger.reading.strict_toml import TomlPart, hinted, load_strictly, parse_strictly, unknown
from dotledger.services.access_parts import SIGNED_PARTS, KeyPlace, Signing, Tls, Token
from dotledger.services.answer_addresses import check_host_names
from dotledger.services.call_parts import Call, Cost

__all__ = [
    "Call",
    "Connect",
    "Description",
    "FromSetting",
    "Limits",
    "Price",
    "parse_description",
    "read_description",
    "read_unfinished",
    "stored_description",
]

FormatName = Literal["jpeg", "png", "webp", "gif", "bmp", "tiff"]
_PART = re.compile(r"\{(\w+)\}")
_OF_EACH = ("image", "id", "today")
_CODE = re.compile(r"[A-Za-z_][\w.]*:[A-Za-z_]\w*")
_SAYS_WHICH = re.compile(r"model|version|engine|detector", re.IGNORECASE)
_IS_A_PLACE = re.compile(r"[.:]|^\d+$|^localhost$")
_HOST = re.compile(r"^[a-z]+://[^/?#]*", re.IGNORECASE)


class Connect(TomlPart, frozen=True, kw_only=True):
    """The address and the key."""

    address: str = ""
    code: str = ""
    settings: Mapping[str, str] = msgspec.field(default_factory=dict)
    indifferent: tuple[str, ...] = ()
    key: KeyPlace = KeyPlace()
    token: Token | None = None
    signing: Signing | None = None
    timeout: Rate = 30.0
    plain_http: bool = False
    hosts: tuple[str, ...] = ()
    tls: Tls | None = None

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        if bool(self.address) == bool(self.code):
            raise ValueError("a service has an 'address', or 'code' that runs on this machine")
        if self.code and not _CODE.fullmatch(self.code):
            raise ValueError(f"code is written MODULE:FUNCTION, not {self.code!r}")
        for name in self.indifferent:
            if name not in self.settings:
                raise ValueError(unknown("setting in indifferent", name, self.settings))
        for name in _PART.findall(self.address):
            if name not in self.settings:
                raise ValueError(f"the address uses {{{name}}}, and settings has no {name!r}")
        if self.key.place == "token" and self.token is None:
            raise ValueError("a key of place 'token' needs a [connect.token] section")
        if self.signing is not None:
            self._check_signing(self.signing)
        check_host_names(self.hosts)

    @property
    def signed_by_code(self) -> bool:
        """Whether code signs each request, and not the description's own rule."""
        return self.key.place == "signed" and self.signing is None

    def _check_signing(self, signing: Signing) -> None:
        if self.key.place != "signed" or not self.key.sources:
            raise ValueError("[connect.signing] goes with a key of place 'signed' and its sources")
        for name in signing.settings_used:
            if name not in self.settings:
                known = (*SIGNED_PARTS, *self.settings)
                raise ValueError(unknown("part of [connect.signing]", name, known))


class Price(Cost, frozen=True, kw_only=True):
    """What a thousand requests, images or operations cost, and in which money."""

    currency: str = ""


class Announced(TomlPart, frozen=True, kw_only=True):
    """Headers in which the service says how many calls are left, and when there are more.

    `reset` is in seconds, or a moment in seconds since 1970. The usual names need not be named.
    """

    remaining: str
    reset: str


class FromSetting(TomlPart, frozen=True, kw_only=True):
    """A number that follows a setting: what is asked of the service is what it then keeps to."""

    setting: str
    scale: Literal["fraction", "percent", "thousandths"] = "fraction"


class Limits(TomlPart, frozen=True, kw_only=True):
    """What the service accepts and allows; None where it does not say."""

    formats: Annotated[tuple[FormatName, ...], msgspec.Meta(min_length=1)] = ("jpeg", "png")
    max_bytes: Positive | None = None
    min_side: Positive | None = None
    max_side: Positive | None = None
    max_pixels: Positive | None = None
    colours: tuple[Literal["rgb", "grey", "rgba"], ...] = ("rgb", "grey", "rgba")
    per_second: Rate | None = None
    per_minute: Rate | None = None
    per_month: Positive | None = None
    at_once: Positive = 8
    findings: Positive | FromSetting | None = None
    floor: Annotated[float, msgspec.Meta(ge=0, le=1)] | FromSetting | None = None
    smallest_face: Positive | None = None
    keep_metadata: bool = False
    announced: Announced | None = None


class Ids(TomlPart, frozen=True, kw_only=True):
    """A table in the answer that says by which id each image is known in it.

    `image` is what was sent: its number from 0, or the name of its field or file.
    """

    table: str
    image: str = "@index"
    id: str = "@"

    def __post_init__(self) -> None:
        """Refuse what is not a path."""
        compile_each(self.table, place="table")
        check_paths((self.image, "image"), (self.id, "id"))


class Envelope(TomlPart, frozen=True, kw_only=True):
    """What is around the answer: a part for each image, errors, the working size, its version."""

    images: str = ""
    id: str = ""
    ids: Ids | None = None
    error: str = ""
    reason: str = ""
    errors: dict[KindName, str] = msgspec.field(default_factory=dict)
    key_refused: tuple[str, ...] = ()
    width: str = ""
    height: str = ""
    version: str = ""
    version_header: str = ""
    wait_if: str = ""
    wait_for: str = ""
    written: Written = "json"
    texts: tuple[str, ...] = ()
    keep_headers: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        """Refuse what is not a path."""
        compile_each(self.images, place="images")
        if self.key_refused and not self.error:
            raise ValueError("key_refused are codes of error, which is missing")
        if self.ids is not None and not (self.id and self.images):
            raise ValueError("a table of ids goes with images, and id: where a part has its id")
        document_reader(self.written, self.texts)
        names = ("id", "error", "reason", "width", "height", "version", "wait_if", "wait_for")
        check_paths(*((getattr(self, name), name) for name in names))
        check_paths(*((path, f"errors: {kind}") for kind, path in self.errors.items()))


class Description(TomlPart, frozen=True, kw_only=True):
    """Everything Dot Ledger knows about one service."""

    schema_version: Literal[1] = msgspec.field(default=1, name="schema")
    service: Annotated[str, msgspec.Meta(pattern=r"^[a-z][a-z0-9-]*$")]
    about: str = ""
    connect: Connect
    call: Annotated[tuple[Call, ...], msgspec.Meta(min_length=1)]
    limits: Limits = Limits()
    price: Price = Price()
    envelope: Envelope = Envelope()
    read: tuple[ReadRule, ...] = ()

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        names = [call.name for call in self.call]
        if len(set(names)) < len(names):
            raise ValueError(f"two calls have the same name: {names}")
        for rule in self.read:
            if rule.call and rule.call not in names:
                raise ValueError(unknown("call", rule.call, names))
        for limit in (self.limits.floor, self.limits.findings):
            if isinstance(limit, FromSetting) and limit.setting not in self.connect.settings:
                raise ValueError(unknown("setting", limit.setting, self.connect.settings))
        before: set[str] = set()
        for call in self.call:
            if call.only_if is not None and call.only_if.kind not in before:
                raise ValueError(
                    f"call {call.name!r} waits for {call.only_if.kind!r}, which no call before it "
                    f"serves; those before serve {sorted(before)}"
                )
            before.update(call.kinds)

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds that some call serves, in the fixed order."""
        served = {kind for call in self.call for kind in call.kinds}
        return tuple(kind for kind in KINDS if kind in served)

    @property
    def words(self) -> dict[str, float]:
        """Every confidence word of its reading rules, with the number that represents it."""
        rules = [rule.confidence for rule in self.read if rule.confidence is not None]
        return {name: value for rule in rules for name, value in rule.words}

    @property
    def shown(self) -> tuple[str, ...]:
        """Attributes that its reading rules mark to be written beside a face without a name."""
        named = [name for rule in self.read for name, one in rule.attributes.items() if one.show]
        return tuple(dict.fromkeys(named))

    @property
    def attribute_names(self) -> dict[str, tuple[str, ...]]:
        """What the reading rules name next to the box, by kind; as `suspicions` takes it."""
        found: dict[str, tuple[str, ...]] = {}
        for rule in self.read:
            more = (*((LANDMARKS,) if rule.points else ()), *((BROADER,) if rule.parents else ()))
            found[rule.kind] = (*found.get(rule.kind, ()), *rule.attributes, *more)
        return found

    @property
    def floor(self) -> float | None:
        """The service's own cut, as a confidence; as asked for where it follows a setting.

        Raises
        ------
        DescriptionError
            If the setting is no number that can be one.
        """
        floor = self.limits.floor
        if not isinstance(floor, FromSetting):
            return floor
        value = SCALES[floor.scale](self._number(floor.setting))
        if not 0 <= value <= 1:
            raise self._no_number(floor.setting, f"no confidence on the scale {floor.scale!r}")
        return value

    @property
    def most_findings(self) -> int | None:
        """How many findings an answer holds at most; as asked for where that follows a setting.

        Raises
        ------
        DescriptionError
            If the setting is no whole number from 1.
        """
        most = self.limits.findings
        if not isinstance(most, FromSetting):
            return most
        value = self._number(most.setting)
        if value < 1 or not value.is_integer():
            raise self._no_number(most.setting, "no whole number from 1")
        return int(value)

    def _number(self, setting: str) -> float:
        try:
            return float(self.filled("{" + setting + "}"))
        except ValueError:
            raise self._no_number(setting, "no number") from None

    def _no_number(self, setting: str, what: str) -> DescriptionError:
        return DescriptionError(
            f"the setting {setting!r} is {what}",
            place=f"service {self.service}",
            got=self.connect.settings.get(setting),
            next_step=f"Give it: `settings={{{setting!r}: NUMBER}}`.",
        )

    def with_settings(self, settings: Mapping[str, str]) -> Description:
        """Return the description with named settings replaced.

        Raises
        ------
        DescriptionError
            For a setting that the description does not name.
        """
        for name in settings:
            if name not in self.connect.settings:
                raise DescriptionError(
                    hinted("unknown setting", name, self.connect.settings),
                    place=f"service {self.service}",
                    got=name,
                    allowed=self.connect.settings,
                )
            if not isinstance(settings[name], str):
                raise DescriptionError(
                    f"the setting {name!r} is not text",
                    place=f"service {self.service}",
                    got=settings[name],
                )
        merged = {**self.connect.settings, **settings}
        connect = msgspec.structs.replace(self.connect, settings=merged)
        return msgspec.structs.replace(self, connect=connect)

    def filled(self, text: str) -> str:
        """Return `text` with every ``{name}`` replaced by its setting.

        ``{image}``, ``{id}`` and ``{today}`` stay, unless they are settings: they differ from
        image to image, or from day to day.

        Raises
        ------
        DescriptionError
            If a setting is empty: it must be given.
        """
        return _PART.sub(self._setting, text)

    def _setting(self, match: re.Match[str]) -> str:
        name = match[1]
        if name == "address":
            return self.filled(self.connect.address)
        value = self.connect.settings.get(name, "")
        if name in _OF_EACH and name not in self.connect.settings:
            return match[0]
        if not value:
            raise DescriptionError(
                f"the setting {name!r} has no value",
                place=f"service {self.service}",
                next_step=f"Give it: `settings={{{name!r}: VALUE}}`, or in [connect.settings].",
            )
        return value

    def to_json(self) -> str:
        """Return the description as JSON, without what is left at its default."""
        return to_json(_sparse(self)).decode()

    @property
    def asked_with(self) -> dict[str, str]:
        """The settings that say how the service was asked, and the model and version asked for.

        Settings that only say where it is are left out: a region in the address counts as how, a
        host or a port does not. A model is told also where a call names it without a setting.
        """
        calls = to_json(msgspec.to_builtins(self.call)).decode()
        found = _HOST.match(self.connect.address)
        host, rest = (found[0], self.connect.address[found.end() :]) if found else ("", "")
        only_where = set(_PART.findall(host)) - set(_PART.findall(rest + calls))
        told = {
            name: value
            for name, value in self.connect.settings.items()
            if value and not (name in only_where and _IS_A_PLACE.search(value))
        }
        for call in self.call:
            for name, value in _leaves({**call.query, **call.headers, **call.form, **call.fields}):
                if _SAYS_WHICH.search(name) and not _PART.search(value):
                    told.setdefault(name, value)
        return told

    @property
    def place(self) -> str:
        """Where the service is: its address, or the code that it is."""
        given = ", ".join(f"{k}={v}" for k, v in sorted(self.connect.settings.items()))
        return self.connect.address or f"code:{self.connect.code} {given}"

    def fingerprint(self, kinds: tuple[str, ...]) -> str:
        """Return a digest of everything that could change an answer: path, calls, options.

        Keys, limits, prices, reading rules and the host with its port do not belong to it: the
        same service at another address gives the same answers.
        """
        if self.connect.code:
            return self._digest(kinds, self.place)
        address = self.filled(self.connect.address)
        return self._digest(kinds, _HOST.sub("", address, count=1))

    def earlier_fingerprint(self, kinds: tuple[str, ...]) -> str:
        """Return the digest under which ledgers of version 1 know the same answers."""
        return self._digest(kinds, self.filled(self.place))

    def _digest(self, kinds: tuple[str, ...], address: str) -> str:
        calls = [_as_known(c) for c in self.call if set(c.kinds) & set(kinds)]
        facts = {
            "service": self.service,
            "address": address,
            "calls": [_filled_all(self, call) for call in calls],
            "kinds": kinds,
            "prepare": {name: getattr(self.limits, name) for name in _PREPARE},
        }
        return hashlib.sha256(to_json(facts, ordered=True)).hexdigest()[:16]


_LATER = ("bring", "job", "more", "parts", "only_if")
"""Keys of a call that came after ledgers were written: without them its digest is as it was."""
_RHYTHM = ("every", "longest")


def _as_known(call: Call) -> dict[str, Any]:
    """Return a call as its answers are known by: how long a job is waited for changes none."""
    plain: dict[str, Any] = msgspec.to_builtins(call)
    for name in _LATER:
        if not plain[name]:
            del plain[name]
    del plain["price"]
    if "job" in plain:
        plain["job"] = {k: v for k, v in plain["job"].items() if k not in _RHYTHM}
    return plain


_PREPARE = ("formats", "max_bytes", "min_side", "max_side", "max_pixels", "colours")


def _leaves(value: Any, name: str = "") -> Iterator[tuple[str, str]]:
    """Yield every text and number of a call's parts with the name that it stands under."""
    if isinstance(value, Mapping):
        for key, part in value.items():
            yield from _leaves(part, str(key))
    elif isinstance(value, list | tuple):
        for part in value:
            yield from _leaves(part, name)
    elif isinstance(value, str | int | float) and not isinstance(value, bool):
        yield name, str(value)


def _filled_all(description: Description, value: Any) -> Any:
    if isinstance(value, str):
        known = description.connect.settings
        return _PART.sub(lambda m: known.get(m[1], m[0]), value)
    if isinstance(value, dict):
        filled = {key: _filled_all(description, part) for key, part in value.items()}
        # What a setting is stands beside its name: another value is another request.
        if set(filled) in ({"setting"}, {"setting", "as"}):
            filled["is"] = description.connect.settings.get(str(filled["setting"]))
        return filled
    if isinstance(value, list):
        return [_filled_all(description, part) for part in value]
    return value


def read_description(path: str | os.PathLike[str]) -> Description:
    """Read and check a description file.

    Parameters
    ----------
    path : path-like
        The description, a TOML file.

    Returns
    -------
    Description
        Checked: every path, scale and kind in it.

    Raises
    ------
    DescriptionError
        Naming file, line and field: not TOML, an unknown or misspelt key (with the nearest right
        one), a missing key, values that contradict each other, or a vocabulary file that a rule
        names and that cannot be used.

    Examples
    --------
    >>> import dotledger
    >>> dotledger.read_description("myservice.toml").kinds
    ('label', 'object', 'face', 'unsafe')
    """
    described = read_unfinished(path)
    _check_promises(described, os.fspath(path))
    return described


def read_unfinished(path: str | os.PathLike[str]) -> Description:
    """Read a description that may still lack its ``[[read]]`` rules.

    It is enough for one call, whose answer the rules can then be drafted from.

    Raises
    ------
    DescriptionError
        As `read_description`, but for a kind that no rule reads.
    """
    read = load_strictly(path, Description)
    rules = with_vocabularies(read.read, Path(path).parent, os.fspath(path))
    return msgspec.structs.replace(read, read=rules)


def parse_description(text: str, *, name: str = "description") -> Description:
    """Check a description given as TOML text.

    Parameters
    ----------
    name : str, default 'description'
        What the text is called in messages.

    Returns
    -------
    Description
        Checked; its settings are not filled.

    Raises
    ------
    DescriptionError
        See `read_description`; `name` stands for the file.
    """
    described = parse_strictly(text, Description, name=name)
    with_vocabularies(described.read, None, name)
    _check_promises(described, name)
    return described


def _check_promises(described: Description, name: str) -> None:
    """Refuse a call that promises a kind which no rule reads: it would be paid for nothing."""
    for call in described.call:
        for kind in call.kinds:
            if not any(r.kind == kind and r.call in ("", call.name) for r in described.read):
                raise DescriptionError(
                    f"call {call.name!r} promises {kind!r}, and no [[read]] rule reads it",
                    place=name,
                    next_step=f"Add a [[read]] section of kind {kind!r}, or take it out of kinds.",
                )


def stored_description(text: str) -> Description:
    """Return a description from the JSON that `Description.to_json` gave.

    Raises
    ------
    DescriptionError
        If it was kept by an earlier version and would be refused today.
    """
    try:
        return msgspec.convert(from_json(text), Description, strict=True)
    except (msgspec.ValidationError, NotJSON) as error:
        raise DescriptionError(
            f"the description kept with the batch cannot be used any more ({error})",
            next_step="Give a description file: `service=FILE`.",
        ) from error


def _sparse(part: Any) -> Any:
    """Return a section as plain values, without what is left at its default."""
    if isinstance(part, msgspec.Struct):
        kept = {
            field.encode_name: getattr(part, field.name)
            for field in msgspec.structs.fields(part)
            if field.required or getattr(part, field.name) != _default(field)
        }
        return {name: _sparse(value) for name, value in kept.items()}
    if isinstance(part, Mapping):
        return {name: _sparse(value) for name, value in part.items()}
    return [_sparse(value) for value in part] if isinstance(part, (list, tuple)) else part


def _default(field: msgspec.structs.FieldInfo) -> Any:
    made = field.default_factory
    return field.default if made is msgspec.NODEFAULT else made()
