"""Where a ledger is: a path or a database address, taken apart once, shown without its secrets."""

from __future__ import annotations

import os
import re
from pathlib import Path
from urllib.parse import unquote

from msgspec import Struct

from dotledger.errors import LedgerError

__all__ = ["FilePlace", "ServerPlace", "place_of", "shown_address"]

_ADDRESS = re.compile(r"^([a-z][a-z0-9+.-]*)://", re.IGNORECASE)
_SECRET = re.compile(r"pass|pwd|secret|token|key", re.IGNORECASE)
_MASK = "***"
_ALLOWED = ("a path", "sqlite:///PATH", "postgresql://USER@HOST/DATABASE")


class FilePlace(Struct, frozen=True):
    """A file; whatever letters its name has, nothing of it is taken for an address."""

    path: Path

    @property
    def shown(self) -> str:
        """The path, for people."""
        return str(self.path)


class ServerPlace(Struct, frozen=True):
    """A database server: an address, and how it is shown.

    `hidden` are the parts that may be secret, however a driver takes the address apart.
    """

    address: str
    shown: str
    hidden: tuple[str, ...] = ()


def place_of(where: str | os.PathLike[str]) -> FilePlace | ServerPlace:
    """Take a path or an address apart.

    Parameters
    ----------
    where : path-like
        A path, or the address of a server.

    Raises
    ------
    LedgerError
        If no ledger can be kept there: no name, a database in memory, another kind of server, an
        address with parts that are not known.
    """
    if not isinstance(where, str | os.PathLike):
        raise LedgerError("not a ledger", place="ledger", got=where, allowed=_ALLOWED)
    text = os.fspath(where)
    scheme = _ADDRESS.match(text)
    if scheme is None:
        return _file(text)
    kind = scheme[1].lower()
    rest = text[scheme.end() :]
    if kind.partition("+")[0] == "sqlite":
        return _file_of(rest)
    if kind.partition("+")[0] in ("postgresql", "postgres"):
        kind = kind.replace("postgres", "postgresql", 1) if "postgresql" not in kind else kind
        return ServerPlace(f"{kind}://{rest}", shown_address(text), _hidden(rest))
    raise LedgerError("a ledger cannot be kept here", place=shown_address(text), allowed=_ALLOWED)


def _hidden(rest: str) -> tuple[str, ...]:
    """Return the pieces of an address that its shown form masks."""
    _, _, secret = rest.rpartition("@")[0].partition(":")
    options = rest.rpartition("@")[2].partition("?")[2].split("&")
    values = [o.partition("=")[2] for o in options if _SECRET.search(unquote(o.partition("=")[0]))]
    pieces = {p for text in (secret, *values) for p in (text, *re.split("[@:/?&=]", text))}
    return tuple(sorted((p for p in pieces if len(p) > 1), key=len, reverse=True))


def _file_of(rest: str) -> FilePlace:
    """Return the file of ``sqlite:///PATH``; SQLite's own options have no place here."""
    path, _, options = rest.partition("?")
    if options or (rest and not rest.startswith("/")):
        raise LedgerError(
            "an address of SQLite holds a path and nothing else",
            got=f"sqlite://{path}" + ("?…" if options else ""),
            next_step="Give the path itself.",
        )
    return _file(unquote(path[1:]))


def _file(path: str) -> FilePlace:
    if path.strip() in ("", ":memory:") or "\0" in path:
        raise LedgerError(
            "a ledger needs a file: what is only in memory would be paid for and lost",
            got=path,
            next_step="Name a file: `ledger=FILE`.",
        )
    return FilePlace(Path(path))


def shown_address(where: str) -> str:
    """Return a path as it is, an address without anything secret.

    Passwords may hold any letters, also ``@``, ``/`` and ``?``: so everything between the user's
    name and the last ``@`` is masked, and so is every option that may be a secret.

    Parameters
    ----------
    where : str
        A path, or the address of a server.

    Returns
    -------
    str
        To be shown, and for nothing else.
    """
    scheme = _ADDRESS.match(where)
    if scheme is None:
        return where
    rest = where[scheme.end() :]
    user, at, host = rest.rpartition("@")
    name, colon, _ = user.partition(":")
    host, question, options = host.partition("?")
    shown = "&".join(_shown_option(option) for option in options.split("&")) if question else ""
    if "@" in rest.partition("?")[2]:  # an @ among the options: which part is which is not sure
        return f"{scheme[0]}{_MASK}"
    return f"{scheme[0]}{name}{colon and ':' + _MASK}{at}{host}{question}{shown}"


def _shown_option(option: str) -> str:
    name, equals, value = option.partition("=")
    return f"{name}{equals}{_MASK}" if _SECRET.search(unquote(name)) and value else option
