"""What the next request costs: prices that fall, or begin, after so many requests of a month."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec import Struct

from dotledger.services.call_parts import Cost
from dotledger.services.service_description import Description

__all__ = [
    "PriceNow",
    "cost_of",
    "has_price",
    "has_steps",
    "money_for",
    "per_request",
    "pot_of",
    "price_lines",
    "price_now",
    "units_of",
    "units_used",
]

SHARED = ""
"""The pot in which the requests of all calls are counted that have no price of their own."""


class PriceNow(Struct, frozen=True, kw_only=True):
    """The step of a price that is in use.

    Attributes
    ----------
    of : str
        The call's name; empty for the price of the service.
    used : int
        Units of the month so far.
    per : str
        What is counted: ``request``, ``image`` or ``operation``.
    per_1000 : float
        What a thousand cost now.
    next_above, next_per_1000 : int, float, or None
        After how many units of the month the next step begins, and what it costs.
    """

    of: str
    used: int
    per: str
    per_1000: float
    next_above: int | None = None
    next_per_1000: float | None = None


def pot_of(description: Description, call: str) -> str:
    """Return under which name the requests of a call are counted for its price.

    Returns
    -------
    str
        Its own name if it has its own price, else "".
    """
    own = any(one.price is not None for one in description.call if one.name == call)
    return call if own else SHARED


def cost_of(description: Description, pot: str) -> Cost:
    """Return the price of a pot; see `pot_of`.

    Parameters
    ----------
    description : Description
        With its price, and those of its calls.
    pot : str
        "" for the price of the service.
    """
    own = [one.price for one in description.call if one.name == pot and one.price is not None]
    return own[0] if own else description.price


def has_price(description: Description) -> bool:
    """Return whether anything of a service may cost something.

    Parameters
    ----------
    description : Description
        With its price, and those of its calls.

    Returns
    -------
    bool
        False if every step of every price is 0.
    """
    return any(_dear(cost) for cost in _costs(description))


def has_steps(description: Description) -> bool:
    """Return whether some price depends on how many requests were made this month.

    Parameters
    ----------
    description : Description
        With its price, and those of its calls.

    Returns
    -------
    bool
        Then the ledger has to be asked for them.
    """
    return any(cost.steps for cost in _costs(description))


def _costs(description: Description) -> list[Cost]:
    return [description.price, *(c.price for c in description.call if c.price is not None)]


def _dear(cost: Cost) -> bool:
    return cost.per_1000 > 0 or any(step.per_1000 > 0 for step in cost.steps)


def per_request(cost: Cost, used: int) -> float:
    """Return what the next request, image or operation costs.

    Parameters
    ----------
    used : int
        Such units of the month so far, from 0.

    Returns
    -------
    float
        In the currency of the price.
    """
    now = cost.per_1000
    for step in cost.steps:
        if used >= step.above:
            now = step.per_1000
    return now / 1000


def units_of(cost: Cost, requests: int, images: int, kinds: int) -> int:
    """Return how many units of a price some requests are.

    Parameters
    ----------
    cost : Cost
        With what it is counted by.
    kinds : int
        That each asks of each image.
    """
    return {"request": requests, "image": images, "operation": images * kinds}[cost.per]


def units_used(
    description: Description, made: Iterable[tuple[str, tuple[str, ...], int, int]]
) -> dict[str, int]:
    """Return the units of what was asked in a month, by call.

    Parameters
    ----------
    made : iterable of (str, tuple of str, int, int)
        See `dotledger.ledger.usage_queries.images_in_month`.

    Returns
    -------
    dict of str to int
        Requests, images or operations, as each call's price counts them.
    """
    served = {call.name: set(call.kinds) for call in description.call}
    found: dict[str, int] = {}
    for name, kinds, requests, images in made:
        cost = cost_of(description, pot_of(description, name))
        asked = len(served.get(name, set()) & set(kinds))
        found[name] = found.get(name, 0) + units_of(cost, requests, images, asked)
    return found


def money_for(cost: Cost, used: int, count: int) -> float:
    """Return what the next `count` units (requests, images or operations) cost together.

    Parameters
    ----------
    used : int
        Units of the month before them.

    Returns
    -------
    float
        Each unit at the price of its own step.
    """
    begins = [0, *(step.above for step in cost.steps)]
    prices = [cost.per_1000, *(step.per_1000 for step in cost.steps)]
    ends = [*begins[1:], used + count]
    return sum(
        max(0, min(end, used + count) - max(begin, used)) * price / 1000
        for begin, end, price in zip(begins, ends, prices, strict=True)
    )


def price_now(description: Description, used: Mapping[str, int]) -> list[PriceNow]:
    """Return the step in use of every price of a service.

    Parameters
    ----------
    description : Description
        With its price, and those of its calls.
    used : mapping of str to int
        Units of the month so far, by call.

    Returns
    -------
    list of PriceNow
        That of the service first; empty without any price.
    """
    if not has_price(description):
        return []
    calls = [call.name for call in description.call]
    pots = dict.fromkeys(pot_of(description, name) for name in calls)
    counts = {p: sum(used.get(n, 0) for n in calls if pot_of(description, n) == p) for p in pots}
    return [_now(pot, cost_of(description, pot), count) for pot, count in counts.items()]


def price_lines(prices: Iterable[PriceNow], currency: str) -> list[str]:
    """Return what is said of the steps in use; nothing of a price that has none.

    Parameters
    ----------
    prices : iterable of PriceNow
        See `price_now`.

    Returns
    -------
    list of str
        A line for each price that still changes, or has changed this month.
    """
    return [
        f"Price{f' of {one.of}' if one.of else ''} after {one.used:,} this month: "
        f"{one.per_1000:,.2f} {currency} a thousand {one.per}s; "
        f"from {one.next_above:,} on {one.next_per_1000:,.2f}."
        for one in prices
        if one.next_above is not None
    ]


def _now(pot: str, cost: Cost, used: int) -> PriceNow:
    later = next((step for step in cost.steps if step.above > used), None)
    return PriceNow(
        of=pot,
        used=used,
        per=cost.per,
        per_1000=per_request(cost, used) * 1000,
        next_above=None if later is None else later.above,
        next_per_1000=None if later is None else later.per_1000,
    )
