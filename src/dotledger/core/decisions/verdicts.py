"""Verdicts on images, with every reason; and how right they are."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arrays import Flags, Ints, ratio
from dotledger.core.displays import Displayed
from dotledger.core.kinds import VERDICTS
from dotledger.core.measures.measure_rows import defined
from dotledger.core.measures.resampling import Interval
from dotledger.core.measures.share_limits import share_interval
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import ScopeError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Decisions", "Trip", "Verdict", "VerdictCounts"]

_MOST = 3
"""Findings named in one reason."""


@dataclass(frozen=True, eq=False, kw_only=True)
class Trip:
    """One rule, and where it applies.

    Attributes
    ----------
    name, verdict : str
        Of the rule.
    images : ndarray of bool, shape (images,)
        Where it applies.
    rows : ndarray of intp
        Findings that tripped it, the most confident first.
    asked : str
        In words, what it asks.
    besides : mapping of int to str
        By an image's place, what tripped the rule beside findings.
    """

    name: str
    verdict: str
    images: Flags
    rows: Ints
    asked: str
    besides: Mapping[int, str] = field(default_factory=dict)


@dataclass(frozen=True, kw_only=True)
class Verdict:
    """The verdict on one image.

    Attributes
    ----------
    image, verdict : str
        `verdict` is ``pass``, ``hold`` or ``block``.
    reasons : tuple of str
        One for each rule that applies, the strictest first; of the default if none does.
    """

    image: str
    verdict: str
    reasons: tuple[str, ...]


@dataclass(frozen=True, eq=False, kw_only=True, repr=False)
class Decisions(Displayed):
    """What `decide` returns.

    Attributes
    ----------
    images : tuple of str
        Decided on.
    level : ndarray of intp, shape (images,)
        Index into ``("pass", "hold", "block")``.
    trips : tuple of Trip
        Every rule with where it applies.
    findings : Findings
        That were decided on.
    outcomes : mapping
        By image and kind, if they are known.
    otherwise : str
        The verdict where no rule applies.
    audience : str
        Whom the rules are for.
    notes : tuple of str
        Rules that ask for what nothing in the batch has.
    """

    images: tuple[str, ...]
    level: Ints
    trips: tuple[Trip, ...]
    findings: Findings
    outcomes: Mapping[str, Mapping[str, str]]
    otherwise: str
    audience: str
    notes: tuple[str, ...] = ()

    @property
    def counts(self) -> dict[str, int]:
        """How many images have each verdict, the strictest first."""
        found = np.bincount(self.level, minlength=len(VERDICTS)).tolist()
        return {name: found[place] for place, name in reversed(list(enumerate(VERDICTS)))}

    def by_rule(self) -> dict[str, tuple[str, int]]:
        """Return for each rule its verdict and to how many images it applies."""
        return {trip.name: (trip.verdict, int(trip.images.sum())) for trip in self.trips}

    def of(self, image: str) -> Verdict:
        """Return the verdict on one image; raises KeyError if there is none."""
        try:
            return self._verdict(self.images.index(image))
        except ValueError:
            raise KeyError(image) from None

    def __iter__(self) -> Iterator[Verdict]:
        """Yield verdicts, the strictest first, and within one the most confident reason first."""
        strongest = np.full(len(self.images), -1.0)
        at = self.findings.image.onto(self.images)
        for trip in self.trips:
            if trip.verdict != "pass":
                confidence = np.nan_to_num(self.findings.confidence[trip.rows], nan=2.0)
                np.maximum.at(strongest, at[trip.rows], confidence)
        order = np.lexsort((np.arange(len(self.images)), -strongest, -self.level))
        return (self._verdict(int(place)) for place in order)

    def _verdict(self, place: int) -> Verdict:
        mine = sorted(
            (trip for trip in self.trips if trip.images[place]),
            key=lambda trip: -VERDICTS.index(trip.verdict),
        )
        reasons = tuple(self._reason(trip, place) for trip in mine)
        default = (f"no rule applies: {self.otherwise}",)
        name = self.images[place]
        return Verdict(image=name, verdict=VERDICTS[self.level[place]], reasons=reasons or default)

    def _reason(self, trip: Trip, place: int) -> str:
        image = self.images[place]
        given = [f"{k} {o}" for k, o in self.outcomes.get(image, {}).items() if o not in _ANSWERED]
        if trip.name == "without an answer" and given:
            return f"{trip.verdict}: {', '.join(given)}"
        rows = self._rows[trip.name].get(place, [])
        shown = [self._shown(row) for row in rows[:_MOST]]
        more = [f"{len(rows) - _MOST} more"] if len(rows) > _MOST else []
        parts = [trip.besides.get(place, ""), ", ".join([*shown, *more]), trip.asked]
        return f"{trip.verdict}, {trip.name}: " + ", ".join(part for part in parts if part)

    @property
    def _rows(self) -> dict[str, dict[int, list[int]]]:
        """Findings by rule and image, made once."""
        if not hasattr(self, "_by_image"):
            at = self.findings.image.onto(self.images)
            found: dict[str, dict[int, list[int]]] = {}
            for trip in self.trips:
                mine = found.setdefault(trip.name, {})
                for row, place in zip(trip.rows.tolist(), at[trip.rows].tolist(), strict=True):
                    mine.setdefault(place, []).append(row)
            object.__setattr__(self, "_by_image", found)
        kept: dict[str, dict[int, list[int]]] = getattr(self, "_by_image")  # noqa: B009
        return kept

    def _shown(self, row: int) -> str:
        table = self.findings
        label = table.label.names[table.label.codes[row]]
        confidence = float(table.confidence[row])
        number = "asserted" if math.isnan(confidence) else f"{confidence:.2f}"
        details = table.details[row] if table.details is not None else None
        person = details.person()[0] if details is not None else ""
        x0, y0 = table.box[row, :2]
        is_text = table.kind.names[table.kind.codes[row]] == "text" and not math.isnan(x0)
        where = f" at {x0:.0f}, {y0:.0f}" if is_text else ""
        return f"{label}{f' {person}' if person else ''} {number}{where}"

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with a row an image: ``image, verdict, reasons``."""
        import pandas as pd

        rows = [(v.image, v.verdict, "; ".join(v.reasons)) for v in self]
        return pd.DataFrame(rows, columns=["image", "verdict", "reasons"])

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON."""
        return {
            "audience": self.audience,
            "counts": self.counts,
            "rules": {n: {"verdict": v, "images": k} for n, (v, k) in self.by_rule().items()},
            "images": [
                {"image": v.image, "verdict": v.verdict, "reasons": list(v.reasons)} for v in self
            ],
            "notes": list(self.notes),
        }

    def measured(self, annotations: Annotations, *, kind: str = "unsafe") -> VerdictCounts:
        """Say how right the verdicts are, where it is annotated what is unsafe.

        Parameters
        ----------
        annotations : Annotations
            An image is unsafe if anything of the kind is annotated and not ignored; left out if
            only ignored ones are.
        kind : str, default "unsafe"
            Whose annotations make an image unsafe.

        Raises
        ------
        ScopeError
            If no image that was decided on is annotated for the kind.
        """
        return _measured(self, annotations, kind)

    def _head(self) -> str:
        listed = ", ".join(f"{count} {name}" for name, count in self.counts.items())
        return f"<Decisions: {listed}>"


_ANSWERED = ("found", "empty")


@dataclass(frozen=True, kw_only=True)
class VerdictCounts:
    """How right verdicts are.

    Attributes
    ----------
    caught, held_unsafe, let_through : int
        Unsafe images that are blocked, held, or pass.
    false_alarms, held_safe, rightly_passed : int
        The same of safe ones.
    left_out : int
        Images with doubtful annotations only.
    intervals : mapping of str to (float, float)
        95 %, of the shares.
    """

    caught: int
    held_unsafe: int
    let_through: int
    false_alarms: int
    held_safe: int
    rightly_passed: int
    left_out: int
    intervals: Mapping[str, Interval] = field(default_factory=dict)

    @property
    def let_through_share(self) -> float:
        """Share of the unsafe images that pass; NaN without any."""
        return ratio(self.let_through, self.caught + self.held_unsafe + self.let_through)

    @property
    def false_alarm_rate(self) -> float:
        """Share of the safe images that are blocked; NaN without any."""
        return ratio(self.false_alarms, self.false_alarms + self.held_safe + self.rightly_passed)

    @property
    def held_share(self) -> float:
        """Share of all images that a person looks at; NaN without images."""
        every = sum(
            (self.caught, self.held_unsafe, self.let_through, self.false_alarms, self.held_safe)
        )
        return ratio(self.held_unsafe + self.held_safe, every + self.rightly_passed)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        plain = {name: value for name, value in vars(self).items() if name != "intervals"}
        names = ("let_through_share", "false_alarm_rate", "held_share")
        shares = {name: defined(getattr(self, name)) for name in names}
        ends = {
            name: None if math.isnan(low) else [low, high]
            for name, (low, high) in self.intervals.items()
        }
        return {**plain, **shares, "intervals": ends}


def _measured(decisions: Decisions, annotations: Annotations, kind: str) -> VerdictCounts:
    names = decisions.images
    covered = np.isin(np.array(names, dtype=object), list(annotations.covered(kind)))
    if not covered.any():
        raise ScopeError(
            f"no image that was decided on is annotated for {kind}", place="annotations"
        )
    mine = annotations.take(annotations.kind.among([kind]) & ~annotations.blank)
    at = mine.image.onto(names)
    unsafe = _any(at[(at >= 0) & ~mine.ignore], len(names)) & covered
    doubtful = _any(at[(at >= 0) & mine.ignore], len(names)) & covered & ~unsafe
    safe = covered & ~unsafe & ~doubtful
    passed, held, blocked = (decisions.level == level for level in range(3))
    counts = Counter(
        caught=int((unsafe & blocked).sum()),
        held_unsafe=int((unsafe & held).sum()),
        let_through=int((unsafe & passed).sum()),
        false_alarms=int((safe & blocked).sum()),
        held_safe=int((safe & held).sum()),
        rightly_passed=int((safe & passed).sum()),
        left_out=int(doubtful.sum()),
    )
    return VerdictCounts(
        **counts,
        intervals={
            "let_through_share": share_interval(unsafe & passed, unsafe),
            "false_alarm_rate": share_interval(safe & blocked, safe),
            "held_share": share_interval((unsafe | safe) & held, unsafe | safe),
        },
    )


def _any(image: Ints, images: int) -> Flags:
    return np.bincount(image, minlength=images) > 0
