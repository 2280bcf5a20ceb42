"""How an image goes into a request: one record for each form of body.

What a description may say, what it must add, what a forecast counts and how the bytes are made all
come from `BODY_FORMS`. Adding a form is adding a record.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Literal, NamedTuple
from urllib.parse import urlencode

import pybase64

from dotledger.json_codec import to_json
from dotledger.services.message_rules import Payload

__all__ = ["BODY_FORMS", "BodyForm", "BodyParts", "holds_image", "put_at", "with_image"]

_BASE64_GROWTH = 4 / 3
_JSON = "application/json"
_FORM = "application/x-www-form-urlencoded"
_OF_IMAGE = re.compile(r"\{(image|id|image\.bucket|image\.name|image\.type)\}")
"""What a template may say of an image: `bucket` and `name` are the host and path of its address,
`type` its media type."""


class BodyParts(NamedTuple):
    """What a description puts next to the image, filled with its settings.

    `document` makes the JSON document around what stands for each image.
    """

    image_field: str
    form: Mapping[str, str]
    parts: Mapping[str, Any]
    document: Callable[[Sequence[Mapping[str, str]]], dict[str, Any]]


class BodyForm(NamedTuple):
    """One form of body.

    `carries` is what of the image goes along: its bytes, its bytes in base64, or only its address,
    so that the service fetches it. `make` returns the body and its media type. `takes` are the keys
    of a call that go into such a body.
    """

    name: str
    make: Callable[[BodyParts, Sequence[Payload]], tuple[bytes, str]]
    carries: Literal["bytes", "base64", "address"] = "bytes"
    needs_field: bool = True
    several: bool = False
    takes: tuple[str, ...] = ()

    @property
    def growth(self) -> float:
        """Bytes sent for each byte of the image."""
        return {"bytes": 1.0, "base64": _BASE64_GROWTH, "address": 0.0}[self.carries]

    def told(self, payload: Payload, position: int) -> dict[str, str]:
        """Return what templates may say of an image, by name."""
        known = {"id": str(position), "image.type": payload.media_type}
        if self.carries == "base64":
            known["image"] = pybase64.b64encode_as_string(payload.data)
        if self.carries == "address":
            known["image"] = payload.address
            bucket, _, name = payload.address.partition("://")[2].lstrip("/").partition("/")
            known |= {"image.bucket": bucket, "image.name": name}
        return known


def with_image(template: Any, told: Mapping[str, str]) -> Any:
    """Return a template with what it says of an image filled in, however deep it stands.

    Parameters
    ----------
    template : object
        Text, or a mapping or list of such.
    told : mapping of str to str
        See `BodyForm.told`.
    """
    if isinstance(template, str):
        return _OF_IMAGE.sub(lambda match: told.get(match[1], match[0]), template)
    if isinstance(template, Mapping):
        return {name: with_image(part, told) for name, part in template.items()}
    return [with_image(p, told) for p in template] if isinstance(template, list) else template


def holds_image(template: Any) -> bool:
    """Tell whether a template names the image itself, or a part of its address."""
    if isinstance(template, str):
        return any(name != "id" for name in _OF_IMAGE.findall(template))
    if isinstance(template, Mapping):
        return any(map(holds_image, template.values()))
    return isinstance(template, list | tuple) and any(map(holds_image, template))


# -- where something goes in a document -----------------------------------------------------------

_PLACE = re.compile(r"([^.\[\]]+)((?:\[\d+\])*)(?:\.(?!$)|$)")
_INDEX = re.compile(r"\[(\d+)\]")


def put_at(document: dict[str, Any], path: str, value: Any) -> None:
    """Put a value into a document, and what lacks on the way to it.

    Parameters
    ----------
    document : dict
        Changed in place.
    path : str
        Names joined by dots, each with a place in a list: ``asks[0].image``. A list grows by one
        entry at most.

    Raises
    ------
    ValueError
        If it is no such path, or leads through what is neither an object nor a list.
    """
    steps = _steps(path)
    holder: Any = document
    for step, following in zip(steps, [*steps[1:], None], strict=True):
        if following is None:
            _set(holder, step, value, path)
        else:
            holder = _entered(holder, step, [] if isinstance(following, int) else {}, path)


def _steps(path: str) -> list[str | int]:
    steps: list[str | int] = []
    at = 0
    while at < len(path):
        match = _PLACE.match(path, at)
        if match is None:
            break
        steps += [match[1], *map(int, _INDEX.findall(match[2]))]
        at = match.end()
    if not steps or at < len(path):
        raise ValueError(f"{path!r} is no place in a document; write name.name or name[0].name")
    return steps


def _entered(holder: Any, step: str | int, empty: Any, path: str) -> Any:
    """Return what stands at one step, made empty where nothing does."""
    if isinstance(step, str) and isinstance(holder, dict):
        return holder.setdefault(step, empty)
    _set_if_next(holder, step, empty, path)
    return holder[step]


def _set(holder: Any, step: str | int, value: Any, path: str) -> None:
    if isinstance(step, str) and isinstance(holder, dict):
        holder[step] = value
        return
    _set_if_next(holder, step, value, path)
    holder[step] = value


def _set_if_next(holder: Any, step: str | int, value: Any, path: str) -> None:
    """Let a list grow by an entry; refuse whatever is no list that has one, or gets it next."""
    if not isinstance(step, int) or not isinstance(holder, list) or step > len(holder):
        what = f"entry {step}" if isinstance(step, int) else repr(step)
        raise ValueError(f"{path!r} leads nowhere: there is no {what} to put something in")
    if step == len(holder):
        holder.append(value)


# -- the forms ------------------------------------------------------------------------------------


def _raw(_: BodyParts, payloads: Sequence[Payload]) -> tuple[bytes, str]:
    return payloads[0].data, payloads[0].media_type


def _base64(_: BodyParts, payloads: Sequence[Payload]) -> tuple[bytes, str]:
    return pybase64.b64encode(payloads[0].data), "text/plain"


def _multipart(given: BodyParts, payloads: Sequence[Payload]) -> tuple[bytes, str]:
    images = [
        (given.image_field.replace("{id}", str(place)), _file(payload, place, len(payloads)))
        for place, payload in enumerate(payloads)
    ]
    return _encoded(given, _fields(given, "multipart", payloads), images)


def _file(payload: Payload, place: int, count: int) -> tuple[str, bytes, str]:
    """Return one file of a form; several are told apart by their names, too."""
    name = payload.file_name
    own = name if count == 1 else name.replace(".", f"-{place}.", 1)
    return own, payload.data, payload.media_type


def _multipart_address(given: BodyParts, payloads: Sequence[Payload]) -> tuple[bytes, str]:
    return _encoded(given, _fields(given, "multipart-address", payloads), [])


def _encoded(
    given: BodyParts, fields: Sequence[tuple[str, str]], images: Sequence[tuple[str, Any]]
) -> tuple[bytes, str]:
    # A boundary must not occur in the image; the package draws one at random.
    from urllib3.filepost import encode_multipart_formdata

    typed = [(name, (None, to_json(value), _JSON)) for name, value in given.parts.items()]
    parts: list[Any] = [*fields, *typed, *images]
    return encode_multipart_formdata(parts)


def _form(name: str) -> Callable[[BodyParts, Sequence[Payload]], tuple[bytes, str]]:
    def make(given: BodyParts, payloads: Sequence[Payload]) -> tuple[bytes, str]:
        return urlencode(_fields(given, name, payloads)).encode(), _FORM

    return make


def _fields(given: BodyParts, name: str, payloads: Sequence[Payload]) -> list[tuple[str, str]]:
    """Return the fields of a form; one that speaks of an image stands there for each."""
    form, found = BODY_FORMS[name], list[tuple[str, str]]()
    told = [form.told(payload, place) for place, payload in enumerate(payloads)]
    for key, value in given.form.items():
        each = told if _OF_IMAGE.search(key + value) else [told[0]]
        found += [(with_image(key, one), with_image(value, one)) for one in each]
    if given.image_field and form.carries != "bytes":
        found += [(given.image_field.replace("{id}", one["id"]), one["image"]) for one in told]
    return found


def _document(name: str) -> Callable[[BodyParts, Sequence[Payload]], tuple[bytes, str]]:
    def make(given: BodyParts, payloads: Sequence[Payload]) -> tuple[bytes, str]:
        form = BODY_FORMS[name]
        told = [form.told(payload, place) for place, payload in enumerate(payloads)]
        return to_json(given.document(told)), _JSON

    return make


_RECORDS = (
    BodyForm("raw", _raw, needs_field=False),
    BodyForm("base64", _base64, carries="base64", needs_field=False),
    BodyForm("multipart", _multipart, several=True, takes=("form", "parts")),
    BodyForm(
        "multipart-address",
        _multipart_address,
        carries="address",
        several=True,
        takes=("form", "parts"),
    ),
    BodyForm("form", _form("form"), carries="base64", several=True, takes=("form",)),
    BodyForm(
        "form-address", _form("form-address"), carries="address", several=True, takes=("form",)
    ),
    BodyForm("json", _document("json"), carries="base64", several=True, takes=("fields", "each")),
    BodyForm(
        "address",
        _document("address"),
        carries="address",
        several=True,
        takes=("fields", "each"),
    ),
)

BODY_FORMS = {form.name: form for form in _RECORDS}
"""Every form of body by the word that a description uses."""
