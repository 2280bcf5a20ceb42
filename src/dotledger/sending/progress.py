"""How far a sending is, and what it came to."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

__all__ = ["Progress", "SentBatch"]


class Progress(Struct, frozen=True, kw_only=True):
    """How far a sending is; `images` are all of the batch, `done` those settled by now."""

    images: int
    done: int
    failed: int
    refused: int
    calls: int
    money: float
    currency: str
    seconds: float

    @property
    def rate(self) -> float:
        """Images settled a second; 0 at the start."""
        return self.done / self.seconds if self.seconds > 0 else 0.0


class SentBatch(Struct, frozen=True, kw_only=True):
    """What a sending came to.

    Attributes
    ----------
    batch : int
        Its number in the ledger.
    service : str
        Which service.
    images : int
        Images of the batch.
    outcomes : dict of str to dict of str to int
        Counts of this sending and earlier ones of the same batch, by kind and outcome.
    calls : int
        Calls that were answered now.
    reused : int
        Images whose answer was in the ledger already.
    refusals : int
        Answers "come back later".
    money : float
        What the calls cost, in `currency`.
    seconds : float
        How long it took.
    stopped_because : str
        Empty if it went to its end.
    resumed : bool
        Whether the batch was there before.
    """

    batch: int
    service: str
    images: int
    outcomes: Mapping[str, Mapping[str, int]]
    calls: int
    reused: int
    refusals: int
    money: float
    currency: str
    seconds: float
    stopped_because: str
    resumed: bool

    @property
    def failed(self) -> int:
        """Images and kinds that failed or were refused."""
        return sum(row["failed"] + row["refused"] for row in self.outcomes.values())

    @property
    def pending(self) -> int:
        """Images and kinds still to be sent."""
        return sum(row["pending"] for row in self.outcomes.values())
