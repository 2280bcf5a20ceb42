"""Calls, time and cost of a sending, estimated before anything is sent or paid."""

from __future__ import annotations

import math
import os
from collections import Counter
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor

from msgspec import Struct

from dotledger.errors import ImageError
from dotledger.images.gather import Item
from dotledger.images.ready import look_at, made_ready, why_not
from dotledger.ledger.answers import answered_shas
from dotledger.ledger.store import Ledger
from dotledger.ledger.usage import calls_in_month
from dotledger.sending.deciding.plan import Plan

__all__ = ["Forecast", "forecast"]

_AT_ONCE = 64
_BASE64 = 4 / 3


class Forecast(Struct, frozen=True, kw_only=True):
    """Calls, time and cost of a sending, estimated.

    Attributes
    ----------
    images : int
        Asked for.
    to_send, answered, repeated, refused : int
        Images that would be sent, that the ledger holds an answer for, whose bytes stand
        among the images under another name, and that would be refused.
    reasons : dict of str to tuple of str
        Why images would be refused, each with the images' names.
    prepared : dict of str to int
        What would be done to images before sending, and to how many.
    calls : int
        Calls to make.
    bytes : int
        Of image data to send, as it goes out.
    seconds : float
        At the allowed rate; 0 if no rate is declared (the service's speed then decides).
    money : float
        In `currency`.
    used_this_month, per_month : int, int or None
        Calls this month by the ledger, and the declared quota.
    """

    images: int
    to_send: int
    answered: int
    repeated: int
    refused: int
    reasons: Mapping[str, tuple[str, ...]]
    prepared: Mapping[str, int]
    calls: int
    bytes: int
    seconds: float
    money: float
    currency: str
    used_this_month: int
    per_month: int | None

    @property
    def share_of_month(self) -> float:
        """Part of the monthly quota that this and earlier calls would use; NaN without one."""
        if not self.per_month:
            return math.nan
        return (self.used_this_month + self.calls) / self.per_month


class _Glance(Struct, frozen=True):
    """One image: a digest and size, or why it would be refused."""

    name: str
    sha: str
    size: int
    reason: str
    steps: tuple[str, ...] = ()


def forecast(plan: Plan, ledger: Ledger | None, *, month: str) -> Forecast:
    """Estimate calls, time and cost; reads and prepares every image, sends nothing.

    Parameters
    ----------
    plan : Plan
        See `dotledger.sending.deciding.plan.make_plan`.
    ledger : Ledger or None
        What it already holds is not counted again; None for no ledger.
    month : str
        The month whose quota counts, such as ``2026-11``.
    """
    known = _known(plan, ledger)
    seen: set[str] = set()
    counts: Counter[str] = Counter()
    reasons: dict[str, list[str]] = {}
    prepared: Counter[str] = Counter()
    for glance in _glances(plan):
        fate = _fate(glance, seen, known)
        counts[fate] += 1
        seen.add(glance.sha)
        if fate == "refused":
            reasons.setdefault(glance.reason, []).append(glance.name)
        if fate == "to_send":
            counts["bytes"] += glance.size
            prepared.update(_step_kinds(glance.steps))
    calls = sum(math.ceil(counts["to_send"] / call.images) for call, _ in plan.calls)
    price, limits = plan.description.price, plan.description.limits
    service = plan.description.service
    return Forecast(
        images=len(plan.gathered),
        to_send=counts["to_send"],
        answered=counts["answered"],
        repeated=counts["repeated"],
        refused=counts["refused"],
        reasons={reason: tuple(names) for reason, names in reasons.items()},
        prepared=dict(prepared),
        calls=calls,
        bytes=sum(_bytes_of_call(plan, name, counts["bytes"]) for name in _names(plan)),
        seconds=_seconds(plan, calls),
        money=calls * plan.price,
        currency=price.currency,
        used_this_month=calls_in_month(ledger, service, month) if ledger else 0,
        per_month=limits.per_month,
    )


def _names(plan: Plan) -> list[str]:
    return [call.name for call, _ in plan.calls]


def _known(plan: Plan, ledger: Ledger | None) -> set[str]:
    """Return the digests of images whose every call is answered."""
    if ledger is None:
        return set()
    answered = [
        answered_shas(ledger, (plan.fingerprint, plan.earlier), name) for name in _names(plan)
    ]
    return set.intersection(*answered)


def _glances(plan: Plan) -> Iterator[_Glance]:
    """Look at every image, several at once, a bounded number in memory."""
    items = plan.gathered.items
    with ThreadPoolExecutor(max_workers=min(8, (os.cpu_count() or 2) * 2)) as pool:
        for start in range(0, len(items), _AT_ONCE):
            yield from pool.map(lambda item: _glance(item, plan), items[start : start + _AT_ONCE])


def _glance(item: Item, plan: Plan) -> _Glance:
    sha = ""
    try:
        data, sha, facts = look_at(item)
        ready, _ = made_ready(data, facts, plan.demands)
    except ImageError as error:
        return _Glance(item.name, sha, 0, error.message)  # without figures: reasons are counted
    except Exception as error:  # one bad image never ends a forecast either
        return _Glance(item.name, sha, 0, why_not(error))
    return _Glance(item.name, sha, len(ready.data), "", ready.steps)


def _fate(glance: _Glance, seen: set[str], known: set[str]) -> str:
    if glance.reason:
        return "refused"
    if glance.sha in seen:
        return "repeated"
    return "answered" if glance.sha in known else "to_send"


def _step_kinds(steps: tuple[str, ...]) -> list[str]:
    """Return what kind of thing each step is, without its figures."""
    kinds = {
        "shrunk": "shrunk to fit",
        "faces": "faces may fall below the service's smallest",
        "damaged": "damaged file repaired",
        "colours": "colours converted",
    }
    named = [kinds.get(step.split()[0], "") for step in steps]
    named += ["re-encoded" for step in steps if "re-encoded" in step]
    return [name for name in dict.fromkeys(named) if name]


def _bytes_of_call(plan: Plan, name: str, size: int) -> int:
    call = next(call for call, _ in plan.calls if call.name == name)
    if call.body == "address":
        return 0
    return math.ceil(size * (_BASE64 if call.body == "json" else 1))


def _seconds(plan: Plan, calls: int) -> float:
    limits = plan.description.limits
    rates = [limits.per_second, limits.per_minute / 60 if limits.per_minute else None]
    declared = [rate for rate in rates if rate]
    return calls / min(declared) if declared else 0.0
