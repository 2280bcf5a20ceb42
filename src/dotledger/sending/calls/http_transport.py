"""The one-method seam between Dot Ledger and the network."""

from __future__ import annotations

import http.client
import re
import threading
import time
import zlib
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any, Literal, Protocol

from msgspec import Struct, field
from msgspec.structs import replace

from dotledger.errors import DotLedgerError, MissingExtra
from dotledger.http_exchanges import Host
from dotledger.services.message_rules import Request
from dotledger.services.redaction import Secrets

if TYPE_CHECKING:
    import ssl

_ADDRESS = re.compile(r"(https?)://([^/?#]+)([^#]*)", re.IGNORECASE)

__all__ = [
    "MOST_AT_ONCE",
    "MOST_BYTES",
    "HttpTransport",
    "NoAnswer",
    "Response",
    "Transport",
    "send_covered",
]

MOST_BYTES = 32 << 20
"""What is kept of an answer, both as it came and unpacked; what is longer is cut and said."""

MOST_AT_ONCE = 512 << 20
"""Bytes of all answers that are under way at once; with 8 at once each may have `MOST_BYTES`."""

Trouble = Literal["unreachable", "timeout", "cut"]
Cause = Literal["", "certificate", "proxy", "header", "host", "time"]
"""What lies behind a `NoAnswer`, as far as it is known: advice is looked up by it."""


class Response(Struct, frozen=True, kw_only=True):
    """What came back.

    Attributes
    ----------
    status : int
        Of the final answer; interim ones are passed over.
    headers : mapping
        Names in lower case.
    body : bytes
        Unpacked; as it came where it cannot be unpacked.
    fault : str
        Why `body` is not the whole answer; empty if it is.
    """

    status: int
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""
    fault: str = ""


class NoAnswer(DotLedgerError):
    """There was no whole answer.

    `trouble` is ``"unreachable"`` if nothing could be sent, ``"timeout"`` or ``"cut"``; `cause`
    is what lies behind it, or empty.
    """

    def __init__(self, message: str, *, trouble: Trouble = "cut", cause: Cause = "") -> None:
        super().__init__(message, trouble=trouble, cause=cause)
        self.trouble: Trouble = trouble
        self.cause: Cause = cause


class Transport(Protocol):
    """Sends one request; called from many threads at once."""

    def send(self, request: Request) -> Response:
        """Return the whole response, whatever its status.

        A transport that opens connections may call `request.on_leaving` when it hands the request
        to the network, and sets `reports_leaving`: the service's rate limit is counted from then.

        Raises
        ------
        NoAnswer
            If none came, or not all of it.
        """


def send_covered(transport: Transport, request: Request, secrets: Secrets) -> Response:
    """Send, and cover every secret in what comes back: services repeat what they were given.

    Returns
    -------
    Response
        The same one if it holds no secret.
    """
    response = transport.send(request)
    body = secrets.cover(response.body)
    headers = {name: secrets.text(value) for name, value in response.headers.items()}
    if body is response.body and headers == response.headers:
        return response
    return replace(response, body=body, headers=headers)


class HttpTransport:
    """The transport over HTTP, with connections kept open.

    Each answer is bound to its request as `dotledger.http_exchanges` says.

    Parameters
    ----------
    timeout : float
        Seconds for connecting, for sending, and for the whole answer.
    most : int
        Bytes kept of an answer, as it came and unpacked; less where many are under way at once, so
        that all of them together stay under `MOST_AT_ONCE`.
    tls : ssl.SSLContext, optional
        How connections are secured; by default by whom the system trusts.
    """

    reports_leaving = True

    def __init__(
        self,
        *,
        timeout: float = 30.0,
        at_once: int = 8,
        most: int = MOST_BYTES,
        clock: Callable[[], float] = time.monotonic,
        tls: ssl.SSLContext | None = None,
    ) -> None:
        most = min(most, MOST_AT_ONCE // max(1, at_once))
        self._settings: dict[str, Any] = {
            "timeout": timeout,
            "at_once": at_once,
            "most": most,
            "clock": clock,
            "tls": tls,
        }
        # Spelled as descriptions spell it, so that theirs takes its place.
        self._asked = {"Accept-Encoding": ", ".join(codings())}
        self._hosts: dict[str, Host] = {}
        self._opening = threading.Lock()
        self._most = most

    def send(self, request: Request) -> Response:
        """Send one request; see `Transport`."""
        ended = self._tried(request)
        if isinstance(ended, NoAnswer):
            raise ended
        return ended

    def _tried(self, request: Request) -> Response | NoAnswer:
        """Return what came, or why nothing did.

        The causes are not chained: their frames hold the address and headers, with the key.
        """
        try:
            return self._answered(request)
        except NoAnswer as error:
            return NoAnswer(error.message, trouble=error.trouble, cause=error.cause)
        except Exception as error:  # whatever a peer can make the packages below raise
            return self._explained(error)

    def _explained(self, error: Exception) -> NoAnswer:
        from urllib3 import exceptions as errors

        out: Trouble = "unreachable"
        if isinstance(error, MissingExtra):
            return NoAnswer(str(error), trouble=out, cause="proxy")
        known: tuple[tuple[Any, str, Trouble, Cause], ...] = (
            (errors.NameResolutionError, "", out, "host"),
            (errors.NewConnectionError, "", out, ""),
            (errors.ConnectTimeoutError, "no connection in time", out, "time"),
            ((errors.ReadTimeoutError, TimeoutError), "no answer in time", "timeout", "time"),
            (errors.SSLError, f"the certificate is not accepted ({error})", out, "certificate"),
            (errors.ProxyError, "the proxy cannot be reached", out, "proxy"),
            (errors.LocationValueError, "the address is not valid", out, ""),
            ((errors.HTTPError, OSError, http.client.HTTPException), "", "cut", ""),
            # The text of a ValueError holds the value, which may be a key.
            (ValueError, _BAD_HEADER, out, "header"),
        )
        for kind, message, trouble, cause in known:
            if isinstance(error, kind):
                return NoAnswer(message or _plain(error), trouble=trouble, cause=cause)
        return NoAnswer(f"what came cannot be taken apart ({type(error).__name__})")

    def _answered(self, request: Request) -> Response:
        """Send by way of the host: its address is taken apart once, not for each call."""
        parts = _ADDRESS.match(request.address)
        if parts is None:
            raise NoAnswer("the address is not valid", trouble="unreachable")
        scheme = parts[1].lower()
        host = self._hosts.get(f"{scheme}://{parts[2]}") or self._host(scheme, parts[2])
        target = parts[3] if parts[3][:1] == "/" else f"/{parts[3]}"
        headers = {**self._asked, **request.headers}
        came = host.ask(request.method, target, headers, request.body, request.on_leaving)
        body, fault = came.body, f"longer than {self._most:,} bytes; the beginning is kept"
        if came.whole:
            body, fault = _unpacked(body, came.headers.get("content-encoding", ""), self._most)
        return Response(status=came.status, headers=came.headers, body=body, fault=fault)

    def _host(self, scheme: str, host: str) -> Host:
        base = f"{scheme}://{host}"
        with self._opening:
            if base not in self._hosts:
                self._hosts[base] = Host(scheme, host, **self._settings)
            return self._hosts[base]


_BAD_HEADER = "a header holds what no header can: line breaks, or letters outside Latin-1"


def _unpacked(body: bytes, coding: str, most: int) -> tuple[bytes, str]:
    """Undo a content coding, no further than `most` bytes; return what there is and the fault."""
    coding = coding.strip().lower()
    if coding in ("", "identity"):
        # Some services and stores pack and do not say so. No JSON or XML begins like this.
        coding = "gzip" if body.startswith(_GZIP_START) else ""
    if not coding or not body:
        return body, ""
    if coding in _PACKAGES:
        return _unpacked_by_package(body, coding, most)
    if coding not in _WINDOWS:
        return body, f"{_CANNOT} ({coding[:20]})"
    for window in _WINDOWS[coding]:
        try:
            return _inflated(body, window, most)
        except zlib.error:
            continue
    return body, _CANNOT


_GZIP_START = b"\x1f\x8b\x08"
_CANNOT = "squeezed in a way that cannot be undone"
_BREAKS_OFF = "squeezed, and it breaks off"
_GZIP, _ZLIB, _BARE = 31, 15, -15
_WINDOWS: Mapping[str, tuple[int, ...]] = {
    "gzip": (_GZIP,),
    "x-gzip": (_GZIP,),
    "deflate": (_ZLIB, _BARE),
}


_PACKAGES: Mapping[str, tuple[str, str]] = {
    "br": ("brotli", "Brotli"),
    "zstd": ("zstandard", "zstd"),
}
"""Codings that a package undoes, and what people call them; the extra `codings` brings them."""


def codings() -> tuple[str, ...]:
    """Return the content codings that can be undone here, as they are asked for.

    Returns
    -------
    tuple of str
        Those of the standard library, and those whose package is installed.
    """
    from importlib.util import find_spec

    return ("gzip", "deflate", *(name for name, (at, _) in _PACKAGES.items() if find_spec(at)))


def _unpacked_by_package(body: bytes, coding: str, most: int) -> tuple[bytes, str]:
    package, called = _PACKAGES[coding]
    try:
        return (_unbrotlied if coding == "br" else _unzstd)(body, most)
    except ImportError:
        needed = f"squeezed with {called}, and {package} is not installed"
        return body, f"{needed}: pip install 'dot-ledger[codings]'"


def _unbrotlied(body: bytes, most: int) -> tuple[bytes, str]:
    import brotli

    undoing = brotli.Decompressor()
    try:
        whole = undoing.process(body, output_buffer_limit=most + 1)
        while len(whole) <= most and not undoing.can_accept_more_data():
            whole += undoing.process(b"", output_buffer_limit=most + 1 - len(whole))
    except brotli.error:
        return body, _CANNOT
    if len(whole) > most:
        return whole[:most], _too_long(most)
    return whole, "" if undoing.is_finished() else _BREAKS_OFF


def _unzstd(body: bytes, most: int) -> tuple[bytes, str]:
    import zstandard

    try:
        with zstandard.ZstdDecompressor().stream_reader(body, read_across_frames=True) as reading:
            whole = reading.read(most + 1)
    except zstandard.ZstdError:
        return body, _CANNOT
    if len(whole) > most:
        return whole[:most], _too_long(most)
    return whole, "" if whole else _BREAKS_OFF


def _too_long(most: int) -> str:
    return f"longer than {most:,} bytes when unpacked; the beginning is kept"


def _inflated(body: bytes, window: int, most: int) -> tuple[bytes, str]:
    pieces, left = [], most
    while body:
        undoing = zlib.decompressobj(window)
        pieces.append(undoing.decompress(body, left))
        left -= len(pieces[-1])
        if undoing.unconsumed_tail or left <= 0:
            return b"".join(pieces), _too_long(most)
        if not undoing.eof:
            return b"".join(pieces), _BREAKS_OFF
        body = undoing.unused_data.lstrip(b"\0")  # gzip may come in several members, and padded
    return b"".join(pieces), ""


def _plain(error: Exception) -> str:
    """Return what went wrong without the address, which may hold a key."""
    cause = error.args[-1] if error.args else error
    known = type(error).__name__ in _PLAIN or not isinstance(cause, Exception)
    name = type(error if known else cause).__name__
    return _PLAIN.get(name, name)


_PLAIN = {
    "NewConnectionError": "no connection: nothing listens at this address",
    "NameResolutionError": "no such host",
    "IncompleteRead": "the connection was cut in the middle of the answer",
    "RemoteDisconnected": "the connection was cut before the answer",
    "ConnectionResetError": "the connection was reset",
    "LocationParseError": "the address is not valid",
    "BadStatusLine": "what came is not an HTTP answer",
    "LineTooLong": "a line of the answer's head is too long",
}
