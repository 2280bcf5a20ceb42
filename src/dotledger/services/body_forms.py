"""How an image goes into a request: one record for each form of body.

What a description may say, what it must add, what a forecast counts and how the bytes are made all
come from `BODY_FORMS`. Adding a form is adding a record.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Literal, NamedTuple

import pybase64

from dotledger.json_codec import to_json
from dotledger.services.message_rules import Payload

__all__ = ["BODY_FORMS", "BodyForm", "BodyParts"]

_BASE64_GROWTH = 4 / 3
_JSON = "application/json"


class BodyParts(NamedTuple):
    """What a description puts next to the image, filled with its settings.

    `document` makes the JSON document around what stands for each image.
    """

    image_field: str
    form: Mapping[str, str]
    parts: Mapping[str, Any]
    document: Callable[[Sequence[str]], dict[str, Any]]


class BodyForm(NamedTuple):
    """One form of body.

    `carries` is what of the image goes along: its bytes, its bytes in base64, or only its address,
    so that the service fetches it. `make` returns the body and its media type.
    """

    name: str
    make: Callable[[BodyParts, Sequence[Payload]], tuple[bytes, str]]
    carries: Literal["bytes", "base64", "address"] = "bytes"
    needs_field: bool = True
    several: bool = False
    with_parts: bool = False

    @property
    def growth(self) -> float:
        """Bytes sent for each byte of the image."""
        return {"bytes": 1.0, "base64": _BASE64_GROWTH, "address": 0.0}[self.carries]

    def value(self, payload: Payload) -> str:
        """Return what stands for an image in a document."""
        if self.carries == "address":
            return payload.address
        return pybase64.b64encode_as_string(payload.data)


def _raw(_: BodyParts, payloads: Sequence[Payload]) -> tuple[bytes, str]:
    return payloads[0].data, payloads[0].media_type


def _multipart(given: BodyParts, payloads: Sequence[Payload]) -> tuple[bytes, str]:
    # A boundary must not occur in the image; the package draws one at random.
    from urllib3.filepost import encode_multipart_formdata

    payload = payloads[0]
    image = (payload.file_name, payload.data, payload.media_type)
    typed = {name: (None, to_json(value), _JSON) for name, value in given.parts.items()}
    parts: dict[str, Any] = {**given.form, **typed, given.image_field: image}
    return encode_multipart_formdata(parts)


def _document(name: str) -> Callable[[BodyParts, Sequence[Payload]], tuple[bytes, str]]:
    def make(given: BodyParts, payloads: Sequence[Payload]) -> tuple[bytes, str]:
        form = BODY_FORMS[name]
        return to_json(given.document([form.value(one) for one in payloads])), _JSON

    return make


_RECORDS = (
    BodyForm("raw", _raw, needs_field=False),
    BodyForm("multipart", _multipart, with_parts=True),
    BodyForm("json", _document("json"), carries="base64", several=True),
    BodyForm("address", _document("address"), carries="address", several=True),
)

BODY_FORMS = {form.name: form for form in _RECORDS}
"""Every form of body by the word that a description uses."""
