"""Keys of what the commands under "Measure" print; what is undefined is null."""

from __future__ import annotations

from typing import Any, NotRequired, TypedDict

from dotledger.cli.outputs.output_parts import About, Box, Interval

__all__ = ["Figures", "Loaded", "Measure", "Reliabilities"]

Intervals = dict[str, Interval | None]
"""By measure."""


class Row(TypedDict):
    """Counts and measures of one label, a slice, or all; counts are null where not judged."""

    annotated: int
    true_positives: int
    false_positives: int | None
    misses: int
    true_negatives: int | None
    set_aside: int | None
    precision: float | None
    recall: float | None
    f1: float | None
    mean_overlap: float | None
    average_precision: float | None
    false_alarm_rate: float | None
    balanced_accuracy: float | None
    intervals: NotRequired[Intervals]
    contributing_images: NotRequired[dict[str, int]]


class Means(TypedDict):
    """Plain means over the labels where a measure is defined."""

    precision: float | None
    recall: float | None
    f1: float | None
    mean_overlap: float | None
    average_precision: float | None
    false_alarm_rate: float | None
    balanced_accuracy: float | None


class Point(TypedDict):
    """The measures at one required overlap and threshold."""

    overlap: float
    threshold: float | dict[str, float] | None
    labels: dict[str, Row]
    pooled: Row
    mean_over_labels: Means


class Kind(TypedDict):
    """The measures of one kind, by label and pooled."""

    images_in_scope: int
    unanswered: int
    no_answer_share: float | None
    unjudged: int
    unjudged_labels: dict[str, int]
    without_box: int
    labels: dict[str, Row]
    pooled: Row
    mean_over_labels: Means
    mean_ap: float | None
    mean_over_labels_intervals: NotRequired[Intervals]
    points: NotRequired[list[Point]]


class Figures(TypedDict):
    """What `Measure.to_dict` gives in Python; service and batch where they are known."""

    service: str
    batch: int | None
    overlap: float
    threshold: float | dict[str, float] | None
    pairing: str
    images_in_scope: int
    unanswered: int
    uncovered: int
    unjudged: int
    unjudged_kinds: dict[str, int]
    labels: dict[str, Row]
    pooled: Row
    mean_over_labels: Means
    kinds: dict[str, Kind]
    notes: list[str]


class Share(TypedDict):
    """How many, and of all of that side."""

    count: int
    share: float


class LabelReason(TypedDict):
    """How often a reason stands for a label; `side` is ``wrong`` or ``missed``."""

    side: str
    reason: str
    kind: str
    label: str
    count: int
    share: float


class Case(TypedDict):
    """One wrong finding or missed annotation: `row` is its place in its table."""

    image: str
    kind: str
    label: str
    reason: str
    about: str
    confidence: float | None
    other: str
    overlap: float | None
    row: int
    box: Box | None


class Reasons(TypedDict):
    """Why findings are wrong and annotations missed; `shares` by side and reason."""

    shares: dict[str, dict[str, Share]]
    by_label: list[LabelReason]
    wrong: list[Case]
    missed: list[Case]


class Confusion(TypedDict):
    """Counts: annotated labels down, found labels across; last come nothing there, and missed."""

    labels: list[str]
    annotated_by_found: list[list[int]]
    too_broad: dict[str, int]
    too_narrow: dict[str, int]


class Slices(TypedDict):
    """The measures by slice; wrong findings are not judged where they belong to none."""

    judges_wrong: bool
    slices: dict[str, Row]


class Band(TypedDict):
    """Findings from `low` to below `high` confidence."""

    low: float
    high: float
    count: int
    right: int
    mean_confidence: float | None
    share_right: float | None
    images: int
    interval: Interval | None


class Reliability(TypedDict):
    """How often findings of a confidence are right."""

    bands: list[Band]
    count: int
    without_confidence: int
    expected_calibration_error: float | None


class CountRow(TypedDict):
    """How many were found and annotated; errors are of each image."""

    annotated: int
    found: int
    mean_error: float | None
    mean_absolute_error: float | None
    images_equal: int


class Counts(TypedDict):
    """Count agreement by label."""

    images_in_scope: int
    labels: dict[str, CountRow]


class Screening(TypedDict):
    """Images stopped by any unsafe finding."""

    caught: int
    let_through: int
    false_alarms: int
    rightly_passed: int
    left_out: int
    caught_share: float | None
    false_alarm_rate: float | None
    stopped_share: float | None
    intervals: NotRequired[Intervals]


class Attribute(TypedDict):
    """An attribute of paired boxes: exact, within a tolerance, or in a range."""

    judged: str
    pairs: int
    right: int
    mean_absolute_error: float | None
    interval: Interval | None
    images: int
    share_right: float | None


class PointRow(TypedDict):
    """A landmark: distances in diagonals of the annotated box."""

    pairs: int
    mean_distance: float | None
    largest_distance: float | None


class PersonNames(TypedDict):
    """Names of persons on faces that are annotated with one."""

    right: int
    wrong: int
    no_name: int


class Details(TypedDict):
    """Attributes, landmarks and names of one kind."""

    attributes: dict[str, Attribute]
    points: dict[str, PointRow]
    names: PersonNames | None


class Text(TypedDict):
    """Lines of writing found against lines annotated."""

    annotated: int
    paired: int
    exact: int
    missed: int
    wrong: int
    edits: int
    characters: int
    normalisation: str
    exact_share: float | None
    character_error_rate: float | None


class ImageCounts(TypedDict):
    """The counts of one image and kind."""

    image: str
    kind: str
    answered: bool
    annotated: int
    found: int
    true_positives: int
    false_positives: int
    misses: int
    set_aside: int


class Refused(TypedDict):
    """An annotation that was not taken."""

    image: str
    reason: str
    value: str


class Loaded(TypedDict):
    """What was read of annotations; counts by kind and label."""

    source: str
    images: int
    empty_images: int
    annotations: dict[str, dict[str, int]]
    ignored: int
    not_covered: dict[str, Any]
    clipped: int
    refused: list[Refused]
    missing: list[str]


class LoadedForMeasure(TypedDict):
    """What was read, and how names of images were matched."""

    annotations: Loaded
    image_names: NotRequired[dict[str, int]]
    ambiguous_image_names: NotRequired[list[Any]]


class Convention(TypedDict):
    """Mean overlap with the truth if boxes were read this way, and as they are read now."""

    read_as: str
    mean_overlap: float | None
    as_now: float | None
    boxes_moved: int


class Conventions(TypedDict):
    """Every convention tried, the best first; `better` is null if none is clearly better."""

    tried: list[Convention]
    better: str | None


class Measure(Figures):
    """Everything that a measure holds: what `Measure.to_dict` gives with ``everything=True``."""

    about: About
    reasons: Reasons
    confusion: dict[str, Confusion]
    slices: dict[str, dict[str, Slices]]
    reliability: dict[str, Reliability]
    count_agreement: dict[str, Counts]
    screening: Screening | None
    details: dict[str, Details]
    text: Text | None
    images: list[ImageCounts]
    loaded: LoadedForMeasure
    conventions: NotRequired[Conventions]


class Reliabilities(TypedDict):
    """Reliability by kind, of confidences as answered and, with a mapping, as mapped."""

    about: About
    confidences: dict[str, dict[str, Reliability]]
    images: dict[str, int]
    doubts: list[str]
