"""Real processes that send: killed at any moment, and many at once into one ledger."""

import hashlib
import os
import random
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from dotledger import findings_of
from tests.sending.helpers import TEXT, picture

COMMAND = [sys.executable, "-m", "dotledger"]
GRACE = 0.2
"""Seconds within which an answer that came must be where a kill cannot reach it.

That it came is seen when its connection is used again: a sender reads an answer whole before that. On a
busy machine it may lie in the sender's socket for longer than this, and the call is still under way.
"""


TICK = 0.008
"""Seconds: twice the step in which the system knows when bytes came."""


def came_in(connection):
    """When the system got the last bytes of a request, in seconds of the steady clock.

    A service counts a call when it arrives. This process may be stopped for a tenth of a second
    just then (two processors, ten processes): 8 calls that wait for it would seem to have come
    together, and 50 a second were counted as 55. Linux tells how long ago bytes came.
    """
    if not hasattr(socket, "TCP_INFO"):
        return time.monotonic()
    told = connection.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, 104)
    return time.monotonic() - struct.unpack_from("I", told, 52)[0] / 1000  # tcpi_last_data_recv


class Counting(ThreadingHTTPServer):
    """Answers with the number of the picture it was sent, and remembers when."""

    daemon_threads = True
    request_queue_size = 256

    def __init__(self, pause=0.004, host="127.0.0.1"):
        super().__init__((host, 0), _Answering)
        self.pause = pause
        self.numbers = {}
        self.answered = []
        self.arrived = []
        self.open = threading.Event()  # while it is closed, calls wait for their answers
        self.open.set()
        self.came = []
        threading.Thread(target=self.serve_forever, args=(0.01,), daemon=True).start()

    def handle_error(self, *_):
        """A connection that was cut by a kill is what this is about."""


class _Answering(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    last = None

    def do_POST(self):
        if self.last is not None:
            self.server.came.append((self.last, time.monotonic()))
        data = self.rfile.read(int(self.headers["Content-Length"]))
        self.server.arrived.append(came_in(self.connection))
        number = self.server.numbers[hashlib.sha256(data).hexdigest()]
        time.sleep(self.server.pause)
        self.server.open.wait(60)
        body = b'{"tags": [{"name": "n-%d"}], "things": []}' % number
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.send_header("Content-Type", "application/json")
        self.end_headers()
        self.wfile.write(body)
        self.server.answered.append((number, time.monotonic()))
        self.last = number

    def log_message(self, *_):
        pass


class Place:
    """A folder with images, a description and a server."""

    def __init__(self, home, images, pause=0.004, name="bell", host="127.0.0.1"):
        self.home = Path(home)
        self.server = Counting(pause, host)
        port = self.server.server_port
        text = TEXT.replace("127.0.0.1:1/", f"127.0.0.1:{port}/")
        (self.home / "bell.toml").write_text(text.replace('"bell"', f'"{name}"', 1))
        for folder in ("images", "others"):
            (self.home / folder).mkdir()
        for number in range(images):
            data = picture(number)
            self.server.numbers[hashlib.sha256(data).hexdigest()] = number
            (self.home / "images" / f"{number:05}.jpg").write_bytes(data)
            if number % 2:
                (self.home / "others" / f"o-{number:05}.jpg").write_bytes(data)

    def start(self, ledger="l.ledger", folder="images"):
        words = ["send", folder, "--service", "bell.toml", "--ledger", str(ledger)]
        return subprocess.Popen(
            [*COMMAND, *words],
            cwd=self.home,
            env={**os.environ, "BELL_KEY": "k-1"},
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            text=True,
        )

    def close(self):
        self.server.shutdown()
        self.server.server_close()


def wrong_images(where, images, batch=None):
    """How many images hold findings of another one, or none."""
    found = findings_of(where, batch=batch, kinds=["label"])
    names, labels = found.image.values(), found.label.values()
    right = {
        (n, label)
        for n, label in zip(names, labels)
        if label == f"n-{int(n.rpartition('-')[2].partition('.')[0])}"
    }
    return images - len(right) + (len(names) - len(right))


def kill_senders(kills, seed=0, images=1500):
    """Kill senders at random moments; return (kills, failures by what went wrong, figures)."""
    rng, wrong, done = random.Random(seed), {}, 0
    figures = {"answers": 0, "asked again": 0}
    while done < kills:
        with tempfile.TemporaryDirectory() as home:
            place = Place(home, images)
            for _ in range(min(25, kills - done)):
                lost, again = _kill_one(place, rng)
                wrong["lost though it had come"] = wrong.get("lost though it had come", 0) + lost
                figures["asked again"] += again
                done += 1
            place.server.pause = 0
            process = place.start()
            process.communicate()
            bad = wrong_images(Path(home) / "l.ledger", images)
            wrong["wrong image"] = wrong.get("wrong image", 0) + bad
            figures["answers"] += len(place.server.answered)
            place.close()
    return kills, {name: count for name, count in wrong.items() if count}, figures


def _kill_one(place, rng):
    """Kill one sender; count answers from before the grace that are asked for again, and all such."""
    before = len(place.server.answered)
    process = place.start()
    waited = time.monotonic() + 20
    while len(place.server.answered) == before and time.monotonic() < waited:
        if process.poll() is not None:
            return 0, 0
        time.sleep(0.002)
    time.sleep(rng.uniform(0, 0.6))
    killed = time.monotonic()
    process.kill()
    process.communicate()
    came = place.server.answered[:]
    safe = {number for number, moment in place.server.came if moment < killed - GRACE}
    seen = [number for number, _ in came[before:]]
    earlier = {number for number, _ in came[:before]}
    again = [number for number in seen if number in earlier]
    place.safe = getattr(place, "safe", set())
    lost = sum(number in place.safe for number in seen)
    place.safe |= safe
    return lost, len(again)


def send_at_once(starts, seed=0, processes=8, images=60, ledger=None, old=False):
    """Start processes on one ledger at once; return (starts, failures by what went wrong).

    Half send the same batch, half another one of which every image is also in the first.
    """
    wrong = {}
    for start in range(starts):
        with tempfile.TemporaryDirectory() as home:
            place = Place(home, images, name=f"bell-{seed}-{start}")
            where = ledger or Path(home) / "l.ledger"
            if old:
                place.server.pause = 0
                place.start(where, "others").communicate()
                place.server.pause = 0.004
            _all_at_once(place, where, processes)
            place.start(where).communicate()
            asked = [number for number, _ in place.server.answered]
            if twice := len(asked) - len(set(asked)):
                wrong["paid twice"] = wrong.get("paid twice", 0) + twice
            if len(set(asked)) < images:
                wrong["not sent"] = wrong.get("not sent", 0) + images - len(set(asked))
            place.close()
    return starts, wrong


def _all_at_once(place, where, processes):
    running = [
        place.start(where, "others" if number % 2 else "images") for number in range(processes)
    ]
    for process in running:
        _, said = process.communicate(timeout=180)
        if process.returncode not in (0, 2) or "Traceback" in said:
            raise AssertionError(f"exit {process.returncode}: {said[-800:]}")
