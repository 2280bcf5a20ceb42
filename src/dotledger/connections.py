"""Connections over HTTP, through the proxy that the environment names if any.

Certificates are checked against those that the system trusts; ``SSL_CERT_FILE`` names others, and a
caller may add its own. A proxy may speak HTTP or SOCKS.

Nothing in HTTP/1.1 names the request that an answer belongs to but their order on the connection.
So a connection is used again only if nothing unexpected ever came over it: interim answers are
passed over and the connection is then closed, and so it is after bytes that nobody asked for,
whether they came behind an answer, between two, or while a request was still going out. A host
that sent such bytes gets a new connection for each request from then on.
"""

from __future__ import annotations

import http.client
import io
import logging
import select
import socket
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

from dotledger.errors import MissingExtra

if TYPE_CHECKING:
    import ssl

    import urllib3

__all__ = ["Watch", "connections_to", "read_at_most", "secured", "watched_pool"]

_PIECE = 1 << 18


def connections_to(scheme: str, host: str, **settings: Any) -> urllib3.PoolManager:
    """Return what keeps connections to a host.

    Parameters
    ----------
    scheme, host : str
        ``http`` or ``https``, and the name with its port if it has one. Whether there is a proxy
        is said by ``HTTP_PROXY``, ``HTTPS_PROXY``, ``ALL_PROXY`` and ``NO_PROXY``, or by the
        system.
    **settings
        As `urllib3.PoolManager` takes them.

    Raises
    ------
    MissingExtra
        If the proxy speaks SOCKS and the package for it is not there.
    """
    import urllib.request

    import urllib3

    if scheme == "https":
        settings.setdefault("ssl_context", _trusting())
    proxies = urllib.request.getproxies()
    proxy = proxies.get(scheme) or proxies.get("all")
    if not proxy or urllib.request.proxy_bypass(host):
        return urllib3.PoolManager(**settings)
    address = proxy if "://" in proxy else f"http://{proxy}"
    if address.lower().startswith("socks"):
        return _through_socks(address, settings)
    named = urllib3.util.parse_url(address).auth
    headers = urllib3.make_headers(proxy_basic_auth=unquote(named)) if named else None
    return urllib3.ProxyManager(
        address,
        proxy_headers=headers,
        proxy_ssl_context=settings.get("ssl_context"),
        **settings,
    )


def _through_socks(address: str, settings: dict[str, Any]) -> urllib3.PoolManager:
    try:
        from urllib3.contrib.socks import SOCKSProxyManager
    except ImportError:
        raise MissingExtra(
            "a SOCKS proxy needs the package PySocks",
            next_step="Run: pip install 'dot-ledger[network]'",
        ) from None
    # The proxy looks names up, as for HTTP: inside, nobody may know those outside.
    scheme, _, rest = address.partition("://")
    far = {"socks": "socks5h", "socks5": "socks5h", "socks4": "socks4a"}.get(scheme.lower(), scheme)
    return SOCKSProxyManager(f"{far}://{rest}", **settings)


def _trusting() -> ssl.SSLContext:
    """Return what trusts whom the system trusts, also where Python alone does not see that."""
    import ssl

    with suppress(ImportError):
        import truststore

        return truststore.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    return ssl.create_default_context()


def secured(authorities: str, certificate: str, certificate_key: str) -> ssl.SSLContext:
    """Return how connections are secured where the system's own way is not enough.

    Parameters
    ----------
    authorities : str
        A PEM file of those who are trusted beside whom the system trusts; "" for none.
    certificate, certificate_key : str
        PEM files of our own certificate and its key, which may be in one; "" for none.

    Raises
    ------
    OSError
        If a file cannot be read, or is not what it should be; its ``filename`` says which.
    """
    context = _trusting()
    if authorities:
        _or_named(authorities, lambda: context.load_verify_locations(authorities))
    if certificate:
        # A password would be asked for at the terminal: there may be none, and nobody at it.
        def no_password() -> str:
            raise ValueError("the key needs a password")

        own = certificate_key or None
        loading = partial(context.load_cert_chain, certificate, own, no_password)
        _or_named(certificate, loading)
    return context


def _or_named(path: str, load: Callable[[], None]) -> None:
    """Load; say which file it was that failed."""
    try:
        load()
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        if "PEM" in reason.upper() or "SSL" in type(error).__name__:
            reason = "not PEM, or certificate and key do not belong together"
        raise OSError(0, reason, path) from error


def watched_pool(scheme: str, host: str, watch: Watch, **settings: Any) -> Any:
    """Return a pool of connections to one host whose answers are watched.

    Parameters
    ----------
    scheme, host, **settings
        See `connections_to`.
    watch : Watch
        What the host may send, and what is known of it.
    """
    _veil_logs()
    pool = connections_to(scheme, host, **settings).connection_from_url(f"{scheme}://{host}")
    pool.ConnectionCls = _watched_connections(pool.ConnectionCls, watch)
    return pool


def read_at_most(answer: Any, most: int) -> tuple[bytes, bool]:
    """Return the body of an answer as it came, up to `most` bytes, and whether that is all.

    Parameters
    ----------
    answer : HTTPResponse
        Of urllib3, opened and not read.
    most : int
        Bytes, 0 or more.

    Returns
    -------
    tuple of bytes and bool
        False says that there was more.
    """
    pieces: list[bytes] = []
    left = most + 1
    while left > 0 and (piece := answer.read(min(left, _PIECE), decode_content=False)):
        pieces.append(piece)
        left -= len(piece)
    return b"".join(pieces)[:most], left > 0


class Watch:
    """What is known of a host: how much it may send, and whether it sent what nobody asked for."""

    def __init__(self, most: int, clock: Callable[[], float]) -> None:
        self.most = most
        self.clock = clock
        self.distrusted = False


def _watched_connections(base: type[Any], watch: Watch) -> type[Any]:
    """Return a class of connections whose answers are watched."""

    class Watched(base):  # type: ignore[misc]
        response_class = staticmethod(partial(_Answer, watch=watch))
        _used = False

        def send(self, data: Any) -> None:
            """Send, unless bytes are there already: whatever they are, they answer no request."""
            if self._used and self.sock is not None and _speaks(self.sock):
                watch.distrusted = watch.distrusted or _has_more(self.sock)
                raise ConnectionResetError("the connection was closed, or bytes came unasked")
            super().send(data)

        def getresponse(self) -> Any:
            self._used = True
            return super().getresponse()

    return Watched


def _speaks(sock: Any) -> bool:
    """Tell whether a peer has sent something, or closed, without waiting for it."""
    if sock.fileno() < 0:
        return False
    if not hasattr(select, "poll"):
        return bool(select.select([sock], [], [], 0)[0])
    waiting = select.poll()
    waiting.register(sock, select.POLLIN)
    return bool(waiting.poll(0))


def _has_more(sock: Any) -> bool:
    """Tell bytes that came unasked from a connection that was just closed."""
    with suppress(OSError, ValueError):
        sock.setblocking(False)
        return bool(sock.recv(1, socket.MSG_PEEK))
    return False


class _Answer(http.client.HTTPResponse):
    """An answer read within one deadline, after any interim ones (RFC 9110, 15.2)."""

    def __init__(self, sock: Any, *args: Any, watch: Watch, **kwargs: Any) -> None:
        super().__init__(sock, *args, **kwargs)
        self._timed = _Timed(self.fp.detach(), sock, watch)
        self.fp = _Guarded(self._timed)

    def begin(self) -> None:
        self._timed.begin()
        super().begin()
        while 100 <= self.status < 200 and self.status != 101:
            self._timed.unexpected = True
            self.headers = self.msg = None  # type: ignore[assignment]
            super().begin()


class _Timed(io.RawIOBase):
    """A socket read until a deadline, and no more than so many bytes."""

    def __init__(self, raw: Any, sock: Any, watch: Watch) -> None:
        super().__init__()
        self._raw = raw
        self._sock = sock
        self._watch = watch
        self._left = watch.most
        self._seconds = sock.gettimeout()
        self._until = None if self._seconds is None else watch.clock() + self._seconds
        self._begun = False
        self.ended = False
        self.unexpected = False

    def begin(self) -> None:
        """Note that this is an answer to a request of ours, not a proxy's to the connection."""
        self._begun, self.unexpected = True, self._watch.distrusted

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int | None:
        if self.ended:
            return 0
        if self._left <= 0:
            raise OSError(f"more than {self._watch.most:,} bytes came")
        if self._until is not None:
            left = self._until - self._watch.clock()
            if left <= 0:
                raise TimeoutError("the whole answer did not come in time")
            self._sock.settimeout(left)
        got: int | None = self._raw.readinto(buffer)
        self._left -= got or 0
        return got

    def close(self) -> None:
        if not self.closed:
            with suppress(OSError, ValueError):
                if self.unexpected:  # nobody will use it again, whoever holds it
                    self._sock.shutdown(socket.SHUT_RDWR)
                self._sock.settimeout(self._seconds)
            self._raw.close()
        super().close()

    def came_unasked(self) -> None:
        """Note that bytes came behind the answer: who sends those may send them at any time."""
        if self._begun:
            self.unexpected = self._watch.distrusted = True


class _Guarded(io.BufferedReader):
    """Notes at the end of an answer whether bytes came behind it."""

    raw: _Timed

    def close(self) -> None:
        if not self.closed:
            self.raw.ended = True
            with suppress(OSError, ValueError):
                if self.peek(1):
                    self.raw.came_unasked()
        super().close()


class _Veil(logging.Filter):
    """Takes the query out of addresses in the log of the package below: a key may stand there."""

    def filter(self, record: logging.LogRecord) -> bool:
        if isinstance(record.args, tuple):
            record.args = tuple(_without_query(part) for part in record.args)
        return True


def _without_query(part: Any) -> Any:
    return f"{part.partition('?')[0]}?•••" if isinstance(part, str) and "?" in part else part


_VEIL = _Veil()


def _veil_logs() -> None:
    for name in ("urllib3.connectionpool", "urllib3.connection", "urllib3.util.retry"):
        logging.getLogger(name).addFilter(_VEIL)  # adding the same one again changes nothing
