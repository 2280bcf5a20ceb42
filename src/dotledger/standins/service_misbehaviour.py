"""Misbehaviour of the simulated services, set by plain options and counted, never random."""

from __future__ import annotations

import asyncio
import threading
import time
from collections import deque
from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass, fields

from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse

from dotledger.errors import ArgumentError

__all__ = ["NO_TROUBLE", "Trouble", "TroubleMaker", "parse_trouble"]


@dataclass(frozen=True, kw_only=True)
class Trouble:
    """What goes wrong; 0 means never.

    Attributes
    ----------
    rate : float
        Calls a second that are let through; the rest get 429.
    wait : float
        Seconds in the ``Retry-After`` of a 429.
    busy : int
        Every n-th call gets 503 with ``Retry-After``.
    slow : float
        Seconds added to every answer.
    error : int
        Every n-th call gets 500.
    cut : int
        Every n-th answer is cut off with the connection.
    truncated : int
        Every n-th answer lacks its second half.
    garbled : int
        Every n-th answer is not JSON.
    typed : int
        Every n-th answer is a web page.
    expiring : int
        The token dies after so many calls.
    missing : int
        Every n-th answer lacks its last image (several images in a request).
    shuffled : int
        Every n-th answer has its images in another order than asked.
    smallest, largest : int
        Images with a side below or a byte count above are refused with 400.
    """

    rate: float = 0
    wait: float = 1
    busy: int = 0
    slow: float = 0
    error: int = 0
    cut: int = 0
    truncated: int = 0
    garbled: int = 0
    typed: int = 0
    expiring: int = 0
    missing: int = 0
    shuffled: int = 0
    smallest: int = 0
    largest: int = 0


NO_TROUBLE = Trouble()


def parse_trouble(text: str) -> Trouble:
    """Read ``"rate=5,wait=2,error=10"``; an empty text is no trouble.

    Raises
    ------
    ArgumentError
        For an unknown name or a value that is not a number.
    """
    types = {field.name: field.type for field in fields(Trouble)}
    values: dict[str, float] = {}
    for part in filter(None, (p.strip() for p in text.split(","))):
        name, _, value = part.partition("=")
        if name not in types:
            raise ArgumentError("unknown trouble", place="--trouble", got=name, allowed=types)
        try:
            values[name] = float(value) if types[name] == "float" else int(value)
        except ValueError:
            raise ArgumentError("not a number", place=f"--trouble {name}", got=value) from None
    return Trouble(**values)  # type: ignore[arg-type]


def _due(count: int, every: int) -> bool:
    return every > 0 and count % every == 0


Handler = Callable[[Request], Awaitable[Response]]


class TroubleMaker:
    """Counts calls and spoils the ones that are due."""

    def __init__(
        self,
        trouble: Trouble,
        *,
        per_minute: float = 0,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self.trouble = trouble
        self.calls = 0
        self.refused = 0
        self._clock = clock
        self._lock = threading.Lock()
        self._windows = [
            (count, span, deque[float]())
            for count, span in ((trouble.rate, 1.0), (per_minute, 60.0))
            if count
        ]

    async def around(self, request: Request, handler: Handler) -> Response:
        """Answer one call, with whatever is due."""
        count, refusal = self._admit()
        if refusal is not None:
            return refusal
        if self.trouble.slow:
            await asyncio.sleep(self.trouble.slow)
        if _due(count, self.trouble.error):
            return JSONResponse({"error": "internal"}, status_code=500)
        request.state.count = count
        return self._spoil(count, await handler(request))

    def _admit(self) -> tuple[int, Response | None]:
        with self._lock:
            if wait := self._over_limit():
                self.refused += 1
                return 0, _come_back(429, wait)
            self.calls += 1
            count = self.calls
        if _due(count, self.trouble.busy):
            return count, _come_back(503, self.trouble.wait)
        return count, None

    def _over_limit(self) -> float:
        """Return the seconds to wait, 0 if the call is within every window; counts it then."""
        now = self._clock()
        for count, span, times in self._windows:
            while times and times[0] <= now - span:
                times.popleft()
            if len(times) >= count:
                return self.trouble.wait
        for _, _, times in self._windows:
            times.append(now)
        return 0.0

    def _spoil(self, count: int, response: Response) -> Response:
        trouble, body = self.trouble, bytes(response.body)
        if _due(count, trouble.cut):
            return _cut(body)
        if _due(count, trouble.truncated):
            return Response(body[: len(body) // 2], media_type="application/json")
        if _due(count, trouble.garbled):
            return Response(b"<<" + body, media_type="application/json")
        if _due(count, trouble.typed):
            return Response("<html><body>Please sign in</body></html>", media_type="text/html")
        return response


def _come_back(status: int, wait: float) -> Response:
    headers = {"Retry-After": f"{wait:g}" if wait == int(wait) else str(int(wait) + 1)}
    return JSONResponse({"error": "later"}, status_code=status, headers=headers)


def _cut(body: bytes) -> Response:
    """Promise the whole body, send half, and break off."""

    async def half() -> AsyncIterator[bytes]:
        yield body[: max(1, len(body) // 2)]

    headers = {"Content-Length": str(len(body) + 10)}
    return StreamingResponse(half(), media_type="application/json", headers=headers)
