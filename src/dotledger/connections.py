"""Connections over HTTP, through the proxy that the environment names if any.

Certificates are checked against those that the system trusts; ``SSL_CERT_FILE`` names others, and a
caller may add its own. A proxy may speak HTTP or SOCKS.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from functools import partial
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

from dotledger.errors import MissingExtra

if TYPE_CHECKING:
    import ssl

    import urllib3

__all__ = ["connections_to", "secured"]


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
