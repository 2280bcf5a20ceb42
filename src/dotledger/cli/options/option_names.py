"""What the library calls an argument or a call, by the option or command that does it.

The library writes `` `replace=True` `` where a caller could write that; at the command line it is
``--replace``. What a command has no option for stays as it is.
"""

from __future__ import annotations

import re

import click

__all__ = ["as_options", "option_of"]

_SET_BY = {
    "kind": "--kinds",
    "edges": "--by",
    "images": "--images",
    "rules": "--match",
    "settings": "--set",
}
"""Arguments whose option has another name."""

_DONE_BY = {
    "dotledger.choose_thresholds": "dotledger choose --service SERVICE --out FILE --join",
    "dotledger.fit_confidence_map": "dotledger reliability --fit FILE",
    "dotledger.write_prints": "dotledger copies --keep FILE",
    "dotledger.write_table": "dotledger findings --out FILE",
    "dotledger.write_thresholds": "dotledger choose --out FILE",
}
"""Calls, and the command that does the same."""

_WRITTEN = re.compile(r"`([a-z_]+)=([^`]*)`")
_PAIR = re.compile(r"'?([^{}':]+)'?: ?'?([^,}']+)'?")


def option_of(place: str, command: click.Command | None) -> str:
    """Return an argument's name as the option that sets it: ``at_most`` as ``--at-most``."""
    name, _, rest = place.partition(":")
    option = _option(name, command)
    return f"{option}:{rest}".removesuffix(":") if option else place


def as_options(text: str, command: click.Command | None) -> str:
    """Return a text of the library with arguments and calls as a command line has them."""

    def written(match: re.Match[str]) -> str:
        option = _option(match[1], command)
        if not option:
            return match[0]
        value = match[2]
        if value.startswith("{"):
            pairs = (f"{one[1].strip()}={one[2].strip()}" for one in _PAIR.finditer(value))
            value = ",".join(pairs)
        return option if value in ("", "True") else f"{option} {value}"

    for call, words in _DONE_BY.items():
        text = text.replace(f"`{call}`", f"`{words}`")
    return _WRITTEN.sub(written, text)


def _option(name: str, command: click.Command | None) -> str:
    """Return the option of this command that sets an argument; empty if it has none."""
    option = _SET_BY.get(name, f"--{name.replace('_', '-')}")
    known = {text for one in command.params for text in one.opts} if command else set()
    return option if option in known else ""
