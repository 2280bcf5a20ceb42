"""Requests, built from a description."""

from __future__ import annotations

import base64
import hashlib
import uuid
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any
from urllib.parse import urlencode, urlsplit

from dotledger.errors import DescriptionError
from dotledger.services.answer_addresses import AnswerAddresses
from dotledger.services.body_forms import BODY_FORMS, BodyParts, put_at, with_image
from dotledger.services.message_rules import Payload, Request
from dotledger.services.redaction import Hidden, HiddenText, Key, Secrets
from dotledger.services.request_signing import Signer, signed, signed_by_rule
from dotledger.services.service_clock import ServiceClock
from dotledger.services.service_description import Call, Description

__all__ = ["RequestBuilder"]

_UNIQUE = "{unique}"
_TODAY = "{today}"
"""For services that want a date as the version asked for. It is no part of what an answer is known
by: an answer of yesterday is used again."""


def _check_header(name: str, value: str, service: str) -> None:
    """Refuse what no header can carry (RFC 9110, 5.5)."""
    if not (name.isascii() and value.isascii() and f"{name}{value}".isprintable()):
        raise DescriptionError(
            "a header holds what no header can carry",
            place=f"service {service}, headers",
            got=f"{name}: {value}",
            allowed=["plain ASCII without line breaks"],
        )


class RequestBuilder:
    """Builds the requests of one call of one service.

    Parameters
    ----------
    kinds : sequence of str
        The kinds wanted, told to the service if the call has an ``ask``.
    signer : callable, optional
        For services that sign each request.
    secrets : Secrets, optional
        Where what the signer adds is noted.
    round : str
        Of the batch: a deliberate asking again is another request.
    clock : ServiceClock, optional
        Whose time goes into signatures; by default this machine's.
    nonce : callable
        Returns text that it never returned before.
    """

    def __init__(
        self,
        description: Description,
        call: Call,
        kinds: Sequence[str],
        *,
        signer: Signer | None = None,
        secrets: Secrets | None = None,
        round: str = "",
        clock: ServiceClock | None = None,
        nonce: Callable[[], str] = lambda: uuid.uuid4().hex,
    ) -> None:
        self.call = call
        self._rule = description.connect.signing
        self._settings = description.connect.settings
        self._clock = clock or ServiceClock()
        self._nonce = nonce
        self._secrets = secrets or Secrets()
        self._place = description.connect.key
        self._signer = signer
        # One date for a whole sending: it does not become another version at midnight.
        today = datetime.fromtimestamp(self._clock.now(), UTC).strftime("%Y-%m-%d")

        def fill(text: str) -> str:
            return description.filled(text).replace(_TODAY, today)

        self._fill = fill
        self.home = fill(description.connect.address).rstrip("/")
        self._unique = {n for n, value in call.headers.items() if _UNIQUE in value}
        self._round = round
        self._headers = {
            name: value if name in self._unique else fill(value)
            for name, value in call.headers.items()
        }
        for name, value in self._headers.items():
            _check_header(name, value, description.service)
        self._query = {name: fill(value) for name, value in call.query.items()}
        self._form = {name: fill(value) for name, value in call.form.items()}
        self._fields = _filled_deep(call.fields, fill)
        self._parts = _filled_deep(call.parts, fill)
        self._each = _filled_deep(call.each, fill)
        self._ask([kind for kind in call.kinds if kind in kinds])
        # Filled here and not for each image: a setting that lacks is told before the first call.
        self._base = fill(description.connect.address).rstrip("/") + fill(call.path)
        self.addresses = AnswerAddresses(self._base, description.connect.hosts)

    def _ask(self, kinds: list[str]) -> None:
        ask = self.call.ask
        if ask is None:
            return
        words = [ask.words[kind] for kind in kinds if kind in ask.words]
        value: Any = words if ask.separate else ask.join.join(dict.fromkeys(words))
        if ask.place == "json":
            put_at(self._fields, ask.name, value)
        else:
            {"query": self._query, "form": self._form}[ask.place][ask.name] = value

    def step(
        self,
        goal: str,
        key: Key | None,
        *,
        method: str = "GET",
        body: bytes = b"",
        media_type: str = "",
        query: Mapping[str, str] | None = None,
    ) -> Request:
        """Return a request of a further step: to a path of the service, or an address it gave.

        The key goes along only to the service itself; what another host is asked goes without.

        Raises
        ------
        DescriptionError
            If the address is none of http or https.
        """
        address = self._goal(goal)
        headers, asked = Hidden({}), Hidden(dict(query or {}))
        if body and media_type:
            headers["Content-Type"] = media_type
        if _host(address) == _host(self.home):
            self._put_key(headers, asked, key)
        if asked:
            address = f"{address}{'&' if '?' in address else '?'}{urlencode(asked)}"
        request = Request(
            method=method, address=HiddenText(address), headers=headers, body=body, images=0
        )
        own = _host(address) == _host(self.home)
        return self._signed(request, key) if own else request

    def _signed(self, request: Request, key: Key | None) -> Request:
        """Return a request as it goes to the service, signed if that is how it wants it."""
        if self._signer is not None:
            return signed(request, self._signer, self._secrets)
        if self._rule is None:
            return request
        return signed_by_rule(
            request,
            self._rule,
            key,
            now=self._clock.now(),
            nonce=self._nonce(),
            settings=self._settings,
            secrets=self._secrets,
        )

    def _goal(self, goal: str) -> str:
        if "://" in goal:
            if urlsplit(goal).scheme not in ("http", "https"):
                raise DescriptionError(
                    "the service names an address that is none of http",
                    place=f"call {self.call.name}",
                    got=goal[:80],
                )
            return goal
        return f"{self.home}/{self._fill(goal).lstrip('/')}"

    def build(self, payloads: Sequence[Payload], key: Key | None) -> Request:
        """Return the request for `payloads`; for place ``token``, `key` is the token."""
        headers, query = Hidden(self._headers), Hidden(self._query)
        for name in self._unique:
            headers[name] = headers[name].replace(_UNIQUE, self._unique_of(payloads))
        body, media_type = self._body(payloads, query)
        if media_type:
            headers.setdefault("Content-Type", media_type)
        self._put_key(headers, query, key)
        address = HiddenText(f"{self._base}?{urlencode(query)}" if query else self._base)
        request = Request(
            method=self.call.method,
            address=address,
            headers=headers,
            body=body,
            images=len(payloads),
        )
        return self._signed(request, key)

    def _unique_of(self, payloads: Sequence[Payload]) -> str:
        """Return what makes this request one of its own, and the same when it is tried again.

        Also after a kill: it follows from the images, the call and the round alone.
        """
        digest = hashlib.sha256(f"{self.call.name}/{self._round}/{self._base}".encode())
        for payload in payloads:
            digest.update(payload.data or payload.address.encode())
        return str(uuid.UUID(bytes=digest.digest()[:16], version=4))

    # Last of all, into wrappers whose repr hides it: an error on the way shows no key.
    def _put_key(self, headers: dict[str, str], query: dict[str, str], key: Key | None) -> None:
        """Put the key where it goes; no variable holds its text."""
        if key is None:
            return
        place = self._place
        if place.place == "header":
            headers[place.name] = place.prefix + key.reveal()
        elif place.place == "query":
            query[place.name] = place.prefix + key.reveal()
        elif place.place == "basic":
            headers["Authorization"] = f"Basic {_base64(key.reveal())}"
        elif place.place != "signed":
            headers["Authorization"] = f"Bearer {key.reveal()}"

    def _body(self, payloads: Sequence[Payload], query: dict[str, str]) -> tuple[bytes, str]:
        form = BODY_FORMS[self.call.body]
        told = form.told(payloads[0], 0)
        for name, value in query.items():
            query[name] = with_image(value, told)
        if self.call.method == "GET" and form.carries == "address":
            if self.call.image_field:
                query[self.call.image_field] = payloads[0].address
            return b"", ""
        given = BodyParts(self.call.image_field, self._form, self._parts, self._document)
        return form.make(given, payloads)

    def _document(self, told: Sequence[Mapping[str, str]]) -> dict[str, Any]:
        """Return the JSON document; ``each`` is the entry for one image, put into a list."""
        document: dict[str, Any] = with_image(self._fields, told[0])
        if self.call.image_field:
            entries = [with_image(self._each, one) for one in told]
            put_at(document, self.call.image_field, entries if self._each else told[0]["image"])
        return document


def _host(address: str) -> tuple[str, str]:
    """Return scheme and host with its port: where a key may go."""
    parts = urlsplit(address)
    return parts.scheme, parts.netloc.casefold()


def _base64(text: str) -> str:
    return base64.b64encode(text.encode("utf-8", "replace")).decode()


def _filled_deep(value: Any, fill: Callable[[str], str]) -> Any:
    if isinstance(value, str):
        return fill(value)
    if isinstance(value, Mapping) and "setting" in value and set(value) <= {"setting", "as"}:
        return _typed(fill("{" + str(value["setting"]) + "}"), value)
    if isinstance(value, Mapping):
        return {key: _filled_deep(part, fill) for key, part in value.items()}
    if isinstance(value, (list, tuple)):
        return [_filled_deep(part, fill) for part in value]
    return value


def _typed(text: str, wanted: Mapping[str, Any]) -> Any:
    """Return a setting as a number, a flag or a list: settings themselves are text."""
    kind = wanted.get("as", "text")
    try:
        if kind == "text":
            return text
        if kind == "number":
            return int(text) if text.lstrip("+-").isdigit() else float(text)
        if kind == "flag":
            return {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False}[
                text.casefold()
            ]
        if kind == "list":
            return [part.strip() for part in text.split(",") if part.strip()]
    except (ValueError, KeyError):
        raise DescriptionError(
            f"the setting {wanted['setting']!r} is no {kind}", place="settings", got=text
        ) from None
    raise DescriptionError(
        "a setting is put in as another sort of value",
        place=f"setting {wanted['setting']}",
        got=kind,
        allowed=["text", "number", "flag", "list"],
    )
