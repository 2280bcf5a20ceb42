"""Marl: OAuth 2.0 tokens, raw bytes, centre and size in pixels, percent, points, trees."""

from __future__ import annotations

import base64
import itertools
import math
import time
from collections.abc import Callable
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from dotledger.standins.service_misbehaviour import NO_TROUBLE, Trouble, TroubleMaker
from dotledger.standins.simulated_service import Refusal, Simulated, guarded, sight_of
from dotledger.standins.simulated_vision import Eyes, Sight, Thing

__all__ = ["CLIENT", "EYES", "marl"]

CLIENT = "marl-demo:marl-demo-secret"
EYES = Eyes(working_side=640, halo=0.09, pale_lanterns=True, parts_lanterns=True)
PER_MINUTE = 900

_FLOOR = 20.0
_TREE = {"fire": ("open flame",), "debris": ("broken glass",), "air": ("smoke",)}


class _Tokens:
    """Gives tokens out and knows which are alive."""

    def __init__(self, client: str, life: float, calls: int, clock: Callable[[], float]) -> None:
        self._client = client
        self._life = life
        self._calls = calls
        self._clock = clock
        self._numbers = itertools.count(1)
        self._alive: dict[str, tuple[float, int]] = {}

    def give(self, grant: str, authorization: str) -> dict[str, Any]:
        if grant != "client_credentials":
            raise Refusal(400, "unsupported_grant_type")
        wanted = "Basic " + base64.b64encode(self._client.encode()).decode()
        if authorization != wanted:
            raise Refusal(401, "invalid_client")
        token = f"marl-token-{next(self._numbers)}"
        self._alive[token] = (self._clock() + self._life, self._calls)
        return {"access_token": token, "token_type": "Bearer", "expires_in": self._life}

    def check(self, authorization: str) -> None:
        token = authorization.removeprefix("Bearer ")
        until, left = self._alive.get(token, (0.0, 1))
        if self._clock() >= until or (self._calls and left <= 0):
            raise Refusal(401, "token unknown or expired")
        self._alive[token] = (until, left - 1)


def marl(
    trouble: Trouble = NO_TROUBLE,
    *,
    client: str = CLIENT,
    token_life: float = 3600.0,
    per_minute: float = PER_MINUTE,
    clock: Callable[[], float] = time.monotonic,
) -> Simulated:
    """Return the simulated service Marl; `token_life` is in seconds."""
    maker = TroubleMaker(trouble, per_minute=per_minute, clock=clock)
    tokens = _Tokens(client, token_life, trouble.expiring, clock)

    async def token(request: Request) -> Response:
        form = await request.form()
        try:
            grant = str(form.get("grant_type"))
            return JSONResponse(tokens.give(grant, request.headers.get("authorization", "")))
        except Refusal as refusal:
            return JSONResponse({"error": refusal.reason}, status_code=refusal.status)

    async def look(request: Request) -> dict[str, Any]:
        tokens.check(request.headers.get("authorization", ""))
        if request.path_params["region"] != "valley":
            raise Refusal(404, "no such region; this client lives in valley")
        parts = set(request.query_params.get("parts", "").split(","))
        return _answer(await sight_of(await request.body(), EYES, trouble), parts)

    endpoint = guarded(maker, look, lambda r: {"fault": r.status, "detail": r.reason})
    routes = [
        Route("/token", token, methods=["POST"]),
        Route("/{region}/look", endpoint, methods=["POST"]),
    ]
    return Simulated(name="marl", app=Starlette(routes=routes), maker=maker, key=client)


def _answer(sight: Sight, parts: set[str]) -> dict[str, Any]:
    answer: dict[str, Any] = {"seen": {"w": sight.width, "h": sight.height}}
    if "tags" in parts:
        answer["tags"] = _tags(sight)
    if "things" in parts:
        answer["things"] = [
            {"what": thing.label, **_placed(thing)}
            for thing in sight.objects
            if thing.confidence * 100 >= _FLOOR
        ]
    if "faces" in parts:
        answer["faces"] = [_face(face) for face in sight.faces if face.confidence * 100 >= _FLOOR]
    if "hazards" in parts:
        answer["hazards"] = {name: _branch(names, sight) for name, names in _TREE.items()}
    return answer


def _tags(sight: Sight) -> dict[str, float]:
    tags = dict(sight.labels)
    for thing in sight.objects:
        tags[thing.label] = max(tags.get(thing.label, 0.0), thing.confidence)
    return {
        name: round(100 * confidence, 1)
        for name, confidence in tags.items()
        if 100 * confidence >= _FLOOR
    }


def _placed(thing: Thing) -> dict[str, Any]:
    x0, y0, x1, y1 = thing.box
    return {
        "percent": round(100 * thing.confidence, 1),
        "middle": {"x": round((x0 + x1) / 2, 1), "y": round((y0 + y1) / 2, 1)},
        "size": {"w": round(x1 - x0, 1), "h": round(y1 - y0, 1)},
    }


def _face(face: Thing) -> dict[str, Any]:
    marks = [{"mark": n, "x": round(x, 1), "y": round(y, 1)} for n, (x, y) in face.points.items()]
    entry = {
        **_placed(face),
        "marks": marks,
        "smiling": {
            "value": face.smiling > 0.5,
            "percent": round(100 * abs(face.smiling - 0.5) * 2, 1),
        },
    }
    if "left eye" in face.points and "right eye" in face.points:
        entry["eye_distance"] = round(
            math.dist(face.points["left eye"], face.points["right eye"]), 1
        )
    return entry


def _branch(names: tuple[str, ...], sight: Sight) -> dict[str, Any]:
    parts = {name: {"percent": round(100 * sight.unsafe[name], 1)} for name in names}
    return {"percent": max(part["percent"] for part in parts.values()), "parts": parts}
