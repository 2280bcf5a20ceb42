"""How often a 95 % interval holds the true value: shares, false-alarm rates, mean overlap, average precision.

A model says how many images there are, how many cases each has, and how alike the cases of one image are: each
image has a share of its own, drawn from a beta distribution about the true one (its concentration is given; a
low one means that an image is right or wrong as a whole). What is true of average precision is measured on 20,000
images of the same model.
"""

import numpy as np

from dotledger import measure
from dotledger.core.measures.share_limits import ShareSums, mean_limits, share_limits
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded

MODELS = (
    # what, images, mean cases an image, share of images with any, true share, concentration
    ("ordinary", 100, 4, 1.0, 0.80, 8),
    ("few images", 20, 4, 1.0, 0.80, 8),
    ("few images, heavy clustering", 20, 10, 1.0, 0.80, 1),
    ("heavy clustering", 100, 10, 1.0, 0.80, 1),
    ("heavy clustering, 0.97", 100, 10, 1.0, 0.97, 1),
    ("whole images right or wrong", 40, 6, 1.0, 0.60, 0.1),
    ("one case an image", 50, 1, 1.0, 0.70, 1e6),
    ("rare label", 200, 2, 0.1, 0.75, 4),
    ("very rare label", 200, 2, 0.03, 0.75, 4),
    ("share of 0.99", 100, 4, 1.0, 0.99, 8),
    ("share of 0.02", 100, 6, 1.0, 0.02, 4),
    ("three images", 3, 1, 1.0, 0.90, 1e6),
    ("many images", 200, 3, 1.0, 0.50, 2),
    ("false-alarm rate of 0.05, 60 images, 8 labels", 60, 8, 1.0, 0.05, 2),
    ("false-alarm rate of 0.005, 200 images, 8 labels", 200, 8, 1.0, 0.005, 2),
)

OVERLAPS = (
    # what, images, mean pairs an image, true mean overlap, concentration of images, of pairs
    ("ordinary", 100, 3, 0.80, 20, 20),
    ("few images", 20, 3, 0.80, 20, 20),
    ("images alike", 60, 6, 0.75, 3, 40),
    ("near 1", 100, 3, 0.97, 20, 20),
    ("five images", 5, 2, 0.80, 10, 10),
    ("all nearly equal", 30, 2, 0.90, 1000, 1000),
)

CURVES = (
    # what, images, labels, mean annotated an image, share found, false an image, how much better right ones score
    ("ordinary", 100, 1, 2, 0.8, 1.0, 1.0),
    ("few images", 20, 1, 2, 0.8, 1.0, 1.0),
    ("nearly all right", 60, 1, 2, 0.97, 0.05, 2.0),
    ("many false ones", 60, 1, 1, 0.6, 4.0, 0.5),
    ("three labels", 60, 3, 3, 0.8, 1.0, 1.0),
    ("images alike", 60, 1, 4, 0.7, 2.0, 1.0),
)


def coverage(model, runs, seed=0):
    """Return the share of runs whose interval holds the true value, and its mean width."""
    _, images, cases, with_any, share, concentration = model
    rng = np.random.default_rng(seed)
    shape = (runs, images)
    m = (1 + rng.poisson(cases - 1, shape)) * (rng.random(shape) < with_any)
    own = rng.beta(share * concentration, (1 - share) * concentration, shape)
    return _held(*share_limits(ShareSums.of_images(rng.binomial(m, own), m)), share)


def overlap_coverage(model, runs, seed=0):
    """As `coverage`, of mean overlap: each pair's overlap lies about that of its image."""
    _, images, pairs, mean, of_images, of_pairs = model
    rng = np.random.default_rng(seed)
    m = 1 + rng.poisson(pairs - 1, (runs, images))
    own = rng.beta(mean * of_images, (1 - mean) * of_images, (runs, images))
    most = m.max()
    values = rng.beta(
        own[..., None] * of_pairs + 1e-9,
        (1 - own[..., None]) * of_pairs + 1e-9,
        (runs, images, most),
    )
    x = np.where(np.arange(most) < m[..., None], values, 0.0).sum(axis=-1)
    return _held(*mean_limits(ShareSums.of_images(x, m)), mean)


def curve_coverage(model, runs, seed=0):
    """As `coverage`, of average precision: of all labels together, and of the mean over labels."""
    rng = np.random.default_rng(seed)
    true = _curve(measure(*curve_set(model, rng, 20_000), draws=0))
    ends = np.array(
        [_ends(measure(*curve_set(model, rng, model[1]), seed=run)) for run in range(runs)]
    )
    return [_held(ends[:, n, 0], ends[:, n, 1], true[n]) for n in range(2)]


def _curve(result):
    kind = result.kinds["object"]
    return kind.pooled.average_precision, kind.mean_over_labels["average_precision"]


def _ends(result):
    kind = result.kinds["object"]
    return kind.pooled.intervals["average_precision"], kind.mean_intervals["average_precision"]


def _held(low, high, true):
    holds = (low <= true) & (true <= high)
    defined = ~np.isnan(low)
    return holds[defined].mean(), (high - low)[defined].mean(), 1 - defined.mean()


def curve_set(model, rng, images):
    """Return findings and annotations; how hard an image is, is its own where images are alike."""
    what, _, labels, annotated, found, false, better = model
    hard = rng.beta(1, 1, images) if what == "images alike" else np.full(images, 0.5)
    count = rng.poisson(annotated, images)
    image = np.repeat(np.arange(images), count)
    place = np.arange(len(image)) - np.repeat(np.cumsum(count) - count, count)
    label = rng.integers(0, labels, len(image))
    share = np.clip(found + (0.5 - hard) * 0.5, 0, 1)
    kept = rng.random(len(image)) < share[image]
    other = np.repeat(np.arange(images), rng.poisson(false * 2 * hard))
    right = _sure(rng, better + 0.5 - hard[image[kept]])
    wrong = _sure(rng, 0.5 - hard[other])
    names = tuple(f"image-{i}" for i in range(images))
    known = tuple(f"label-{i}" for i in range(labels))
    truth = Annotations(
        image=Coded(image, names),
        kind=_one(len(image), "object"),
        label=Coded(label, known),
        box=_boxes(20.0 * place),
        ignore=np.zeros(len(image), dtype=bool),
    )
    blank = np.full(images, labels)
    return Findings(
        image=Coded(np.r_[image[kept], other, np.arange(images)], names),
        kind=_one(kept.sum() + len(other) + images, "object"),
        label=Coded(np.r_[label[kept], rng.integers(0, labels, len(other)), blank], (*known, "")),
        confidence=np.r_[right, wrong, np.full(images, np.nan)],
        box=np.vstack(
            [
                _boxes(20.0 * place[kept]),
                _boxes(1e6 + np.zeros(len(other))),
                np.full((images, 4), np.nan),
            ]
        ),
    ), truth


def _sure(rng, shift):
    return 1 / (1 + np.exp(-(rng.normal(0, 1, np.shape(shift)) + shift)))


def _one(length, name):
    return Coded(np.zeros(length, dtype=np.intp), (name,))


def _boxes(x):
    return np.stack([x, np.zeros(len(x)), x + 10, np.full(len(x), 10.0)], axis=1)


def main(*, quick=False):
    """Print the tables of the guide."""
    runs = 2_000 if quick else 20_000
    print(f"Shares, {runs:,} sets each; no interval: the share of sets with fewer than two images")
    print(
        "| model | images | true share | holds | mean width | no interval |\n| --- | --- | --- | --- | --- | --- |"
    )
    for model in MODELS:
        _line(model, model[4], coverage(model, runs))
    print(
        f"\nMean overlap, {runs // 4:,} sets each\n\n| model | images | true | holds | mean width | no interval |"
    )
    print("| --- | --- | --- | --- | --- | --- |")
    for model in OVERLAPS:
        _line(model, model[3], overlap_coverage(model, runs // 4))
    print(
        f"\nAverage precision, {runs // 20:,} sets each\n\n| model | images | of | holds | mean width | no interval |"
    )
    print("| --- | --- | --- | --- | --- | --- |")
    for model in CURVES:
        for what, held in zip(("all", "mean over labels"), curve_coverage(model, runs // 20)):
            _line(model, what, held)


def _line(model, true, held):
    holds, width, none = held
    print(f"| {model[0]} | {model[1]} | {true} | {holds:.1%} | {width:.2f} | {none:.1%} |")
