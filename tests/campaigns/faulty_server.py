"""A server that breaks HTTP in every way it can, and tells which request each answer is for."""

import json
import random
import re
import socket
import threading
import time

from dotledger.sending.calls.http_transport import HttpTransport
from dotledger.testing import NoAnswer, Request
from tests.campaigns.hostile_answers import bombs


def whole(number, extra=b""):
    """A right answer that names its request."""
    body = json.dumps({"for": number}).encode() + extra
    return b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%b" % (len(body), body)


def _hints(number):
    return b"HTTP/1.1 103 Early Hints\r\nLink: </a>\r\n\r\n" + whole(number)


def _continue(number):
    return b"HTTP/1.1 100 Continue\r\n\r\n" * 5 + b"HTTP/1.1 102 Processing\r\n\r\n" + whole(number)


def _chunked(size):
    return b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n" + size + b"\r\n{}\r\n0\r\n\r\n"


def _length(text):
    return b"HTTP/1.1 200 OK\r\nContent-Length: " + text + b"\r\n\r\n{}"


def _packed(place):
    coding, body = bombs()[place]
    head = f"HTTP/1.1 200 OK\r\nContent-Encoding: {coding}\r\nContent-Length: {len(body)}\r\n\r\n"
    return head.encode() + body


FAULTS = {
    "right": whole,
    "early hints": _hints,
    "continue": _continue,
    "switching": lambda n: b"HTTP/1.1 101 Switching Protocols\r\n\r\n" + whole(n),
    "twice": lambda n: whole(n) + whole(-n),
    "twice, the second later": lambda n: (whole(n), 0.003, whole(-n)),
    "half an answer more": lambda n: whole(n) + whole(-n)[:25],
    "more than its length": lambda n: whole(n) + b"xxxxxxxx",
    "rubbish": lambda n: bytes(random.Random(n).randbytes(200)),
    "no length": lambda n: whole(n).replace(b"Content-Length", b"X-Length"),
    "chunk huge": lambda n: _chunked(b"f" * 40),
    "chunk negative": lambda n: _chunked(b"-5"),
    "chunk odd": lambda n: _chunked(b"2;\xff"),
    "length huge": lambda n: _length(b"9" * 40),
    "length negative": lambda n: _length(b"-1"),
    "length text": lambda n: _length(b"two"),
    "header without end": lambda n: b"HTTP/1.1 200 OK\r\nX: " + b"a" * 200_000,
    "many headers": lambda n: b"HTTP/1.1 200 OK\r\n" + b"X: a\r\n" * 5000 + b"\r\n",
    "status odd": lambda n: b"HTTP/1.1 999999 \xff\r\n\r\n{}",
    "cut": lambda n: whole(n)[:-4],
    "bomb, gzip": lambda n: _packed(0),
    "bomb, deflate": lambda n: _packed(1),
    "gzip cut": lambda n: _packed(2),
    "other squeezing": lambda n: _packed(3),
    "squeezed twice": lambda n: _packed(4),
    "nothing": lambda n: b"",
    "endless 100s": lambda n: "endless",
    "a byte at a time": lambda n: "slow",
    "endless body": lambda n: "flood",
}


class FaultyServer:
    """Each connection is served by a thread; the fault of a request is named in its path."""

    def __init__(self):
        self.listening = socket.create_server(("127.0.0.1", 0), backlog=64)
        self.port = self.listening.getsockname()[1]
        self.sent_twice = set()
        threading.Thread(target=self._accept, daemon=True).start()

    def close(self):
        self.listening.close()

    def _accept(self):
        while True:
            try:
                connection, _ = self.listening.accept()
            except OSError:
                return
            threading.Thread(target=self._serve, args=(connection,), daemon=True).start()

    def _serve(self, connection):
        reading = connection.makefile("rb")
        try:
            while (line := reading.readline()) not in (b"", b"\r\n"):
                length = 0
                while (header := reading.readline()) not in (b"", b"\r\n"):
                    if header.lower().startswith(b"content-length:"):
                        length = int(header.partition(b":")[2])
                number = int(reading.read(length))
                place = int(re.search(rb"/(\d+)", line)[1])
                if not self._answer(connection, list(FAULTS)[place], number):
                    break
        except OSError:
            pass
        finally:
            reading.close()
            connection.close()

    def _answer(self, connection, name, number):
        made = FAULTS[name](number)
        if isinstance(made, tuple):
            first, pause, second = made
            connection.sendall(first)
            time.sleep(pause)
            connection.sendall(second)
            self.sent_twice.add(number)
        elif isinstance(made, bytes):
            connection.sendall(made)
        else:
            self._go_on(connection, made)
        return name not in ("cut", "nothing", "no length", "rubbish", "many headers")

    def _go_on(self, connection, way):
        deadline = time.monotonic() + 3
        piece, pause = {
            "endless": (b"HTTP/1.1 100 Continue\r\n\r\n" * 50, 0.001),
            "slow": (b"H", 0.05),
            "flood": (b"HTTP/1.1 200 OK\r\n\r\n" + b"x" * 300_000, 0),
        }[way]
        while time.monotonic() < deadline:
            connection.sendall(piece)
            time.sleep(pause)


def attack(tries, seed=0, threads=4, timeout=0.5):
    """Send numbered requests, most of them to a fault; return (tries, failures by fault).

    An answer that names another request than the one it was given for is a failure, and so is any
    error but `NoAnswer`, and a call that takes much longer than the deadline.
    """
    server = FaultyServer()
    transport = HttpTransport(timeout=timeout, at_once=threads, most=1 << 20)
    wrong, lock, numbers = {}, threading.Lock(), iter(range(1, tries + 1))

    def go():
        while True:
            with lock:
                number = next(numbers, None)
            if number is None:
                return
            rng = random.Random(f"{seed}-{number}")
            # Right answers come between, over connections that faults may have been on.
            place = 0 if rng.random() < 0.5 else rng.randrange(len(FAULTS))
            if fault := _one(transport, server.port, place, number, timeout):
                with lock:
                    wrong[fault] = wrong.get(fault, 0) + 1

    workers = [threading.Thread(target=go) for _ in range(threads)]
    for worker in workers:
        worker.start()
    for worker in workers:
        worker.join()
    server.close()
    return tries, wrong


def _one(transport, port, place, number, timeout):
    name = list(FAULTS)[place]
    request = Request(
        method="POST", address=f"http://127.0.0.1:{port}/{place}", body=str(number).encode()
    )
    began = time.monotonic()
    try:
        response = transport.send(request)
    except NoAnswer as error:
        response = None
        if name == "right" and "unasked" not in str(error) and error.trouble != "cut":
            return f"right: {error}"
    except BaseException as error:
        return f"{name}: {type(error).__name__}: {error}"
    if time.monotonic() - began > timeout + 2:
        return f"{name}: took {time.monotonic() - began:.1f} s"
    misfiled = (
        response is not None and not response.fault and _is_for(response.body) not in (None, number)
    )
    return f"{name}: an answer filed under the wrong request" if misfiled else ""


def _is_for(body):
    """The request that an answer names, None if it names none."""
    try:
        said = json.loads(body)
    except ValueError:
        return None
    return said.get("for") if isinstance(said, dict) else None
