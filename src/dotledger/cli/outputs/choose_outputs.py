"""Keys of what the commands under "Choose" print; what is undefined is null."""

from __future__ import annotations

from typing import NotRequired, TypedDict

from dotledger.cli.outputs.output_parts import About, Interval

__all__ = ["Agreement", "Chosen", "ChosenTwo", "Compared", "Sweep"]


class SweepRow(TypedDict):
    """What one threshold of a group leads to; ``_low`` and ``_high`` are the ends of intervals."""

    group: str
    threshold: float
    annotated: int
    true_positives: int
    false_positives: int
    misses: int
    precision: float | None
    recall: float | None
    f1: float | None
    false_alarm_rate: float | None
    balanced_accuracy: float | None
    false_alarms_per_100_images: float | None
    stopped_share: float | None
    precision_low: NotRequired[float | None]
    precision_high: NotRequired[float | None]
    recall_low: NotRequired[float | None]
    recall_high: NotRequired[float | None]
    f1_low: NotRequired[float | None]
    f1_high: NotRequired[float | None]
    false_alarm_rate_low: NotRequired[float | None]
    false_alarm_rate_high: NotRequired[float | None]
    balanced_accuracy_low: NotRequired[float | None]
    balanced_accuracy_high: NotRequired[float | None]
    false_alarms_per_100_images_low: NotRequired[float | None]
    false_alarms_per_100_images_high: NotRequired[float | None]
    stopped_share_low: NotRequired[float | None]
    stopped_share_high: NotRequired[float | None]


class Sweep(TypedDict):
    """Every threshold that can be told apart; below `floor` the service tells nothing."""

    about: About
    floor: float | None
    stopped_at: dict[str, str]
    thresholds: list[SweepRow]
    images_in_scope: int


class Outcome(TypedDict):
    """What a threshold leads to; `aimed` is the measure of the aim."""

    images: int
    annotated: int
    true_positives: int
    false_positives: int
    misses: int
    stopped: int
    absent: int | None
    precision: float | None
    recall: float | None
    f1: float | None
    false_alarm_rate: float | None
    balanced_accuracy: float | None
    false_alarms_per_100_images: float | None
    stopped_share: float | None
    aimed: float | None
    intervals: dict[str, Interval | None]


class Group(TypedDict):
    """The threshold of one kind or label, judged on held-out images, and on the others."""

    threshold: float | None
    attainable: bool
    from_kind: bool
    annotated: int
    outcome: Outcome
    optimistic: Outcome
    chance: float | None
    more_images: int | None


class Chosen(TypedDict):
    """Thresholds chosen under an aim."""

    about: About
    aim: str
    each: str
    overlap: float
    service: str
    floor: float | None
    images: int
    parts: int
    attainable: bool
    thresholds: dict[str, float]
    outcome: Outcome
    optimistic: Outcome
    groups: dict[str, Group]
    origin: dict[str, str]
    notes: list[str]


class Ways(TypedDict):
    """Images that pass, are held for a person, or are stopped."""

    unsafe_passed: int
    unsafe_held: int
    unsafe_stopped: int
    safe_passed: int
    safe_held: int
    safe_stopped: int
    unsafe_passed_share: float | None
    safe_stopped_share: float | None
    held_share: float | None
    intervals: dict[str, Interval | None]


class ChosenTwo(TypedDict):
    """Two thresholds: from the lower on a person looks, from the upper on it is stopped."""

    about: About
    aim: str
    kind: str
    service: str
    thresholds: dict[str, float]
    hold_from: float | None
    stop_from: float | None
    attainable: bool | None
    images: int
    left_out: int
    outcome: Ways
    optimistic: Ways
    origin: dict[str, str]


class Difference(TypedDict):
    """One measure of two runs; the difference is second minus first, with its paired interval."""

    first: float | None
    second: float | None
    difference: float | None
    low: float | None
    high: float | None
    p_value: float | None
    told_apart: bool


Differences = dict[str, Difference]
"""By measure."""


class FoundBy(TypedDict):
    """Annotations that both, one or neither found; the chance of it, and that for many tests."""

    both: int
    first_only: int
    second_only: int
    neither: int
    p_value: float | None
    adjusted: float | None


class Changed(TypedDict):
    """An image in which two runs differ."""

    image: str
    kind: str
    gained: int
    lost: int
    wrong_first: int
    wrong_second: int


class BetweenTwo(TypedDict):
    """What two runs differ in: pooled, by kind and by label."""

    pooled: Differences
    kinds: dict[str, Differences]
    labels: dict[str, Differences]
    found_by: dict[str, FoundBy]
    changed: list[Changed]


class RunPair(BetweenTwo):
    """The same, with the names of the runs."""

    first: str
    second: str


class ClaimJudged(TypedDict):
    """What somebody claims, beside one's own figure."""

    run: str
    measure: str
    of: str
    claimed: float
    value: float | None
    low: float | None
    high: float | None
    compatible: bool | None


class Cost(TypedDict):
    """What the answers of a run came to."""

    images: int
    money: float
    currency: str
    seconds: float | None


class Compared(BetweenTwo):
    """Runs beside each other; what stands for two is that of the first two."""

    about: About
    names: list[str]
    overlap: float
    images_in_scope: int
    only_in: dict[str, int]
    thresholds: dict[str, str]
    matters: float
    rows_together: int
    pairs: list[RunPair]
    never_beaten: dict[str, list[str]]
    claims: list[ClaimJudged]
    notes: list[str]
    cost: dict[str, Cost]


class KindAgreement(TypedDict):
    """How far two runs agree on one kind."""

    kind: str
    both: int
    first_only: int
    second_only: int
    neither: int | None
    kappa: float | None
    agreed: float | None
    interval: Interval | None
    confidence_difference: float | None
    confidence_distance: float | None


class AgreementPair(TypedDict):
    """Two runs, by kind."""

    first: str
    second: str
    kinds: list[KindAgreement]


class Disputed(TypedDict):
    """An image in which runs disagree."""

    image: str
    kind: str
    both: int
    disputed: int


class Agreement(TypedDict):
    """Runs beside each other where nothing is annotated."""

    about: About
    names: list[str]
    images: int
    pairs: list[AgreementPair]
    disputed: list[Disputed]
    cost: dict[str, Cost]
