"""One request and its answer over a connection that is kept open.

The package urllib3 speaks HTTP; this guards what it leaves open. Nothing in HTTP/1.1 names the
request that an answer belongs to but their order on the connection, so a connection is used again
only if nothing unexpected ever came over it:

- interim answers (RFC 9110, 15.2) are passed over, and the connection is then closed;
- so is one over which bytes came that nobody asked for, whether behind an answer, between two, or
  while a large request was still going out. That host gets a new connection for each request from
  then on;
- one deadline holds for the whole answer, not for each piece of it.
"""

from __future__ import annotations

import http.client
import io
import re
import ssl
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from functools import cache, partial
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
    most : int
        Bytes kept of an answer's body.
    tls : ssl.SSLContext, optional
        How connections are secured; by default the certificates that the system trusts.

    Raises
    ------
    urllib3.exceptions.LocationValueError
        If the host cannot be one.
    MissingExtra
        If the proxy needs a package that is not installed.
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
        import urllib3

        settings: dict[str, Any] = {} if tls is None else {"ssl_context": tls}
        base = f"{scheme}://{host}"
        manager = connections_to(scheme, host, maxsize=at_once, **settings)
        self._peer = _Peer(timeout, most + _MOST_OVERHEAD, clock)
        self._pool = _guard(manager.connection_from_url(base), self._peer)
        # A proxy is handed whole addresses, unless it makes a tunnel for what is secured.
        self._handed = base if self._pool.proxy and scheme == "http" else ""
        self._always = {
            "Host": _named(scheme, host),
            "User-Agent": "dot-ledger",  # some hosts refuse who does not say what they are
            "Accept-Encoding": "identity",
        }
        self._limits = urllib3.Timeout(connect=min(timeout, _LONGEST_CONNECTING), read=timeout)
        self._most = most

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
            Empty for a request without one.
        on_leaving : callable, optional
            Called when the connection is open and the request is handed over: after a small
            one was sent, and before a large one, which takes its time.

        Raises
        ------
        ValueError
            If a header holds what none can; its text may hold the value. Nothing was sent.
        urllib3.exceptions.HTTPError
            If no connection could be opened, or what came is no answer.
        http.client.HTTPException, OSError
            If the connection failed or the time was over.
        """
        given = self._headers(method, headers, body)
        # The pool does not get the target: it logs what it gets, and a target may hold a key.
        self._peer.calls.one = _Call(f"{self._handed}{_written(target)}", body, on_leaving)
        try:
            answer = self._pool.urlopen(
                method,
                f"{self._handed}/",
                headers=given,
                retries=False,
                redirect=False,
                assert_same_host=False,
                timeout=self._limits,
                preload_content=False,
                decode_content=False,
            )
        finally:
            self._peer.calls.one = None  # an idle thread holds no image
        try:
            kept, whole = _read_at_most(answer, self._most)
        except BaseException:
            answer.close()
            raise
        # What was not read to its end would be taken for the next request's answer.
        (answer.release_conn if whole else answer.close)()
        named = {name.lower(): value.strip() for name, value in answer.headers.items()}
        return Came(answer.status, named, kept, whole)

    def _headers(self, method: str, headers: Mapping[str, str], body: bytes) -> dict[str, str]:
        """Return all headers, in which what is given replaces ours; refuse what cannot be one."""
        named = {name.lower() for name in headers}
        found = {name: value for name, value in self._always.items() if name.lower() not in named}
        for name, value in headers.items():
            line = f"{name}: {value}"
            if not _NAME(name) or _BREAKS(line):
                raise ValueError(line)
            line.encode("latin-1")
            found[name] = str(value)
        if "content-length" not in named and (body or method in _WITH_BODY):
            found["Content-Length"] = str(len(body))
        return found


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


def _read_at_most(answer: Any, most: int) -> tuple[bytes, bool]:
    """Return the body of an answer, up to `most` bytes, and whether that is all."""
    pieces: list[bytes] = []
    left = most + 1
    while left > 0 and (piece := answer.read(min(left, _PIECE), decode_content=False)):
        pieces.append(piece)
        left -= len(piece)
    return b"".join(pieces)[:most], left > 0


# -- the guard ------------------------------------------------------------------------------------


class _Call(NamedTuple):
    """What one thread asks for just now."""

    target: str
    body: bytes
    on_leaving: Callable[[], None] | None


class _Peer:
    """What all connections to a host share: its limits, and whether it sent bytes unasked."""

    def __init__(self, timeout: float, most: int, clock: Callable[[], float]) -> None:
        self.timeout, self.most, self._clock = timeout, most, clock
        self.distrusted = False
        self.calls = threading.local()

    def deadline(self) -> float:
        return self._clock() + self.timeout

    def left(self, until: float) -> float:
        """Return the seconds left; raises TimeoutError if there are none."""
        left = until - self._clock()
        if left <= 0:
            raise TimeoutError("the whole answer did not come in time")
        return left


class _Guard:
    """Stands in front of a connection class of the package."""

    sock: Any

    def __init__(self, peer: _Peer, *args: Any, **settings: Any) -> None:
        super().__init__(*args, **settings)
        self._peer = peer
        self._used = False
        self._holds, self._head = False, b""

    def response_class(self, sock: Any, *, method: str) -> http.client.HTTPResponse:
        """Make what reads an answer; called by the standard library for each request."""
        return _Answer(sock, self._peer, method)

    @property
    def is_connected(self) -> bool:
        """Whether another request may go over this connection; the pool asks before each."""
        if self.sock is None or self._peer.distrusted:
            return False
        if not self._speaks():
            return True
        self._peer.distrusted = _has_more(self.sock)  # or it was only closed
        return False

    def _speaks(self) -> bool:
        """Tell whether the peer has sent something, or closed."""
        decoded = isinstance(self.sock, ssl.SSLSocket) and self.sock.pending()
        return bool(decoded) or not super().is_connected  # type: ignore[misc]

    def request(self, method: str, _address: str, _body: object = None, **settings: Any) -> None:
        """Send the request that this thread asks for; the pool calls this with what it was told."""
        call: _Call = self._peer.calls.one
        settings.pop("body", None)
        pieces = self._pieces(call) if call.body else None
        self._holds, self._head = 0 < len(call.body) <= _GOES_OUT_AT_ONCE, b""
        super().request(method, call.target, body=pieces, **settings)  # type: ignore[misc]
        self._used = True
        if not call.body and call.on_leaving:
            call.on_leaving()

    def send(self, data: Any) -> None:
        """Send; the head of a small request leaves together with its body.

        A service that answers as soon as it has read the head, and closes, would otherwise cut its
        own answer off: what arrives at a closed socket resets the connection.
        """
        if self._holds:
            self._holds, self._head = False, bytes(data)
            return
        head, self._head = self._head, b""
        super().send(head + data if head else data)  # type: ignore[misc]

    def _pieces(self, call: _Call) -> Iterator[bytes]:
        """Give a body piece by piece, and not behind bytes that nobody asked for.

        Over a new connection, what comes before all is sent can only be meant for this request.
        """
        leaving, until = call.on_leaving or _nothing, self._peer.deadline()
        if len(call.body) <= _GOES_OUT_AT_ONCE:
            yield call.body
            leaving()
            return
        leaving()
        if self._used and self._speaks():
            raise http.client.HTTPException("bytes came unasked, or the connection was closed")
        for begin in range(0, len(call.body), _GOES_OUT_AT_ONCE):
            self._peer.left(until)
            yield call.body[begin : begin + _GOES_OUT_AT_ONCE]


def _guard(pool: Any, peer: _Peer) -> Any:
    """Return a pool, whose connections are guarded from now on."""
    pool.ConnectionCls = partial(_guarded(pool.ConnectionCls), peer)
    return pool


@cache
def _guarded(connection_class: type) -> type:
    """Return a class of guarded connections: plain, secured, or through a SOCKS proxy."""
    return type("Guarded", (_Guard, connection_class), {})


def _nothing() -> None:
    """Do nothing: nobody asks when this request leaves."""


def _has_more(sock: Any) -> bool:
    """Tell bytes that came unasked from a connection that was just closed."""
    with suppress(OSError, ValueError):
        sock.setblocking(False)
        return bool(sock.recv(1))
    return False


class _Answer(http.client.HTTPResponse):
    """An answer read until a deadline, after any interim ones."""

    def __init__(self, sock: Any, peer: _Peer, method: str) -> None:
        super().__init__(sock, method=method)
        self._peer = peer
        self._interim = False
        self.fp = _Buffered(_Timed(self.fp.detach(), sock, peer), peer)

    def begin(self) -> None:
        super().begin()
        while 100 <= self.status < 200 and self.status != 101:
            self.headers = self.msg = None  # type: ignore[assignment]
            super().begin()
        self.will_close = self.will_close or self._interim
        # The package would log what is wrong with a header together with the address.
        self.headers.defects.clear()
        self.headers.set_payload("")

    def _read_status(self) -> tuple[str, int, str]:
        """Note an interim answer: the standard library passes over some by itself."""
        version, status, reason = super()._read_status()  # type: ignore[misc]
        self._interim = self._interim or status < 200
        return version, status, reason


class _Timed(io.RawIOBase):
    """A socket read until a deadline, and for no more than so many bytes."""

    def __init__(self, raw: Any, sock: Any, peer: _Peer) -> None:
        super().__init__()
        self._raw, self._sock, self._peer = raw, sock, peer
        self._until, self._left = peer.deadline(), peer.most
        self.ended = False

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int | None:
        if self.ended:  # what was read already counts, what is still to come does not
            return 0
        if self._left <= 0:
            raise OSError("more bytes came than are taken")
        self._sock.settimeout(self._peer.left(self._until))
        size: int = self._raw.readinto(buffer)
        self._left -= size
        return size

    def close(self) -> None:
        self._raw.close()
        super().close()


class _Buffered(io.BufferedReader):
    """Notes at the end of an answer whether bytes came behind it."""

    raw: _Timed

    def __init__(self, raw: _Timed, peer: _Peer) -> None:
        super().__init__(raw)
        self._peer = peer

    def close(self) -> None:
        if not self.closed:
            self.raw.ended = True
            with suppress(OSError, ValueError):
                self._peer.distrusted |= bool(self.peek(1))
        super().close()
