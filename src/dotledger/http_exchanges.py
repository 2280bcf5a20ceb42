"""One request and its answer over a connection that is kept open.

Nothing in HTTP/1.1 names the request that an answer belongs to but their order on the connection.
So a connection is used again only if nothing unexpected ever came over it: interim answers are
passed over and the connection is then closed, and so it is after bytes that nobody asked for,
whether they came behind an answer, between two, or while a large request was still going out. A
host that sent such bytes gets a new connection for each request from then on.

The usual answer (a head that came at once, with a length) is taken apart here; the package below
needs several times as long for it, which is what a sending thread mostly does. Whatever is the
least unusual goes to the package, which knows what servers do.
"""

from __future__ import annotations

import http.client
import io
import re
import select
import ssl
import weakref
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Any, NamedTuple
from urllib.parse import quote

from dotledger.connections import connections_to

__all__ = ["Came", "Host"]

_PIECE = 1 << 16  # small enough to come from what the interpreter keeps at hand
_GOES_OUT_AT_ONCE = 1 << 18
_MOST_OVERHEAD = 1 << 20
_LONGEST_CONNECTING = 10.0


class Came(NamedTuple):
    """An answer: names of headers in lower case, the body as it came, and whether that is all."""

    status: int
    headers: dict[str, str]
    body: bytes
    whole: bool


class Host:
    """A host, what is known of it, and the open connections to it; for many threads at once.

    Parameters
    ----------
    scheme, host : str
        ``http`` or ``https``, and the name with its port if it has one.
    timeout : float
        Seconds for sending, and for the whole answer; for connecting at most 10 of them.
    at_once : int
        How many connections are kept.
    most : int
        Bytes kept of an answer's body.
    clock : callable
        Seconds of a steady clock.
    tls : ssl.SSLContext, optional
        How connections are secured; by default by whom the system trusts.

    Raises
    ------
    urllib3.exceptions.LocationValueError
        If the host cannot be one.
    MissingExtra
        If the proxy needs a package that is not there.
    """

    def __init__(
        self,
        scheme: str,
        host: str,
        *,
        timeout: float,
        at_once: int,
        most: int,
        clock: Callable[[], float],
        tls: ssl.SSLContext | None = None,
    ) -> None:
        secured = {} if tls is None else {"ssl_context": tls}
        base = f"{scheme}://{host}"
        self._pool = connections_to(scheme, host, **secured).connection_from_url(base)
        # Only what is not secured is handed to a proxy as it is; else the proxy makes a tunnel.
        self._handed = f"{scheme}://{host}" if self._pool.proxy and scheme == "http" else ""
        self._tunnelled = bool(self._pool.proxy) and scheme == "https"
        self._always = {
            "Host": _named(scheme, host),
            "User-Agent": "dot-ledger",  # some hosts refuse who does not say what they are
            "Accept-Encoding": "identity",
        }
        if self._handed:
            self._always.update(self._pool.proxy_headers)
        self._timeout, self._at_once, self._most, self._clock = timeout, at_once, most, clock
        self._open: list[Any] = []  # appending and popping are safe among threads
        self._distrusted = False
        weakref.finalize(self, _close, self._open)

    def ask(
        self,
        method: str,
        target: str,
        headers: Mapping[str, str],
        body: bytes,
        on_leaving: Callable[[], None] | None = None,
    ) -> Came:
        """Send a request and return its answer.

        Parameters
        ----------
        method, target : str
            As they stand in the request's first line; the target begins with a slash. ``HEAD``
            is not among the methods.
        headers : mapping
            ``Host`` and ``Content-Length`` are added if missing.
        body : bytes
            May be empty.
        on_leaving : callable, optional
            Called when the connection is open and the request is handed over: behind a small
            one, which goes out in one piece, and before a large one, which takes its time.

        Raises
        ------
        ValueError
            If a header holds what none can; its text may hold the value. Nothing was sent.
        urllib3.exceptions.HTTPError
            If no connection could be opened, or what came is no answer.
        http.client.HTTPException, OSError
            If the line failed or the time was over.
        """
        head = self._head(method, f"{self._handed}{_written(target)}", headers, body)
        kept = self._kept()
        connection: Any = kept or self._opened()
        again = False
        try:
            _put(connection.sock, head, body, used=kept is not None, on_leaving=on_leaving)
            until = self._clock() + self._timeout
            came, again = self._answer(connection.sock, method, until)
        finally:
            if again and not self._distrusted and len(self._open) < self._at_once:
                self._open.append(connection)
            else:
                connection.close()
        return came

    def _head(self, method: str, target: str, headers: Mapping[str, str], body: bytes) -> bytes:
        named = {name.lower() for name in headers}
        lines = [f"{method} {target} HTTP/1.1"]
        lines += [f"{n}: {value}" for n, value in self._always.items() if n.lower() not in named]
        for name, value in headers.items():
            line = f"{name}: {value}"
            if not _NAME(name) or _BREAKS(line):
                raise ValueError(line)
            lines.append(line)
        if "content-length" not in named and (body or method in _WITH_BODY):
            lines.append(f"Content-Length: {len(body)}")
        lines.append("\r\n")
        return "\r\n".join(lines).encode("latin-1")

    def _kept(self) -> Any:
        """Return an open connection that is silent, or None: whatever came unasked is no answer."""
        if self._distrusted:  # what was kept before that is no better
            _close(self._open)
        while True:
            try:
                connection = self._open.pop()
            except IndexError:
                return None
            if not _speaks(connection.sock):
                return connection
            self._distrusted = self._distrusted or _has_more(connection.sock)
            connection.close()

    def _opened(self) -> Any:
        connection: Any = self._pool._new_conn()
        connection.timeout = min(self._timeout, _LONGEST_CONNECTING)
        try:
            if self._tunnelled:
                self._pool._prepare_proxy(connection)
            else:
                connection.connect()
        except Exception as error:
            connection.close()
            raise _not_opened(error, connection) from error
        connection.sock.settimeout(self._timeout)
        return connection

    def _answer(self, sock: Any, method: str, until: float) -> tuple[Came, bool]:
        """Return an answer, and whether another request may go over the same connection."""
        first = sock.recv(_PIECE)
        if not first:
            raise http.client.RemoteDisconnected("the connection was cut before the answer")
        usual = _usual_head(first)
        if usual is None or usual[2] > self._most:
            return self._unusual(sock, method, first, until)
        status, headers, length, start = usual
        body = first[start:]
        if len(body) < length:
            body = self._rest(sock, body, length, until)
        if len(body) > length:
            self._distrusted = True  # who sends what nobody asked for may do so at any time
            body = body[:length]
        return Came(status, headers, body, True), not _closes(headers)

    def _rest(self, sock: Any, body: bytes, length: int, until: float) -> bytes:
        pieces, got = [body], len(body)
        try:
            while got < length:
                sock.settimeout(_left(until, self._clock))
                piece = sock.recv(_PIECE)
                if not piece:
                    raise http.client.IncompleteRead(b"", length - got)
                pieces.append(piece)
                got += len(piece)
        finally:
            sock.settimeout(self._timeout)
        return b"".join(pieces)

    def _unusual(self, sock: Any, method: str, first: bytes, until: float) -> tuple[Came, bool]:
        import urllib3

        answer = _Answer(sock, first, until, self._most + _MOST_OVERHEAD, self._clock, method)
        try:
            answer.begin()
            reading = urllib3.HTTPResponse(
                body=answer,
                headers=urllib3.HTTPHeaderDict(answer.headers.items()),
                status=answer.status,
                preload_content=False,
                decode_content=False,
                original_response=answer,
                request_method=method,
            )
            body, whole = _read_at_most(reading, self._most)
        finally:
            answer.close()
            with suppress(OSError):
                sock.settimeout(self._timeout)
        self._distrusted = self._distrusted or answer.timed.unasked
        headers = {name.lower(): value.strip() for name, value in answer.headers.items()}
        again = whole and not (answer.will_close or answer.timed.unasked or answer.interim)
        return Came(answer.status, headers, body, whole), again


_NAME = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+").fullmatch  # a token (RFC 9110, 5.6.2)
_BREAKS = re.compile("[\r\n\0]").search
_WITH_BODY = ("POST", "PUT", "PATCH")
_DEFAULT_PORTS = {"http": ":80", "https": ":443"}


def _named(scheme: str, host: str) -> str:
    """Return what the header ``Host`` says: no name and password, no port that goes without."""
    import urllib3

    url = urllib3.util.parse_url(f"{scheme}://{host}")
    port = "" if url.port is None else f":{url.port}"
    return f"{url.host}{'' if port == _DEFAULT_PORTS[scheme] else port}"


def _written(target: str) -> str:
    """Return a target with everything encoded that cannot stand there as it is (RFC 3986)."""
    return quote(target, safe="/?:@!$&'()*+,;=-._~%")


def _not_opened(error: Exception, connection: Any) -> Exception:
    """Return an error of the package below for what happened before anything was sent."""
    from urllib3 import exceptions as errors

    if isinstance(error, ssl.SSLError | ssl.CertificateError):
        error = errors.SSLError(error)
    elif isinstance(error, TimeoutError):
        error = errors.ConnectTimeoutError(str(error))
    if connection.proxy and not connection.has_connected_to_proxy:
        return errors.ProxyError("the proxy cannot be reached", error)
    return error


def _put(
    sock: Any, head: bytes, body: bytes, *, used: bool, on_leaving: Callable[[], None] | None
) -> None:
    """Send a request; a large one in two pieces, and not behind bytes that nobody asked for.

    Over a new connection, what comes before all is sent can only be meant for this request.
    """
    leaving = on_leaving or _nothing
    try:
        if len(body) <= _GOES_OUT_AT_ONCE:
            sock.sendall(head + body)
            leaving()
            return
        leaving()
        sock.sendall(head)
        if used and _speaks(sock):
            raise http.client.HTTPException("bytes came unasked, or the connection was closed")
        sock.sendall(body)
    except (BrokenPipeError, ConnectionResetError):
        pass  # the service may have answered before it closed; if not, reading says so


def _nothing() -> None:
    """Do nothing: nobody asks when this request leaves."""


def _left(until: float, clock: Callable[[], float]) -> float:
    left = until - clock()
    if left <= 0:
        raise TimeoutError("the whole answer did not come in time")
    return left


_HEAD = re.compile(
    rb"HTTP/1\.1 ([2-5]\d\d)(?: [\t\x20-\x7e\x80-\xff]*)?\r\n"
    rb"((?:[!#$%&'*+.^_`|~0-9A-Za-z-]+:[\t\x20-\x7e\x80-\xff]*\r\n){1,60})\r\n"
).match
_DIGITS = re.compile("[0-9]{1,18}").fullmatch
_WITHOUT_BODY = (b"204", b"304")


def _usual_head(first: bytes) -> tuple[int, dict[str, str], int, int] | None:
    """Return status, headers, the body's length and its place; None for the package below.

    An answer is usual if its head is whole and of the plainest form, and one length is the only
    thing that says where it ends (RFC 9112, 6.3).
    """
    head = _HEAD(first)
    if head is None or head[1] in _WITHOUT_BODY:
        return None
    lines = head[2].decode("latin-1").split("\r\n")[:-1]
    headers: dict[str, str] = {}
    for line in lines:
        name, _, value = line.partition(":")
        headers[name.lower()] = value.strip(" \t")
    length = headers.get("content-length", "")
    # As many names as lines: nothing is said twice, the length least of all.
    if not _DIGITS(length) or "transfer-encoding" in headers or len(headers) < len(lines):
        return None
    return int(head[1]), headers, int(length), head.end()


def _closes(headers: Mapping[str, str]) -> bool:
    return "close" in headers.get("connection", "").lower()


def _read_at_most(answer: Any, most: int) -> tuple[bytes, bool]:
    """Return the body of an answer, up to `most` bytes, and whether that is all."""
    pieces: list[bytes] = []
    left = most + 1
    while left > 0 and (piece := answer.read(min(left, _PIECE), decode_content=False)):
        pieces.append(piece)
        left -= len(piece)
    return b"".join(pieces)[:most], left > 0


def _speaks(sock: Any) -> bool:
    """Tell whether a peer has sent something, or closed, without waiting for it."""
    if isinstance(sock, ssl.SSLSocket) and sock.pending():
        return True  # taken from the system already
    if not hasattr(select, "poll"):
        return bool(select.select([sock], [], [], 0)[0])
    waiting = select.poll()
    waiting.register(sock, select.POLLIN)
    return bool(waiting.poll(0))


def _has_more(sock: Any) -> bool:
    """Tell bytes that came unasked from a connection that was just closed."""
    with suppress(OSError, ValueError):
        sock.setblocking(False)
        return bool(sock.recv(1))
    return False


def _close(connections: list[Any]) -> None:
    with suppress(IndexError):  # another thread may take the last one
        while connections:
            connections.pop().close()


class _Answer(http.client.HTTPResponse):
    """An answer of which the first bytes came, read until a deadline, after any interim ones."""

    def __init__(
        self,
        sock: Any,
        first: bytes,
        until: float,
        most: int,
        clock: Callable[[], float],
        method: str,
    ) -> None:
        super().__init__(sock, method=method)
        self.timed = _Timed(self.fp.detach(), sock, first, until, most, clock)
        self.fp = _Guarded(self.timed)
        self.interim = False

    def begin(self) -> None:
        super().begin()
        while 100 <= self.status < 200 and self.status != 101:  # RFC 9110, 15.2
            self.headers = self.msg = None  # type: ignore[assignment]
            super().begin()

    def _read_status(self) -> tuple[str, int, str]:
        """Note an interim answer: the standard library passes over some by itself."""
        version, status, reason = super()._read_status()  # type: ignore[misc]
        self.interim = self.interim or status < 200
        return version, status, reason


class _Timed(io.RawIOBase):
    """A socket read until a deadline, behind what came already; no more than so many bytes."""

    def __init__(
        self,
        raw: Any,
        sock: Any,
        first: bytes,
        until: float,
        most: int,
        clock: Callable[[], float],
    ) -> None:
        super().__init__()
        self._raw, self._sock = raw, sock
        self._first, self._until, self._left, self._clock = memoryview(first), until, most, clock
        self.ended = self.unasked = False

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int | None:
        if self.ended:  # what was read already counts, what is still to come does not
            size = min(len(buffer), len(self._first))
        elif self._left <= 0:
            raise OSError("more bytes came than are taken")
        elif not self._first:
            self._sock.settimeout(_left(self._until, self._clock))
            size = self._raw.readinto(buffer)
            self._left -= size or 0
            return size
        else:
            size = min(len(buffer), len(self._first))
        buffer[:size] = self._first[:size]
        self._first = self._first[size:]
        self._left -= size
        return size

    def close(self) -> None:
        self._raw.close()
        super().close()


class _Guarded(io.BufferedReader):
    """Notes at the end of an answer whether bytes came behind it."""

    raw: _Timed

    def close(self) -> None:
        if not self.closed:
            self.raw.ended = True
            with suppress(OSError, ValueError):
                self.raw.unasked = bool(self.peek(1))
        super().close()
