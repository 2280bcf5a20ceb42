"""What to do after an attempt: a pure function of what happened, the time and a random number."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from msgspec import Struct

__all__ = ["Accept", "Again", "Attempt", "Fail", "Next", "Patience", "Renew", "Stop", "next_step"]


class Attempt(Struct, frozen=True, kw_only=True):
    """What one attempt brought.

    Attributes
    ----------
    number : int
        From 1.
    status : int or None
        HTTP status; None if there was no answer.
    trouble : {"", "unusable", "unreachable", "timeout", "cut", "unreadable", "oversized"}
        No key, token or signature to send with, nothing could be sent, no answer in time, a
        connection that failed, an answer that is not JSON, or one that would be the same again:
        too large to keep, or squeezed in a way that cannot be undone.
    detail : str
        For people.
    retry_after : str
        The header's value, or empty.
    renewals : int
        How often the token was renewed for this call.
    renewable : bool
        Whether the key is a token.
    unauthorized : int
        How many attempts of this call were answered with 401 so far, this one included.
    given : {"", "here", "elsewhere"}
        Whether an answer gave the address, and where it leads: to the service or another host.
        What is wrong with such an address concerns its own image, never the batch.
    inside : bool
        The status is what the words of an answer mean that came with 200.
    skewed : bool
        It was refused and had been signed with a time that is not the service's.
    offset : float
        How far the time it was signed with was corrected, in seconds.
    """

    number: int
    status: int | None = None
    trouble: Literal["", "unusable", "unreachable", "timeout", "cut", "unreadable", "oversized"] = (
        ""
    )
    detail: str = ""
    retry_after: str = ""
    renewals: int = 0
    renewable: bool = False
    unauthorized: int = 0
    given: Literal["", "here", "elsewhere"] = ""
    inside: bool = False
    skewed: bool = False
    offset: float = 0.0


# Nothing counts as failed where nothing could be sent: the line is waited for, then the batch
# stops and its images are pending. Twenty calls in a row that fail stop it; three, where it is
# hardly about the images (403, or no call accepted yet).
class Patience(Struct, frozen=True, kw_only=True):
    """How long to go on.

    Attributes
    ----------
    attempts : int
        Most attempts for errors of the service or the line.
    connections : int
        Most attempts to reach a service that could be reached before: about a minute.
    refusals : int
        Most attempts for "come back later".
    first, most : float
        The first and the longest back-off, seconds, before jitter.
    renewals : int
        Most renewals of the token for one call, where tokens have worked before: other calls
        may use up or outlive the one just fetched.
    longest_wait : float
        A wait asked for that is longer than this means the quota is used up.
    """

    attempts: int = 4
    connections: int = 10
    refusals: int = 24
    renewals: int = 6
    first: float = 0.4
    most: float = 20.0
    longest_wait: float = 900.0


class Accept(Struct, frozen=True):
    """Take the answer."""


class Again(Struct, frozen=True):
    """Try again after `seconds`; `everyone` means that no other call may start before.

    None leaves the time to the pace, where the service does not say how long.
    """

    seconds: float | None
    everyone: bool = False


class Renew(Struct, frozen=True):
    """Get a new token, or sign with the service's time, then try again."""


class Fail(Struct, frozen=True):
    """Take it that the call has failed."""

    reason: str


class Stop(Struct, frozen=True):
    """Every call would fail: stop the batch."""

    reason: str


Next = Accept | Again | Renew | Fail | Stop


def next_step(  # noqa: C901, PLR0911 - a table of cases reads best as one
    attempt: Attempt, *, now: float, random: float, patience: Patience, proven: bool
) -> Next:
    """Decide what follows an attempt.

    Parameters
    ----------
    now : float
        Seconds since 1970, for a ``Retry-After`` that is a date.
    random : float
        0 to 1, for jitter.
    proven : bool
        Whether the service has accepted some call of this sending.
    """
    status = attempt.status or 0
    if attempt.given == "elsewhere":
        return _after_another_host(attempt, random, patience)
    if attempt.trouble:
        return _after_trouble(attempt, random, patience, proven)
    if 200 <= status < 300:
        return Accept()
    if status in (429, 503):
        return _after_refusal(attempt, now, random, patience)
    if attempt.skewed and attempt.renewals < 1:
        return Renew()
    if status == 401 and attempt.renewable and attempt.renewals < _renewals(patience, proven):
        return Renew()
    if status == 401 and proven and not attempt.renewable and attempt.unauthorized <= _STRAY:
        # One server of many that has not heard of the key yet, or a signature that came late:
        # the request is built, and signed, anew.
        return Again(_delay(attempt.number, random, patience))
    if status == 401:
        where = "in an answer of status 200" if attempt.inside else "401"
        return Stop(f"the service does not accept the key ({where}){_detail(attempt)}")
    if status == 402:
        return Stop(f"the service wants payment (402){_detail(attempt)}")
    if status in _WRONG_ADDRESS and not proven and not attempt.given:
        return Stop(f"the service {_WRONG_ADDRESS[status]} ({status}){_detail(attempt)}")
    if status in (408, 425) or status >= 500:
        return _back_off(attempt, random, patience, f"status {status}{_detail(attempt)}")
    return Fail(f"status {status}{_detail(attempt)}")


_STRAY = 1
"""So many times in a row a key that has worked may be refused for one call."""

_WRONG_ADDRESS: Mapping[int, str] = {
    **dict.fromkeys((301, 302, 303, 307, 308), "sends us elsewhere"),
    403: "forbids this",
    404: "knows no such address",
    405: "does not take this method here",
    407: "is behind a proxy that wants a name and password",
    410: "says that the address is gone",
}
"""What says on the first call that every call would fail."""


def _renewals(patience: Patience, proven: bool) -> int:
    """Return how many renewals a call gets: one, and more once tokens are known to work."""
    return patience.renewals if proven else 1


def _detail(attempt: Attempt) -> str:
    return f": {attempt.detail}" if attempt.detail else ""


_TROUBLES: Mapping[str, str] = {
    "timeout": "no answer in time",
    "cut": "the connection failed",
    "unreadable": "the answer cannot be read",
}


def _out_of_reach(attempt: Attempt, random: float, patience: Patience, proven: bool) -> Next:
    """Wait for the line; nothing was sent, so that the image is not to blame and has not failed."""
    if attempt.number >= (patience.connections if proven else patience.attempts):
        return Stop(f"the service cannot be reached{_detail(attempt)}")
    return Again(_delay(attempt.number, random, patience))


def _after_another_host(attempt: Attempt, random: float, patience: Patience) -> Next:
    """Try an answer's address on another host a few times: nothing it does stops the batch."""
    status = attempt.status or 0
    if not attempt.trouble and 200 <= status < 300:
        return Accept()
    if attempt.trouble in ("unusable", "oversized"):
        return Fail(f"the answer cannot be read{_detail(attempt)}")
    if attempt.trouble == "unreachable":
        what = f"the address that the answer names cannot be reached{_detail(attempt)}"
        return _back_off(attempt, random, patience, what)
    if attempt.trouble:
        return _back_off(attempt, random, patience, _TROUBLES[attempt.trouble] + _detail(attempt))
    if status in (408, 425, 429) or status >= 500:
        return _back_off(attempt, random, patience, f"status {status}{_detail(attempt)}")
    return Fail(f"the address that the answer names gave status {status}{_detail(attempt)}")


def _after_trouble(attempt: Attempt, random: float, patience: Patience, proven: bool) -> Next:
    if attempt.trouble == "unusable":
        return Stop(attempt.detail)
    if attempt.trouble == "oversized":
        return Fail(f"the answer cannot be read{_detail(attempt)}")
    if attempt.trouble == "unreachable":
        return _out_of_reach(attempt, random, patience, proven)
    return _back_off(attempt, random, patience, _TROUBLES[attempt.trouble] + _detail(attempt))


def _back_off(attempt: Attempt, random: float, patience: Patience, reason: str) -> Next:
    if attempt.number >= patience.attempts:
        return Fail(f"{reason} (after {attempt.number} attempts)")
    return Again(_delay(attempt.number, random, patience))


def _delay(number: int, random: float, patience: Patience) -> float:
    """Return the doubled back-off, half of it jitter."""
    full = min(patience.most, patience.first * 2 ** (number - 1))
    return full * (0.5 + 0.5 * random)


def _after_refusal(attempt: Attempt, now: float, random: float, patience: Patience) -> Next:
    wait = seconds_until(attempt.retry_after, now)
    if wait is not None and wait > patience.longest_wait:
        return Stop(
            f"the service asks to wait {wait / 60:.0f} minutes ({attempt.status}): "
            "a quota seems to be used up"
        )
    if attempt.status == 503 and wait is None:
        return _back_off(attempt, random, patience, f"status 503{_detail(attempt)}")
    if attempt.number >= patience.refusals:
        return Fail(f"refused {attempt.number} times because of the rate (status {attempt.status})")
    return Again(wait, everyone=True)


def seconds_until(retry_after: str, now: float) -> float | None:
    """Return the seconds that a ``Retry-After`` asks for (RFC 9110, 10.2.3); None if unreadable."""
    text = retry_after.strip()
    if text.isascii() and text.isdigit() and len(text) < _DIGITS:
        return float(text)
    import email.utils

    try:
        moment = email.utils.parsedate_to_datetime(text[:_LONGEST_DATE])
        return max(0.0, moment.timestamp() - now)
    except Exception:  # a date that is none fails in many ways, and then none was given
        return None


_DIGITS = 10
_LONGEST_DATE = 64
