"""Twenty million findings in 64 parts, measured with Dask on one and on two workers of 1 GB each.

``python -m benchmarks scaling [--quick] [--whole]``. With ``--whole`` also in one table on one
machine, which takes some 16 GB, and the results are compared. Not among those that run by
themselves: it takes a quarter of an hour.
"""

import json
import os
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np

from benchmarks.million import _peak

_LABELS = tuple(f"thing-{n:02}" for n in range(20))
_KINDS = (("object", 0.7, _LABELS), ("face", 0.15, ("face",)), ("label", 0.1, ("dusk", "fair", "rain")),
          ("unsafe", 0.05, ("smoking", "weapon")))  # fmt: skip
_AN_IMAGE = 11
_NAMED = ("image", "kind", "label", "confidence", "x0", "y0", "x1", "y1")


def make_parts(home, parts, findings):
    """Write parts of so many findings each, as a program of the user's own would."""
    for side in ("findings", "annotations", "images"):
        (home / side).mkdir(parents=True)
    with ProcessPoolExecutor() as workers:
        list(workers.map(partial(_make_part, home, findings=findings), range(parts)))


def _make_part(home, number, findings):
    import pandas as pd

    rng = np.random.default_rng(number)
    images = findings // _AN_IMAGE
    names = np.array([f"part-{number:02}/{n:06}.jpg" for n in range(images)])
    image = np.sort(rng.integers(0, images, findings))
    kind = rng.choice(len(_KINDS), findings, p=[share for _, share, _ in _KINDS])
    label = np.empty(findings, dtype=object)
    for code, (_, _, labels) in enumerate(_KINDS):
        rows = np.flatnonzero(kind == code)
        label[rows] = np.array(labels, dtype=object)[rng.integers(0, len(labels), len(rows))]
    low, side = rng.uniform(40, 780, (findings, 2)), rng.uniform(8, 200, (findings, 2))
    box = np.hstack([low, low + side])
    boxed = kind < 2
    kinds = np.array([name for name, _, _ in _KINDS], dtype=object)[kind]
    right = rng.random(findings) < 0.8
    sure = np.where(right, rng.beta(5, 2, findings), rng.beta(2, 4, findings)).round(4)
    moved = np.clip(box + np.tile(rng.normal(0, 4, (findings, 2)), 2), 0, 1000)
    frame = pd.DataFrame({"image": names[image], "kind": kinds, "label": label, "confidence": sure})
    for place, name in enumerate(_NAMED[4:]):
        frame[name] = np.where(boxed, moved[:, place], np.nan)
    file = f"part-{number:05}.parquet"
    frame.to_parquet(home / "findings" / file, index=False)
    truth = frame.drop(columns="confidence")
    for place, name in enumerate(_NAMED[4:]):
        truth[name] = np.where(boxed, box[:, place], np.nan)
    truth = truth[right].drop_duplicates(["image", "kind", "label", *_NAMED[4:]])
    lacking = ~pd.Index(names).isin(truth["image"])
    rest = pd.DataFrame({"image": names[lacking]}).assign(kind="", label="")
    pd.concat([truth, rest]).to_parquet(home / "annotations" / file, index=False)
    pd.DataFrame({"image": names, "width": 1000, "height": 1000}).to_parquet(home / "images" / file)


def _on_workers(home, workers):
    """Measure on so many workers; print times, memory and the result as JSON."""
    from distributed import Client, LocalCluster

    from dotledger.distributed import dask_engine as dask

    parts = dask.parts_in(home)
    seconds = {}
    options = {"threads_per_worker": 1, "memory_limit": "1GB", "dashboard_address": None}
    with LocalCluster(n_workers=workers, **options) as cluster, Client(cluster) as client:
        # What a worker imports once does not grow with the tables.
        dask.measure(parts[:workers], client=client, draws=0)
        before = client.run(os.getpid)
        result = _timed(
            seconds, "measure", lambda: dask.measure(parts, client=client, threshold=0.5, draws=0)
        )
        sliced = _timed(seconds, "by size", lambda: result.by("size"))
        why = _timed(seconds, "why", result.why)
        swept = _timed(seconds, "sweep", lambda: result.sweep("kind", intervals=False))
        same = client.run(os.getpid) == before
        peaks = client.run(_peak)
    told = {
        "seconds": seconds,
        "most in a worker": max(peaks.values()),
        "here": _peak(),
        "no worker began anew": same,
        "result": _result(result, sliced, why, swept),
    }
    print(json.dumps(told))


def _result(result, sliced, why, swept):
    """Return what must be equal, however it was made."""
    plain = result.to_dict()
    plain.pop("notes")
    slices = {kind: one.to_dict() for kind, one in sliced.items()}
    return [plain, slices, why.totals("wrong"), why.totals("missed"), len(swept.table)]


def _alone(home):
    """Measure in one table on one machine; print the same."""
    import dotledger
    from dotledger.distributed.partitioned_tables import parts_in

    seconds = {}
    parts = parts_in(home)
    found = dotledger.Findings.concat([dotledger.read_findings(part.findings) for part in parts])
    truth = dotledger.Annotations.concat(
        [dotledger.read_annotations(part.annotations, images=part.images) for part in parts]
    )
    result = _timed(
        seconds, "measure", lambda: dotledger.measure(found, truth, threshold=0.5, draws=0)
    )
    sliced = _timed(seconds, "by size", lambda: result.by("size"))
    why = _timed(seconds, "why", result.why)
    swept = _timed(seconds, "sweep", lambda: result.sweep("kind", intervals=False))
    told = {"seconds": seconds, "here": _peak(), "result": _result(result, sliced, why, swept)}
    print(json.dumps(told))


def _timed(seconds, what, work):
    start = time.perf_counter()
    result = work()
    seconds[what] = time.perf_counter() - start
    return result


def _process(code):
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    if done.returncode:
        print(done.stderr[-3000:])
        raise SystemExit(1)
    return json.loads(done.stdout.splitlines()[-1])


def main(*, quick=False):
    """Print what one and two workers took, and whether the results are one."""
    parts, findings = (8, 20_000) if quick else (64, 312_500)
    with tempfile.TemporaryDirectory() as name:
        home = Path(name)
        make_parts(home, parts, findings)
        size = sum(file.stat().st_size for file in home.rglob("*.parquet"))
        print(
            f"{parts * findings:,} findings in {parts} parts, {size / 1e6:,.0f} MB of Parquet",
            flush=True,
        )
        told = {}
        for workers in (1, 2):
            told[workers] = _process(
                f"from pathlib import Path; from benchmarks.scaling import _on_workers\n"
                f"if __name__ == '__main__': _on_workers(Path({name!r}), {workers})"
            )
            _tell(f"{workers} worker{'s' if workers > 1 else ''}", told[workers])
        for what, took in told[1]["seconds"].items():
            print(f"  {what}: two workers {took / told[2]['seconds'][what]:.2f} times one")
        whole = sum(told[1]["seconds"].values()) / sum(told[2]["seconds"].values())
        print(f"  all: two workers {whole:.2f} times one (wanted 1.6)")
        print(f"  results equal: {told[1]['result'] == told[2]['result']}", flush=True)
        if "--whole" in sys.argv:
            alone = _process(
                f"from pathlib import Path; from benchmarks.scaling import _alone; _alone(Path({name!r}))"
            )
            _tell("one table", alone)
            print(f"  the same as in parts: {alone['result'] == told[1]['result']}")


def _tell(what, told):
    seconds = ", ".join(f"{name} {s:.1f} s" for name, s in told["seconds"].items())
    memory = f"most memory here {told['here']:,.0f} MB"
    if "most in a worker" in told:
        memory += f", in a worker {told['most in a worker']:,.0f} MB of 1,000"
        memory += "" if told["no worker began anew"] else "; A WORKER BEGAN ANEW"
    print(f"{what}: {seconds}; {memory}", flush=True)
