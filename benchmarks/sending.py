"""The whole path of sending against a bare loop around urllib3."""

import compileall
import random
import resource
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from contextlib import contextmanager
from io import BytesIO
from pathlib import Path

from benchmarks.server import server

AT_ONCE = 32

DESCRIPTION = """
service = "bench"
[connect]
address = "http://127.0.0.1:{port}"
[[call]]
name = "look"
kinds = ["object"]
path = "/look"
[limits]
at_once = {at_once}
{limits}
[[read]]
kind = "object"
each = "labels[]"
label = "name"
confidence = {{ at = "score" }}
box = {{ at = "box", order = ["x0", "y0", "x1", "y1"] }}
"""


def make_images(folder, count, size=60_000):
    """Write `count` different JPEG files of about `size` bytes."""
    import numpy as np
    from PIL import Image

    rng = np.random.default_rng(1)
    noise = rng.integers(0, 256, (60, 80, 3), dtype=np.uint8)
    image = Image.fromarray(noise).resize((640, 480))
    buffer = BytesIO()
    image.save(buffer, "JPEG", quality=60)
    data = buffer.getvalue()
    pad = max(16, size - len(data))
    folder.mkdir(parents=True)
    for number in range(count):
        marker = _profile(random.Random(number).randbytes(min(max(pad, 150), 65_000)))
        (folder / f"image-{number:06}.jpg").write_bytes(data[:2] + marker + data[2:])


def _profile(noise):
    """Return a segment that is sent with the picture, as a colour profile: it tells images apart."""
    body = len(noise).to_bytes(4, "big") + noise[4:36] + b"acsp" + noise[40:]
    return b"\xff\xe2" + (len(body) + 16).to_bytes(2, "big") + b"ICC_PROFILE\0\1\1" + body


def bare(folder, port, names):
    """Send every file with the bare library; return seconds and CPU seconds."""
    import urllib3

    pool = urllib3.PoolManager(maxsize=AT_ONCE, retries=False)
    todo, lock = iter(names), threading.Lock()

    def work():
        while True:
            with lock:
                name = next(todo, None)
            if name is None:
                return
            data = (folder / name).read_bytes()
            answer = pool.request(
                "POST",
                f"http://127.0.0.1:{port}/look",
                body=data,
                headers={"Content-Type": "image/jpeg"},
            )
            assert answer.status == 200

    return _timed(work)


def _timed(work):
    threads = [threading.Thread(target=work) for _ in range(AT_ONCE)]
    wall, cpu = time.perf_counter(), time.process_time()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return time.perf_counter() - wall, time.process_time() - cpu


def whole(folder, port, at_once=AT_ONCE, limits=""):
    """Send the folder through Dot Ledger; return seconds, CPU seconds and the result."""
    import dotledger
    from dotledger.services.service_description import parse_description

    described = parse_description(DESCRIPTION.format(port=port, at_once=at_once, limits=limits))
    with tempfile.TemporaryDirectory() as home:
        wall, cpu = time.perf_counter(), time.process_time()
        sent = dotledger.send(folder, described, ledger=Path(home) / "l.ledger")
        return time.perf_counter() - wall, time.process_time() - cpu, sent


def throughput(home, count, pairs):
    """Print the ratio of throughputs for three latencies; where a call is quick, of more images."""
    for latency, factor in ((0.2, 1), (0.05, 2), (0.0, 2)):
        ratios, own, bare_own = _pairs(home, latency, factor * count, pairs)
        print(
            f"latency {latency * 1000:3.0f} ms: throughput {statistics.median(ratios):.2f} of the "
            f"bare loop ({min(ratios):.2f} to {max(ratios):.2f} in {pairs} "
            f"pairs of {factor * count} images), own CPU {statistics.median(own):.2f} ms an image "
            f"(at most the bare loop's {statistics.median(bare_own):.2f})",
            flush=True,
        )


def _pairs(home, latency, count, pairs):
    """Return, for each pair of runs, the ratio of throughputs, our own CPU and the bare loop's."""
    folder = home / f"images-{count}"
    if not folder.exists():
        make_images(folder, count)
    names = sorted(path.name for path in folder.iterdir())
    with server() as up:
        whole(folder, up.port)  # imports everything and fills the file cache
    ratios, own, bare_own = [], [], []
    with server(latency) as up:
        for number in range(pairs):
            results = {}
            for which in ("bare", "whole") if number % 2 else ("whole", "bare"):
                results[which] = (
                    bare(folder, up.port, names) if which == "bare" else whole(folder, up.port)
                )
            ratios.append(results["bare"][0] / results["whole"][0])
            own.append((results["whole"][1] - results["bare"][1]) / count * 1000)
            bare_own.append(results["bare"][1] / count * 1000)
    return ratios, own, bare_own


@contextmanager
def neighbours(count):
    """Let so many programs beside use all the processor they get."""
    burn = [sys.executable, "-c", "while True: pass"]
    burning = [subprocess.Popen(burn) for _ in range(count)]
    try:
        yield
    finally:
        for one in burning:
            one.kill()
            one.wait()


def rates(home, count):
    """Print what is reached under a declared and an undeclared limit of 50 a second.

    The service refuses whatever would be the 51st in any second as it counts them itself.
    """
    folder = home / "rated"
    make_images(folder, count, size=20_000)
    declared = "per_second = 50"
    for name, limits, busy in (
        ("declared", declared, 0),
        ("declared, four busy neighbours", declared, 4),
        ("undeclared", "", 0),
    ):
        with neighbours(busy), server(0.02, rate=50) as up:
            seconds, _, sent = whole(folder, up.port, at_once=16, limits=limits)
        assert sent.pending + sent.failed == 0, sent
        share = count / seconds / 50
        refused = up.counts["refused"]
        least = 0.95 if busy else 0.97
        wanted = f"{least}, at most 1 refusal" if limits else "0.75, under 10 %"
        print(
            f"limit of 50/s {name}: {share:.3f} of it, {refused} refusals in {count} images "
            f"({refused / count:.1%}; wanted {wanted})",
            flush=True,
        )


def memory(home):
    """Print how much more memory 20,000 images need than 200."""
    peaks = {}
    for count in (200, 20_000):
        folder = home / f"memory-{count}"
        make_images(folder, count, size=12_000)
        with server() as up:
            peaks[count] = int(_in_process("peak", folder, up.port))
    more = (peaks[20_000] - peaks[200]) / 1024
    print(
        f"peak memory for 20,000 images: {more:.0f} MB above that for 200 (at most 60)", flush=True
    )


def start(home):
    """Print when the first call starts, from the beginning of the command."""
    import dotledger

    folder = home / "memory-20000"
    if not folder.exists():
        make_images(folder, 20_000, size=12_000)
    compileall.compile_dir(Path(dotledger.__file__).parent, quiet=1)  # as pip does
    times = []
    for _ in range(5):
        with server(rate=0) as up, _Listener() as heard:
            times.append(_first_call(folder, heard, home))
            del up
    print(
        f"first call {statistics.median(times):.2f} s after the command begins, for 20,000 files "
        f"(at most 0.50; {min(times):.2f} to {max(times):.2f}; importing NumPy alone takes "
        f"{_importing('numpy'):.2f} s here, and what sending imports {_importing(_IMPORTED):.2f})",
        flush=True,
    )


_IMPORTED = "dotledger.cli.send.send_command, dotledger.sending.batch_api, urllib3"


def _importing(names):
    """Return the median seconds of a fresh process that imports `names`."""
    times = []
    for _ in range(5):
        began = time.perf_counter()
        subprocess.run([sys.executable, "-c", f"import {names}"], check=True)
        times.append(time.perf_counter() - began)
    return statistics.median(times)


class _Listener:
    """A socket that notes when the first connection comes."""

    def __enter__(self):
        import socket

        self.socket = socket.create_server(("127.0.0.1", 0), backlog=64)
        self.port = self.socket.getsockname()[1]
        return self

    def __exit__(self, *_):
        self.socket.close()


def _first_call(folder, heard, home):
    file = home / "bench.toml"
    file.write_text(DESCRIPTION.format(port=heard.port, at_once=4, limits=""))
    ledger = home / f"{heard.port}.ledger"
    code = "from dotledger.cli import run; run()"
    words = ["send", str(folder), "--service", str(file), "--ledger", str(ledger)]
    began = time.perf_counter()
    process = subprocess.Popen(
        [sys.executable, "-c", code, *words], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    heard.socket.settimeout(30)
    heard.socket.accept()
    took = time.perf_counter() - began
    process.kill()
    process.wait()
    return took


def _in_process(what, folder, port):
    words = [sys.executable, "-m", "benchmarks.sending", what, str(folder), str(port)]
    return subprocess.run(words, capture_output=True, text=True, check=True).stdout


def main(quick=False):
    """Run everything; about five minutes, or one with `quick`."""
    with tempfile.TemporaryDirectory() as name:
        home = Path(name)
        throughput(home, 300 if quick else 1500, 5)
        rates(home, 250 if quick else 1000)
        memory(home)
        start(home)


if __name__ == "__main__":
    if sys.argv[1] == "peak":
        whole(Path(sys.argv[2]), int(sys.argv[3]))
        print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
