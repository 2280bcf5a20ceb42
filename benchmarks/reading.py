"""Reading answers against parsing the same bytes with the standard library."""

import json
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from dotledger.core.boxes.image_frames import Frame
from dotledger.services.answer_reading import Reader
from dotledger.services.service_description import parse_description

DESCRIPTION = """
service = "bench"
[connect]
address = "http://127.0.0.1:1"
[[call]]
name = "look"
kinds = ["object"]
path = "/"
[[read]]
kind = "object"
each = "labels[].occurrences[]"
label = "^name"
confidence = { at = "score", scale = "percent" }
box = { at = "place", form = "corner+size", unit = "fraction", fields = { x0 = "left", y0 = "top", width = "width", height = "height" } }
parents = "^broader"
"""


def answer(number):
    """About 5 KB with 20 findings."""
    labels = []
    for n in range(10):
        occurrences = [
            {
                "score": 90.125 - n - k / 7,
                "place": {
                    "left": 0.1 + n / 100,
                    "top": 0.2 + k / 50,
                    "width": 0.25,
                    "height": 0.125,
                },
                "id": f"{number:08}-{n:04}-{k:04}-{'x' * 60}",
            }
            for k in range(2)
        ]
        labels.append(
            {
                "name": f"thing {n}",
                "score": 91.5 - n,
                "broader": ["goods", "things of the evening"],
                "occurrences": occurrences,
            }
        )
    return json.dumps({"labels": labels, "model": "evening-2"}).encode()


def pair(answers):
    """Return seconds for reading and for parsing the same bytes."""
    described = parse_description(DESCRIPTION)
    reader, frame = Reader(described), Frame(800, 600, 800, 600)
    start = time.perf_counter()
    found = sum(len(reader.read(raw, "look", ("object",), [frame])[0].found) for raw in answers)
    middle = time.perf_counter()
    for raw in answers:
        json.loads(raw)
    assert found == 20 * len(answers)
    return middle - start, time.perf_counter() - middle


def main(quick=False):
    """Print the ratio, its growth, and the memory of reading again from a ledger."""
    count = 4_000 if quick else 20_000
    answers = [answer(n) for n in range(count)]
    size = statistics.mean(map(len, answers))
    pair(answers[:200])
    pairs = [pair(answers) for _ in range(3)]
    ratio = statistics.median(a / b for a, b in pairs)
    small = statistics.median(a for a, _ in (pair(answers[: count // 10]) for _ in range(5)))
    growth = statistics.median(a for a, _ in pairs) / small / 10
    print(
        f"{count} answers of {size:.0f} bytes and 20 findings: reading {ratio:.1f} times parsing (at most 6)"
    )
    print(f"ten times the answers in {growth * 10:.1f} times the time")
    peaks = {}
    for number in (200, count):
        words = [sys.executable, "-m", "benchmarks.reading", str(number)]
        peaks[number] = int(
            subprocess.run(words, capture_output=True, text=True, check=True).stdout
        )
    more = (peaks[count] - peaks[200]) / 1024
    print(f"streamed from a ledger: {more:.0f} MB more for {count} answers than for 200")


def _stream(count):
    """Read `count` answers out of a ledger one by one and print the peak memory."""
    from dotledger import LedgerStore, send
    from dotledger.ledger.answer_queries import kept_answers
    from dotledger.ledger.batch_queries import find_batch
    from dotledger.testing import FakeTransport, Response
    from tests.sending.helpers import picture

    described = parse_description(DESCRIPTION)
    reply = Response(status=200, headers={"content-type": "application/json"}, body=answer(1))
    with tempfile.TemporaryDirectory() as home:
        images = Path(home) / "images"
        images.mkdir()
        for number in range(count):
            (images / f"{number:06}.jpg").write_bytes(picture(number))
        send(images, described, ledger=Path(home) / "l", transport=FakeTransport(lambda _: reply))
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        reader = Reader(described)
        with LedgerStore(Path(home) / "l") as ledger:
            for kept in kept_answers(ledger, find_batch(ledger)):
                frame = Frame(kept.width, kept.height, kept.sent_width, kept.sent_height)
                reader.read(kept.answer, kept.call, ("object",), [frame])
    print(max(0, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before))


if __name__ == "__main__":
    _stream(int(sys.argv[1]))
