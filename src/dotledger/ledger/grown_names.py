"""The names of a batch that grows: each image has one of its own."""

from __future__ import annotations

from sqlalchemy import Connection, select

from dotledger.ledger import ledger_schema as schema

__all__ = ["GrownNames"]


class GrownNames:
    """The names in a batch that grows, each once, whoever of several programs wrote them.

    Attributes
    ----------
    count : int
        How many images the batch has; the next one's position.
    """

    def __init__(self) -> None:
        self.count = 0
        self._used: dict[str, int] = {}

    def catch_up(self, connection: Connection, batch: int) -> None:
        """Take in what others added since; inside the transaction that adds to it."""
        t = schema.items
        query = select(t.c.position, t.c.name).where(t.c.batch == batch)
        for position, name in connection.execute(query.where(t.c.position >= self.count)):
            self._used.setdefault(name, 1)
            self.count = max(self.count, position + 1)

    def add(self, name: str) -> tuple[int, str]:
        """Return the position of one more image and its name: ``NAME (2)`` where that is taken."""
        own, number = name, self._used.get(name, 0)
        while own in self._used:
            number += 1
            own = f"{name} ({number})"
        # The next of this name goes on from here: nothing is tried twice.
        self._used[name] = max(number, 1)
        self._used[own] = 1 if own != name else self._used[name]
        self.count += 1
        return self.count - 1, own
