"""What goes away: said once, with what to write instead.

A name of `dotledger.__all__` stays for at least one minor release after it was deprecated.
"""

from __future__ import annotations

import warnings

from msgspec import Struct

__all__ = ["Deprecated", "warn_deprecated"]

_said: set[str] = set()


class Deprecated(Struct, frozen=True, kw_only=True):
    """A deprecated name.

    Attributes
    ----------
    name : str
        As users wrote it, such as ``dotledger.usage``.
    instead : str
        What they write now.
    since, gone : str
        The version that deprecated it, and the one that no longer has it.
    """

    name: str
    instead: str
    since: str
    gone: str

    def __str__(self) -> str:
        return (
            f"{self.name} is deprecated since {self.since} and goes in {self.gone}: "
            f"write {self.instead}"
        )


def warn_deprecated(one: Deprecated, *, level: int = 3) -> None:
    """Warn of a deprecated name, the first time it is used in a process.

    Parameters
    ----------
    level : int, default 3
        How many frames above this one the user's own line is.

    Examples
    --------
    >>> import warnings
    >>> old = Deprecated(name="old()", instead="new()", since="0.1", gone="0.3")
    >>> with warnings.catch_warnings(record=True) as caught:
    ...     warnings.simplefilter("always")
    ...     warn_deprecated(old)
    ...     warn_deprecated(old)
    >>> [str(one.message) for one in caught]
    ['old() is deprecated since 0.1 and goes in 0.3: write new()']
    """
    if one.name not in _said:
        _said.add(one.name)
        warnings.warn(str(one), DeprecationWarning, stacklevel=level)
