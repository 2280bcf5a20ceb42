"""Posting verdicts to a program of the user's: signed, tried again, kept until taken, each once."""

from __future__ import annotations

import os
import random as random_module
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from dotledger.core.decisions.verdicts import Decisions
from dotledger.errors import ArgumentError
from dotledger.json_codec import AsData, to_json
from dotledger.ledger.ledger_records import timestamp
from dotledger.sending.calls.http_transport import HttpTransport, NoAnswer, Response, Transport
from dotledger.sending.event_outbox import Outbox
from dotledger.sending.policies.retrying import (
    Accept,
    Again,
    Attempt,
    Fail,
    Patience,
    Stop,
    next_step,
)
from dotledger.services.description_trust import is_this_machine
from dotledger.services.message_rules import Request
from dotledger.services.message_signatures import signature_headers
from dotledger.services.redaction import Key

__all__ = ["Posted", "post_verdicts", "verdict_events"]

_PATIENCE = Patience(attempts=5, connections=5, refusals=8, longest_wait=300.0)
_SHORTEST_SECRET = 16


@dataclass(frozen=True, kw_only=True)
class Posted(AsData):
    """The result of posting.

    Attributes
    ----------
    new : int
        Events that were not in the outbox before.
    taken : int
        Events that the receiver took this time.
    refused : tuple of (str, str)
        Image and reason where the receiver refused one event; it stays in the outbox.
    left : int
        Events still in the outbox, those refused among them.
    stopped : str
        Why posting ended before the last event; empty if it did not.
    """

    new: int
    taken: int
    refused: tuple[tuple[str, str], ...]
    left: int
    stopped: str


def verdict_events(decisions: Decisions) -> Iterator[dict[str, Any]]:
    """Yield an event for each image, the strictest verdicts first.

    Yields
    ------
    dict
        ``type`` (``verdict``), ``service``, ``batch``, ``reading``, ``audience``, ``image``,
        ``verdict`` and ``reasons``. No time: the same verdict is the same event.
    """
    origin = decisions.findings.origin
    for one in decisions:
        yield {
            "type": "verdict",
            "service": origin.service if origin else "",
            "batch": origin.batch if origin else None,
            "reading": origin.reading if origin else None,
            "audience": decisions.audience,
            "image": one.image,
            "verdict": one.verdict,
            "reasons": list(one.reasons),
        }


def post_verdicts(
    decisions: Decisions,
    address: str,
    *,
    outbox: str | os.PathLike[str],
    secret: str | Key | None = None,
    transport: Transport | None = None,
    wall: Callable[[], float] = time.time,
    sleep: Callable[[float], None] = time.sleep,
    random: Callable[[], float] = random_module.random,
) -> Posted:
    """Post each verdict as JSON to an address, until it is taken; each once.

    A verdict is written to the outbox first and leaves it when the receiver answers with a status
    from 200 to 299. What was taken is not posted again, in no later run, until verdict or reasons
    change, be it back to what they were. A process that is killed between the answer and its note
    posts that one event again, under the same ``Idempotency-Key``.

    Parameters
    ----------
    decisions : Decisions
        What `decide` returned, for one audience.
    address : str
        An https address, or http on this machine. It is called with POST and one event at a time.
    outbox : path
        A JSON Lines file; made if there is none. What earlier runs left in it is posted first.
    secret : str, optional
        At least 16 characters. Requests are then signed by HTTP Message Signatures (RFC 9421,
        ``hmac-sha256`` over method, address, digest of the body, and time).
    transport : Transport, optional
        What carries the requests; by default HTTP.
    wall, sleep, random : callable, optional
        The time in seconds since 1970, waiting, and numbers from 0 to 1 for jitter.

    Returns
    -------
    Posted
        What was taken, refused and left.

    Raises
    ------
    ArgumentError
        If the address is none, is plain http to another machine, the secret is too short, or the
        file is no outbox.
    LedgerError
        If another process is posting out of the same outbox.

    Examples
    --------
    >>> import dotledger
    >>> from dotledger.testing import FakeTransport, answer
    >>> decisions = dotledger.decide("found.csv", "rules.toml")
    >>> receiver = FakeTransport([answer({})])
    >>> place = {"outbox": "verdicts.jsonl", "transport": receiver}
    >>> posted = dotledger.post_verdicts(decisions, "https://desk.example/verdicts", **place)
    >>> posted.taken == len(decisions.images), posted.left
    (True, 0)
    """
    _check_address(address)
    poster = _Poster(address, _secret(secret), transport or HttpTransport(), wall, sleep, random)
    with Outbox(Path(outbox)) as box:
        new = box.add(verdict_events(decisions))
        refused: list[tuple[str, str]] = []
        taken = 0
        for event in box.pending:
            ended = poster.post(event)
            if isinstance(ended, Accept):
                box.take(event["id"], timestamp(wall()))
                taken += 1
            elif isinstance(ended, Stop):
                left = len(box.pending)
                return Posted(
                    new=new, taken=taken, refused=tuple(refused), left=left, stopped=ended.reason
                )
            else:
                refused.append((str(event.get("image", "")), ended.reason))
        return Posted(
            new=new, taken=taken, refused=tuple(refused), left=len(box.pending), stopped=""
        )


def _check_address(address: str) -> None:
    try:
        parts = urlsplit(address)
        host = parts.hostname or ""
    except ValueError:
        parts, host = urlsplit(""), ""
    if parts.scheme not in ("http", "https") or not host or parts.username is not None:
        raise ArgumentError(
            "no address to post to",
            place="address",
            got=parts._replace(netloc=host, query="").geturl() if host else address,
            allowed=["https://HOST/PATH, without a name or password in it"],
        )
    if parts.scheme == "http" and not is_this_machine(parts.netloc):
        raise ArgumentError(
            "verdicts are not posted over a plain line to another machine",
            place="address",
            got=f"http://{host}",
            allowed=["https", "http on this machine"],
        )


def _secret(secret: str | Key | None) -> bytes:
    plain = secret.reveal() if isinstance(secret, Key) else secret or ""
    if secret is not None and len(plain) < _SHORTEST_SECRET:
        raise ArgumentError(
            "too short to sign with",
            place="secret",
            got=f"{len(plain)} characters",
            allowed=[f"at least {_SHORTEST_SECRET}"],
        )
    return plain.encode()


class _Poster:
    """Posts one event after another; what follows an attempt is decided by `next_step`."""

    def __init__(
        self,
        address: str,
        secret: bytes,
        transport: Transport,
        wall: Callable[[], float],
        sleep: Callable[[float], None],
        random: Callable[[], float],
    ) -> None:
        self._address, self._secret, self._transport = address, secret, transport
        self._wall, self._sleep, self._random = wall, sleep, random
        self._proven = False

    def post(self, event: dict[str, Any]) -> Accept | Fail | Stop:
        """Post one event until it is taken, refused, or there is no use in going on."""
        body = to_json(event)
        for number in range(1, 1000):
            attempt = self._tried(event["id"], body, number)
            step = next_step(
                attempt,
                now=self._wall(),
                random=self._random(),
                patience=_PATIENCE,
                proven=self._proven,
            )
            if isinstance(step, Accept):
                self._proven = True
                return step
            if isinstance(step, Again):
                self._sleep(step.seconds or _PATIENCE.first)
                continue
            if isinstance(step, Stop | Fail):
                reason = step.reason.replace("the service", "the receiver")
                # Only what the receiver says of this very event lets the next one be tried.
                about_it = attempt.status is not None and 400 <= attempt.status < 500
                return Fail(reason) if isinstance(step, Fail) and about_it else Stop(reason)
        return Stop("the receiver never took it")

    def _tried(self, name: str, body: bytes, number: int) -> Attempt:
        headers = {"Content-Type": "application/json", "Idempotency-Key": f'"{name}"'}
        if self._secret:
            # The time is part of the signature: each attempt is signed anew.
            created = int(self._wall())
            headers |= signature_headers("POST", self._address, body, self._secret, created=created)
        request = Request(method="POST", address=self._address, headers=headers, body=body)
        try:
            response: Response = self._transport.send(request)
        except NoAnswer as error:
            return Attempt(number=number, trouble=error.trouble, detail=error.message)
        return Attempt(
            number=number,
            status=response.status,
            retry_after=response.headers.get("retry-after", ""),
        )
