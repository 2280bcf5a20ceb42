"""One million images with ten findings each in one ledger: sending, size, memory, and every question to it.

``python -m benchmarks million [--quick] [--sizes=10000,100000,1000000]``. Each size runs in a process of its own,
with a transport that answers at once. A folder of small files that differ, all sent but the last hundredth; then
the same sending is taken up again. Takes about an hour in full; not among those that run by themselves.
"""

import io
import itertools
import json
import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

_FINDINGS = 10
_NAMES = ("lantern", "basket", "stall", "banner", "drum")


def _corners():
    import numpy as np

    return np.random.default_rng(1).uniform(0, 20, (_FINDINGS, 2)).round(2)


class _AtOnce:
    """Answers each request with the same ten findings, and notes when the first came."""

    def __init__(self):
        low = _corners()
        things = [
            {"name": _NAMES[n % 5], "sure": round(0.05 + 0.09 * n, 2), "box": [*low[n].tolist(), *(low[n] + 9).tolist()]}
            for n in range(_FINDINGS)
        ]  # fmt: skip
        self.body = json.dumps({"tags": [], "things": things}).encode()
        self.first, self.calls = None, 0
        self.counting = threading.Lock()

    def send(self, _request):
        from dotledger.testing import Response

        with self.counting:
            self.calls += 1
            self.first = self.first or time.perf_counter()
        return Response(status=200, headers={"content-type": "application/json"}, body=self.body)

    def close(self):
        """Nothing is held."""


def _folder(home, count):
    """Make files that differ in a comment only, a thousand to a folder."""
    from PIL import Image

    held = io.BytesIO()
    Image.new("RGB", (32, 32), "navy").save(held, "JPEG", quality=50)
    plain = held.getvalue()
    for start in range(0, count, 1000):
        part = Path(home) / "images" / f"{start // 1000:04}"
        part.mkdir(parents=True)
        for number in range(start, min(start + 1000, count)):
            # Told apart by their density, which is sent: comments are not.
            density = (number % 60_000 + 1).to_bytes(2, "big") + (number // 60_000 + 1).to_bytes(
                2, "big"
            )
            (part / f"{number:07}.jpg").write_bytes(plain[:14] + density + plain[18:])
    return Path(home) / "images"


def _truth(path, count):
    """Write for each image a lantern that is found, and a basket that is not."""
    import numpy as np
    import pandas as pd

    names = np.repeat([f"{n // 1000:04}/{n:07}.jpg" for n in range(count)], 2)
    labels = np.tile(["lantern", "basket"], count)
    low = _corners()[5]
    box = np.tile([[*low, *(low + 9)], [0.0, 0.0, 2.0, 2.0]], (count, 1))
    columns = dict(zip(("x0", "y0", "x1", "y1"), box.T))
    pd.DataFrame({"image": names, "kind": "object", "label": labels, **columns}).to_parquet(path)


def _timed(seconds, what, work, *, times=1):
    """Note how long something takes: the middle of several times, where it can be done again.

    What takes hundredths of a second with few images is else told by whatever came between.
    """
    took = []
    for _ in range(times):
        start = time.perf_counter()
        result = work()
        took.append(time.perf_counter() - start)
    seconds[what] = statistics.median(took)
    return result


def _one(home, count):
    """Measure one size; print the figures as JSON."""
    from dotledger import measure, read_annotations, send
    from dotledger.ledger.batch_queries import batches, find_batch, outcome_counts
    from dotledger.ledger.ledger_store import Ledger
    from dotledger.ledger.usage_queries import usage
    from tests.sending.helpers import TEXT

    ledger, seconds = Path(home) / "l.ledger", {}
    described = Path(home) / "bell.toml"
    described.write_text(TEXT)
    folder = Path(home) / "images"
    _truth(Path(home) / "truth.parquet", count)
    options = {"ledger": ledger, "key": "k"}
    most = count - count // 100
    transport = _AtOnce()
    _timed(
        seconds,
        "send",
        lambda: send(folder, described, transport=transport, at_most=most, **options),
    )
    memory = {"sending": _peak()}
    os.sync()  # what the system has still to write of it would be taken for time of the questions
    # As whoever goes on does it: in a process of its own, from its beginning.
    code = f"import time; began = time.perf_counter(); from benchmarks.million import _again; _again({home!r}, began)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    took, calls, pending = json.loads(done.stdout.splitlines()[-1])
    seconds["resumed, to the first call"] = took
    assert (transport.calls, calls, pending) == (most, count // 100, 0)
    with Ledger(ledger) as opened:
        _timed(
            seconds,
            "batches",
            lambda: [outcome_counts(opened, b) for b in batches(opened)],
            times=5,
        )
        _timed(seconds, "usage", lambda: usage(opened), times=5)
        assert find_batch(opened).images == count
    for what, words in (
        (
            "findings --out x.parquet",
            ["findings", "--ledger", str(ledger), "--out", f"{home}/x.parquet"],
        ),
        ("batches 1", ["batches", "1", "--ledger", str(ledger)]),
    ):
        done = _timed(seconds, what, lambda words=words: _command(words))
        memory[what] = done
    from dotledger import findings_of

    found = _timed(seconds, "findings_of", lambda: findings_of(ledger))
    assert len(found) == count * (_FINDINGS + 1)
    true = read_annotations(Path(home) / "truth.parquet")
    measured = _timed(seconds, "measure", lambda: measure(found, true, draws=0), times=5)
    assert 0 < measured.pooled.recall < 1
    memory["measure"] = _peak()
    print(json.dumps({
        "seconds": seconds,
        "memory": memory,
        "bytes": ledger.stat().st_size,
    }))  # fmt: skip


def _again(home, began):
    """Go on with a sending; print when its first call left, how many there were, what is pending."""
    from dotledger import send

    transport, at = _AtOnce(), Path(home)
    images, described, ledger = at / "images", at / "bell.toml", at / "l.ledger"
    sent = send(images, described, transport=transport, ledger=ledger, key="k")
    print(json.dumps([transport.first - began, transport.calls, sent.pending]))


def _peak():
    """Return the most memory this process ever had, in MB (Linux; elsewhere nothing is known)."""
    status = Path("/proc/self/status")
    lines = status.read_text().splitlines() if status.exists() else []
    return next((int(line.split()[1]) / 1024 for line in lines if line.startswith("VmHWM")), 0.0)


def _command(words):
    """Run a command; return the most memory it had, in MB."""
    code = (
        "import sys; from dotledger.__main__ import run; from benchmarks.million import _peak\n"
        "try: run()\n"
        "except SystemExit: pass\n"
        "print(_peak(), file=sys.stderr)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, *words], capture_output=True, text=True, check=True
    )
    return float(done.stderr.split()[-1])


def main(*, quick=False):
    """Print what each size took, and how it grows."""
    chosen = next((w.partition("=")[2] for w in sys.argv if w.startswith("--sizes=")), "")
    sizes = [int(size) for size in chosen.split(",") if size] or (
        [1_000, 10_000] if quick else [10_000, 100_000, 1_000_000]
    )
    told = {}
    # The pace of a machine changes within such a run. The smaller ones come before the largest and
    # after it, and their times are the mean of both.
    for size in [*sizes, *reversed(sizes[:-1])]:
        told.setdefault(size, []).append(_run(size))
        _tell(size, told[size][-1])
    seconds = {size: _mean([one["seconds"] for one in runs]) for size, runs in told.items()}
    for small, large in itertools.pairwise(sizes):
        steps = {what: seconds[large][what] / s for what, s in seconds[small].items()}
        shown = ", ".join(f"{what} {step:.1f}" for what, step in steps.items())
        print(
            f"{small:,} to {large:,}, times the time (at most 12 for ten times the images): {shown}"
        )


def _run(size):
    """Return the figures of one size, from a process of its own."""
    with tempfile.TemporaryDirectory() as home:
        _folder(home, size)
        code = f"from benchmarks.million import _one; _one({home!r}, {size})"
        words = [sys.executable, "-c", code]
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        if done.returncode:
            raise SystemExit(done.stderr[-3000:])
        return json.loads(done.stdout.splitlines()[-1])


def _mean(runs):
    return {what: statistics.mean(one[what] for one in runs) for what in runs[0]}


def _tell(size, figures):
    seconds, memory = figures["seconds"], figures["memory"]
    print(
        f"{size:,} images: sent at {size * 0.99 / seconds['send']:.0f} a second, "
        f"{figures['bytes'] / size:.0f} bytes an image on disk"
    )
    print("  " + ", ".join(f"{what} {s:.2f} s" for what, s in seconds.items()))
    print(
        "  most memory: " + ", ".join(f"{what} {mb:.0f} MB" for what, mb in memory.items()),
        flush=True,
    )
