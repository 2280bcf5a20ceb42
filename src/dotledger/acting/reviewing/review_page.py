"""The review page: a small application on this machine, for one person at a time.

Only loopback, an address with a random token, and requests that come from the page itself: other
pages that are open in the same browser can neither read nor decide anything.
"""

from __future__ import annotations

import io
from collections.abc import Callable
from contextlib import suppress
from importlib.resources import files
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from dotledger.acting.reviewing.review_worklist import Found, Work, Worklist
from dotledger.core.decisions.human_decisions import newest
from dotledger.errors import ArgumentError, DotLedgerError, MissingExtra
from dotledger.images.image_facts import read_facts
from dotledger.images.image_preparation import decode_upright
from dotledger.json_codec import NotJSON, from_json, to_json
from dotledger.ledger.answer_queries import raw_answers

if TYPE_CHECKING:
    from starlette.applications import Starlette
    from starlette.requests import Request
    from starlette.responses import Response

__all__ = ["review_app"]

_HEADERS = {
    "Content-Security-Policy": (
        "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; "
        "connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
    ),
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Cache-Control": "no-store",
}
_SHOWN = {"jpeg": "image/jpeg", "png": "image/png", "webp": "image/webp", "gif": "image/gif"}
"""Formats that every browser shows; others are sent as PNG."""
_FILES = {
    "": "text/html",
    "page.js": "text/javascript",
    "sight.js": "text/javascript",
    "page.css": "text/css",
    "page.svg": "image/svg+xml",
}
_MOST = 4096


def review_app(
    worklist: Worklist,
    *,
    who: str,
    token: str,
    text_of: Callable[[Found], str] | None = None,
    place: str = "near",
) -> Starlette:
    """Return the application.

    Parameters
    ----------
    worklist : Worklist
        What is to be looked at; decisions are written into its ledger at once.
    who : str
        The person whose decisions these are.
    token : str
        Stands in the address; everything else is not found.
    text_of : callable, optional
        Returns the text of a box; by default its label.
    place : str
        Where that stands, if there is room; as `draw` takes it.

    Raises
    ------
    MissingExtra
        If ``dot-ledger[review]`` is not installed.
    """
    try:
        from starlette.applications import Starlette
        from starlette.routing import Route
    except ImportError as error:
        raise MissingExtra(
            "the review page needs starlette and uvicorn",
            next_step="Run: pip install 'dot-ledger[review]'; or use a sheet: `out=FILE`",
        ) from error
    page = _ReviewPage(worklist, who, text_of or (lambda one: one.label), place)
    home = f"/{token}/"
    gets: dict[str, Callable[[Request], Response]] = {
        "": page.file,
        "page.js": page.file,
        "sight.js": page.file,
        "page.css": page.file,
        "page.svg": page.file,
        "work": page.work,
        "image/{place}": page.image,
        "raw/{place}": page.raw,
    }
    posts = {"decide": page.decide, "undo": page.undo}
    return Starlette(
        routes=[
            *(Route(home + path, _guarded(call)) for path, call in gets.items()),
            *(Route(home + path, _posted(call), methods=["POST"]) for path, call in posts.items()),
        ]
    )


def _guarded(call: Callable[[Request], Response]) -> Callable[[Request], Response]:
    """Refuse a host that is not this machine: a name may be made to lead here."""

    def answer(request: Request) -> Response:
        from starlette.responses import PlainTextResponse

        host = _host_of(request.headers.get("host", ""))
        site = request.headers.get("sec-fetch-site", "same-origin")
        if host not in ("127.0.0.1", "localhost", "::1") or site not in ("same-origin", "none"):
            return PlainTextResponse("refused", 403, headers=_HEADERS)
        response = call(request)
        response.headers.update(_HEADERS)
        return response

    return answer


def _host_of(header: str) -> str:
    """Return the name that a ``Host`` header gives; empty for what is none."""
    with suppress(ValueError):  # "[::1" is no host to the parser, and "x" no port
        parts = urlsplit(f"//{header}")
        if (parts.port or 0) >= 0:
            return parts.hostname or ""
    return ""


async def _body_of(request: Request) -> bytes | None:
    """Return the body of a post; None for one that is longer than any decision, unread."""
    body = b""
    async for piece in request.stream():
        body += piece
        if len(body) > _MOST:
            return None
    return body


def _posted(call: Callable[[dict[str, Any]], Response]) -> Callable[[Request], Any]:
    """Take JSON that this page sent, and nothing else."""

    async def answer(request: Request) -> Response:
        from starlette.concurrency import run_in_threadpool
        from starlette.responses import PlainTextResponse

        host = request.headers.get("host", "")
        mine = f"http://{host}" == request.headers.get("origin")
        typed = request.headers.get("content-type", "").startswith("application/json")
        if not mine or not typed:
            return PlainTextResponse("refused", 403, headers=_HEADERS)
        body = await _body_of(request)
        if body is None:
            # Closed, or the server would go on to read what nobody wants.
            return PlainTextResponse("too long", 413, headers={**_HEADERS, "Connection": "close"})
        try:
            given = from_json(body)
        except NotJSON:
            return PlainTextResponse("not JSON", 400, headers=_HEADERS)
        if not isinstance(given, dict):
            return PlainTextResponse("not an object", 400, headers=_HEADERS)
        return await run_in_threadpool(_guarded(lambda _: call(given)), request)

    return answer


class _ReviewPage:
    def __init__(
        self, worklist: Worklist, who: str, text_of: Callable[[Found], str], place: str
    ) -> None:
        self._list, self._who = worklist, who
        self._text_of, self._place = text_of, place

    def file(self, request: Request) -> Response:
        from starlette.responses import Response

        name = request.url.path.rpartition("/")[2]
        shared = files("dotledger") / "page_parts"
        home = shared if name == "sight.js" else files(__package__)
        data = (home / (name or "page.html")).read_bytes()
        return Response(data, media_type=_FILES[name])

    def work(self, request: Request) -> Response:  # noqa: ARG002 - as every route
        return _json(
            {
                "who": self._who,
                "service": self._list.batch.service,
                "batch": self._list.batch.id,
                "place": self._place,
                "work": [_plain(one, self._text_of) for one in self._list.work],
                "decided": self._decided(),
            }
        )

    def _decided(self) -> dict[str, dict[str, list[str]]]:
        """Return this person's own decisions by image and finding; others' are not shown."""
        found: dict[str, dict[str, list[str]]] = {}
        for (image, row, who), one in newest(self._list.reviews()).items():
            if who == self._who:
                found.setdefault(image, {})[str(row)] = [one.word, one.label]
        return found

    def image(self, request: Request) -> Response:
        from starlette.responses import PlainTextResponse, Response

        work = self._at(request.path_params["place"])
        if work is None:
            return PlainTextResponse("no such image", 404)
        try:
            data, media_type = _showable(work)
        except (DotLedgerError, OSError) as error:
            return PlainTextResponse(str(error), 410)
        return Response(data, media_type=media_type)

    def raw(self, request: Request) -> Response:
        from starlette.responses import PlainTextResponse

        work = self._at(request.path_params["place"])
        if work is None:
            return PlainTextResponse("no such image", 404)
        answers = raw_answers(self._list.ledger, self._list.batch, [work.position])
        parts = [f"{call}\n{_indented(answer)}" for _, call, answer in answers]
        return PlainTextResponse("\n\n".join(parts) or "no answer")

    def decide(self, given: dict[str, Any]) -> Response:
        image, row = given.get("image"), given.get("row", 0)
        word, label = given.get("word"), given.get("label", "")
        known = {one.image: len(one.found) for one in self._list.work}
        texts = all(isinstance(one, str) for one in (image, word, label))
        fits = texts and isinstance(row, int) and not isinstance(row, bool)
        if not fits or image not in known or not 0 <= row <= known[image]:
            return _json({"error": "no such image or finding"}, 400)
        try:
            self._list.decide(str(image), row, self._who, str(word), label.strip())
        except ArgumentError as error:
            return _json({"error": str(error)}, 400)
        except DotLedgerError as error:
            return _json({"error": str(error)}, 500)
        return _json({"decided": self._decided()})

    def undo(self, given: dict[str, Any]) -> Response:  # noqa: ARG002 - as every route
        try:
            last = self._list.undo(self._who)
        except DotLedgerError as error:
            return _json({"error": str(error)}, 500)
        undone = None if last is None else {"image": last.image, "row": last.row}
        return _json({"decided": self._decided(), "undone": undone})

    def _at(self, place: str) -> Work | None:
        """Return the image of a number in an address, which may hold anything."""
        if not (place.isascii() and place.isdigit() and len(place) < _DIGITS):
            return None
        return self._list.work[int(place)] if int(place) < len(self._list.work) else None


_DIGITS = 10


def _json(value: Any, status: int = 200) -> Response:
    from starlette.responses import Response

    return Response(to_json(value), status, media_type="application/json")


def _plain(work: Work, text_of: Callable[[Found], str]) -> dict[str, Any]:
    return {
        "image": work.image,
        "reasons": work.reasons,
        "unsafe": work.unsafe,
        "size": work.size,
        "found": [
            {
                **{name: value for name, value in vars(one).items() if name != "details"},
                "text": text_of(one),
                "points": list(one.details.points.values()) if one.details else [],
                "outline": list(one.details.polygon) if one.details else [],
            }
            for one in work.found
        ],
    }


def _showable(work: Work) -> tuple[bytes, str]:
    data = work.item.read()
    kind = read_facts(data).format
    if kind in _SHOWN:
        return data, _SHOWN[kind]
    buffer = io.BytesIO()
    decode_upright(data).convert("RGB").save(buffer, "PNG")
    return buffer.getvalue(), "image/png"


def _indented(answer: bytes) -> str:
    try:
        return to_json(from_json(answer), indent=True).decode()
    except ValueError:
        return answer.decode("utf-8", "replace")
