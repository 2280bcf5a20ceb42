"""Sweeps, choices and comparisons against the measures of the same set, in the same run; and truth.

``python -m benchmarks choosing [--quick]``. Limits: a sweep of all labels at most 1.5 times the
measures at ten required overlaps; choosing with cross-fitting and 1,000 draws at most 3 times the
measures with intervals; comparing two runs, with 2,000 exchanges of both, at most 15 times the
intervals of one. Then simulated
sets whose truth is known: see `tests/simulation.py`.
"""

import math
import time

import numpy as np

from benchmarks.measuring import REQUIRED, made
from dotledger import choose_thresholds, compare, measure
from dotledger.core.comparison.drift import drift_of
from dotledger.core.comparison.planned_looks import look_at
from dotledger.core.tables.name_codes import Coded
from tests import simulation
from tests.core.measurement.test_measure import findings_of


def seconds(function, *given, **named):
    start = time.perf_counter()
    function(*given, **named)
    return time.perf_counter() - start


def speed(size):
    """Ratios in one run."""
    said, truth, _ = made(*size)
    plain = seconds(measure, said, truth, overlap=REQUIRED, threshold=0.5, draws=0)
    one = seconds(measure, said, truth, threshold=0.5, draws=1000)
    measured = measure(said, truth, draws=0)
    swept = seconds(measured.sweep, "label")
    print(f"sweep of 80 labels, with intervals: {swept / plain:.2f} of the measures (at most 1.5)")
    for each in ("kind", "label"):
        chosen = seconds(choose_thresholds, said, truth, aim="recall >= 0.5", each=each)
        print(
            f"choosing, one a {each}, 1,000 draws: {chosen / one:.2f} of the intervals (at most 3)"
        )
    rng = np.random.default_rng(1)
    other = said.take(rng.random(len(said)) < 0.9)
    other = type(other)(**{**vars(other), "image": Coded(other.image.codes, said.image.names)})
    both = seconds(compare, said, other, annotations=truth, threshold=0.5)
    print(
        f"comparing two runs, 1,000 draws and 2,000 exchanges: {both / one:.2f} of the intervals of one (at most 15)"
    )


def honesty(sets, images):
    """Honest and optimistic outcomes against the truth."""
    rng = np.random.default_rng(2)
    rows = {aim: [] for aim in ("best f1", "recall >= 0.8")}
    held = dict.fromkeys(rows, 0)
    sure = 0
    for _ in range(sets):
        true, found = simulation.confident_set(rng, images)
        for aim, kept in rows.items():
            got = choose_thresholds(found, true, aim=aim, draws=200).groups["object"]
            truth = simulation.true_at(got.threshold)["f1"]
            kept.append((got.outcome.f1 - truth, got.optimistic.f1 - truth))
            low, high = got.outcome.intervals["f1"]
            held[aim] += low <= truth <= high
        got = choose_thresholds(found, true, aim="recall >= 0.8", surely=0.9, draws=0)
        sure += simulation.true_at(got.thresholds["object"])["recall"] >= 0.8
    for aim, kept in rows.items():
        honest, optimistic = np.mean(kept, axis=0)
        error = np.std([h for h, _ in kept]) / math.sqrt(sets)
        print(
            f"{aim}: honest F1 off by {honest:+.4f} (its error {error:.4f}), optimistic by "
            f"{optimistic:+.4f}; the interval held the truth in {held[aim] / sets:.1%}"
        )
    print(f"recall >= 0.8, 90 % surely: met on new images in {sure / sets:.1%} of {sets} sets")


def differences(sets, images, labels):
    """How often any row of two equal services is called better, and how often an interval holds 0."""
    rng = np.random.default_rng(3)
    apart, held, rows = 0, 0, 0
    for seed in range(sets):
        true, first, second = simulation.equal_runs(rng, images, labels)
        got = compare(first, second, annotations=true, threshold=0.3, seed=seed, draws=20)
        one = got.pair.pooled["f1"]
        apart += any(got.frame()["told_apart"])
        held += one.low <= 0 <= one.high
        rows = max(rows, got.rows_together)
    print(f"| {labels} | {images} | {rows} | {apart / sets:.1%} | {held / sets:.1%} |", flush=True)


CHANGES = (
    "surer",
    "less sure",
    "lost label",
    "lost tenth",
    "larger",
    "shifted",
    "far away",
    "gone",
    "doubled",
    "no confidences",
)


def drifting(sets, images, change="", *, anew=False):
    """In how many of so many pairs of runs drift finds anything, and what it is called most often."""
    rng, found = np.random.default_rng(images), 0
    for seed in range(sets):
        scene = simulation.scene_of(rng, images)
        first, second = (simulation.answered(rng, scene, anew=anew) for _ in range(2))
        second = simulation.changed_rows(rng, second, change)
        found += bool(drift_of(findings_of(first), findings_of(second), seed=seed).found)
    what = change or "nothing changed"
    again = "drawn anew" if anew else "the same"
    print(f"| {what} | {again} | {images} | {found} of {sets} |", flush=True)


def watching(years, images, days=365):
    """How many years of daily looks at services in which nothing changed raise any alarm."""
    rng, alarms = np.random.default_rng(images), 0
    for _ in range(years):
        scene = simulation.scene_of(rng, images)
        first = findings_of(simulation.answered(rng, scene, anew=True))
        alarms += any(
            look_at(first, findings_of(simulation.answered(rng, scene, anew=True))).alarm
            for _ in range(days)
        )
    print(f"| nothing, {days} looks each | {images} | {alarms} of {years} years |", flush=True)


def days_until_told(change, sets, images):
    """After how many daily looks a change is told, of a year of planned ones."""
    rng, told = np.random.default_rng(images), []
    for _ in range(sets):
        scene = simulation.scene_of(rng, images)
        first = findings_of(simulation.answered(rng, scene, anew=True))
        told.append(4)
        for day in (1, 2, 3):
            rows = simulation.answered(rng, scene, anew=True)
            if look_at(first, findings_of(simulation.changed_rows(rng, rows, change))).alarm:
                told[-1] = day
                break
    days = ", ".join(f"day {day}: {told.count(day)}" for day in (1, 2, 3))
    print(f"| {change} | {images} | {days}, later: {told.count(4)} |", flush=True)


def main(*, quick):
    """Print all of it."""
    speed((1_000, 7_000, 100_000) if quick else (5_000, 36_000, 500_000))
    honesty(40 if quick else 400, 60)
    sets = 60 if quick else 500
    print(
        f"\nTwo equal services, {sets} sets each: any row of the table called better; F1's interval"
    )
    print("| labels | images | rows | any called better | interval holds 0 |")
    print("| --- | --- | --- | --- | --- |")
    for labels in (1, 5, 20):
        for images in (20, 60, 200):
            differences(sets, images, labels)
    print("\nDrift: two runs of the same images")
    print("| change | answers | images | said to have changed |")
    print("| --- | --- | --- | --- |")
    for images in (30, 100, 300):
        drifting(sets, images, anew=True)
    for change in CHANGES:
        drifting(25, 100, change)
    for change in ("surer", "lost label", "lost tenth", "larger", "shifted"):
        drifting(25, 100, change, anew=True)
    print("\nA watch of 365 planned looks, all answers drawn anew each day")
    print("| change | images | alarms |")
    print("| --- | --- | --- |")
    for images in (30, 100):
        watching(5 if quick else 150, images)
    for change in ("lost label", "lost tenth", "surer", "gone"):
        days_until_told(change, 5 if quick else 25, 100)
