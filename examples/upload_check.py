"""An upload handler: one image in, its verdict with reasons and a covered copy out.

Run it with ``uvicorn --app-dir examples upload_check:app``; it asks a simulated service on this
machine. The handler never raises for what the service does: without an answer it says "hold".
"""

import base64
import contextlib
from collections.abc import AsyncIterator

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Route

import dotledger
from dotledger.standins.evening_demo import description_of, running
from dotledger.typing import Condition, Rule, Rules

RULES = Rules(
    unmentioned="hold",
    rules=(
        Rule(
            name="hazards",
            verdict="block",
            when=Condition(kind="unsafe", labels=("open flame", "broken glass"), confidence=0.6),
        ),
        Rule(name="crowds", verdict="hold", when=Condition(kind="face", at_least=5)),
    ),
)


@contextlib.asynccontextmanager
async def lifespan(app: Starlette) -> AsyncIterator[None]:
    """Open the service once for the life of the program."""
    with running("flint") as up:
        described = description_of(up)
        with dotledger.open_service(described, rules=RULES, key=up.service.key) as flint:
            app.state.flint = flint
            yield


async def upload(request: Request) -> JSONResponse:
    """Look at the image in the body."""
    image = await request.body()
    seen = await request.app.state.flint.look_async(image)
    copy = None
    if seen.outcome in ("found", "empty"):
        copy = base64.b64encode(dotledger.cover(image, seen.findings).data).decode()
    return JSONResponse({"verdict": seen.verdict, "reasons": list(seen.why), "covered": copy})


app = Starlette(routes=[Route("/upload", upload, methods=["POST"])], lifespan=lifespan)
