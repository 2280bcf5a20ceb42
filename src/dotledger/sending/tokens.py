"""OAuth 2.0 client-credentials tokens: fetched once, renewed before they die."""

from __future__ import annotations

import base64
import threading
from collections.abc import Callable
from typing import Any
from urllib.parse import urlencode

import orjson

from dotledger.errors import ConnectError, KeyRefused
from dotledger.sending.transport import NoAnswer, Response, Transport
from dotledger.services.description import Description, Token
from dotledger.services.keys import Key
from dotledger.services.requests import Request

__all__ = ["FixedKey", "KeySource", "TokenSource", "key_source", "token_request"]


def token_request(description: Description, token: Token, key: Key) -> Request:
    """Return the request for a token (RFC 6749, section 4.4.2)."""
    form = {"grant_type": "client_credentials"}
    if token.scope:
        form["scope"] = token.scope
    headers = {"Content-Type": "application/x-www-form-urlencoded", "Accept": "application/json"}
    client, _, secret = key.reveal().partition(":")
    if token.secret_in == "basic":
        coded = base64.b64encode(key.reveal().encode()).decode()
        headers["Authorization"] = f"Basic {coded}"
    else:
        form |= {"client_id": client, "client_secret": secret}
    return Request(
        method="POST",
        address=description.filled(token.address),
        headers=headers,
        body=urlencode(form).encode(),
        images=0,
    )


class FixedKey:
    """A key that stays the same, or none."""

    renewable = False

    def __init__(self, key: Key | None) -> None:
        self._key = key

    def current(self) -> Key | None:
        """Return the key."""
        return self._key

    def renew(self, old: Key | None) -> None:
        """Do nothing: there is no other key."""


class TokenSource:
    """Holds the token all calls share.

    Parameters
    ----------
    description : Description
        With a ``connect.token``.
    key : Key
        ``id:secret``.
    transport : Transport
        Sends the token requests.
    clock : callable
        Seconds of a steady clock.
    """

    renewable = True

    def __init__(
        self, description: Description, key: Key, transport: Transport, clock: Callable[[], float]
    ) -> None:
        token = description.connect.token
        if token is None:
            raise ConnectError("the description has no [connect.token]")
        self._token_rule = token
        self._request = token_request(description, token, key)
        self._transport = transport
        self._clock = clock
        self._lock = threading.Lock()
        self._token: Key | None = None
        self._until = 0.0

    def current(self) -> Key:
        """Return a token that is still good.

        Raises
        ------
        KeyRefused
            If the service gives none for this key.
        NoAnswer
            If it does not answer.
        """
        with self._lock:
            if self._token is None or self._clock() >= self._until:
                self._fetch()
            return self._token  # type: ignore[return-value]

    def renew(self, old: Key | None) -> None:
        """Forget the token, unless another thread already has: the next call gets a new one."""
        with self._lock:
            if self._token is old:
                self._token = None

    def _fetch(self) -> None:
        response = self._transport.send(self._request)
        facts = _token_facts(response)
        self._token = Key(str(facts["access_token"]), "the token address")
        life = facts.get("expires_in")
        seconds = float(life) if isinstance(life, (int, float)) else 3600.0
        early = min(self._token_rule.renew_before, seconds / 2)
        self._until = self._clock() + seconds - early


def _token_facts(response: Response) -> dict[str, Any]:
    if response.status >= 500 or response.status == 429:
        raise NoAnswer(f"the token address answered with status {response.status}")
    try:
        facts = orjson.loads(response.body)
    except orjson.JSONDecodeError:
        facts = {}
    if response.status != 200 or not isinstance(facts, dict) or "access_token" not in facts:
        reason = facts.get("error", "") if isinstance(facts, dict) else ""
        raise KeyRefused(
            "the service gives no token for this key",
            got=f"status {response.status} {str(reason)[:80]}".strip(),
            next_step="Check the client's id and secret, written as id:secret.",
        )
    return facts


KeySource = FixedKey | TokenSource


def key_source(
    description: Description, key: Key | None, transport: Transport, clock: Callable[[], float]
) -> KeySource:
    """Return where calls get their key from, by the description."""
    if description.connect.key.place == "token" and key is not None:
        return TokenSource(description, key, transport, clock)
    return FixedKey(key)
