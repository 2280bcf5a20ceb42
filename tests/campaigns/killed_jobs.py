"""Senders of jobs whose answers come in parts, killed at any moment: what was accepted is never asked anew."""

import json
import random
import tempfile
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from dotledger import findings_of
from tests.forked import started
from tests.sending.helpers import TEXT, number_in, picture

SECTIONS = """path = "/look"
[call.job]
id = "id"
path = "/jobs/{id}"
state = "state"
done = ["done"]
every = 0.01
[call.more]
next = "next"
"""


class _Working(BaseHTTPRequestHandler):
    """Accepts a picture as a job, which is done at the third poll; its answer has three parts."""

    protocol_version = "HTTP/1.1"

    def do_POST(self):
        number = number_in(self.rfile.read(int(self.headers["Content-Length"])))
        time.sleep(self.server.pause)
        self._reply({"id": f"j{number}", "state": "working"})
        self.server.accepted.append(number)

    def do_GET(self):
        name = self.path.rpartition("/")[2]
        number, part = int(name.strip("j").partition("-")[0]), int(name.partition("-")[2] or "0")
        self.server.polls[number] = self.server.polls.get(number, 0) + 1
        time.sleep(self.server.pause)
        if self.server.polls[number] < 3:
            return self._reply({"state": "working"})
        more = {"next": f"/north/jobs/j{number}-{part + 1}"} if part < 2 else {}
        return self._reply(
            {"state": "done", "tags": [{"name": f"n-{number}-{part}"}], "things": [], **more}
        )

    def _reply(self, document):
        body = json.dumps(document).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.send_header("Content-Type", "application/json")
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_):
        pass


class _Server(ThreadingHTTPServer):
    daemon_threads = True
    request_queue_size = 256

    def handle_error(self, *_):
        """A connection that was cut by a kill is what this is about."""


def attack(kills, seed=0, images=120):
    """Kill senders; count jobs asked for anew although they were accepted before, and images read wrong."""
    rng, wrong, figures = random.Random(seed), {}, {"accepted": 0, "under way at a kill": 0}
    done = 0
    while done < kills:
        with tempfile.TemporaryDirectory() as folder:
            done += _killed(Path(folder), rng, min(20, kills - done), images, wrong, figures)
    return kills, wrong, figures


def _killed(home, rng, kills, images, wrong, figures):
    server = _Server(("127.0.0.1", 0), _Working)
    server.pause, server.accepted, server.polls = 0.004, [], {}
    threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
    text = TEXT.replace("127.0.0.1:1/", f"127.0.0.1:{server.server_port}/").replace(
        'path = "/look"\n', SECTIONS
    )
    (home / "bell.toml").write_text(text)
    (home / "images").mkdir()
    for number in range(images):
        (home / "images" / f"{number:05}.jpg").write_bytes(picture(number))
    words = ("send", "images", "--service", "bell.toml", "--ledger", "l.ledger")
    start = lambda: started(*words, cwd=home, env={"BELL_KEY": "k-1"})  # noqa: E731
    safe = set()
    for _ in range(kills):
        before = len(server.accepted)
        process = start()
        while len(server.accepted) == before and process.is_alive():
            time.sleep(0.002)
        time.sleep(rng.uniform(0, 0.5))
        process.kill()
        process.communicate()
        _count_again(server.accepted[before:], safe, wrong)
        # A job that was asked for its state is one whose number the sender had, whatever the clock
        # says: on a busy machine a sender may not have read yet what was accepted long ago.
        asked = {number for number in server.accepted[before:] if number in server.polls}
        figures["under way at a kill"] += len(set(server.accepted[before:]) - asked)
        safe |= asked
    before = len(server.accepted)
    server.pause = 0
    start().communicate()
    _count_again(server.accepted[before:], safe, wrong)
    figures["accepted"] += len(server.accepted)
    found = findings_of(home / "l.ledger", kinds=["label"])
    pairs = set(zip(found.image.values(), found.label.values()))
    right = {(f"{n:05}.jpg", f"n-{n}-{part}") for n in range(images) for part in range(3)}
    if pairs != right:
        wrong[f"{len(right ^ pairs)} findings wrong or missing"] = 1
    server.shutdown()
    server.server_close()
    return kills


def _count_again(accepted, safe, wrong):
    """Note jobs that are asked for anew although their sender had asked for their state before it was killed."""
    for number in accepted:
        if number in safe:
            wrong[f"job {number} was asked for anew"] = (
                wrong.get(f"job {number} was asked for anew", 0) + 1
            )
