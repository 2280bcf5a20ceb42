"""Where an address out of an answer may lead: a job, a result, the next part, an upload.

Such an address is a stranger's word. Followed as it is, it could make this machine ask for a
file, for a service of the inner network, or send an image to somebody else. So each goes through
`AnswerAddresses.checked`: http or https, a real host and port, and only to the service itself or to
hosts that the description names.
"""

from __future__ import annotations

import ipaddress
import re
import socket
from collections.abc import Callable, Iterable
from urllib.parse import SplitResult, urljoin, urlsplit

from dotledger.errors import DotLedgerError
from dotledger.text_display import plain_text, shown

__all__ = ["AnswerAddressRefused", "AnswerAddresses", "check_host_names", "resolved"]

_DEFAULT_PORTS = {"http": 80, "https": 443}
_NOT_WRITTEN_SO = re.compile(r"[\x00-\x20\x7f\\]")
_HOST_NAME = re.compile(
    r"(\*\.)?[a-z0-9]([a-z0-9.-]*[a-z0-9])?(:\d{1,5})?|\[[0-9a-f:.]+\](:\d{1,5})?"
)
_LONGEST_SHOWN = 120


class AnswerAddressRefused(DotLedgerError):
    """An answer names an address that is not followed; the message says which, and why."""


def check_host_names(names: Iterable[str]) -> None:
    """Check the entries of a description's ``hosts``.

    Parameters
    ----------
    names : iterable of str
        Such as ``files.example``, ``files.example:8443`` or ``*.files.example``.

    Raises
    ------
    ValueError
        Naming the first that is not a host.
    """
    for name in names:
        if not _HOST_NAME.fullmatch(name.casefold()):
            raise ValueError(
                f"{name!r} in hosts is no host: write files.example, files.example:8443 or "
                "*.files.example, without https:// and path"
            )


def resolved(host: str) -> list[str]:
    """Return the IP addresses of a host; empty if the system knows none."""
    try:
        return sorted({str(one[4][0]) for one in socket.getaddrinfo(host, None)})
    except (OSError, UnicodeError):
        return []


class AnswerAddresses:
    """Decides which addresses of a service's answers are followed.

    Parameters
    ----------
    base : str
        The address of the call, which an answer's address may be relative to.
    hosts : iterable of str
        Other hosts that the description names.
    resolve : callable, optional
        From a host name to its IP addresses.
    """

    def __init__(
        self,
        base: str,
        hosts: Iterable[str] = (),
        resolve: Callable[[str], list[str]] = resolved,
    ) -> None:
        self._base = base
        self._own = urlsplit(base)
        self._hosts = tuple(host.casefold() for host in hosts)
        self._resolve = resolve

    def is_own(self, address: str) -> bool:
        """Tell whether an address is the service's own: the same scheme, host and port."""
        parts = urlsplit(address)
        return parts.scheme == self._own.scheme and _target(parts) == _target(self._own)

    def checked(self, given: object) -> str:
        """Return the whole address that an answer gives, if it may be followed.

        What the address leaves out is the call's own, as in a browser (RFC 3986, 5).

        Raises
        ------
        AnswerAddressRefused
            If it is not text, no address, of another scheme, or leads where it may not.
        """
        if not isinstance(given, str) or not given or _NOT_WRITTEN_SO.search(given):
            raise _refused(given, "it is not an address")
        try:
            address = urljoin(self._base, given)
            parts = urlsplit(address)
            target = _target(parts)
        except ValueError:  # "http://[::1" and port 99999 are no addresses to the parser
            raise _refused(given, "it is not an address") from None
        if parts.scheme not in _DEFAULT_PORTS:
            raise _refused(given, f"it is {parts.scheme}, and only http and https are followed")
        if "@" in parts.netloc or not target[0] or not target[1]:
            raise _refused(given, "it is not an address of a host")
        if not self.is_own(address):
            self._check_elsewhere(given, parts)
        return address

    def _check_elsewhere(self, given: str, parts: SplitResult) -> None:
        host, port = _target(parts)
        if not any(_names(name, host, port, parts.scheme) for name in self._hosts):
            where = f"{host}:{port}" if port != _DEFAULT_PORTS[parts.scheme] else host
            where = plain_text(where[:_LONGEST_SHOWN])
            raise _refused(
                given,
                f"it leads to {where}, and the description names only {self._own.netloc}",
                f'To allow it: hosts = ["{where}"] in [connect].',
            )
        if parts.scheme == "http" and self._own.scheme == "https":
            raise _refused(given, "it is plain http, and the service itself is https")
        self._check_network(given, host)

    # A name that the description allows may still lead inside: whoever owns it says where. The
    # address may change before the connection is made, but then the name's owner is the one
    # whom the user chose to trust.
    def _check_network(self, given: str, host: str) -> None:
        if host == (self._own.hostname or ""):
            return
        found = [host] if _is_address(host) else self._resolve(host)
        inside = [one for one in found if _is_inside(one)]
        ours = [self._own.hostname or ""]
        ours = ours if _is_address(ours[0]) else self._resolve(ours[0])
        if inside and not any(_is_inside(one) for one in ours):
            raise _refused(given, f"it leads into this machine's own network ({inside[0]})")


def _refused(given: object, reason: str, next_step: str = "") -> AnswerAddressRefused:
    # Without its query, which may be a permission by itself.
    what = shown(given.partition("?")[0] if isinstance(given, str) else given, _LONGEST_SHOWN)
    return AnswerAddressRefused(
        f"the answer names an address that is not followed ({what}): {reason}",
        next_step=next_step,
    )


def _target(parts: SplitResult) -> tuple[str, int]:
    """Return host and port; raises ValueError for a port that is none."""
    port = parts.port if parts.port is not None else _DEFAULT_PORTS.get(parts.scheme, 0)
    return (parts.hostname or "").rstrip("."), port


def _names(name: str, host: str, port: int, scheme: str) -> bool:
    """Tell whether an entry of ``hosts`` means a host; without a port it means the usual one."""
    bare, colon, given = name.rpartition(":")
    if not colon or name.endswith("]"):
        bare, given = name, str(_DEFAULT_PORTS[scheme])
    if str(port) != given:
        return False
    bare = bare.strip("[]")
    return host.endswith(bare[1:]) if bare.startswith("*.") else host == bare


def _is_address(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True


def _is_inside(address: str) -> bool:
    """Tell whether an IP address is of this machine or a network that is not the internet's."""
    try:
        found = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return False
    mapped = getattr(found, "ipv4_mapped", None)
    return not (mapped or found).is_global
