"""What was compared, what is right, which rows pass: a floor below the questions and the result."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from dotledger.core.arrays import Flags
from dotledger.core.measures.resampling import Places, Resampling
from dotledger.core.pairing.measure_scope import Scope
from dotledger.core.pairing.pair_judging import Judged
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.threshold_values import Thresholds

__all__ = ["Basis"]


@dataclass(frozen=True, eq=False, kw_only=True)
class Basis:
    """What every question is asked of: what was compared, how, and what is right.

    Attributes
    ----------
    findings, annotations
        The tables, with related labels credited if that was asked for.
    scopes : mapping of str to Scope
        By kind.
    overlaps : tuple of float
        Required overlaps; the first is the one shown.
    cuts : tuple of Thresholds
        The first is the one shown.
    pairing : str
        One of `PAIRINGS`.
    broader : mapping of str to tuple of str
        Broader labels given.
    credited : bool
        Whether related labels were credited.
    floor : float or None
        The lowest confidence that the service was asked for or is known to give.
    resampling : Resampling
        How intervals are made.
    places : Places
        What decides which draws each image gets; empty without draws.
    tolerances : mapping of str to float
        By attribute that is a number: how far off still counts as right.
    judged : mapping of str to Judged
        What is right, by kind; empty while it is not judged yet.
    """

    findings: Findings
    annotations: Annotations
    scopes: Mapping[str, Scope]
    overlaps: tuple[float, ...]
    cuts: tuple[Thresholds, ...]
    pairing: str
    broader: Mapping[str, tuple[str, ...]]
    credited: bool
    floor: float | None
    resampling: Resampling
    places: Places = field(default_factory=Places)
    tolerances: Mapping[str, float] = field(default_factory=dict)
    judged: Mapping[str, Judged] = field(default_factory=dict)

    def passing(self, kind: str) -> Flags:
        """Return which findings of `kind` pass the first threshold."""
        return self.judged[kind].findings.passing(
            self.cuts[0].least(kind, self.scopes[kind].labels)
        )
