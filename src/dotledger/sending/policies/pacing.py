"""When the next call may start: pure functions of state and time.

Nothing here sleeps, sends or looks at a clock; `dotledger.sending.calls.call_turns` does that.

Declared limits are kept twice over. `dotledger.sending.policies.rate_windows` says from when on one
more call fits into every window of the limit's length, as the service counts: that is the limit.
Token buckets (one for each limit, all must agree) only spread the calls, so that a limit of 300 a
minute is not used up in the first second. They fill a little more quickly than the limit, so that
what a busy machine loses is caught up. An undeclared limit is learned: after a refusal the rate of
the calls that were accepted becomes the rate of ours, and from there it creeps up again.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from dotledger.sending.policies.rate_windows import Window, window

__all__ = [
    "Bucket",
    "GiveUp",
    "Pace",
    "Send",
    "Wait",
    "accepted",
    "ask",
    "ended",
    "failed",
    "opening_pace",
    "refused",
    "shared",
    "stopped",
    "went_well",
]

_CATCHING_UP = 1.1
"""How much more quickly than the limit a bucket fills, so that lost time is caught up."""

_AT_ONCE = 0.05
"""The part of a limit that may start at one moment after such a loss."""

_WHOLE = 1 - 1e-9
"""A token counts as whole in spite of rounding; or else a wait could be too short to end."""

# The first refusal shows about where the limit is; a later one shows that we crept over it, and
# services that count in windows go on refusing until the rate is clearly below.
_BACK = 0.80
_CREEP = 0.02
# Near the last refusal we climb twenty times more slowly: each refusal costs a wait for everybody.
_NEAR = 0.92
# Older calls say little about what is allowed now.
_MEMORY = 10.0

# A service that is down for a night must not be asked every second, and one that is back after a
# minute must not wait for long.
_LONGEST_WAIT = 30.0
_REFUSED_IN_A_ROW = 10
# Single broken images fail one after another in real folders; twenty in a row are no chance.
_FAILED_IN_A_ROW = 20
# A wrong key fails every image alike: three are enough to know, and each may be billed.
_GRAVE_IN_A_ROW = 3


class Send(Struct, frozen=True):
    """The call may start now."""


class Wait(Struct, frozen=True):
    """Ask again after `seconds`; infinite means: when another call has ended."""

    seconds: float


class GiveUp(Struct, frozen=True):
    """No further call will be allowed, for this reason."""

    reason: str


Decision = Send | Wait | GiveUp


class Bucket(Struct, frozen=True):
    """A token bucket: `level` tokens at time `at`, `rate` more each second, at most `size`."""

    rate: float
    size: float
    level: float
    at: float

    def filled(self, now: float) -> Bucket:
        """Return the bucket as it is at `now`; a clock that went back adds nothing."""
        level = min(self.size, self.level + max(0.0, now - self.at) * self.rate)
        return replace(self, level=level, at=now)

    def wait(self) -> float:
        """Return the seconds until a whole token is there."""
        return 0.0 if self.level >= _WHOLE else (1 - self.level) / self.rate

    def taken(self) -> Bucket:
        """Return the bucket with one token less."""
        return replace(self, level=self.level - 1)


class Pace(Struct, frozen=True):
    """Everything that decides when the next call may start.

    Attributes
    ----------
    windows : tuple of Window
        Declared limits.
    buckets : tuple of Bucket
        What spreads the calls within each of them, and last the learned one if there is one.
    at_once : int
        Most calls under way.
    under_way : int
        Calls started and not ended.
    proven : bool
        Whether some call has been accepted; until then one call goes alone.
    left : int or None
        Calls still allowed by a budget; None for no budget.
    budget_reason : str
        Why no more is allowed when `left` is 0.
    paused_until : float
        The service asked everybody to wait until then.
    stop : str
        Why nothing is sent any more; empty if sending goes on.
    learned : float or None
        Learned calls a second, where no limit is declared.
    ceiling : float
        The rate at which the last refusal came; infinite before the first.
    declared : bool
        Whether the description declares a limit a second or a minute.
    window : tuple of (float, int)
        Start of the current counting window and calls accepted in it.
    refused : int
        How often everybody was asked to wait since a call was last accepted.
    failed, grave : int
        Calls that failed for good since one last went well, and those of them for a reason that
        hardly concerns one image alone.
    allowed, allowed_until : float
        Calls that the service announced that it still takes, and until when that holds.
    probing : bool
        One call went alone after such a time, to bring the next announcement.
    """

    windows: tuple[Window, ...] = ()
    buckets: tuple[Bucket, ...] = ()
    at_once: int = 8
    under_way: int = 0
    proven: bool = False
    left: int | None = None
    budget_reason: str = ""
    paused_until: float = -math.inf
    stop: str = ""
    learned: float | None = None
    ceiling: float = math.inf
    declared: bool = False
    window: tuple[float, int] = (-math.inf, 0)
    refused: int = 0
    failed: int = 0
    grave: int = 0
    allowed: float = math.inf
    allowed_until: float = -math.inf
    probing: bool = False


def opening_pace(
    *,
    now: float,
    at_once: int,
    per_second: float | None = None,
    per_minute: float | None = None,
    left: int | None = None,
    budget_reason: str = "",
) -> Pace:
    """Return the state before the first call; times are in seconds of any steady clock.

    Parameters
    ----------
    per_second : float or None, optional
        Declared limit of calls in a second, if any.
    left : int | None, optional
        Calls a budget or quota still allows; None for no end.
    budget_reason : str, default ''
        What to say when none is left.
    """
    limits = [(per_second, 1.0), (per_minute, 60.0)]
    buckets = tuple(_bucket(count, span, now) for count, span in limits if count)
    return Pace(
        windows=tuple(window(count, span) for count, span in limits if count),
        buckets=buckets,
        at_once=at_once,
        left=left,
        budget_reason=budget_reason,
        declared=bool(buckets),
    )


def _bucket(count: float, span: float, now: float) -> Bucket:
    size = max(1.0, math.floor(_AT_ONCE * count))
    return Bucket(rate=_CATCHING_UP * count / span, size=size, level=1.0, at=now)


def shared(pace: Pace, now: float, counts: Sequence[int]) -> Pace:
    """Spread the calls of a part of each limit, where others call the same service.

    Parameters
    ----------
    now : float
        Seconds of the same steady clock as before.
    counts : sequence of int
        Calls in the span of each declared limit.

    Returns
    -------
    Pace
        With buckets for those of them; a limit with no calls needs none.
    """
    parts = zip(counts, pace.windows, strict=True)
    fresh = tuple(_bucket(count, one.span, now) for count, one in parts if count)
    learned = pace.buckets[-1:] if pace.learned is not None else ()
    return replace(pace, buckets=(*fresh, *learned))


def ask(pace: Pace, now: float, free_from: float = -math.inf) -> tuple[Pace, Decision]:
    """Decide whether one more call may start, and return the state after the decision.

    Parameters
    ----------
    now : float
        Seconds of the same steady clock as before.
    free_from : float, default -inf
        When all declared limits have room for one more call; see `Starts.free_from`.

    Returns
    -------
    tuple of Pace and Decision
        `Send`, `Wait` or `GiveUp`; only after `Send` is one call more under way.
    """
    # What ends a batch goes before what delays it: nobody waits only to hear that it is over.
    if pace.stop:
        return pace, GiveUp(pace.stop)
    if pace.left is not None and pace.left <= 0:
        return pace, GiveUp(pace.budget_reason)
    # Nobody knows how many the next window takes: one call goes first, and brings the news.
    if pace.allowed < 1 and pace.allowed_until <= now:
        pace = replace(pace, allowed=1.0, allowed_until=now + _PROBE, probing=True)
    if (until := _held_until(pace)) > now:
        return pace, Wait(until - now)
    if pace.under_way >= (pace.at_once if pace.proven else 1):
        return pace, Wait(math.inf)
    # All limits must agree before a token is taken from any, or tokens would be lost while waiting.
    buckets = tuple(bucket.filled(now) for bucket in pace.buckets)
    wait = max(free_from - now, *(bucket.wait() for bucket in buckets), 0.0)
    if wait > 0:
        return replace(pace, buckets=buckets), Wait(wait)
    return _started(pace, tuple(bucket.taken() for bucket in buckets)), Send()


def _held_until(pace: Pace) -> float:
    """Return until when the service wants nothing: it said so, or announced that none is left."""
    return max(pace.paused_until, pace.allowed_until if pace.allowed < 1 else -math.inf)


def _started(pace: Pace, buckets: tuple[Bucket, ...]) -> Pace:
    left = None if pace.left is None else pace.left - 1
    started = replace(pace, buckets=buckets, under_way=pace.under_way + 1, left=left)
    return replace(started, allowed=pace.allowed - 1) if pace.allowed < math.inf else started


def ended(pace: Pace, *, free: bool = False) -> Pace:
    """Note that a call ended without an answer that says anything about the rate.

    One that was `free`, because it never left, does not count against a budget.

    Returns
    -------
    Pace
        With one call less under way.
    """
    left = pace.left + 1 if free and pace.left is not None else pace.left
    return replace(pace, under_way=pace.under_way - 1, left=left)


def accepted(pace: Pace, now: float) -> Pace:
    """Note that the service took a call.

    Parameters
    ----------
    now : float
        Seconds of the same steady clock as before.

    Returns
    -------
    Pace
        With one call less under way.
    """
    start, count = pace.window
    if now - start > _MEMORY or count == 0:
        start, count = now, 0
    pace = replace(
        pace, under_way=pace.under_way - 1, proven=True, window=(start, count + 1), refused=0
    )
    return pace if pace.learned is None else _crept(pace, now)


def went_well(pace: Pace) -> Pace:
    """Note that an answer could be read.

    Returns
    -------
    Pace
        Failures in a row are forgotten.
    """
    return replace(pace, failed=0, grave=0)


def failed(pace: Pace, reason: str, *, grave: bool = False) -> Pace:
    """Note that a call failed for good; after 20, with none that went well between, all stop.

    After three already if they were `grave`: for a reason that hardly concerns one image alone.

    Parameters
    ----------
    reason : str
        Of the last one, for people.
    grave : bool, default False
        It hardly concerns one image alone.
    """
    count, worse = pace.failed + 1, pace.grave + grave
    pace = replace(pace, failed=count, grave=worse)
    if count < _FAILED_IN_A_ROW and worse < _GRAVE_IN_A_ROW:
        return pace
    return stopped(pace, f"{count} calls in a row have failed, the last: {reason}")


def _crept(pace: Pace, now: float) -> Pace:
    """Raise the learned rate a little: quickly while far below the ceiling, slowly near it."""
    rate = pace.learned or 1.0
    step = _CREEP if rate < _NEAR * pace.ceiling else _CREEP / 20
    return _with_learned(pace, rate + step * min(1.0, 20.0 / rate), now)


def _with_learned(pace: Pace, rate: float, now: float) -> Pace:
    # No burst after a change: the new bucket starts with what was there, and with one at most.
    old = pace.buckets[-1].filled(now) if pace.learned is not None else None
    level = min(old.level, 1.0) if old else 0.0
    bucket = Bucket(rate=rate, size=1.0, level=level, at=now)
    kept = pace.buckets[:-1] if pace.learned is not None else pace.buckets
    return replace(pace, buckets=(*kept, bucket), learned=rate)


def refused(pace: Pace, now: float, wait: float | None) -> Pace:
    """Note that the service refused a call because of its rate (429, or 503 with a wait).

    Everybody waits: `wait` seconds if the service said so, else one, then two, four and so on
    up to thirty. Refusals that arrive while already waiting belong to the same event and do not
    slow us down again. After ten waits with nothing accepted between, all stop.

    Parameters
    ----------
    now : float
        Seconds of the same steady clock as before.
    wait : float or None
        Seconds the service asked for; None if it did not say.

    Returns
    -------
    Pace
        Paused, slower where no limit is declared, or stopped.
    """
    pace = replace(pace, under_way=pace.under_way - 1)
    # Refused calls are not billed, so they do not use up a budget.
    if pace.left is not None:
        pace = replace(pace, left=pace.left + 1)
    if now < pace.paused_until:
        said = now if wait is None else now + wait
        return replace(pace, paused_until=max(said, pace.paused_until))
    if pace.refused >= _REFUSED_IN_A_ROW:
        return stopped(pace, _USED_UP.format(pace.refused))
    own = min(_LONGEST_WAIT, 2.0**pace.refused)
    until = now + (own if wait is None else max(0.0, wait))
    pace = replace(pace, paused_until=until, refused=pace.refused + 1)
    return pace if pace.declared or not pace.proven else _slowed(pace, now)


def announced(pace: Pace, now: float, left: float, seconds: float) -> Pace:
    """Obey what a service announces before it refuses: so many calls left, more after a while.

    Calls under way next to the one that was answered may not be counted by the service yet: they
    use up what is left.

    Parameters
    ----------
    pace : Pace
        As it is now; the answered call is still under way.
    now : float
        Seconds of the same steady clock as before.
    left : float
        Calls that the service still allows.

    Returns
    -------
    Pace
        With so many starts allowed until then, at most a quarter of an hour ahead.
    """
    if seconds <= 0:
        return pace
    until = now + min(seconds, _LONGEST_ANNOUNCED)
    allowed = left - max(0, pace.under_way - 1)
    if allowed >= 2 * pace.at_once:  # plenty: nothing needs to be counted
        return replace(pace, allowed=math.inf, allowed_until=-math.inf, probing=False)
    # Answers may arrive in another order than they were counted, but not one that went alone.
    if now < pace.allowed_until and not pace.probing:
        allowed, until = min(allowed, pace.allowed), max(until, pace.allowed_until)
    return replace(pace, allowed=allowed, allowed_until=until, probing=False)


_LONGEST_ANNOUNCED = 900.0
_PROBE = 1.0
_USED_UP = "refused again after {} waits: a quota seems to be used up"


def _slowed(pace: Pace, now: float) -> Pace:
    start, count = pace.window
    seen = count / max(now - start, 1.0) if count else 1.0
    rate = seen if pace.learned is None else min(seen, pace.learned)
    slower = replace(pace, ceiling=rate, window=(-math.inf, 0))
    return _with_learned(slower, max(0.1, rate * (_BACK if pace.learned else 0.97)), now)


def stopped(pace: Pace, reason: str) -> Pace:
    """Stop everything, for the first reason given.

    Parameters
    ----------
    reason : str
        For people; an earlier one stays.

    Returns
    -------
    Pace
        It only gives up from now on.
    """
    return pace if pace.stop else replace(pace, stop=reason)
