"""Connections over HTTP, through the proxy that the environment names if any."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

if TYPE_CHECKING:
    import urllib3

__all__ = ["connections_to"]


def connections_to(scheme: str, host: str, **settings: Any) -> urllib3.PoolManager:
    """Return what keeps connections to a host.

    Parameters
    ----------
    scheme, host : str
        ``http`` or ``https``, and the name with its port if it has one. Whether there is a proxy
        is said by ``HTTP_PROXY``, ``HTTPS_PROXY`` and ``NO_PROXY``, or by the system.
    **settings
        As `urllib3.PoolManager` takes them.
    """
    import urllib.request

    import urllib3

    proxy = urllib.request.getproxies().get(scheme)
    if not proxy or urllib.request.proxy_bypass(host):
        return urllib3.PoolManager(**settings)
    address = proxy if "://" in proxy else f"http://{proxy}"
    named = urllib3.util.parse_url(address).auth
    headers = urllib3.make_headers(proxy_basic_auth=unquote(named)) if named else None
    return urllib3.ProxyManager(address, proxy_headers=headers, **settings)
