"""Calls, time and cost of a sending, estimated before anything is sent or paid."""

from __future__ import annotations

import math
import os
from collections import Counter
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor

from msgspec import Struct

from dotledger.core.boxes.image_frames import Frame
from dotledger.errors import ImageError
from dotledger.images.image_gathering import Item
from dotledger.images.image_loading import look_at, made_ready, why_not
from dotledger.json_codec import AsData
from dotledger.ledger.answer_queries import KnownAnswers, answers_kept
from dotledger.ledger.ledger_records import ItemRecord
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import images_in_month, requests_in_month
from dotledger.sending.batch.send_log import found_in, note_kept
from dotledger.sending.batch.send_worker import digest_of
from dotledger.sending.policies.conditional_calls import Fate, fate_of
from dotledger.sending.policies.pricing import (
    PriceNow,
    cost_of,
    money_for,
    pot_of,
    price_now,
    units_of,
    units_used,
)
from dotledger.sending.policies.send_plan import Plan
from dotledger.services.answer_reading import Reader
from dotledger.services.body_forms import BODY_FORMS
from dotledger.services.call_parts import OnlyIf

__all__ = ["Forecast", "forecast"]

_AT_ONCE = 64


_SHOWN = 5


class Forecast(AsData, Struct, frozen=True, kw_only=True):
    """Calls, time and cost of a sending, estimated.

    Attributes
    ----------
    images : int
        Asked for.
    to_send, answered, repeated, refused : int
        Images that would be sent, that the ledger holds an answer for, whose bytes stand
        among the images under another name, and that would be refused.
    damaged : int
        Images among those refused that are damaged, of which a copy may be made.
    reasons : dict of str to tuple of str
        Why images would be refused, each with the images' names.
    prepared : dict of str to int
        What would be done to images before sending, and to how many.
    calls, least_calls : int
        Calls to make at most, and at least: a call may wait for what another one finds.
    bytes : int
        Of image data to send at most, as it goes out.
    seconds : float
        At the allowed rate; 0 if no rate is declared (the service's speed then decides).
    money : float
        At most, in `currency`, each request at its step of the month's prices.
    prices : tuple of PriceNow
        The step in use of each price; empty without any.
    used_this_month, per_month : int, int or None
        Calls this month by the ledger, and the declared quota.
    """

    images: int
    to_send: int
    answered: int
    repeated: int
    refused: int
    damaged: int
    reasons: Mapping[str, tuple[str, ...]]
    prepared: Mapping[str, int]
    calls: int
    least_calls: int
    bytes: int
    seconds: float
    money: float
    currency: str
    prices: tuple[PriceNow, ...]
    used_this_month: int
    per_month: int | None

    def __repr__(self) -> str:
        cost = f", at most {self.money:.4g} {self.currency}" if self.currency else ""
        known = f", {self.answered:,} answered already" if self.answered else ""
        lines = [
            f"<Forecast: {self.to_send:,} of {self.images:,} images to send, "
            f"{self.calls:,} calls{cost}{known}>"
        ]
        lines += [f"refused: {len(names):,}: {why}" for why, names in self.reasons.items()]
        lines += [f"changed: {count:,}: {what}" for what, count in self.prepared.items()]
        return "\n".join([*lines[:_SHOWN], *(["..."] if len(lines) > _SHOWN else [])])

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
    frame: Frame | None = None
    asked: str = ""
    damaged: bool = False


def forecast(plan: Plan, ledger: LedgerStore | None, *, month: str) -> Forecast:
    """Estimate calls, time and cost; reads and prepares every image, sends nothing.

    Parameters
    ----------
    plan : Plan
        See `dotledger.sending.policies.send_plan.make_plan`.
    ledger : LedgerStore or None
        What it already holds is not counted again; None for no ledger.
    month : str
        The month whose quota counts, such as ``2026-11``.
    """
    known = _Known(plan, ledger)
    seen: set[str] = set()
    counts: Counter[str] = Counter()
    reasons: dict[str, list[str]] = {}
    prepared: Counter[str] = Counter()
    asked: Counter[str] = Counter()
    sure: Counter[str] = Counter()
    for glance in _glances(plan):
        missing, certain = known.calls_for(glance)
        fate = _fate(glance, seen, missing)
        counts[fate] += 1
        counts["damaged"] += glance.damaged
        seen |= {glance.sha, f"sent {glance.asked}"}
        if fate == "refused":
            reasons.setdefault(glance.reason, []).append(glance.name)
        if fate == "to_send":
            asked.update(missing)
            sure.update(certain)
            for name in missing:
                counts["bytes"] += _bytes_of_call(plan, name, glance.size)
            prepared.update(_step_kinds(glance.steps))
    calls = {call.name: math.ceil(asked[call.name] / call.images) for call, _ in plan.calls}
    least = sum(math.ceil(sure[call.name] / call.images) for call, _ in plan.calls)
    description = plan.description
    used = requests_in_month(ledger, description.service, month) if ledger else {}
    made = images_in_month(ledger, description.service, month) if ledger else []
    prices = price_now(description, units_used(description, made))
    return Forecast(
        images=len(plan.gathered),
        to_send=counts["to_send"],
        answered=counts["answered"],
        repeated=counts["repeated"],
        refused=counts["refused"],
        damaged=counts["damaged"],
        reasons={reason: tuple(names) for reason, names in reasons.items()},
        prepared=dict(prepared),
        calls=sum(calls.values()),
        least_calls=least,
        bytes=counts["bytes"],
        seconds=_seconds(plan, sum(calls.values())),
        money=_money(plan, prices, calls, asked),
        currency=description.price.currency,
        prices=tuple(prices),
        used_this_month=sum(used.values()),
        per_month=description.limits.per_month,
    )


def _money(
    plan: Plan, prices: list[PriceNow], calls: Mapping[str, int], images: Mapping[str, int]
) -> float:
    """Return what the calls cost, each pot at its own steps."""
    total, description, kinds = 0.0, plan.description, plan.kinds_of_calls
    for now in prices:
        cost = cost_of(description, now.of)
        count = sum(
            units_of(cost, n, images[name], kinds[name])
            for name, n in calls.items()
            if pot_of(description, name) == now.of
        )
        total += money_for(cost, now.used, count)
    return total


def _names(plan: Plan) -> list[str]:
    return [call.name for call, _ in plan.calls]


class _Known:
    """What the ledger answers already, by call."""

    def __init__(self, plan: Plan, ledger: LedgerStore | None) -> None:
        self._plan, self._ledger = plan, ledger
        self._answers = None if ledger is None else KnownAnswers(ledger, plan, _names(plan))
        self._reader: Reader | None = None

    def _is_answered(self, name: str, glance: _Glance) -> bool:
        return self._answers is not None and self._answers(name, glance.sha, glance.asked)

    def calls_for(self, glance: _Glance) -> tuple[list[str], list[str]]:
        """Return the calls an image may need, and those that it needs for certain.

        A call that waits for what another one finds is needed where that one is in the ledger
        and found it; where that one is still to be made, nobody knows.
        """
        may: list[str] = []
        certain: list[str] = []
        for call, _ in self._plan.calls:
            if glance.reason or self._is_answered(call.name, glance):
                continue
            fate: Fate = "ask" if call.only_if is None else self._fate(call.only_if, glance)
            may += [call.name] if fate in ("ask", "later") else []
            certain += [call.name] if fate == "ask" else []
        return may, certain

    def _fate(self, only_if: OnlyIf, glance: _Glance) -> Fate:
        name, kinds = next((c.name, ks) for c, ks in self._plan.calls if only_if.kind in ks)
        ledger, frame = self._ledger, glance.frame
        if ledger is None or frame is None or not self._is_answered(name, glance):
            return "later"
        kept = answers_kept(ledger, self._plan, name, {glance.sha: glance.asked})[glance.sha]
        record = ItemRecord(position=0)
        self._reader = self._reader or Reader(self._plan.description)
        note_kept(record, kept, name, kinds, frame, self._reader)
        return fate_of(only_if, *found_in(record))


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
        ready, frame = made_ready(data, facts, plan.demands)
    except ImageError as error:
        damaged = bool(error.facts.get("damaged"))
        # Without figures: reasons are counted.
        return _Glance(item.name, sha, 0, error.message, damaged=damaged)
    except Exception as error:  # one bad image never ends a forecast either
        return _Glance(item.name, sha, 0, why_not(error))
    fetched = any(call.fetched for call, _ in plan.calls)
    asked = digest_of(ready, data, sha, item.where if fetched else "")
    return _Glance(item.name, sha, len(ready.data), "", ready.steps, frame, asked)


def _fate(glance: _Glance, seen: set[str], missing: list[str]) -> str:
    if glance.reason:
        return "refused"
    if glance.sha in seen or f"sent {glance.asked}" in seen:
        return "repeated"
    return "to_send" if missing else "answered"


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
    return math.ceil(size * BODY_FORMS[call.body].growth)


def _seconds(plan: Plan, calls: int) -> float:
    limits = plan.description.limits
    rates = [limits.per_second, limits.per_minute / 60 if limits.per_minute else None]
    declared = [rate for rate in rates if rate]
    return calls / min(declared) if declared else 0.0
