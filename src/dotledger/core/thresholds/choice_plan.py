"""How thresholds are chosen: the arguments of a choice, checked once."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from dotledger.core.arguments import MOST_DRAWS, MOST_SEED, real_number, whole_number
from dotledger.core.measures.resampling import Resampling
from dotledger.core.thresholds.aims import Aim, read_aim
from dotledger.errors import ArgumentError

__all__ = ["EACH", "ChoicePlan", "Each", "check_plan"]

Each = Literal["all", "kind", "label"]
EACH = ("all", "kind", "label")
"""What may have a threshold of its own."""


@dataclass(frozen=True, kw_only=True)
class ChoicePlan:
    """How thresholds are chosen; checked by `check_plan`.

    Attributes
    ----------
    aim : Aim
        What for.
    each : str
        One of `EACH`.
    smallest : int
        A label with fewer annotations takes the threshold of its kind.
    parts : int or None
        Of the cross-fitting; None for as many as `crossed` takes.
    held_out : str or None
        A column that marks the images to judge on, instead of cross-fitting.
    surely : float or None
        How surely new images are to meet the aim, at all thresholds at once; None for the aim as it
        stands.
    resampling : Resampling
        Draws and seed.
    """

    aim: Aim
    each: str
    smallest: int
    parts: int | None
    held_out: str | None
    surely: float | None
    resampling: Resampling


def check_plan(
    *,
    aim: str | Aim,
    each: str,
    smallest: int,
    parts: int | None,
    held_out: str | None,
    surely: float | None,
    draws: int,
    seed: int,
) -> ChoicePlan:
    """Check the arguments of a choice, once.

    Parameters
    ----------
    aim : str or Aim
        See `read_aim`.
    each : str
        One of `EACH`.
    smallest : int
        1 or more.
    parts : int or None
        From 2 to 50; None for as many as `crossed` takes.
    surely : float or None
        From 0.5 to below 1.

    Returns
    -------
    ChoicePlan
        Behind this door nothing checks again.

    Raises
    ------
    ArgumentError
        If one is out of range, or the aim cannot be read.
    """
    wanted = aim if isinstance(aim, Aim) else read_aim(aim)
    if each not in EACH:
        raise ArgumentError("unknown choice", place="each", got=each, allowed=EACH)
    return ChoicePlan(
        aim=wanted,
        each=each,
        smallest=whole_number(smallest, place="smallest", least=1, most=1_000_000),
        parts=None if parts is None else whole_number(parts, place="parts", least=2, most=50),
        held_out=held_out,
        surely=_checked_surely(surely, wanted),
        resampling=Resampling(
            draws=whole_number(draws, place="draws", least=0, most=MOST_DRAWS),
            seed=whole_number(seed, place="seed", least=0, most=MOST_SEED),
        ),
    )


def _checked_surely(surely: float | None, aim: Aim) -> float | None:
    if surely is None:
        return None
    value = real_number(surely, place="surely")
    if not 0.5 <= value < 1:
        raise ArgumentError("out of range", place="surely", got=surely, allowed=["0.5 to below 1"])
    if aim.sort not in ("at least", "at most"):
        raise ArgumentError(
            "only an aim with a limit can be met more or less surely",
            place="surely",
            got=aim.text,
            allowed=["recall >= 0.9", "at most 5 false alarms in 100 images"],
        )
    return value
