"""What a sending is, before it begins: which calls, for which images, within which limits."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping

from msgspec import Struct, field

from dotledger.core.kinds import KINDS, check_kinds
from dotledger.errors import ArgumentError
from dotledger.images.image_gathering import Gathered
from dotledger.images.image_preparation import Demands
from dotledger.services.request_identity import identities_of
from dotledger.services.service_description import Call, Description

__all__ = ["Plan", "make_plan"]

_AT_ONCE = 1_000


class Plan(Struct, frozen=True, kw_only=True):
    """One sending, decided.

    Attributes
    ----------
    description : Description
        With its settings filled.
    kinds : tuple of str
        What is asked for.
    calls : tuple of (Call, tuple of str)
        The calls to make for every image, each with the kinds read from its answer.
    gathered : Gathered
        The images.
    demands : Demands
        What they must fit.
    fingerprint, earlier : str
        Of everything that could change an answer; and as earlier versions knew the same.
    round : str
        Names a deliberate asking again, whose answers are kept next to the earlier ones.
    identities : mapping of str to tuple of str
        By call, what its answers are known by next to the bytes sent; see `identities_of`.
    """

    description: Description
    kinds: tuple[str, ...]
    calls: tuple[tuple[Call, tuple[str, ...]], ...]
    gathered: Gathered
    demands: Demands
    fingerprint: str
    earlier: str = ""
    round: str = ""
    identities: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def images_per_call(self) -> int:
        """How many images go out together."""
        return min(call.images for call, _ in self.calls)

    @property
    def kinds_of_calls(self) -> dict[str, int]:
        """How many kinds each call asks of an image."""
        return {call.name: len(kinds) for call, kinds in self.calls}

    def key(self) -> str:
        """Return what tells the batch from others: equal for equal settings and equal files."""
        return self.keys()[0]

    def keys(self) -> tuple[str, str]:
        """Return the same, and as earlier versions knew it; looks at every file once."""
        now, before = (hashlib.sha256(f.encode()) for f in (self.fingerprint, self.earlier))
        items = self.gathered.items
        for start in range(0, len(items), _AT_ONCE):
            some = items[start : start + _AT_ONCE]
            known = "".join([f"\0{item.name}\0{item.mark or item.stamp()}" for item in some])
            data = known.encode("utf-8", "surrogateescape")
            now.update(data)
            before.update(data)
        return now.hexdigest()[:40], before.hexdigest()[:40]


def make_plan(
    description: Description,
    gathered: Gathered,
    *,
    kinds: str | Iterable[str] | None = None,
    round: str = "",
) -> Plan:
    """Decide which calls serve the kinds wanted; each kind is asked for once.

    Parameters
    ----------
    kinds : str or iterable of str, optional
        Those wanted; None for all that are served. What a call waits for is asked for too.
    round : str, default ""
        Asks again under this name: a hosted model changes under its users.

    Returns
    -------
    Plan
        Calls in the order of the description.

    Raises
    ------
    ArgumentError
        If the service does not serve a kind, or none is asked for.
    """
    served = description.kinds
    wanted = served if kinds is None else check_kinds(kinds, place="kinds")
    if not wanted:
        raise ArgumentError("no kind is asked for", place="kinds", allowed=served)
    for kind in wanted:
        if kind not in served:
            raise ArgumentError(
                f"{description.service} does not serve this kind",
                place="kinds",
                got=kind,
                allowed=served,
            )
    wanted = _with_needed(description, wanted)
    fingerprint = description.fingerprint(wanted)
    earlier = description.earlier_fingerprint(wanted)
    if round:  # another name for the answers, so that those kept before do not serve
        fingerprint, earlier = (_in_round(one, round) for one in (fingerprint, earlier))
    calls = _calls(description, wanted)
    return Plan(
        description=description,
        kinds=wanted,
        calls=calls,
        identities={c.name: identities_of(description, c, ks, round=round) for c, ks in calls},
        gathered=gathered,
        demands=_demands(description),
        fingerprint=fingerprint,
        earlier=earlier,
        round=round,
    )


def _in_round(fingerprint: str, name: str) -> str:
    return hashlib.sha256(f"{fingerprint}\0{name}".encode("utf-8", "replace")).hexdigest()[:16]


def _calls(
    description: Description, kinds: tuple[str, ...]
) -> tuple[tuple[Call, tuple[str, ...]], ...]:
    """Cover the kinds with calls, in the description's order."""
    left, chosen = set(kinds), []
    for call in description.call:
        if mine := tuple(kind for kind in kinds if kind in left and kind in call.kinds):
            chosen.append((call, mine))
            left.difference_update(mine)
    return tuple(chosen)


def _with_needed(description: Description, wanted: tuple[str, ...]) -> tuple[str, ...]:
    """Add the kinds that calls wait for: without them nobody knows whether to make those calls."""
    needed = {c.only_if.kind for c, _ in _calls(description, wanted) if c.only_if is not None}
    if needed <= set(wanted):
        return wanted
    return _with_needed(description, tuple(k for k in KINDS if k in needed or k in wanted))


def _demands(description: Description) -> Demands:
    limits = description.limits
    return Demands(
        formats=limits.formats,
        colours=limits.colours,
        max_bytes=limits.max_bytes,
        min_side=limits.min_side,
        max_side=limits.max_side,
        max_pixels=limits.max_pixels,
        smallest_face=limits.smallest_face,
        keep_metadata=limits.keep_metadata,
    )
