"""Counts what requests cost while they are made, and stops before a budget is overdrawn."""

from __future__ import annotations

import math
import threading
from collections import Counter
from collections.abc import Callable, Mapping

from dotledger.sending.policies.pricing import cost_of, money_for, pot_of, units_of
from dotledger.services.service_description import Description

__all__ = ["Meter"]


class Meter:
    """Shared by all threads that call one service.

    Parameters
    ----------
    description : Description
        With its price, and those of its calls.
    kinds : mapping of str to int, optional
        How many kinds each call asks of an image: for prices by the operation.

    Attributes
    ----------
    held : int
        Requests whose price is set aside and neither spent nor given back yet.
    """

    def __init__(self, description: Description, kinds: Mapping[str, int] | None = None) -> None:
        self._kinds = dict(kinds or {})
        self._pots = {one.name: pot_of(description, one.name) for one in description.call}
        self._costs = {pot: cost_of(description, pot) for pot in set(self._pots.values())}
        self._currency = description.price.currency
        self._used: Counter[str] = Counter()
        self._month = ""
        self._budget = self._left = math.inf
        self._more: Callable[[float], float] | None = None
        self._lock = threading.Condition()
        self.held = 0

    def start(
        self,
        used: Mapping[str, int],
        month: str,
        budget: float | None = None,
        more: Callable[[float], float] | None = None,
    ) -> None:
        """Begin with the units (see `units_of`) of this month, by call, and with a budget.

        With `more` the budget is shared: what is needed is asked for, and what is given counts.
        """
        with self._lock:
            self._used = self._by_pot(used)
            self._month = month
            self._budget = self._left = math.inf if budget is None else budget
            self._more = more if budget is not None else None
            self._left = 0.0 if self._more else self._left

    def _by_pot(self, used: Mapping[str, int]) -> Counter[str]:
        found: Counter[str] = Counter()
        for name, count in used.items():
            found[self._pots.get(name, "")] += count
        return found

    def others_used(self, used: Mapping[str, int]) -> None:
        """Take over the units of this month that are known by now: others made some of them."""
        with self._lock:
            for pot, count in self._by_pot(used).items():
                self._used[pot] = max(self._used[pot], count)

    @property
    def left(self) -> float:
        """What was set aside of a budget, and is not used."""
        return self._left

    @property
    def reason(self) -> str:
        """What is said when the budget does not allow another request."""
        return f"the budget of {self._budget:g} {self._currency} is reached"

    def _units(self, call: str, images: int) -> int:
        cost = self._costs[self._pots[call]]
        return units_of(cost, 1, images, self._kinds.get(call, 1))

    def take(self, call: str, month: str, images: int = 1) -> float | None:
        """Set aside what one request costs, and return it; None if too little is left for it.

        A new month begins at its first step again.
        """
        pot = self._pots[call]
        with self._lock:
            if month != self._month:
                self._used, self._month = Counter(), month
            units = self._units(call, images)
            price = money_for(self._costs[pot], self._used[pot], units)
            if self._more and not self._fits(price):
                self._left += self._more(price - self._left)
            if not self._fits(price):
                return None
            self._used[pot] += units
            self._left -= price
            self.held += 1
            return price

    def spent(self) -> None:
        """Note that a request was made: what was set aside for it does not come back."""
        with self._lock:
            self.held -= 1
            self._lock.notify_all()

    def wait(self) -> None:
        """Wait a moment, or until a request is spent or given back."""
        with self._lock:
            if self.held:
                self._lock.wait(_A_MOMENT)

    def _fits(self, price: float) -> bool:
        # A budget is written in decimals, and a thousandth of a price has none that fit.
        return price <= self._left * (1 + 1e-9) + 1e-12

    def give_back(self, call: str, price: float, images: int = 1) -> None:
        """Note that a request cost nothing after all: it never left, or was refused."""
        with self._lock:
            self._used[self._pots[call]] -= self._units(call, images)
            self._left += price
            self.held -= 1
            self._lock.notify_all()


_A_MOMENT = 0.1
