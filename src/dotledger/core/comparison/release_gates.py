"""Conditions that a release must hold."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from dotledger.core.arrays import ratio
from dotledger.core.comparison.differences import TOLD_APART
from dotledger.core.comparison.expectations import Expectation, Unmet, unmet_expectations
from dotledger.core.comparison.measure_falls import p_values_of_falls
from dotledger.core.displays import Displayed
from dotledger.core.measurement.measure_result import Measure
from dotledger.core.measures.measure_rows import Row, defined
from dotledger.core.measures.registry import MEASURES, RANKED, combined
from dotledger.core.spelling import counted, nearest
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["GATE_MEASURES", "Gate", "JudgedGate", "Verdicts", "judge_gates"]

_OF_ROWS = (*RANKED, "misses", "false_positives")
_SHARES = ("unanswered_share", "failed_share")
_SCREENING = ("caught_share", "stopped_share")
GATE_MEASURES = (
    *_OF_ROWS,
    "expected_calibration_error",
    *_SCREENING,
    *_SHARES,
    "unmet_expectations",
)
"""What a gate may be about."""


@dataclass(frozen=True, kw_only=True)
class Gate:
    """One condition.

    Attributes
    ----------
    measure : str
        One of `GATE_MEASURES`.
    of : str
        A kind or ``kind:label``; empty for everything pooled.
    of_each : str
        ``kind`` or ``label``: it must hold for each of them; else empty.
    at_least, at_most : float or None
        Limits of the measure.
    lower_end_at_least, upper_end_at_most : float or None
        Limits of its 95 % interval.
    falls_at_most, rises_at_most : float or None
        How far it may move against the earlier run. A measure between 0 and 1 that moved further
        breaks the gate where exchanging the two runs' answers hardly ever moves it as far; where
        that is no rare thing, the gate cannot be judged.
    against : str
        Name of the earlier run.
    least_images : int
        With fewer images in scope it cannot be judged.
    if_unjudged : str
        ``fails`` or ``holds``, where the measure is undefined, there are too few images, or chance
        may have moved it.
    expectations : tuple of Expectation
        Of ``unmet_expectations``.
    name : str
        What it is called; by default its sentence.
    """

    measure: str
    of: str = ""
    of_each: str = ""
    at_least: float | None = None
    at_most: float | None = None
    lower_end_at_least: float | None = None
    upper_end_at_most: float | None = None
    falls_at_most: float | None = None
    rises_at_most: float | None = None
    against: str = ""
    least_images: int = 0
    if_unjudged: str = "fails"
    expectations: tuple[Expectation, ...] = ()
    name: str = ""

    def limits(self) -> str:
        """Return the limits in words."""
        parts = []
        for text, limit in (
            ("at least", self.at_least),
            ("at most", self.at_most),
            ("lower end at least", self.lower_end_at_least),
            ("upper end at most", self.upper_end_at_most),
        ):
            parts += [f"{text} {limit:g}"] if limit is not None else []
        for text, limit in (("fall", self.falls_at_most), ("rise", self.rises_at_most)):
            if limit is not None:
                parts.append(f"{text} at most {limit:g} against {self.against}")
        return ", ".join(parts)

    @property
    def title(self) -> str:
        """Its name, or its sentence."""
        about = f" of {self.of}" if self.of else f" of each {self.of_each}" if self.of_each else ""
        return self.name or f"{self.measure.replace('_', ' ')}{about} {self.limits()}"


@dataclass(frozen=True, kw_only=True)
class JudgedGate:
    """One gate, for one thing it is about.

    Attributes
    ----------
    gate : Gate
        The condition.
    of : str
        What it was judged for; ``all`` for everything pooled.
    value, low, high, before : float
        The measure, its interval, and the earlier run's; NaN where undefined or not asked.
    counts : str
        What it was counted from.
    holds : bool
        Whether the release may go on.
    was_judged : bool
        False where the measure is undefined, there are too few images, or chance may have moved
        it.
    why : str
        What does not hold; empty if it holds.
    """

    gate: Gate
    of: str
    value: float
    low: float = math.nan
    high: float = math.nan
    before: float = math.nan
    counts: str = ""
    holds: bool = True
    was_judged: bool = True
    why: str = ""

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        floats = {n: defined(getattr(self, n)) for n in ("value", "low", "high", "before")}
        return {
            "gate": self.gate.title,
            "measure": self.gate.measure,
            "of": self.of,
            "limits": self.gate.limits(),
            **floats,
            "counts": self.counts,
            "holds": self.holds,
            "was_judged": self.was_judged,
            "why": self.why,
        }


@dataclass(frozen=True, kw_only=True, repr=False)
class Verdicts(Displayed):
    """The results of all gates.

    Attributes
    ----------
    judged : tuple of JudgedGate
        In the order of the gates.
    images : int
        In scope.
    """

    judged: tuple[JudgedGate, ...]
    images: int

    @property
    def holds(self) -> bool:
        """Whether every gate holds."""
        return all(one.holds for one in self.judged)

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with a row a gate and what it is about."""
        import pandas as pd

        return pd.DataFrame([one.to_dict() for one in self.judged])

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON."""
        return {
            "holds": self.holds,
            "images_in_scope": self.images,
            "gates": [one.to_dict() for one in self.judged],
        }

    def _head(self) -> str:
        broken = sum(not one.holds for one in self.judged)
        return f"<Verdicts: {len(self.judged) - broken} hold, {broken} do not>"


def judge_gates(
    gates: Sequence[Gate],
    measured: Measure,
    *,
    before: Mapping[str, Measure] | None = None,
    failed_share: float = math.nan,
    verdicts: Mapping[str, str] | None = None,
) -> Verdicts:
    """Judge conditions by a measure.

    Parameters
    ----------
    measured : Measure
        With intervals, if a gate asks for their ends.
    failed_share : float, optional
        Share of the images that were not answered, or not read; NaN if that is not known.
    verdicts : mapping of str to str, optional
        By image, for expectations of a verdict.

    Returns
    -------
    Verdicts
        What could not be judged does not hold, unless the gate says otherwise.

    Raises
    ------
    ArgumentError
        If a gate names a measure, kind, label or run that there is not.
    """
    if not gates:
        raise ArgumentError("there is no gate, so nothing would be held", place="gates", got=0)
    known = before or {}
    found: list[JudgedGate] = []
    for gate in gates:
        _check(gate, measured, known)
    beside = _Beside(failed_share, verdicts, _chances(gates, measured, known))
    for gate in gates:
        for of in _subjects(gate, measured):
            found.append(_judged(gate, of, measured, known, beside))
    return Verdicts(judged=tuple(found), images=measured.images_in_scope)


@dataclass(frozen=True)
class _Beside:
    """What is known next to the measure."""

    failed: float
    verdicts: Mapping[str, str] | None
    chances: Mapping[tuple[str, str, str], float]


def _chances(
    gates: Sequence[Gate], measured: Measure, before: Mapping[str, Measure]
) -> dict[tuple[str, str, str], float]:
    """Return by earlier run, group and measure how often chance moves it as far.

    All rows that the gates ask about are looked at together.
    """
    found: dict[tuple[str, str, str], float] = {}
    for against in {gate.against for gate in gates if gate.against}:
        rows = [
            (of, gate.measure)
            for gate in gates
            if gate.against == against
            for of in _subjects(gate, measured)
        ]
        seen = p_values_of_falls(before[against], measured, rows)
        found |= {(against, of, name): p for (of, name), p in seen.items()}
    return found


def _check(gate: Gate, measured: Measure, before: Mapping[str, Measure]) -> None:
    place = f"gate: {gate.title}"
    if gate.measure not in GATE_MEASURES:
        raise _unknown("measure", gate.measure, GATE_MEASURES, place)
    names = [*measured.kinds, *measured.labels]
    if gate.of and gate.of not in measured.kinds and gate.of not in measured.labels:
        raise _unknown("kind or label", gate.of, names, place)
    if gate.of_each not in ("", "kind", "label"):
        raise _unknown("word for of_each", gate.of_each, ["kind", "label"], place)
    if gate.of and gate.of_each:
        raise ArgumentError("give of or of_each, not both", place=place)
    if gate.against and gate.against not in before:
        raise _unknown("earlier run", gate.against, before, place)
    if not gate.limits():
        raise ArgumentError(
            "a gate without a limit holds always", place=place, allowed=["at_least", "at_most"]
        )


def _unknown(what: str, got: str, known: Any, place: str) -> ArgumentError:
    near = nearest(got, known)
    hint = f"; did you mean {near[0]!r}?" if near else ""
    return ArgumentError(f"unknown {what}{hint}", place=place, got=got, allowed=list(known)[:20])


def _subjects(gate: Gate, measured: Measure) -> list[str]:
    if gate.of_each == "kind":
        return list(measured.kinds)
    return list(measured.labels) if gate.of_each == "label" else [gate.of]


def _row(measured: Measure, of: str) -> Row | None:
    if not of:
        return measured.pooled
    if of in measured.kinds:
        return measured.kinds[of].pooled
    return measured.labels.get(of)


def _judged(
    gate: Gate, of: str, measured: Measure, before: Mapping[str, Measure], beside: _Beside
) -> JudgedGate:
    value, low, high, counts, images = _seen(gate, of, measured, beside)
    earlier = math.nan
    if gate.against:
        earlier = _seen(gate, of, before[gate.against], beside)[0]
    chance = beside.chances.get((gate.against, of, gate.measure), math.nan)
    troubles = _troubles(gate, value, (low, high), earlier, chance)
    unknown = [what for what, known in troubles if not known]
    if images < gate.least_images:
        unknown = [f"{counted(images, 'image')}, at least {gate.least_images} needed"]
    broken = [what for what, known in troubles if known]
    if unknown:
        broken = [f"cannot be judged: {unknown[0]}"] if gate.if_unjudged == "fails" else []
    if gate.measure == "unmet_expectations" and broken:
        broken += [_unmet_line(one) for one in _unmet(gate, measured, beside)[:5]]
    return JudgedGate(
        gate=gate,
        of=of or "all",
        value=value,
        low=low,
        high=high,
        before=earlier,
        counts=counts,
        holds=not broken,
        was_judged=not unknown,
        why="; ".join(broken),
    )


def _seen(
    gate: Gate, of: str, measured: Measure, beside: _Beside
) -> tuple[float, float, float, str, int]:
    """Return the measure, its interval, its counts in words, and the images in scope."""
    images = measured.images_in_scope
    if gate.measure == "unmet_expectations":
        unmet, every = len(_unmet(gate, measured, beside)), len(gate.expectations)
        return float(unmet), math.nan, math.nan, f"{unmet} of {every}", images
    if gate.measure in _SHARES:
        return (*_answered(gate.measure, measured, beside.failed), images)
    if gate.measure in _SCREENING:
        return _screening(gate.measure, measured)
    kind = of.partition(":")[0]
    if kind in measured.kinds:
        images = measured.kinds[kind].images_in_scope
    if gate.measure == "expected_calibration_error":
        return (*_calibration(of, measured), images)
    row = _row(measured, of)
    if row is None:
        return math.nan, math.nan, math.nan, "not in the earlier run", images
    low, high = row.intervals.get(gate.measure, (math.nan, math.nan))
    value = row.measure(gate.measure) if gate.measure in MEASURES else getattr(row, gate.measure)
    return float(value), low, high, _counts(gate.measure, row), images


def _answered(name: str, measured: Measure, failed: float) -> tuple[float, float, float, str]:
    if name == "failed_share":
        return failed, math.nan, math.nan, "of the batch" if failed == failed else ""
    every = measured.unanswered + measured.answered
    share = ratio(measured.unanswered, every)
    return share, math.nan, math.nan, f"{measured.unanswered} of {every}"


def _screening(name: str, measured: Measure) -> tuple[float, float, float, str, int]:
    found = measured.screening()
    if found is None:
        return math.nan, math.nan, math.nan, "no unsafe content is annotated", 0
    low, high = found.intervals.get(name, (math.nan, math.nan))
    every = found.caught + found.let_through + found.false_alarms + found.rightly_passed
    text = f"{found.caught} caught, {found.let_through} let through"
    return float(getattr(found, name)), low, high, text, every


def _calibration(of: str, measured: Measure) -> tuple[float, float, float, str]:
    every = measured.reliability()
    kinds = [of] if of in every else list(every)
    sizes = {kind: every[kind].count for kind in kinds}
    total = sum(sizes.values())
    errors = {kind: every[kind].expected_calibration_error for kind in kinds if sizes[kind]}
    value = sum(sizes[k] * error for k, error in errors.items()) / total if total else math.nan
    return value, math.nan, math.nan, counted(total, "finding")


def _counts(measure: str, row: Row) -> str:
    record = MEASURES.get(measure)
    if record is not None and record.counts is not None:
        part, whole = (combined(form, row.counts) for form in record.counts)
        return f"{part} of {whole}"
    parts = {
        "misses": f"of {row.annotated}",
        "false_positives": f"of {row.true_positives + row.false_positives}",
    }
    default = f"{row.true_positives} right, {row.false_positives} wrong, {row.misses} missed"
    return parts.get(measure, default)


def _troubles(
    gate: Gate, value: float, ends: tuple[float, float], before: float, chance: float
) -> list[tuple[str, bool]]:
    """Return what does not hold, each with whether it is known: NaN is not."""
    found = []
    checks = (
        ("", value, gate.at_least, True),
        ("", value, gate.at_most, False),
        ("lower end ", ends[0], gate.lower_end_at_least, True),
        ("upper end ", ends[1], gate.upper_end_at_most, False),
    )
    for name, number, limit, least in checks:
        if limit is None:
            continue
        word = "at least" if least else "at most"
        if math.isnan(number):
            what = f"the {name.strip() or gate.measure} is undefined"
            found.append((what, False))
        # As overlaps are: what two ways of adding up make of one figure is one figure.
        elif round(limit - number if least else number - limit, 9) > 0:
            found.append((f"{name}{_shown(number)}, {word} {limit:g} asked", True))
    for word, limit, moved in (
        ("fell", gate.falls_at_most, before - value),
        ("rose", gate.rises_at_most, value - before),
    ):
        if limit is None:
            continue
        if math.isnan(moved):
            found.append((f"{gate.measure} is undefined here or in {gate.against}", False))
        elif round(moved, 9) > limit:
            what = f"{word} by {_shown(moved)} from {_shown(before)}"
            if chance > TOLD_APART:  # where nothing is known of chance (NaN) the figures decide
                what += f", which these images cannot tell from chance (p {chance:.2f})"
            found.append((what, not chance > TOLD_APART))
    return found


def _shown(number: float) -> str:
    return f"{number:.3f}".rstrip("0").rstrip(".")


def _unmet(gate: Gate, measured: Measure, beside: _Beside) -> list[Unmet]:
    basis = measured.basis
    kept = basis.findings.cut(basis.cuts[0])
    return unmet_expectations(kept, gate.expectations, verdicts=beside.verdicts)


def _unmet_line(one: Unmet) -> str:
    return f"{one.expectation.image} {one.expectation.what}: {one.message}"
