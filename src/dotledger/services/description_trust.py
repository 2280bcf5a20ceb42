"""What a description may do with a key and this machine: a file from elsewhere is not trusted.

A description names where images and keys go, and may name code that finds a key or signs requests.
So code runs only when the user has allowed it, once for what it is; and a key goes over an
unprotected line only to this machine, or where the description says that this is meant.
"""

from __future__ import annotations

import hashlib
import ipaddress
import re
import sys
from pathlib import Path

from msgspec import Struct

from dotledger.errors import ConnectError, DescriptionError, DotLedgerError
from dotledger.safe_files import read_regular, remember, remembered, state_file
from dotledger.services.access_parts import Token
from dotledger.services.service_description import Description

__all__ = ["TrustFacts", "allow_code", "check_trust", "facts_of", "is_this_machine"]

_AUTHORITY = re.compile(r"^(https?)://([^/?#]*)", re.IGNORECASE)
_MOST_CODE = 16 << 20


class TrustFacts(Struct, frozen=True, kw_only=True):
    """What a description would do, without doing any of it.

    Attributes
    ----------
    addresses : tuple of str
        Where images, and the token's secret, go.
    keys : tuple of str
        Where a key would be looked for, in order.
    signer : str
        What signs each request: code, or the description's own rule; "" for nothing.
    code : tuple of str
        What would be imported and run, as ``MODULE:FUNCTION``.
    tokens_at : str
        The name in the key file under which it says where tokens are asked for; "" for none.
    authorities : str
        The file of those who are trusted beside whom the system trusts; "" for none.
    hosts : tuple of str
        Other hosts to which addresses in answers may lead.
    """

    addresses: tuple[str, ...]
    keys: tuple[str, ...]
    code: tuple[str, ...]
    signer: str = ""
    tokens_at: str = ""
    authorities: str = ""
    hosts: tuple[str, ...] = ()

    def lines(self) -> list[str]:
        """Return this for people."""
        return [
            f"Goes to: {', '.join(self.addresses)}",
            *([f"Tokens from: {self.tokens_at} in the key file"] if self.tokens_at else []),
            *([f"Answers may lead on to: {', '.join(self.hosts)}"] if self.hosts else []),
            *self.access_lines(),
            *([f"Code that would run: {', '.join(self.code)}"] if self.code else []),
            *([f"Trusts certificates by: {self.authorities}"] if self.authorities else []),
        ]

    def access_lines(self) -> list[str]:
        """Return for people where the key comes from, and what signs."""
        key = f"Key from: {', '.join(self.keys)}" if self.keys else "Key from: none needed"
        signer = [f"Signer: {self.signer}"] if self.signer else []
        return [key, *signer] if self.keys or not signer else signer


def facts_of(description: Description) -> TrustFacts:
    """Return what a description would do; nothing is run and no key is read.

    Parameters
    ----------
    description : Description
        With its settings filled or not.
    """
    place = description.connect.key
    used = () if place.place == "none" else place.sources
    return TrustFacts(
        addresses=tuple(dict.fromkeys(_addresses(description))) or ("nowhere, it runs here",),
        keys=() if description.connect.signed_by_code else used,
        signer=_signer(description),
        tokens_at="" if (token := description.connect.token) is None else token.address_at,
        code=(
            *(s.removeprefix("call:") for s in used if s.startswith("call:")),
            *([description.connect.code] if description.connect.code else []),
        ),
        hosts=description.connect.hosts,
        authorities="" if (tls := description.connect.tls) is None else tls.authorities,
    )


def _signer(description: Description) -> str:
    if description.connect.key.place != "signed":
        return ""
    if (rule := description.connect.signing) is not None:
        return f"HMAC-{rule.hash.upper()}, by [connect.signing]"
    return ", ".join(description.connect.key.sources) or "given as signer="


def _addresses(description: Description) -> list[str]:
    if description.connect.code:
        return []
    found = [description.filled(description.connect.address)]
    if description.connect.token is not None:
        found += _token_address(description, description.connect.token)
    return found


def _token_address(description: Description, token: Token) -> list[str]:
    """Return where a token is asked for; none if only the key file says it."""
    return [description.filled(token.address)] if token.address else []


def check_trust(
    description: Description, *, code: bool = False, asked: bool = True, dry: bool = False
) -> None:
    """Refuse what the user has not agreed to; call it before a key is looked for.

    Parameters
    ----------
    code : bool
        The user allows the code that it names, from now on.
    asked : bool
        Whether its sources will be asked at all: not if the caller gives the key or the signer.
    dry : bool
        Nothing will be called: a service that is code is not run.

    Raises
    ------
    DescriptionError
        If an address has no host, another scheme than http and https, or a name and password
        in it; or if a key would go over plain http to another machine.
    ConnectError
        If it names code that was not allowed.
    """
    for address in _addresses(description):
        _check_address(description, address)
    code_itself = description.connect.code
    itself = (code_itself,) if code_itself and not dry else ()
    listed = facts_of(description).code if asked else itself
    named = tuple(one for one in listed if one != code_itself or not dry)
    if not named:
        return
    if code:
        allow_code(description)
    elif _digest(description) not in remembered(_ALLOWED):
        raise ConnectError(
            f"the description of {description.service} names code to run: {', '.join(named)}",
            place=f"service {description.service}, connect.key.sources",
            next_step="Read that code. To allow it, once: `allow_code=True`.",
        )


def _check_address(description: Description, address: str) -> None:
    place = f"service {description.service}, address"
    match = _AUTHORITY.match(address)
    if match is None or not match[2]:
        raise DescriptionError(
            "not an address of a service", place=place, got=address, allowed=["https://HOST/…"]
        )
    if "@" in match[2]:
        raise DescriptionError(
            "the address holds a name or password",
            place=place,
            next_step="Take it out, and name where the key comes from in [connect.key].",
        )
    unsafe = match[1].lower() == "http" and not is_this_machine(match[2])
    if unsafe and description.connect.key.place != "none" and not description.connect.plain_http:
        raise DescriptionError(
            "a key would go over plain http to another machine, where others can read it",
            place=place,
            got=f"http://{match[2]}",
            next_step="Use https, or set plain_http = true in [connect] if this is meant.",
        )


def is_this_machine(authority: str) -> bool:
    """Tell whether a host and port are on this machine.

    Parameters
    ----------
    authority : str
        Such as ``localhost:8080`` or ``[::1]``.
    """
    host = authority.rpartition("]")[0].lstrip("[") or authority.partition(":")[0]
    if host.lower() == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def allow_code(description: Description) -> None:
    """Remember that the code a description names may run, as it is now.

    Raises
    ------
    ConnectError
        If the permission cannot be saved.
    """
    remember_agreement(_ALLOWED, _digest(description), "your permission for this code")


def remember_agreement(name: str, digest: str, what: str = "your agreement") -> None:
    """Remember what the user agreed to, once.

    Parameters
    ----------
    name : str
        Of the list in the state folder.
    what : str, default "your agreement"
        What it is called in the message.

    Raises
    ------
    ConnectError
        If it cannot be saved.
    """
    if digest in remembered(name):
        return
    try:
        remember(name, digest)
    except OSError as error:
        raise ConnectError(
            f"{what} cannot be saved ({error.strerror})",
            place=str(state_file(name)),
            next_step="Make that folder writable, or set DOTLEDGER_STATE to another.",
        ) from error


_ALLOWED = "allowed-code"


def _digest(description: Description) -> str:
    """Return what the consent is for: the names, where the key goes, and the code's own text."""
    facts = facts_of(description)
    digest = hashlib.sha256(repr((facts.addresses, facts.code)).encode())
    for named in facts.code:
        digest.update(_source_of(named.partition(":")[0]))
    return digest.hexdigest()


def _source_of(module: str) -> bytes:
    """Return a module's source, found as Python would find it, without importing anything."""
    parts = module.split(".")
    for folder in sys.path:
        base = Path(folder or ".").joinpath(*parts)
        for file in (base.with_suffix(".py"), base / "__init__.py"):
            try:
                return read_regular(file, _MOST_CODE)
            except (OSError, ValueError, DotLedgerError):
                continue
    return b""
