"""Services that sign each request."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from msgspec.structs import replace

from dotledger.errors import ConnectError
from dotledger.services.message_rules import Request
from dotledger.services.redaction import Hidden, Key, Secrets

__all__ = ["Signer", "signed"]

Signer = Callable[[Request], Mapping[str, str]]
"""Given a finished request, returns headers to add to it."""


def signed(request: Request, signer: Signer, secrets: Secrets) -> Request:
    """Return the request with the signer's headers; it is somebody else's code.

    What it adds is as secret as a key, and so is what its errors say.

    Parameters
    ----------
    signer : callable
        From the request to headers to add.
    secrets : Secrets
        Where what it adds is noted.

    Raises
    ------
    ConnectError
        If the signer fails or returns no headers.
    """
    added, fault = _added(request, signer)
    if fault:
        raise ConnectError(fault)
    for value in added.values():
        for part in {value, value.partition(" ")[2]} - {""}:
            secrets.add(Key(part, "the signer"))
    return replace(request, headers=Hidden({**request.headers, **added}))


def _added(request: Request, signer: Signer) -> tuple[Hidden, str]:
    try:
        added = Hidden(signer(request))
    except Exception as error:
        return Hidden(), f"the signer failed ({type(error).__name__})"
    if not all(isinstance(part, str) for pair in added.items() for part in pair):
        return Hidden(), "the signer returned a header that is not text"
    return added, ""
