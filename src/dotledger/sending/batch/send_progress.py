"""How far a sending is, and what it came to."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from dotledger.json_codec import AsData

__all__ = ["Progress", "SentBatch"]


class Progress(Struct, frozen=True, kw_only=True):
    """How far a sending is.

    Attributes
    ----------
    images, done, earlier : int
        Images of the batch, those settled by now, and those settled by earlier sendings.
    failed, refused : int
        Images that failed or were refused now.
    calls, money : int, float
        Calls answered now, and what they cost in `currency`.
    seconds : float
        Since this sending began.
    """

    images: int
    done: int
    earlier: int
    failed: int
    refused: int
    calls: int
    money: float
    currency: str
    seconds: float

    @property
    def rate(self) -> float:
        """Images settled a second in this sending; 0 at the start."""
        return (self.done - self.earlier) / self.seconds if self.seconds > 0 else 0.0


class SentBatch(AsData, Struct, frozen=True, kw_only=True):
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
        Requests made now that the service answered, or may have taken before the line failed:
        those that may have cost something.
    reused : int
        Images whose answer was in the ledger already.
    unread : int
        Images of the batch with an answer, paid for and kept, out of which some kind could not be
        read; an edited description may read it (``dotledger reread``).
    not_asked : dict of str to int
        By kind, images of the batch for which no call was made, since it waits for what another
        one did not find; their outcome is ``empty``.
    refusals : int
        Answers "come back later".
    money : float
        What the calls cost, in `currency`.
    seconds : float
        How long it took.
    stopped_because : str
        Empty if it went to its end.
    at_limit : bool
        Whether it stopped because a limit of calls, money or the month was reached.
    resumed : bool
        Whether the batch was there before.
    shared : int
        How many other processes sent parts of the same batch meanwhile, at most.
    """

    batch: int
    service: str
    images: int
    outcomes: Mapping[str, Mapping[str, int]]
    calls: int
    reused: int
    unread: int
    not_asked: Mapping[str, int]
    refusals: int
    money: float
    currency: str
    seconds: float
    stopped_because: str
    at_limit: bool
    resumed: bool
    shared: int = 0

    @property
    def failed(self) -> int:
        """Images and kinds that failed or were refused."""
        return sum(row["failed"] + row["refused"] for row in self.outcomes.values())

    @property
    def pending(self) -> int:
        """Images and kinds still to be sent."""
        return sum(row["pending"] for row in self.outcomes.values())

    def after(self, earlier: SentBatch) -> SentBatch:
        """Return what this sending and an earlier one of the same process came to together."""
        return replace(
            self,
            calls=earlier.calls + self.calls,
            reused=earlier.reused + self.reused,
            refusals=earlier.refusals + self.refusals,
            money=earlier.money + self.money,
            seconds=earlier.seconds + self.seconds,
            resumed=earlier.resumed,
            shared=max(earlier.shared, self.shared),
        )
