"""What an answer is known by: the request that goes over the wire, and nothing that does not."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator, Sequence
from itertools import combinations
from typing import Any

import msgspec

from dotledger.json_codec import to_json
from dotledger.services.service_description import Call, Description

__all__ = ["ON_THE_WIRE", "identities_of"]

ON_THE_WIRE = "wire-"
"""What such an identity begins with, so that it is told from one of a whole batch."""
_HOST = re.compile(r"^[a-z]+://[^/?#]*", re.IGNORECASE)
_PART = re.compile(r"\{(\w+)\}")
_NOT_SENT = ("price", "only_if", "kinds", "images", "name")
"""Keys of a call that change nothing of what is sent for one image."""
_A_SETTING = ({"setting"}, {"setting", "as"})
_RHYTHM = {"job": ("every", "longest"), "more": ("most",), "bring": ("remove",)}


def identities_of(
    description: Description, call: Call, kinds: Iterable[str], *, round: str = ""
) -> tuple[str, ...]:
    """Return what answers of a call are known by, each with the bytes that were sent.

    Parameters
    ----------
    kinds : iterable of str
        Those that the call is made for.

    Returns
    -------
    tuple of str
        First the one under which an answer is kept now; then those of answers that hold more
        kinds, which serve as well. Limits, prices, reading rules, the host with its port, and
        settings that the description calls indifferent belong to none of them.
    """
    base = _base(description, call, round)
    if call.ask is None:  # the request is the same whichever kinds are wanted
        return (_digest(base, ()),)
    asked = tuple(sorted(set(kinds) & set(call.ask.words)))
    others = sorted(set(call.ask.words) & set(call.kinds) - set(asked))
    return tuple(_digest(base, tuple(sorted((*asked, *more)))) for more in _subsets(others))


def _subsets(names: Sequence[str]) -> Iterator[tuple[str, ...]]:
    for size in range(len(names) + 1):
        yield from combinations(names, size)


def _digest(base: bytes, kinds: tuple[str, ...]) -> str:
    digest = hashlib.sha256(base + "\0".join(("", *kinds)).encode())
    return ON_THE_WIRE + digest.hexdigest()[:27]


def _base(description: Description, call: Call, round: str) -> bytes:
    plain = {k: v for k, v in msgspec.to_builtins(call).items() if k not in _NOT_SENT and v}
    for section, names in _RHYTHM.items():
        if section in plain:
            plain[section] = {k: v for k, v in plain[section].items() if k not in names}
    place = description.connect.address
    facts = {
        "service": description.service,
        "address": _HOST.sub("", _filled(description, place), count=1) or description.place,
        "call": _filled(description, plain),
        "round": round,
    }
    return to_json(facts, ordered=True)


def _filled(description: Description, value: Any) -> Any:
    """Return a value with its settings put in, but for those that change no answer."""
    connect = description.connect
    known = {n: v for n, v in connect.settings.items() if n not in connect.indifferent}
    if isinstance(value, str):
        return _PART.sub(lambda m: known.get(m[1], m[0]), value)
    if isinstance(value, dict):
        filled = {key: _filled(description, part) for key, part in value.items()}
        if set(filled) in _A_SETTING and filled["setting"] in known:
            filled["is"] = known[filled["setting"]]
        return filled
    return [_filled(description, one) for one in value] if isinstance(value, list) else value
