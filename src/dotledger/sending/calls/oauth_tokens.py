"""Where calls get their key from: a fixed one, code that gives it, or OAuth 2.0 tokens."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Any

from dotledger.errors import ConnectError, KeyRefused
from dotledger.json_codec import NotJSON, from_json
from dotledger.reading.answer_paths import Level, compile_path
from dotledger.sending.calls.http_transport import NoAnswer, Response, Transport
from dotledger.sending.calls.token_exchanges import token_request
from dotledger.services.access_parts import Token
from dotledger.services.redaction import Key, Secrets
from dotledger.services.service_description import Description
from dotledger.text_display import shown

__all__ = ["CalledKey", "FixedKey", "KeySource", "TokenSource", "key_source"]


# A token is renewed once for a call, and more often only where tokens have worked in this
# sending: else a wrong scope would ask for ever.
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


class CalledKey:
    """A key that code gives: asked for anew once the service no longer takes it.

    Such code often returns a token with a short life. A batch would stop at its end, and a program
    that runs for days would be refused from then on.
    """

    renewable = True

    def __init__(self, key: Key, secrets: Secrets) -> None:
        self._key, self._stale = key, False
        self._secrets = secrets
        self._lock = threading.Lock()

    def current(self) -> Key:
        """Return the key, fetched anew if the last one was refused.

        Raises
        ------
        KeyRefused
            If the code fails, or gives nothing that can be a key.
        """
        with self._lock:
            if self._stale and self._key.again is not None:
                self._key, self._stale = self._fetched(self._key.again), False
            return self._key

    def renew(self, old: Key | None) -> None:
        """Have the next call ask for a new key, unless another thread already has."""
        with self._lock:
            self._stale = self._stale or self._key is old

    def _fetched(self, again: Callable[[], Key]) -> Key:
        source = self._key.source
        try:
            key = again()
        # Only the error's type is shown: its message may contain the key.
        except Exception as error:
            raise KeyRefused(
                f"the code that gives the key failed: {type(error).__name__}",
                place=source,
                next_step="Call it by itself and see what it says.",
            ) from None
        if fault := key.fault():
            raise KeyRefused(f"the key that the code gives {fault}", place=source)
        self._secrets.add(key)
        return key


class TokenSource:
    """Holds the token all calls share.

    Parameters
    ----------
    description : Description
        With a ``connect.token``.
    key : Key
        ``id:secret``.
    """

    renewable = True

    def __init__(
        self,
        description: Description,
        key: Key,
        transport: Transport,
        clock: Callable[[], float],
        secrets: Secrets,
        wall: Callable[[], float] = time.time,
    ) -> None:
        token = description.connect.token
        if token is None:
            raise ConnectError("the description has no [connect.token]")
        self._token_rule = token
        self._description, self._key = description, key
        self._wall = wall
        self._transport = transport
        self._secrets = secrets
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
        token, seconds, refusal = self._asked()
        if token is None:
            raise KeyRefused(
                "the service gives no token for this key",
                got=refusal,
                next_step="Check the client's id and secret, written as id:secret.",
            )
        self._secrets.add(token)
        self._token = token
        early = min(self._token_rule.renew_before, seconds / 2)
        self._until = self._clock() + seconds - early

    def _asked(self) -> tuple[Key | None, float, str]:
        """Return a token and its life in seconds, or None and why there is none."""
        request = token_request(
            self._description,
            self._token_rule,
            self._key,
            now=self._wall(),
            secrets=self._secrets,
        )
        response = self._transport.send(request)
        if response.status >= 500 or response.status == 429:
            raise NoAnswer(f"the token address answered with status {response.status}")
        return _token_of(response, self._token_rule, self._secrets)


_USUAL_LIFE = 3600.0
_LONGEST_LIFE = 10 * 365 * 86_400.0


def _token_of(response: Response, rule: Token, secrets: Secrets) -> tuple[Key | None, float, str]:
    facts = _parsed(response.body)
    refusal = f"status {response.status} {secrets.text(_error_of(facts), least=1)}".strip()
    if not 200 <= response.status < 300 or not isinstance(facts, dict):
        return None, 0.0, refusal
    top = Level(facts, "", 0, None)
    text, life = (compile_path(path)(top) for path in (rule.at, rule.life))
    token = Key(text if isinstance(text, str) else "", "the token address")
    if fault := token.fault(in_header=True):
        return None, 0.0, f"{refusal} a token that {fault}"
    seconds = _seconds(life)
    return token, seconds if 0 < seconds < _LONGEST_LIFE else _USUAL_LIFE, ""


def _seconds(life: Any) -> float:
    """Return a token's lifetime; some services write the number as text. 0 if it is none."""
    try:
        return 0.0 if isinstance(life, bool) else float(life)
    except (TypeError, ValueError, OverflowError):
        return 0.0


def _parsed(body: bytes) -> Any:
    try:
        return from_json(body)
    except NotJSON:
        return None


def _error_of(facts: Any) -> str:
    reason = facts.get("error", "") if isinstance(facts, dict) else ""
    return reason[:80] if isinstance(reason, str) else shown(reason, 80)


KeySource = FixedKey | CalledKey | TokenSource


def key_source(
    description: Description,
    key: Key | None,
    transport: Transport,
    clock: Callable[[], float],
    secrets: Secrets,
) -> KeySource:
    """Return where calls get their key from, by the description.

    Parameters
    ----------
    key : Key or None
        None where none is needed.
    """
    if description.connect.key.place == "token" and key is not None:
        return TokenSource(description, key, transport, clock, secrets)
    if key is not None and key.again is not None:
        return CalledKey(key, secrets)
    return FixedKey(key)
