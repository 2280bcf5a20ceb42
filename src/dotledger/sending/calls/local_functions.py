"""A service that is a function on this machine: a ready client, or a model."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

from dotledger.connections import secured
from dotledger.errors import ConnectError
from dotledger.json_codec import to_json
from dotledger.sending.calls.http_transport import HttpTransport, Response, Transport
from dotledger.services.access_parts import Tls
from dotledger.services.credentials import imported
from dotledger.services.message_rules import Request
from dotledger.services.service_description import Description

if TYPE_CHECKING:
    import ssl

__all__ = ["CodeTransport", "Look", "as_transport", "transport_for"]

Look = Callable[[bytes, Mapping[str, str]], Any]
"""A function in a service's place: from an image's bytes and the settings to plain data."""


class CodeTransport:
    """Answers with what a function returns; a `Transport`.

    Parameters
    ----------
    function : callable
        Takes the bytes of one image, as prepared, and the settings; returns plain data, as an
        answer in JSON would hold it. What it raises is a failed call.
    """

    def __init__(self, function: Look, settings: Mapping[str, str]) -> None:
        self._function = function
        self._settings = MappingProxyType(dict(settings))

    def send(self, request: Request) -> Response:
        """Call the function."""
        headers = {"content-type": "application/json"}
        try:
            body = to_json(self._function(request.body, self._settings))
        except Exception as error:  # somebody else's code fails with whatever it likes
            # 422: it is this image that it could not take; trying again would give the same.
            said = to_json(f"{type(error).__name__}: {error}"[:300])
            return Response(status=422, headers=headers, body=said)
        return Response(status=200, headers=headers, body=body)


def as_transport(given: Transport | Look | None, description: Description) -> Transport | None:
    """Return a way to a service that was given from Python: a plain function becomes one.

    Parameters
    ----------
    given : Transport, callable or None
        A function takes the bytes of one image, as prepared, and the settings.

    Returns
    -------
    Transport or None
        None for the usual way.
    """
    if given is None or hasattr(given, "send"):
        return given
    return CodeTransport(given, description.connect.settings)


def transport_for(description: Description, *, at_once: int | None = None) -> Transport:
    """Return the way to a described service.

    Parameters
    ----------
    at_once : int, optional
        Most calls at a time; by default as described.

    Returns
    -------
    Transport
        HTTP, or the function that the description names: whether it may run was checked before.

    Raises
    ------
    ConnectError
        If the function cannot be imported, or a file of `connect.tls` cannot be used.
    """
    connect = description.connect
    if connect.code:
        return CodeTransport(imported(connect.code), connect.settings)
    most = description.limits.at_once if at_once is None else at_once
    tls = None if connect.tls is None else _secured(connect.tls)
    return HttpTransport(timeout=connect.timeout, at_once=most, tls=tls)


def _secured(tls: Tls) -> ssl.SSLContext:
    try:
        return secured(tls.authorities, tls.certificate, tls.certificate_key)
    except OSError as error:
        raise ConnectError(
            f"this file cannot be used ({error.strerror})",
            place="connect.tls",
            got=error.filename,
            next_step="Paths are seen from where the command runs; the files are PEM.",
        ) from error
