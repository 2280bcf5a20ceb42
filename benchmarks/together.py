"""Several senders of one batch on a PostgreSQL server: throughput, and a declared rate that all share.

``python -m benchmarks together [--quick]``. Real processes, a real server, a service that counts. Rates are
those of the middle of a run: how long processes take to start is left out, and told.
"""

import multiprocessing
import tempfile
import time

from tests.campaigns.crews import PROGRAMS, Server, Shared


def main(*, quick):
    """Print one line for each measurement."""
    if not (PROGRAMS / "initdb").exists():
        print("no PostgreSQL server here: nothing was measured")
        return
    each = 100 if quick else 300
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        try:
            _throughput(server.address, each)
            for burners in (0,) if quick else (0, 4):
                _shared_rate(server.address, 4 * each, burners)
        finally:
            server.stop()


def _throughput(address, each):
    """Show what four senders do in the time of one, at 200 ms a call."""
    rates = {}
    for senders in (1, 4):
        with tempfile.TemporaryDirectory() as home:
            shared = Shared(home, address, each * senders, 0.2, (), f"bell-{senders}")
            began = time.monotonic()
            shared.run(senders)
            took = time.monotonic() - began
            rates[senders] = shared.rate()
            paid = sum(shared.asked().values()) - each * senders
            print(
                f"{senders} senders, 200 ms: {rates[senders]:.1f} calls a second, {took:.1f} s with starting, "
                f"paid twice: {paid}"
            )
            shared.place.close()
    print(f"4 senders are {rates[4] / rates[1]:.2f} times one (at least 3.6)")


def _shared_rate(address, images, burners):
    """Show how far eight senders use a rate of 50 a second, and that they never go over it."""
    neighbours = [multiprocessing.Process(target=_burn, daemon=True) for _ in range(burners)]
    for one in neighbours:
        one.start()
    changes = [("at_once = 4", "at_once = 4\nper_second = 50")]
    with tempfile.TemporaryDirectory() as home:
        shared = Shared(home, address, images, 0.05, changes, f"bell-rate-{burners}")
        shared.run(8, folders=("images", "others"))
        asked = shared.asked()
        print(
            f"8 senders, two batches, 50 a second, {burners} busy neighbours: {shared.rate() / 50:.3f} of the "
            f"limit (at least 0.95), most in a second {shared.most_in(1.0)}, {len(asked)} images, "
            f"paid twice: {sum(asked.values()) - len(asked)}"
        )
        shared.place.close()
    for one in neighbours:
        one.terminate()


def _burn():
    while True:
        sum(range(10_000))
