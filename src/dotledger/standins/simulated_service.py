"""What the simulated services share: looking once, keys, and running on loopback."""

from __future__ import annotations

import asyncio
import hashlib
import logging
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from dotledger.standins.service_misbehaviour import NO_TROUBLE, Trouble, TroubleMaker
from dotledger.standins.simulated_vision import Eyes, Sight, look, open_upright

__all__ = ["Refusal", "Running", "Simulated", "serve", "sight_of"]


class Refusal(Exception):
    """The service will not do this; `status` and `reason` go into its answer."""

    def __init__(self, status: int, reason: str) -> None:
        super().__init__(reason)
        self.status = status
        self.reason = reason


@dataclass(kw_only=True)
class Simulated:
    """One simulated service: its name, its application and what it counts."""

    name: str
    app: Starlette
    maker: TroubleMaker
    key: str
    notes: dict[str, Any] = field(default_factory=dict)


@lru_cache(maxsize=256)
def _look_once(digest: bytes, eyes: Eyes, holder: _Held) -> Sight:
    del digest
    return look(open_upright(holder.data), eyes)


class _Held:
    """Carries bytes past the cache's key."""

    def __init__(self, data: bytes) -> None:
        self.data = data

    def __hash__(self) -> int:
        return 0

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Held)


async def sight_of(data: bytes, eyes: Eyes, trouble: Trouble = NO_TROUBLE) -> Sight:
    """Return what is seen in an image; looks once for equal bytes.

    Raises
    ------
    Refusal
        If the image cannot be decoded, or is smaller or larger than the trouble allows.
    """
    if trouble.largest and len(data) > trouble.largest:
        raise Refusal(400, f"image larger than {trouble.largest} bytes")
    try:
        sight = await asyncio.to_thread(
            _look_once, hashlib.sha256(data).digest(), eyes, _Held(data)
        )
    except (OSError, ValueError, SyntaxError) as error:
        raise Refusal(400, "image cannot be decoded") from error
    if min(sight.width, sight.height) < trouble.smallest:
        raise Refusal(400, f"image smaller than {trouble.smallest} pixels")
    return sight


def guarded(
    maker: TroubleMaker,
    handler: Callable[[Request], Any],
    refused: Callable[[Refusal], dict[str, Any]],
) -> Callable[[Request], Any]:
    """Return an endpoint that makes trouble and words refusals in the service's dialect."""

    async def inner(request: Request) -> Response:
        try:
            return JSONResponse(await handler(request))
        except Refusal as refusal:
            return JSONResponse(refused(refusal), status_code=refusal.status)

    async def endpoint(request: Request) -> Response:
        return await maker.around(request, inner)

    return endpoint


@dataclass(frozen=True)
class Running:
    """A service that is up."""

    service: Simulated
    host: str
    port: int

    @property
    def settings(self) -> dict[str, str]:
        """The settings that point its description here."""
        return {"host": self.host, "port": str(self.port)}


@contextmanager
def serve(service: Simulated, *, host: str = "127.0.0.1", port: int = 0) -> Iterator[Running]:
    """Run a simulated service in a thread while the block lasts; port 0 picks a free one.

    Raises
    ------
    OSError
        If the port is taken.
    """
    listening = socket.create_server((host, port), backlog=512)
    config = uvicorn.Config(
        service.app, log_level="critical", access_log=False, lifespan="off", timeout_keep_alive=30
    )
    server = uvicorn.Server(config)
    logging.getLogger("uvicorn.error").disabled = True  # cut connections are made on purpose
    thread = threading.Thread(target=server.run, args=([listening],), daemon=True)
    thread.start()
    try:
        while not server.started and thread.is_alive():
            time.sleep(0.005)
        yield Running(service, host, listening.getsockname()[1])
    finally:
        server.should_exit = True
        server.force_exit = True
        thread.join(timeout=5)
        listening.close()
