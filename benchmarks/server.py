"""A bare HTTP server for the benchmarks: a fixed answer after a fixed time, or a rate limit."""

import asyncio
import json
import subprocess
import sys
from collections import deque
from contextlib import contextmanager

ANSWER = json.dumps(
    {
        "labels": [
            {"name": f"thing {n}", "score": 0.9 - n / 20, "box": [10 * n, 5, 10 * n + 40, 60]}
            for n in range(10)
        ]
    }
).encode()


class Handler(asyncio.Protocol):
    """Reads requests by their length and answers each after the latency."""

    def __init__(self, state):
        self.state = state
        self.buffer = bytearray()
        self.need = None

    def connection_made(self, transport):
        self.transport = transport

    def data_received(self, data):
        self.buffer += data
        while True:
            if self.need is None:
                end = self.buffer.find(b"\r\n\r\n")
                if end < 0:
                    return
                self.need = end + 4 + _length(bytes(self.buffer[:end]))
            if len(self.buffer) < self.need:
                return
            del self.buffer[: self.need]
            self.need = None
            self.answer()

    def answer(self):
        loop = asyncio.get_running_loop()
        status, body = self.state.admit(loop.time())
        if self.state.latency:
            loop.call_later(self.state.latency, self.write, status, body)
        else:
            self.write(status, body)

    def write(self, status, body):
        extra = b"Retry-After: 1\r\n" if status == 429 else b""
        head = b"HTTP/1.1 %d X\r\nContent-Type: application/json\r\nContent-Length: %d\r\n%s\r\n"
        self.transport.write(head % (status, len(body), extra) + body)


def _length(head):
    for line in head.lower().split(b"\r\n"):
        if line.startswith(b"content-length:"):
            return int(line.split(b":")[1])
    return 0


class State:
    """Latency and a sliding window of one second; counts what it lets through and refuses."""

    def __init__(self, latency, rate):
        self.latency = latency
        self.rate = rate
        self.times = deque()
        self.taken = self.refused = 0

    def admit(self, now):
        if self.rate:
            while self.times and self.times[0] <= now - 1:
                self.times.popleft()
            if len(self.times) >= self.rate:
                self.refused += 1
                return 429, b'{"error": "later"}'
            self.times.append(now)
        self.taken += 1
        return 200, ANSWER


async def _serve(latency, rate):
    state = State(latency, rate)
    loop = asyncio.get_running_loop()
    server = await loop.create_server(lambda: Handler(state), "127.0.0.1", 0, backlog=512)
    print(server.sockets[0].getsockname()[1], flush=True)
    await loop.run_in_executor(None, sys.stdin.readline)
    print(json.dumps({"taken": state.taken, "refused": state.refused}), flush=True)


class Server:
    """A server in a process of its own; `counts` is there after the block."""

    counts = None
    port = 0


@contextmanager
def server(latency=0.0, rate=0):
    """Run a server while the block lasts."""
    process = subprocess.Popen(
        [sys.executable, "-m", "benchmarks.server", str(latency), str(rate)],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    running = Server()
    running.port = int(process.stdout.readline())
    try:
        yield running
    finally:
        out, _ = process.communicate("stop\n")
        running.counts = json.loads(out)


if __name__ == "__main__":
    asyncio.run(_serve(float(sys.argv[1]), int(sys.argv[2])))
