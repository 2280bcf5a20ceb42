"""Images fetched from the web: within one deadline, up to a size, from no other host than asked."""

from __future__ import annotations

import re
import time
from functools import lru_cache
from typing import Any
from urllib.parse import unquote, urljoin

from dotledger.connections import Watch, read_at_most, watched_pool

__all__ = ["MOST_BYTES", "fetched"]

MOST_BYTES = 256 << 20
"""Of one image's file; larger ones are refused unread."""

_MOST_REDIRECTS = 3
_SECONDS = 30.0


@lru_cache(maxsize=64)
def _pool(scheme: str, host: str) -> Any:
    watch = Watch(MOST_BYTES + (1 << 20), time.monotonic)
    return watched_pool(scheme, host, watch, timeout=_SECONDS, maxsize=32)


def fetched(address: str) -> bytes:
    """Fetch an image.

    Parameters
    ----------
    address : str
        ``http://`` or ``https://``, perhaps with a name and a password.

    Returns
    -------
    bytes
        Of the file.

    Raises
    ------
    OSError
        If it cannot be had, is larger than `MOST_BYTES`, or is said to be on another host.
    """
    import urllib3

    for _ in range(_MOST_REDIRECTS + 1):
        try:
            status, elsewhere, data = _got(address)
        except (urllib3.exceptions.HTTPError, TimeoutError) as error:
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
    pool = _pool(scheme.lower(), host)
    target = target if target[:1] == "/" else f"/{target}"
    answer = pool.urlopen(
        "GET",
        f"{scheme}://{host}{target}" if pool.proxy and pool.scheme == "http" else target,
        headers=headers,
        redirect=False,
        retries=urllib3.Retry(2, redirect=False, raise_on_status=False),
        assert_same_host=False,
        preload_content=False,
    )
    try:
        data, whole = read_at_most(answer, MOST_BYTES)
    finally:
        answer.close()
    if not whole:
        raise OSError(f"larger than {MOST_BYTES:,} bytes")
    return answer.status, answer.headers.get("Location", ""), data
