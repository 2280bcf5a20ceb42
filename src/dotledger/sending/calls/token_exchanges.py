"""What is given in exchange for a token: an id and a secret, a key, or a signed assertion."""

from __future__ import annotations

import base64
import re
from typing import Any
from urllib.parse import urlencode, urlsplit

from dotledger.errors import KeyRefused, MissingExtra
from dotledger.json_codec import NotJSON, from_json, to_json
from dotledger.services.access_parts import Assertion, Token
from dotledger.services.description_trust import is_this_machine
from dotledger.services.message_rules import Request
from dotledger.services.redaction import Hidden, Key, Secrets
from dotledger.services.service_description import Description

__all__ = ["token_request"]

_PART = re.compile(r"\{(\w+)\}")


def token_request(
    description: Description, token: Token, key: Key, *, now: float, secrets: Secrets
) -> Request:
    """Return the request for a token.

    Parameters
    ----------
    token : Token
        Where and how it is asked for; by default RFC 6749, section 4.4.2.
    key : Key
        In two parts, divided by a colon; whole; or the JSON object of a key file.
    now : float
        Seconds since 1970, for an assertion.
    secrets : Secrets
        Where an assertion is noted: whoever has it can ask for tokens.

    Raises
    ------
    KeyRefused
        If the key file lacks what an assertion needs.
    MissingExtra
        If an assertion cannot be signed here.
    """
    # May raise: before the secret is in any variable.
    address = _address_in(key, token) if token.address_at else description.filled(token.address)
    filled = _filled(token, key, now, secrets) if token.fields else {}
    return Request(
        method="POST",
        address=address,
        headers=_headers(token, key),
        body=to_json(filled) if token.body == "json" else _form(token, key, filled),
        images=0,
    )


def _address_in(key: Key, token: Token) -> str:
    """Return the address that a key file names for its tokens; nothing goes out unprotected."""
    address = _text(_object(key), token.address_at, key.source)
    parts = urlsplit(address)
    if parts.scheme != "https" and not (parts.scheme == "http" and is_this_machine(parts.netloc)):
        raise KeyRefused(
            f"{token.address_at!r} in the key file is no address that a signed statement may go to",
            place=key.source,
            got=address[:80],
            allowed=["https://…"],
        )
    return address


def _headers(token: Token, key: Key) -> Hidden:
    kind = "application/json" if token.body == "json" else "application/x-www-form-urlencoded"
    headers = Hidden({"Content-Type": kind, "Accept": "application/json"})
    if token.secret_in == "basic" and not token.fields:
        coded = base64.b64encode(key.reveal().encode("utf-8", "replace")).decode()
        headers["Authorization"] = f"Basic {coded}"
    return headers


def _form(token: Token, key: Key, filled: dict[str, str]) -> bytes:
    if filled:
        return urlencode(filled, errors="replace").encode()
    form = {"grant_type": "client_credentials"}
    if token.scope:
        form["scope"] = token.scope
    if token.secret_in != "basic":
        client, _, secret = key.reveal().partition(":")
        form |= {"client_id": client, "client_secret": secret}
    return urlencode(form, errors="replace").encode()


def _filled(token: Token, key: Key, now: float, secrets: Secrets) -> dict[str, str]:
    """Return a token's own fields with the parts of the key filled in."""
    client, _, secret = key.reveal().partition(":")
    parts = {"key": key.reveal(), "client": client, "secret": secret, "scope": token.scope}
    if token.assertion is not None:
        signed = Key(_signed(token.assertion, key, now), "the assertion")
        secrets.add(signed)
        parts["assertion"] = signed.reveal()
    return {name: _PART.sub(lambda m: parts[m[1]], text) for name, text in token.fields.items()}


def _signed(rule: Assertion, key: Key, now: float) -> str:
    """Return a signed assertion (RFC 7523, section 3) with its claims and times."""
    try:
        from joserfc import jwt
        from joserfc.errors import JoseError
        from joserfc.jwk import ECKey, RSAKey
    except ImportError as error:
        raise MissingExtra(
            "signing an assertion needs the package joserfc",
            next_step="Run: pip install 'dot-ledger[tokens]'",
        ) from error
    held = _object(key)
    claims: dict[str, Any] = {
        name: _PART.sub(lambda m: _text(held, m[1], key.source), text)
        for name, text in rule.claims.items()
    }
    claims |= {"iat": int(now), "exp": int(now + rule.life)}
    header = {"alg": rule.algorithm, "typ": "JWT"}
    if rule.key_id_at:
        header["kid"] = _text(held, rule.key_id_at, key.source)
    kind = RSAKey if rule.algorithm == "RS256" else ECKey
    try:
        private = kind.import_key(_text(held, rule.key_at, key.source))
        return jwt.encode(header, claims, private, algorithms=[rule.algorithm])
    except (JoseError, ValueError, TypeError) as error:  # the message may hold parts of the key
        raise KeyRefused(
            f"the private key cannot sign with {rule.algorithm}: {type(error).__name__}",
            place=key.source,
            next_step="It must be a PEM file's text, of the kind that the algorithm needs.",
        ) from None


def _object(key: Key) -> dict[str, Any]:
    try:
        held = from_json(key.reveal().encode())
    except NotJSON:
        held = None
    if not isinstance(held, dict):
        raise KeyRefused(
            "an assertion needs a key file in JSON",
            place=key.source,
            next_step="Name it as a source: file:PATH.",
        )
    return held


def _text(held: dict[str, Any], name: str, source: str) -> str:
    value = held.get(name)
    if not isinstance(value, str):
        raise KeyRefused(f"the key file has no text {name!r}", place=source)
    return value
