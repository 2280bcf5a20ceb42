"""Images fetched from the web: within one deadline, up to a size, from no other host than asked."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Mapping
from functools import lru_cache
from http.client import HTTPException
from urllib.parse import unquote, urljoin

from dotledger.http_exchanges import Came, Host

__all__ = ["MOST_BYTES", "fetched"]

MOST_BYTES = 64 << 20
"""Of one image's file; larger ones are refused unread."""

_LARGE = 8 << 20
_LARGE_AT_ONCE = threading.BoundedSemaphore(4)
"""Of files beyond `_LARGE` bytes a few are read at a time: an address may give bytes for ever."""

_MOST_REDIRECTS = 3
_MOST_TRIES = 3
_SECONDS = 30.0


@lru_cache(maxsize=64)
def _host(scheme: str, host: str, most: int) -> Host:
    return Host(scheme, host, timeout=_SECONDS, at_once=32, most=most, clock=time.monotonic)


def fetched(address: str) -> bytes:
    """Fetch an image.

    Parameters
    ----------
    address : str
        ``http://`` or ``https://``, perhaps with a name and a password.

    Raises
    ------
    OSError
        If it cannot be had, is larger than `MOST_BYTES`, or is said to be on another host.
    """
    import urllib3

    for _ in range(_MOST_REDIRECTS + 1):
        try:
            status, elsewhere, data = _got(address)
        except (
            urllib3.exceptions.HTTPError,
            HTTPException,
            TimeoutError,
            ConnectionError,
        ) as error:
            raise OSError(f"cannot be fetched ({_why(error)})") from error
        if status == 200:
            return data
        if status not in (301, 302, 303, 307, 308):
            raise OSError(f"cannot be fetched (status {status})")
        target = urljoin(address, elsewhere)
        if _host_of(target) != _host_of(address):
            raise OSError("cannot be fetched (it is said to be on another host)")
        address = target
    raise OSError("cannot be fetched (sent from one address to the next)")


def _why(error: Exception) -> str:
    """Return what hindered fetching: below urllib3's wrappings, in a few words."""
    reason = getattr(error, "reason", None) or error
    text = str(reason).rpartition(": ")[2] or type(reason).__name__
    return text.partition("] ")[2] or text  # without the system's number of the error


def _host_of(address: str) -> tuple[str, str]:
    """Return the host, and whether the line is safe: a redirect may not make it unsafe."""
    scheme, _, rest = address.partition("://")
    host = re.split("[/?#]", rest, maxsplit=1)[0].rpartition("@")[2].lower()
    return scheme.lower(), host


def _got(address: str) -> tuple[int, str, bytes]:
    import urllib3

    scheme, _, rest = address.partition("://")
    authority, target = re.match(r"([^/?#]*)([^#]*)", rest).groups()  # type: ignore[union-attr]
    user, _, host = authority.rpartition("@")
    headers = urllib3.make_headers(basic_auth=unquote(user)) if user else {}
    target = target if target[:1] == "/" else f"/{target}"
    came = _asked(_host(scheme.lower(), host, min(_LARGE, MOST_BYTES)), target, headers)
    if not came.whole:
        with _LARGE_AT_ONCE:
            came = _asked(_host(scheme.lower(), host, MOST_BYTES), target, headers)
    if not came.whole:
        raise OSError(f"larger than {MOST_BYTES:,} bytes")
    return came.status, came.headers.get("location", ""), came.body


def _asked(host: Host, target: str, headers: Mapping[str, str]) -> Came:
    """Ask for a file; again where the line failed: asking once more does no harm."""
    from urllib3 import exceptions as errors

    for _ in range(_MOST_TRIES - 1):
        try:
            return host.ask("GET", target, headers, b"")
        except errors.ReadTimeoutError:
            raise  # its time is over
        except (errors.HTTPError, HTTPException, ConnectionError):
            continue
    return host.ask("GET", target, headers, b"")
