"""A stated model of sets of images, with its true measures; used to check intervals.

Each image holds 1 + Poisson(2) objects of one label. How hard an image is, is drawn for each image:
its objects are found with probability h, h ~ Beta(6, 2), each by itself; next to them it has
Poisson(1.5 (1 - h)) false findings. Then recall = E[n h] / E[n] = E[h] = 3/4, and precision =
E[n h] / (E[n h] + 1.5 E[1 - h]) = 2.25 / (2.25 + 0.375) = 6/7; F1 is from the same expectations.
"""

from dataclasses import replace

import numpy as np

from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded

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


FOUND, RIGHT, WRONG, FALSE = 0.95, (5, 2), (2, 4), 2.0
"""Objects are found with this probability; confidences of right and wrong findings are Beta."""


def confident_set(rng, images, *, shift=0.0):
    """A set whose true measures at every threshold are known; each image holds 1 + Poisson(1).

    `shift` moves the confidences of right findings, for a service that is better or worse.
    """
    count = 1 + rng.poisson(1, images)
    image = np.repeat(np.arange(images), count)
    place = np.arange(len(image)) - np.repeat(np.cumsum(count) - count, count)
    false = np.repeat(np.arange(images), rng.poisson(FALSE, images))
    names = tuple(f"image-{i}" for i in range(images))
    truth = Annotations(
        image=Coded(image, names),
        kind=_one(len(image), "object"),
        label=_one(len(image), "lantern"),
        box=_boxes(20.0 * place),
        ignore=np.zeros(len(image), dtype=bool),
    )
    return truth, confident_findings(rng, truth, image, place, false, names, shift)


def confident_findings(rng, truth, image, place, false, names, shift=0.0):
    """One service's findings of what is true of a set."""
    found = rng.random(len(image)) < FOUND
    right = np.clip(rng.beta(*RIGHT, found.sum()) + shift, 0, 1)
    where = np.r_[20.0 * place[found], np.full(len(false), 1e6)]
    every = np.r_[image[found], false, np.arange(len(names))]
    label = np.zeros(len(every), dtype=np.intp)
    label[: len(where)] = 1
    sure = np.r_[right, rng.beta(*WRONG, len(false)), np.full(len(names), np.nan)]
    return Findings(
        image=Coded(every, names),
        kind=_one(len(every), "object"),
        label=Coded(label, ("", "lantern")),
        confidence=sure,
        box=np.vstack([_boxes(where), np.full((len(names), 4), np.nan)]),
    )


def equal_services(rng, images):
    """Two services that are equally good, on one set."""
    truth, first = confident_set(rng, images)
    image = truth.image.codes
    place = np.arange(len(image)) - np.searchsorted(image, image)
    false = np.repeat(np.arange(images), rng.poisson(FALSE, images))
    return truth, first, confident_findings(rng, truth, image, place, false, truth.image.names)


def true_at(threshold):
    """Recall, precision and F1 of `confident_set` at a threshold, from expectations."""
    from scipy.stats import beta

    right = 2 * FOUND * beta.sf(threshold, *RIGHT)
    wrong = FALSE * beta.sf(threshold, *WRONG)
    return {
        "recall": right / 2,
        "precision": right / (right + wrong),
        "f1": 2 * right / (right + wrong + 2),
    }


def equal_runs(rng, images, labels):
    """Two services that are equally good at so many labels, on images that are hard for both.

    Each image holds 1 + Poisson(2) things; how likely one is found is drawn for each image and is
    the same for both services, as is how many false findings there are.
    """
    count = 1 + rng.poisson(2, images)
    image = np.repeat(np.arange(images), count)
    place = np.arange(len(image)) - np.repeat(np.cumsum(count) - count, count)
    names = tuple(f"image-{i}" for i in range(images))
    known = tuple(f"label-{i}" for i in range(labels))
    label, hard = rng.integers(0, labels, len(image)), rng.beta(6, 2, images)
    truth = Annotations(
        image=Coded(image, names),
        kind=_one(len(image), "object"),
        label=Coded(label, known),
        box=_boxes(20.0 * place),
        ignore=np.zeros(len(image), dtype=bool),
    )
    runs = []
    for _ in range(2):
        found = rng.random(len(image)) < hard[image]
        false = np.repeat(np.arange(images), rng.poisson(1.5 * (1 - hard)))
        every = np.r_[image[found], false, np.arange(images)]
        box = _boxes(np.r_[20.0 * place[found], np.full(len(false), 1e6)])
        box[: found.sum(), 2] += rng.random(found.sum()) * 4  # how well boxes lie varies, too
        runs.append(
            Findings(
                image=Coded(every, names),
                kind=_one(len(every), "object"),
                label=Coded(
                    np.r_[
                        label[found],
                        rng.integers(0, labels, len(false)),
                        np.full(images, labels),
                    ],
                    (*known, ""),
                ),
                confidence=np.r_[
                    rng.beta(5, 2, found.sum()),
                    rng.beta(2, 4, len(false)),
                    np.full(images, np.nan),
                ],
                box=np.vstack([box, np.full((images, 4), np.nan)]),
            )
        )
    return truth, *runs


WORDS = ("lantern", "stool", "umbrella", "banner", "basket", "moon")


def answered(rng, scene, *, anew=False, noise=0.0):
    """One run's answers to a scene from `scene_of`; `anew` draws all of them again."""
    images, boxes, hard, seed = scene
    own = np.random.default_rng(rng.integers(2**32) if anew else seed)
    rows = []
    for n in range(images):
        for label, box in boxes[n]:
            if own.random() < hard[n]:
                shift = own.normal(0, 0.02, 4) * (box[2] - box[0])
                rows.append(
                    (
                        f"i{n}",
                        "object",
                        label,
                        float(np.clip(own.beta(6, 2) + noise, 0, 1)),
                        tuple(np.add(box, shift)),
                    )
                )
        for _ in range(own.poisson(0.4)):
            x, y = own.uniform(0, 900, 2)
            rows.append(
                (
                    f"i{n}",
                    "object",
                    str(own.choice(WORDS)),
                    float(own.beta(2, 4)),
                    (x, y, x + 80, y + 60),
                )
            )
        rows.append((f"i{n}", "object", "", None, None))
    return rows


def scene_of(rng, images):
    """Images with 1 to 5 things of six labels, and how likely each image's things are found."""
    boxes = []
    for _ in range(images):
        own = []
        for place in range(1 + rng.integers(0, 5)):
            x, y, size = 200 * place, rng.uniform(0, 700), rng.uniform(60, 150)
            own.append((str(rng.choice(WORDS)), (x, y, x + size, y + size * rng.uniform(0.6, 1.6))))
        boxes.append(own)
    return images, boxes, rng.beta(8, 2, images), int(rng.integers(2**32))


def changed_rows(rng, rows, what):
    """Answers after a change of the service."""
    grown = {"larger": 1.1, "doubled": 1.0}.get(what, 1.0)
    found = []
    for image, kind, label, confidence, box in rows:
        if box is None:
            found.append((image, kind, label, confidence, box))
            continue
        if what == "lost label" and label == "stool":
            continue
        if what in ("lost tenth", "gone") and rng.random() < {"lost tenth": 0.1, "gone": 1.0}[what]:
            continue
        shift = {"surer": 0.05, "less sure": -0.05}.get(what, 0.0)
        sure = None if what == "no confidences" else min(1.0, max(0.0, confidence + shift))
        x0, y0, x1, y1 = box
        if what == "larger":
            wide, high = (x1 - x0) * (grown**0.5 - 1) / 2, (y1 - y0) * (grown**0.5 - 1) / 2
            x0, y0, x1, y1 = x0 - wide, y0 - high, x1 + wide, y1 + high
        if what == "shifted":
            x0, x1 = x0 + 0.1 * (x1 - x0), x1 + 0.1 * (x1 - x0)
        if what == "far away":
            x0, x1 = x0 + 3 * (x1 - x0), x1 + 3 * (x1 - x0)
        found += [(image, kind, label, sure, (x0, y0, x1, y1))] * (2 if what == "doubled" else 1)
    return found


def labelled_set(rng, images, labels):
    """A set as of `confident_set`, its things of several labels that are all equally hard."""
    truth, found = confident_set(rng, images)
    names = tuple(f"label-{i}" for i in range(labels))
    label = rng.integers(0, labels, len(truth.label))
    place = zip(truth.image.codes.tolist(), truth.box[:, 0].tolist(), strict=True)
    true = dict(zip(place, label.tolist(), strict=True))
    said = np.array(
        [
            true.get((image, x), int(rng.integers(0, labels))) if code else labels
            for image, x, code in zip(found.image.codes.tolist(), found.box[:, 0].tolist(), found.label.codes, strict=True)
        ]
    )  # fmt: skip
    return replace(truth, label=Coded(label, names)), replace(
        found, label=Coded(said, (*names, ""))
    )


SERVICES = (
    "calibrated",
    "over",
    "under",
    "high",
    "low",
    "squared",
    "root",
    "top half",
    "tenths",
    "much over",
)
"""How a simulated service's confidences lie next to the shares that are right."""


def confidences(rng, images, service):
    """Confidences of one such service, which are right, and of which image; images are alike in themselves."""
    count = rng.poisson(3, images) + 1
    image = np.repeat(np.arange(images), count)
    score = rng.normal(0.6, 1.5, len(image)) + rng.normal(0, 0.7, images)[image]
    share = 1 / (1 + np.exp(-score))
    odds = {
        "over": 2 * score,
        "under": score / 2,
        "high": score + 1,
        "low": score - 1,
        "much over": 3 * score + 1,
    }
    plain = {
        "calibrated": share,
        "squared": share**2,
        "root": share**0.5,
        "top half": 0.5 + share / 2,
        "tenths": np.round(share, 1),
    }
    said = plain[service] if service in plain else 1 / (1 + np.exp(-odds[service]))
    return said, rng.random(len(image)) < share, image


def brier_change(seed, images, service):
    """How much worse a mapping fitted on so many images makes the Brier score on 4,000 others, and which way it is."""
    from dotledger.core.thresholds.confidence_map_fits import helpful_mapping

    way, knots = helpful_mapping(*confidences(np.random.default_rng(seed), images, service))
    said, right, _ = confidences(np.random.default_rng(7), 4000, service)
    mapped = np.interp(said, *np.array(knots).T)
    return float(np.mean((mapped - right) ** 2) - np.mean((said - right) ** 2)), way
