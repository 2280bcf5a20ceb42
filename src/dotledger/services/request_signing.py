"""Services that sign each request: by a rule of their description, or by code."""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
import traceback
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from email.utils import formatdate
from pathlib import Path
from urllib.parse import urlencode, urlsplit

from msgspec.structs import replace

from dotledger.errors import ConnectError, KeyRefused
from dotledger.services.access_parts import Signing
from dotledger.services.message_rules import Request
from dotledger.services.redaction import Hidden, HiddenText, Key, Secrets

__all__ = ["Signer", "signed", "signed_by_rule", "signer_name"]

Signer = Callable[[Request], Mapping[str, str]]
"""Given a finished request, returns headers to add to it."""

_PART = re.compile(r"\{([\w.-]+)\}")


def signed(request: Request, signer: Signer, secrets: Secrets) -> Request:
    """Return the request with the signer's headers; it is somebody else's code.

    What it adds is as secret as a key, and so is what its errors say.

    Parameters
    ----------
    signer : callable
        From the request to headers to add.
    secrets : Secrets
        Where what it adds is noted.

    Raises
    ------
    ConnectError
        If the signer fails or returns no headers.
    """
    added, fault = _added(request, signer)
    if fault:
        raise ConnectError(
            fault,
            place=f"signer {signer_name(signer)}",
            next_step="Call it by itself with a request, and see what it says.",
        )
    for value in added.values():
        for part in {value, value.partition(" ")[2]} - {""}:
            secrets.add(Key(part, "the signer"), passing=True)
    return replace(request, headers=Hidden({**request.headers, **added}))


def signer_name(signer: Signer) -> str:
    """Return what a signer is called: ``MODULE:FUNCTION``."""
    name = getattr(signer, "__qualname__", type(signer).__qualname__)
    return f"{getattr(signer, '__module__', type(signer).__module__)}:{name}"


def _added(request: Request, signer: Signer) -> tuple[Hidden, str]:
    try:
        added = Hidden(signer(request))
    except Exception as error:
        return Hidden(), f"the signer failed: {_cause(error)}"
    if not all(isinstance(part, str) for pair in added.items() for part in pair):
        return Hidden(), "the signer returned a header that is not text"
    return added, ""


_SAYS_NO_VALUE = (KeyError, ImportError, NameError, AttributeError, OSError)
"""Errors whose words name what is missing. Those of others may hold what was to be signed with."""


def _cause(error: Exception) -> str:
    """Return what kind of error it was and where, and what it says where that shows no secret."""
    said = f" {str(error)[:80]}" if isinstance(error, _SAYS_NO_VALUE) else ""
    last = traceback.extract_tb(error.__traceback__)[-1]
    return f"{type(error).__name__}{said} in {last.name}, {Path(last.filename).name}:{last.lineno}"


# -- by a rule ------------------------------------------------------------------------------------


def signed_by_rule(
    request: Request,
    rule: Signing,
    key: Key | None,
    *,
    now: float,
    nonce: str,
    settings: Mapping[str, str],
    secrets: Secrets,
) -> Request:
    """Return the request with the signature that a description's rule makes.

    Parameters
    ----------
    key : Key or None
        ``id:secret``, or the secret alone.
    now : float
        The service's time, in seconds since 1970.
    nonce : str
        Text that no other request has.
    settings : mapping of str to str
        Of the description.
    secrets : Secrets
        Where the signature is noted.

    Returns
    -------
    Request
        With the rule's headers and what it adds to the query; the rest is as it was.

    Raises
    ------
    KeyRefused
        If there is no secret to sign with, or it is not written as the rule says.
    ConnectError
        If a part of the text is not in the request, such as a header.

    Notes
    -----
    An HMAC of RFC 2104 over the UTF-8 bytes of the text.
    """
    if key is None:
        raise KeyRefused("there is no key to sign with")
    parts = {**settings, **_parts_of(request), **_moment(rule, now), "nonce": nonce}
    hidden = _halves(key)
    # Those without the signature first: the text may be made of them.
    early = {n: _filled(v, parts, hidden, request) for n, v in rule.headers.items() if _plain(v)}
    with_early = replace(request, headers=Hidden({**request.headers, **early}))
    text = _filled(rule.text, parts, hidden, with_early)
    steps = [_filled(step, parts, hidden, with_early) for step in rule.steps]
    secret = Key(_filled(rule.secret, parts, hidden, with_early), key.source)
    digest = _digest(rule, secret, text, steps)
    parts["signature"] = digest
    secrets.add(Key(digest, "the signature"), passing=True)
    late = {n: _filled(v, parts, hidden, with_early) for n, v in rule.headers.items()}
    query = {n: _filled(v, parts, hidden, with_early) for n, v in rule.query.items()}
    address = request.address
    if query:
        address = HiddenText(f"{address}{'&' if '?' in address else '?'}{urlencode(query)}")
    return replace(request, address=address, headers=Hidden({**request.headers, **late}))


def _halves(key: Key) -> Hidden:
    """Return the parts of a key; no variable of ours holds their text."""
    client, _, secret = key.reveal().partition(":")
    return Hidden({"key": key.reveal(), "client": client, "secret": secret})


def _plain(value: str) -> bool:
    return "{signature}" not in value


def _parts_of(request: Request) -> dict[str, str]:
    """Return the parts of a request, as they go out."""
    address = urlsplit(request.address)
    path = address.path or "/"
    query = address.query
    return {
        "method": request.method,
        "host": address.netloc,
        "path": path,
        "query": query,
        "query.sorted": "&".join(sorted(query.split("&"))),
        "target": f"{path}?{query}" if query else path,
    }


def _moment(rule: Signing, now: float) -> dict[str, str]:
    moment = datetime.fromtimestamp(now, UTC)
    written = {
        "seconds": str(int(now)),
        "milliseconds": str(int(now * 1000)),
        "iso": moment.strftime("%Y-%m-%dT%H:%M:%SZ"),
        "compact": moment.strftime("%Y%m%dT%H%M%SZ"),
        "http": formatdate(now, usegmt=True),
    }
    return {"time": written[rule.time], "date": moment.strftime("%Y%m%d")}


def _filled(
    text: str, parts: Mapping[str, str], hidden: Mapping[str, str], request: Request
) -> HiddenText:
    def part(match: re.Match[str]) -> str:
        name = match[1]
        if name in parts:
            return parts[name]
        if name in hidden:
            return hidden[name]
        outer, _, inner = name.partition(".")
        return _body_digest(request.body, inner) if outer == "body" else _header(request, inner)

    return HiddenText(_PART.sub(part, text))


def _header(request: Request, name: str) -> str:
    for known, value in request.headers.items():
        if known.casefold() == name.casefold():
            return value
    raise ConnectError(
        "the text to be signed names a header that the request does not have",
        place="[connect.signing]",
        got=name,
        allowed=sorted(request.headers),
    )


def _body_digest(body: bytes, how: str) -> str:
    name, _, written = how.partition(".")
    return _written(hashlib.new(name, body, usedforsecurity=False).digest(), written)


def _written(data: bytes, how: str) -> str:
    if how == "hex":
        return data.hex()
    coded = base64.b64encode(data) if how == "base64" else base64.urlsafe_b64encode(data)
    return coded.decode()


def _digest(rule: Signing, secret: Key, text: str, steps: Sequence[str]) -> str:
    signing = _secret_bytes(rule, secret)
    for step in steps:
        signing = hmac.digest(signing, step.encode(), rule.hash)
    return _written(hmac.digest(signing, text.encode(), rule.hash), rule.written)


def _secret_bytes(rule: Signing, secret: Key) -> bytes:
    """Return the bytes that sign; with an empty secret everybody could sign."""
    if not secret.reveal():
        raise KeyRefused(
            "there is no secret to sign with",
            place=secret.source,
            next_step='Write the key as id:secret, or set secret = "{key}" in [connect.signing].',
        )
    found = _decoded(rule.secret_written, secret)
    if found is None:
        raise KeyRefused(
            f"the secret is not {rule.secret_written}",
            place=secret.source,
            next_step="Copy it again, or change secret_written in [connect.signing].",
        )
    return found


def _decoded(written: str, secret: Key) -> bytes | None:
    """Return None rather than raise: the error of a decoder would show what it was given."""
    try:
        return _DECODERS[written](secret.reveal())
    except ValueError:
        return None


_DECODERS: Mapping[str, Callable[[str], bytes]] = {
    "text": str.encode,
    "base64": lambda text: base64.b64decode(text, validate=True),
    "hex": bytes.fromhex,
}
