"""Senders that share a batch through a server, stopped (SIGSTOP), woken and killed at random."""

import os
import random
import signal
import tempfile
import time

from dotledger.ledger.ledger_store import LedgerStore
from tests.campaigns.crews import PROGRAMS, Server, Shared
from tests.campaigns.senders import wrong_images

_LONGEST = 240
"""Seconds after which a batch that others freeze is taken to be frozen for ever."""


def attack(rounds, seed=0, processes=8, images=160, *, stops=6, kills=2):
    """Stop and kill some senders of each batch; count what is frozen, lost, or paid too often.

    What was under way when its sender was killed or stopped may be paid again (four calls), and so
    may what a sender that stood still for seconds had not written yet. No other may.
    """
    if not (PROGRAMS / "initdb").exists():
        return 0, {"no PostgreSQL server here": 0}
    wrong, figures = {}, {"calls": 0, "asked again": 0, "stops": 0, "kills": 0, "longest": 0.0}
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        try:
            for number in range(rounds):
                rng = random.Random(f"{seed}/{number}")
                _round(
                    server,
                    f"stopped-{seed}-{number}",
                    rng,
                    processes,
                    images,
                    stops,
                    kills,
                    wrong,
                    figures,
                )
        finally:
            server.stop()
    return rounds, wrong, figures


def _round(server, name, rng, processes, images, stops, kills, wrong, figures):
    with tempfile.TemporaryDirectory() as home:
        shared = Shared(home, server.address, images, 0.05, name=name, forked=True)
        try:
            _sent(shared, rng, processes, stops, kills, figures)
            asked = shared.asked()
            again = sum(asked.values()) - len(asked)
            figures["calls"] += sum(asked.values())
            figures["asked again"] += again
            if len(asked) < images:
                wrong[f"{name}: {images - len(asked)} not sent"] = 1
            if again > 8 * (stops + kills):
                wrong[f"{name}: {again} asked again"] = 1
            with LedgerStore(server.address) as ledger:
                if bad := wrong_images(ledger, images, _largest(ledger, name)):
                    wrong[f"{name}: {bad} wrong"] = 1
        except AssertionError as error:
            wrong[f"{name}: {error}"] = 1
        finally:
            shared.place.close()


def _largest(ledger, name):
    from dotledger.ledger.batch_queries import batches

    return max(
        (one for one in batches(ledger) if one.service == name), key=lambda one: one.images
    ).id


def _sent(shared, rng, processes, stops, kills, figures):
    began = time.monotonic()
    running = [shared.start(("images", "others")[n % 2]) for n in range(processes)]
    stopped, due = (
        {},
        sorted(
            [("stop", n) for n in range(stops)] + [("kill", n) for n in range(kills)],
            key=lambda _: rng.random(),
        ),
    )
    shared.wait_for(1)
    while any(one.is_alive() for one in running):
        if time.monotonic() - began > _LONGEST:
            raise AssertionError(f"frozen: {len(shared.server.answered)} answers")
        now = time.monotonic()
        for one, until in list(stopped.items()):
            if now > until:
                os.kill(one.pid, signal.SIGCONT)
                del stopped[one]
        able = [one for one in running if one.is_alive() and one not in stopped]
        if due and len(able) > 2 and rng.random() < 0.2:
            what, _ = due.pop()
            victim = rng.choice(able)
            figures[f"{what}s"] += 1
            if what == "kill":
                victim.kill()
                running.remove(victim)
            else:
                os.kill(victim.pid, signal.SIGSTOP)
                # Some for good: they are woken only when all others have ended.
                stopped[victim] = now + rng.choice((0.5, 3.0, 8.0, 14.0))
        if due == [] and stopped and not able:
            for one in stopped:
                os.kill(one.pid, signal.SIGCONT)
            stopped.clear()
        time.sleep(0.05)
    figures["longest"] = max(figures["longest"], round(time.monotonic() - began, 1))
    for one in running:
        said = one.communicate()[0]
        if "Traceback" in said:
            raise AssertionError(f"a traceback: {said[said.index('Traceback') :][-2000:]}")
    rest = shared.start()  # whoever found out that it had been silent leaves the rest to the next
    rest.communicate()
    shared.start("others").communicate()
