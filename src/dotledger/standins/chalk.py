"""Chalk: key in the query, several images in one JSON request, polygons in its own pixels."""

from __future__ import annotations

import base64
import binascii
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.routing import Route

from dotledger.json_codec import NotJSON, from_json
from dotledger.standins.service_misbehaviour import NO_TROUBLE, Trouble, TroubleMaker
from dotledger.standins.simulated_service import Refusal, Simulated, guarded, sight_of
from dotledger.standins.simulated_vision import Eyes, Sight, Thing

__all__ = ["EYES", "KEY", "chalk"]

KEY = "chalk-demo-key"
EYES = Eyes(working_side=480, parts_lanterns=True, smallest_face=24)

_MOST_IMAGES = 4
_FLOOR = 0.25
_FLAGGED = 0.6


def chalk(trouble: Trouble = NO_TROUBLE, *, key: str = KEY) -> Simulated:
    """Return the simulated service Chalk."""
    maker = TroubleMaker(trouble)

    async def seek(request: Request) -> dict[str, Any]:
        if request.query_params.get("key") != key:
            raise Refusal(403, "this key opens nothing")
        pictures, want = _asked(await request.body())
        results = [await _result(picture, want, trouble) for picture in pictures]
        return {"results": _spoiled(results, request.state.count, trouble)}

    endpoint = guarded(maker, seek, lambda r: {"problem": {"kind": r.status, "text": r.reason}})
    app = Starlette(routes=[Route("/seek", endpoint, methods=["POST"])])
    return Simulated(name="chalk", app=app, maker=maker, key=key)


def _asked(body: bytes) -> tuple[list[dict[str, Any]], list[str]]:
    try:
        asked = from_json(body)
        pictures, want = list(asked["pictures"]), list(asked["want"])
    except (NotJSON, KeyError, TypeError) as error:
        raise Refusal(400, "pictures and want are needed") from error
    if not 1 <= len(pictures) <= _MOST_IMAGES:
        raise Refusal(400, f"1 to {_MOST_IMAGES} pictures at once")
    return pictures, want


async def _result(picture: dict[str, Any], want: list[str], trouble: Trouble) -> dict[str, Any]:
    """Return one picture's part; a picture that cannot be used does not spoil the others."""
    ref = str(picture.get("ref", ""))
    try:
        data = base64.b64decode(str(picture.get("content", "")), validate=True)
        return {"ref": ref, **_seen(await sight_of(data, EYES, trouble), want)}
    except (binascii.Error, Refusal) as error:
        reason = error.reason if isinstance(error, Refusal) else "content is not base64"
        return {"ref": ref, "problem": {"kind": "unusable", "text": reason}}


def _spoiled(results: list[Any], count: int, trouble: Trouble) -> list[Any]:
    if trouble.missing and count % trouble.missing == 0:
        results = results[:-1]
    if trouble.shuffled and count % trouble.shuffled == 0:
        results = results[::-1]
    return results


def _seen(sight: Sight, want: list[str]) -> dict[str, Any]:
    parts: dict[str, Any] = {
        "canvas": {
            "w": round(sight.width / sight.factor, 3),
            "h": round(sight.height / sight.factor, 3),
        }
    }
    if "tags" in want:
        tags = sight.labels | {
            thing.label: max(thing.confidence, sight.labels.get(thing.label, 0))
            for thing in sight.objects
        }
        parts["tags"] = [
            {"tag": n, "sure": round(_bold(s), 3)} for n, s in tags.items() if _bold(s) >= _FLOOR
        ]
    if "shapes" in want:
        parts["shapes"] = [
            {"tag": t.label, **_shape(t, sight)}
            for t in sight.objects
            if _bold(t.confidence) >= _FLOOR
        ]
    if "faces" in want:
        parts["faces"] = [_shape(t, sight) for t in sight.faces if _bold(t.confidence) >= _FLOOR]
    if "flags" in want:
        parts["flags"] = [
            {"about": name, "flagged": confidence >= _FLAGGED, "level": round(confidence, 3)}
            for name, confidence in sight.unsafe.items()
        ]
    return parts


def _bold(confidence: float) -> float:
    """Chalk is surer than it should be."""
    return float(confidence**0.5)


def _shape(thing: Thing, sight: Sight) -> dict[str, Any]:
    outline = [[round(x / sight.factor, 1), round(y / sight.factor, 1)] for x, y in thing.outline]
    return {"sure": round(_bold(thing.confidence), 3), "outline": outline}
