"""Attacks in large: hostile answers, damaged images, broken HTTP, kills, many processes, leaks.

Each line is ``attack | tries | failures``. ``--size=N`` scales the tries (100 is the full size, 1 with
``--quick``), ``--only=NAME`` runs some of them, ``--seed=N`` others. Small sizes run as tests.
"""

import sys
import tempfile
import time

from tests.campaigns import (
    answer_addresses,
    damaged_images,
    faulty_server,
    hidden_metadata,
    hostile_answers,
    killed_jobs,
    leaks,
    rough_machines,
    senders,
    stopped_senders,
    strangers_files,
)

FULL = {
    "answers": 1_000_000,
    "images": 100_000,
    "transport": 5_000,
    "leaks": 1,
    "kills": 1_000,
    "processes, new ledger": 20,
    "processes, old ledger": 20,
    "processes, PostgreSQL": 20,
    "answer addresses": 170,
    "stopped and killed senders": 100,
    "jobs and parts, kills": 1_000,
    "vocabularies": 20_000,
    "TLS": 1_000,
    "clocks": 500,
    "stopped, a ledger in a file": 100,
    "disks that fill": 200,
    "hidden metadata, sent": 20_000,
    "hidden metadata, covered": 10_000,
}


def _postgresql(starts, seed):
    from tests.campaigns.crews import PROGRAMS, Server

    if not (PROGRAMS / "initdb").exists():
        return 0, {"no PostgreSQL server here": 0}
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        try:
            return senders.send_at_once(starts, seed, ledger=server.address)
        finally:
            server.stop()


ATTACKS = {
    "answers": hostile_answers.attack,
    "images": damaged_images.attack,
    "transport": faulty_server.attack,
    "leaks": lambda _, __: leaks.attack(),
    "kills": senders.kill_senders,
    "processes, new ledger": senders.send_at_once,
    "processes, old ledger": lambda n, seed: senders.send_at_once(n, seed, old=True),
    "processes, PostgreSQL": _postgresql,
    "answer addresses": answer_addresses.attack,
    "stopped and killed senders": stopped_senders.attack,
    "jobs and parts, kills": killed_jobs.attack,
    "vocabularies": strangers_files.vocabularies_attack,
    "TLS": rough_machines.tls_attack,
    "clocks": rough_machines.clock_attack,
    "stopped, a ledger in a file": rough_machines.stop_attack,
    "disks that fill": rough_machines.disk_attack,
    "hidden metadata, sent": hidden_metadata.attack,
    "hidden metadata, covered": hidden_metadata.cover_attack,
}


def main(*, quick=False):
    """Run the attacks and print their counts."""
    options = dict(
        word[2:].split("=", 1) for word in sys.argv[1:] if word.startswith("--") and "=" in word
    )
    size = float(options.get("size", 1 if quick else 100))
    seed = int(options.get("seed", 0))
    for name, attack in ATTACKS.items():
        if options.get("only", "") in name:
            _report(name, attack, max(1, round(FULL[name] * size / 100)), seed)


def _report(name, attack, tries, seed):
    began = time.monotonic()
    tries, wrong, *more = attack(tries, seed)
    count = sum(value if isinstance(value, int) else 1 for value in wrong.values())
    said = "".join(f" {figures}" for figures in more)
    print(f"{name} | {tries:,} | {count} ({time.monotonic() - began:.0f} s){said}", flush=True)
    for what, value in list(wrong.items())[:10]:
        print(f"    {what}: {value}")
