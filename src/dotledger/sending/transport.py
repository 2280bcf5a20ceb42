"""The one-method seam between Dot Ledger and the network."""

from __future__ import annotations

import re
import threading
from collections.abc import Mapping
from typing import Any, Literal, Protocol

from msgspec import Struct, field
from msgspec.structs import replace

from dotledger.connections import connections_to
from dotledger.errors import DotLedgerError
from dotledger.services.keys import Key
from dotledger.services.requests import Request, covered

_ADDRESS = re.compile(r"(https?)://([^/?#]+)([^#]*)", re.IGNORECASE)

__all__ = ["HttpTransport", "NoAnswer", "Response", "Transport", "send_covered"]


Trouble = Literal["unreachable", "timeout", "cut"]


class Response(Struct, frozen=True, kw_only=True):
    """What came back; header names are in lower case."""

    status: int
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""


class NoAnswer(DotLedgerError):
    """There was no whole answer.

    `trouble` is ``"unreachable"`` if nothing could be sent, ``"timeout"`` or ``"cut"``.
    """

    def __init__(self, message: str, *, trouble: Trouble = "cut") -> None:
        super().__init__(message, trouble=trouble)
        self.trouble: Trouble = trouble


class Transport(Protocol):
    """Sends one request; called from many threads at once."""

    def send(self, request: Request) -> Response:
        """Return the whole response, whatever its status.

        Raises
        ------
        NoAnswer
            If none came, or not all of it.
        """


def send_covered(transport: Transport, request: Request, key: Key | None) -> Response:
    """Send, and cover the key in what comes back: some services repeat what they were given."""
    response = transport.send(request)
    body = covered(response.body, key)
    return response if body is response.body else replace(response, body=body)


class HttpTransport:
    """The transport over HTTP, with connections kept open.

    Parameters
    ----------
    timeout : float
        Seconds for connecting, and between two parts of an answer.
    at_once : int
        How many connections are kept.
    """

    def __init__(self, *, timeout: float = 30.0, at_once: int = 8) -> None:
        import urllib3

        self._settings: dict[str, Any] = {
            "maxsize": at_once,
            "block": False,
            "timeout": urllib3.Timeout(connect=min(timeout, 10.0), read=timeout),
        }
        self._errors = urllib3.exceptions
        self._never_again = urllib3.Retry(False)
        self._hosts: dict[str, Any] = {}
        self._opening = threading.Lock()

    def send(self, request: Request) -> Response:
        """Send one request; see `Transport`."""
        errors = self._errors
        try:
            answer = self._answer(request)
        except errors.NewConnectionError as error:
            raise NoAnswer(_plain(error), trouble="unreachable") from error
        except errors.ConnectTimeoutError as error:
            raise NoAnswer("no connection in time", trouble="unreachable") from error
        except errors.ReadTimeoutError as error:
            raise NoAnswer("no answer in time", trouble="timeout") from error
        except errors.SSLError as error:
            reason = f"the certificate is not accepted ({error})"
            raise NoAnswer(reason, trouble="unreachable") from error
        except errors.ProxyError as error:
            raise NoAnswer("the proxy cannot be reached", trouble="unreachable") from error
        except errors.LocationValueError as error:
            raise NoAnswer("the address is not valid", trouble="unreachable") from error
        except (errors.HTTPError, OSError) as error:
            raise NoAnswer(_plain(error)) from error
        except ValueError:  # its text holds the value, which may be a key
            reason = "a header holds what no header can: line breaks, or letters outside Latin-1"
            raise NoAnswer(reason, trouble="unreachable") from None
        headers = {name.lower(): value for name, value in answer.headers.items()}
        return Response(status=answer.status, headers=headers, body=answer.data)

    def _answer(self, request: Request) -> Any:
        """Send through the host's own pool: its address is taken apart once, not for each call."""
        parts = _ADDRESS.match(request.address)
        if parts is None:
            raise NoAnswer("the address is not valid", trouble="unreachable")
        scheme, host, target = parts.groups()
        target = target if target[:1] == "/" else f"/{target}"
        pool = self._hosts.get(f"{scheme}://{host}") or self._open(scheme.lower(), host)
        return pool.urlopen(
            request.method,
            request.address if pool.proxy and pool.scheme == "http" else target,
            body=request.body or None,
            headers=dict(request.headers),
            redirect=False,
            retries=self._never_again,
            assert_same_host=False,
        )

    def _open(self, scheme: str, host: str) -> Any:
        base = f"{scheme}://{host}"
        with self._opening:
            if base not in self._hosts:
                manager = connections_to(scheme, host, **self._settings)
                self._hosts[base] = manager.connection_from_url(base)
            return self._hosts[base]


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
    "DecodeError": "the answer is squeezed in a way that cannot be undone",
}
