"""For your own tests: a transport that answers without a network, and a clock you move."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from typing import Any

import orjson

from dotledger.sending.calls.transport import NoAnswer, Response
from dotledger.services.messages import Request

__all__ = ["FakeClock", "FakeTransport", "NoAnswer", "Request", "Response", "answer"]

Reply = Response | NoAnswer | dict[str, Any]


def answer(content: Any, status: int = 200, **headers: str) -> Response:
    """Return a response that holds `content` as JSON; header names take ``_`` for ``-``.

    Parameters
    ----------
    content : object
        Plain values.
    status : int, default 200
        HTTP status.
    headers : str
        More headers.

    Returns
    -------
    Response
        As `FakeTransport` or your own function gives it back.
    """
    named = {name.replace("_", "-").lower(): value for name, value in headers.items()}
    return Response(
        status=status,
        headers={"content-type": "application/json", **named},
        body=orjson.dumps(content),
    )


class FakeTransport:
    """Answers requests from a function, or from a list of replies in turn.

    Parameters
    ----------
    replies : callable or sequence
        A function from a `Request` to a reply, or replies of which the last is repeated. A
        reply is a `Response`, a `NoAnswer` to raise, or a dict to answer as JSON.

    Attributes
    ----------
    requests : list of Request
        What was sent, in the order of arrival.
    """

    def __init__(self, replies: Callable[[Request], Reply] | Sequence[Reply]) -> None:
        self._replies = replies
        self._lock = threading.Lock()
        self.requests: list[Request] = []

    def send(self, request: Request) -> Response:
        """Return the next reply; raises it if it is a `NoAnswer`."""
        with self._lock:
            self.requests.append(request)
            number = len(self.requests) - 1
        reply = self._reply(request, number)
        if isinstance(reply, NoAnswer):
            raise reply
        return reply if isinstance(reply, Response) else answer(reply)

    def _reply(self, request: Request, number: int) -> Reply:
        if callable(self._replies):
            return self._replies(request)
        return self._replies[min(number, len(self._replies) - 1)]


class FakeClock:
    """A clock that stands still until it is told to move; sleeping moves it.

    Attributes
    ----------
    now : float
        Seconds.
    slept : list of float
        Every sleep asked for.
    """

    def __init__(self, now: float = 0.0) -> None:
        self.now = now
        self.slept: list[float] = []

    def __call__(self) -> float:
        """Return the time."""
        return self.now

    def sleep(self, seconds: float) -> None:
        """Move the clock by `seconds` at once."""
        self.slept.append(seconds)
        self.now += seconds
