"""Flint: key in a header, multipart form, fractions, thousandths, nested occurrences, words."""

from __future__ import annotations

from typing import Any

from starlette.applications import Starlette
from starlette.datastructures import UploadFile
from starlette.requests import Request
from starlette.routing import Route

from dotledger.standins.service_misbehaviour import NO_TROUBLE, Trouble, TroubleMaker
from dotledger.standins.simulated_service import Refusal, Simulated, guarded, sight_of
from dotledger.standins.simulated_vision import Eyes, Sight, Thing

__all__ = ["EYES", "KEY", "flint"]

KEY = "flint-demo-key"
EYES = Eyes(working_side=250, smallest_face=30, smoke_rises=True)

_FLOOR = 300
_BROADER = {
    "lantern": ["Light"],
    "moon": ["Sky"],
    "banner": ["Cloth"],
    "umbrella": ["Shelter"],
    "basket": ["Vessel"],
    "stool": ["Seat"],
}
_WORDS = ((0.85, "plain"), (0.5, "likely"), (0.15, "doubtful"), (0.0, "absent"))


def flint(trouble: Trouble = NO_TROUBLE, *, key: str = KEY) -> Simulated:
    """Return the simulated service Flint."""
    maker = TroubleMaker(trouble)

    async def view(request: Request) -> dict[str, Any]:
        if request.headers.get("x-flint-key") != key:
            raise Refusal(401, "unknown key")
        async with request.form() as form:
            picture = form.get("picture")
            if not isinstance(picture, UploadFile):
                raise Refusal(400, "no field named picture")
            wanted = set(str(form.get("want", "labels,faces,safety")).split(","))
            data = await picture.read()
        return _answer(await sight_of(data, EYES, trouble), wanted)

    endpoint = guarded(maker, view, lambda r: {"error": {"code": r.status, "message": r.reason}})
    app = Starlette(routes=[Route("/v1/view", endpoint, methods=["POST"])])
    return Simulated(name="flint", app=app, maker=maker, key=key)


def _answer(sight: Sight, wanted: set[str]) -> dict[str, Any]:
    answer: dict[str, Any] = {"flint": "1.4"}
    if "labels" in wanted:
        answer["labels"] = _labels(sight)
    if "faces" in wanted:
        answer["faces"] = [
            f for f in (_occurrence(t, sight) for t in sight.faces) if f["score"] >= _FLOOR
        ]
    if "safety" in wanted:
        answer["safety"] = {name: _word(confidence) for name, confidence in sight.unsafe.items()}
    return answer


def _labels(sight: Sight) -> list[dict[str, Any]]:
    names = sorted({*sight.labels, *(thing.label for thing in sight.objects)})
    entries = [_label(name, sight) for name in names]
    return [entry for entry in entries if entry["score"] >= _FLOOR]


def _label(name: str, sight: Sight) -> dict[str, Any]:
    occurrences = [_occurrence(t, sight) for t in sight.objects if t.label == name]
    occurrences = [o for o in occurrences if o["score"] >= _FLOOR]
    best = max((o["score"] for o in occurrences), default=0)
    return {
        "name": name.capitalize(),
        "score": max(round(1000 * sight.labels.get(name, 0.0)), best),
        "broader": _BROADER.get(name, []),
        "occurrences": occurrences,
    }


def _occurrence(thing: Thing, sight: Sight) -> dict[str, Any]:
    x0, y0, x1, y1 = thing.box
    place = [y0 / sight.height, x0 / sight.width, y1 / sight.height, x1 / sight.width]
    return {"score": round(1000 * thing.confidence), "place": [round(v, 5) for v in place]}


def _word(confidence: float) -> str:
    return next(word for least, word in _WORDS if confidence >= least)
