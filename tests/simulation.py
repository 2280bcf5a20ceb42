"""A stated model of sets of images, with its true measures; used to check intervals.

Each image holds 1 + Poisson(2) objects of one label. How hard an image is, is drawn for each image:
its objects are found with probability h, h ~ Beta(6, 2), each by itself; beside them it has
Poisson(1.5 (1 - h)) false findings. Then recall = E[n h] / E[n] = E[h] = 3/4, and precision =
E[n h] / (E[n h] + 1.5 E[1 - h]) = 2.25 / (2.25 + 0.375) = 6/7; F1 is from the same expectations.
"""

import numpy as np

from dotledger.core.tables.annotations import Annotations
from dotledger.core.tables.coded import Coded
from dotledger.core.tables.findings import Findings

TRUTH = {"recall": 3 / 4, "precision": 6 / 7, "f1": 2 * 2.25 / (2.25 + 0.375 + 3)}


def made_set(rng, images):
    """Return findings and annotations of one set."""
    hard = rng.beta(6, 2, images)
    count = 1 + rng.poisson(2, images)
    image = np.repeat(np.arange(images), count)
    place = np.arange(len(image)) - np.repeat(np.cumsum(count) - count, count)
    found = rng.random(len(image)) < hard[image]
    false = np.repeat(np.arange(images), rng.poisson(1.5 * (1 - hard)))
    names = tuple(f"image-{i}" for i in range(images))
    truth = Annotations(
        image=Coded(image, names),
        kind=_one(len(image), "object"),
        label=_one(len(image), "lantern"),
        box=_boxes(20.0 * place),
        ignore=np.zeros(len(image), dtype=bool),
    )
    where = np.r_[20.0 * place[found], np.full(len(false), 1e6)]
    every = np.r_[image[found], false, np.arange(images)]
    blank = np.zeros(len(every), dtype=np.intp)
    blank[: len(where)] = 1
    said = Findings(
        image=Coded(every, names),
        kind=_one(len(every), "object"),
        label=Coded(blank, ("", "lantern")),
        confidence=np.full(len(every), 0.9),
        box=np.vstack([_boxes(where), np.full((images, 4), np.nan)]),
    )
    return said, truth


def _one(length, name):
    return Coded(np.zeros(length, dtype=np.intp), (name,))


def _boxes(x):
    return np.stack([x, np.zeros(len(x)), x + 10, np.full(len(x), 10.0)], axis=1)


def coverage(runs, images, draws, seed):
    """Return for each measure how often its interval holds the true value."""
    from dotledger import measure

    rng = np.random.default_rng(seed)
    held = dict.fromkeys(TRUTH, 0)
    for run in range(runs):
        pooled = measure(*made_set(rng, images), draws=draws, seed=run).pooled
        for name, true in TRUTH.items():
            low, high = pooled.intervals[name]
            held[name] += low <= true <= high
    return {name: count / runs for name, count in held.items()}
