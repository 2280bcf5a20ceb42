"""Rereading, checking and every reader of strangers' files over two decades.

Each step of ten times the work may take at most twelve times the time.
"""

import itertools
import tempfile
import time
from pathlib import Path

import numpy as np
import pandas as pd

from dotledger import Annotations, Findings, send
from dotledger.api.rereading import reread
from dotledger.core.questions.box_conventions import ImageSize, check_conventions
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.testing import FakeTransport
from tests.campaigns import strangers_files
from tests.sending.helpers import ANSWER, description, picture


def _ledger(folder, images):
    path = Path(folder) / f"{images}.ledger"
    named = {f"p-{number}": picture(number) for number in range(images)}
    send(named, description(), ledger=path, key="k", transport=FakeTransport([ANSWER]))
    return path


def reread_seconds(folder, images):
    """Return the seconds of rereading a batch by an edited description."""
    edited = description(
        ('confidence = { at = "sure" }', 'confidence = { at = "sure", scale = "percent" }')
    )
    with LedgerStore(_ledger(folder, images)) as ledger:
        start = time.perf_counter()
        result = reread(ledger, find_batch(ledger), edited, now=2e9)
        seconds = time.perf_counter() - start
    assert result.answers == images
    assert len(result.differences) == 2 * images
    return seconds


def check_seconds(images, boxes=10):
    """Return the seconds of comparing conventions for so many images of ten boxes."""
    rng = np.random.default_rng(1)
    count = images * boxes
    low = rng.uniform(0, 500, (count, 2))
    columns = dict(zip(("x0", "y0"), low.T)) | dict(zip(("x1", "y1"), (low + 40).T))
    frame = pd.DataFrame(
        {
            "image": np.repeat([f"i{n}" for n in range(images)], boxes),
            "kind": "object",
            "label": "x",
            **columns,
        }
    )
    found, truth = Findings.from_frame(frame), Annotations.from_frame(frame)
    sizes = {
        f"i{n}": ImageSize(width=640, height=640, sent_width=320, sent_height=320)
        for n in range(images)
    }
    start = time.perf_counter()
    fits = check_conventions(found, truth, sizes)
    assert fits[0].mean_overlap > 0.99
    return time.perf_counter() - start


def _told(what, sizes, seconds):
    steps = [b / a for a, b in itertools.pairwise(seconds)]
    listed = ", ".join(f"{size:,}: {s:.2f} s" for size, s in zip(sizes, seconds))
    print(
        f"{what} {listed}; ten times the work in {', '.join(f'{s:.1f}' for s in steps)} times the time (at most 12)"
    )


def main(*, quick=False):
    """Print all of them."""
    sizes = (200, 2_000) if quick else (200, 2_000, 20_000)
    for name in strangers_files.READERS:
        sizes_of, seconds, _ = strangers_files.growth(name, decades=1 if quick else 2)
        _told(f"{name},", sizes_of, seconds)
    with tempfile.TemporaryDirectory() as folder:
        _told("reread, answers", sizes, [reread_seconds(folder, size) for size in sizes])
    _told("check, images of ten boxes", sizes, [check_seconds(size) for size in sizes])
