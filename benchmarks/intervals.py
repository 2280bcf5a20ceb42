"""How often an interval of a share holds the true value, on ten models of images.

A model says how many images there are, how many cases each has, and how alike the cases of one image are: each
image has a share of its own, drawn from a beta distribution about the true one (its concentration is given; a
low one means that an image is right or wrong as a whole).
"""

import numpy as np

from dotledger.core.counting.shares import ShareSums, share_limits

MODELS = (
    # what, images, mean cases an image, share of images with any, true share, concentration
    ("ordinary", 100, 4, 1.0, 0.80, 8),
    ("few images", 20, 4, 1.0, 0.80, 8),
    ("few images, heavy clustering", 20, 10, 1.0, 0.80, 1),
    ("heavy clustering", 100, 10, 1.0, 0.80, 1),
    ("one case an image", 50, 1, 1.0, 0.70, 1e6),
    ("rare label", 200, 2, 0.1, 0.75, 4),
    ("very rare label", 200, 2, 0.03, 0.75, 4),
    ("share of 0.99", 100, 4, 1.0, 0.99, 8),
    ("share of 0.02", 100, 6, 1.0, 0.02, 4),
    ("many images", 200, 3, 1.0, 0.50, 2),
)


def coverage(model, runs, seed=0):
    """Return the share of runs whose interval holds the true value, and its mean width."""
    _, images, cases, with_any, share, concentration = model
    rng = np.random.default_rng(seed)
    shape = (runs, images)
    m = (1 + rng.poisson(cases - 1, shape)) * (rng.random(shape) < with_any)
    own = rng.beta(share * concentration, (1 - share) * concentration, shape)
    low, high = share_limits(ShareSums.of_images(rng.binomial(m, own), m))
    defined = ~np.isnan(low)
    holds = (low <= share) & (share <= high)
    return holds[defined].mean(), (high - low)[defined].mean(), 1 - defined.mean()


def main(*, quick=False):
    """Print the table of the guide."""
    runs = 2_000 if quick else 20_000
    print(f"{runs:,} sets each; a dash counts as no interval")
    print(
        "| model | images | true share | holds | mean width | no interval |\n| --- | --- | --- | --- | --- | --- |"
    )
    for model in MODELS:
        holds, width, none = coverage(model, runs)
        print(f"| {model[0]} | {model[1]} | {model[4]} | {holds:.1%} | {width:.2f} | {none:.1%} |")
