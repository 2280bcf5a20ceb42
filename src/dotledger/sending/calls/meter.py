"""Counts what requests cost while they are made, and stops before a budget is overdrawn."""

from __future__ import annotations

import math
import threading
from collections import Counter
from collections.abc import Mapping

from dotledger.sending.deciding.prices import cost_of, per_request, pot_of
from dotledger.services.description import Description

__all__ = ["Meter"]


class Meter:
    """Shared by all threads that call one service.

    Parameters
    ----------
    description : Description
        With its price, and those of its calls.
    """

    def __init__(self, description: Description) -> None:
        self._pots = {one.name: pot_of(description, one.name) for one in description.call}
        self._costs = {pot: cost_of(description, pot) for pot in set(self._pots.values())}
        self._currency = description.price.currency
        self._used: Counter[str] = Counter()
        self._month = ""
        self._budget = self._left = math.inf
        self._lock = threading.Lock()

    def start(self, used: Mapping[str, int], month: str, budget: float | None = None) -> None:
        """Begin with the requests that were made this month, by call, and with a budget."""
        with self._lock:
            self._used = Counter()
            for name, count in used.items():
                self._used[self._pots.get(name, "")] += count
            self._month = month
            self._budget = self._left = math.inf if budget is None else budget

    @property
    def reason(self) -> str:
        """What is said when the budget does not allow another request."""
        return f"the budget of {self._budget:g} {self._currency} is reached"

    def take(self, call: str, month: str) -> float | None:
        """Set aside what one request costs, and return it; None if too little is left for it.

        A new month begins at its first step again.
        """
        pot = self._pots[call]
        with self._lock:
            if month != self._month:
                self._used, self._month = Counter(), month
            price = per_request(self._costs[pot], self._used[pot])
            # A budget is written in decimals, and a thousandth of a price has none that fit.
            if price > self._left * (1 + 1e-9) + 1e-12:
                return None
            self._used[pot] += 1
            self._left -= price
            return price

    def give_back(self, call: str, price: float) -> None:
        """Note that a request cost nothing after all: it never left, or was refused."""
        with self._lock:
            self._used[self._pots[call]] -= 1
            self._left += price
