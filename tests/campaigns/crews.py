"""Several real processes that share batches through a PostgreSQL server, and a service that counts."""

import os
import random
import shutil
import signal
import socket
import subprocess
import time
from collections import Counter
from pathlib import Path

from dotledger.errors import LedgerError
from dotledger.ledger.ledger_store import LedgerStore
from tests.campaigns.senders import COMMAND, TICK, Place
from tests.forked import started

PROGRAMS = Path(
    shutil.which("initdb")
    or next(iter(Path("/usr/lib/postgresql").glob("*/bin/initdb")), "/nowhere/initdb")
).resolve().parent  # fmt: skip


class Server:
    """A PostgreSQL server of its own in a folder, on a port of its own."""

    def __init__(self, folder, host="127.0.0.1"):
        self.folder, self.host = folder, host
        self.user = {"user": "postgres"} if os.geteuid() == 0 else {}
        with socket.create_server((host, 0)) as free:
            self.port = free.getsockname()[1]
        if self.user:
            shutil.chown(folder, "postgres")
        self.run("initdb", "-D", folder, "-A", "trust", "-U", "postgres", "--no-sync")
        with (Path(folder) / "pg_hba.conf").open("a") as rules:
            rules.write("host all all all trust\n")
        self.address = f"postgresql://postgres@{host}:{self.port}/postgres"
        self.start()

    def run(self, program, *words):
        subprocess.run(
            [f"{PROGRAMS}/{program}", *words],
            check=True,
            capture_output=True,
            cwd="/",
            **self.user,
        )

    def start(self):
        words = ["-D", self.folder, "-h", self.host, "-p", str(self.port), "-k", self.folder, "-F"]
        self.process = subprocess.Popen(
            [f"{PROGRAMS}/postgres", *words], stderr=subprocess.DEVNULL, cwd="/", **self.user
        )
        for _ in range(100):
            try:
                socket.create_connection((self.host, self.port)).close()
                LedgerStore(self.address).close()
            except (OSError, LedgerError):
                time.sleep(0.1)
            else:
                return
        raise AssertionError("the server does not start")

    def stop(self):
        self.process.send_signal(signal.SIGQUIT)  # at once, as in a crash
        self.process.wait()


class Shared:
    """A folder with images, a counting service and a place for what a killed sender had put aside."""

    def __init__(self, home, address, images, pause=0.2, changes=(), name="bell", forked=False, **options):  # fmt: skip
        self.address = address
        self.forked = forked  # quicker to start; each is still a process of its own
        self.images = images
        self.place = Place(home, images, pause=pause, name=name, **options)
        self.server = self.place.server
        self.home = self.place.home
        described = (self.home / "bell.toml").read_text()
        for old, new in changes:
            assert old in described, old
            described = described.replace(old, new, 1)
        (self.home / "bell.toml").write_text(described)

    def start(self, folder="images", *words, prefix=(), service="bell.toml", ledger=None):
        words = ["send", folder, "--service", service, "--ledger", ledger or self.address, *words]
        env = {"BELL_KEY": "k-1", "DOTLEDGER_STATE": str(self.home / "state")}
        if self.forked and not prefix:
            return started(*words, cwd=self.home, env=env)
        return subprocess.Popen(
            [*prefix, *COMMAND, *words],
            cwd=self.home,
            env={**os.environ, **env},
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )

    def run(self, processes, *words, folders=("images",)):
        """Start so many senders at once; return what each of them said."""
        running = [self.start(folders[n % len(folders)], *words) for n in range(processes)]
        return [self.ended(process) for process in running]

    @staticmethod
    def ended(process):
        said, _ = process.communicate(timeout=300)
        if process.returncode not in (0, 1) or "Traceback" in said:
            raise AssertionError(f"exit {process.returncode}: {said[-1500:]}")
        return said

    def wait_for(self, answers, seconds=60):
        """Wait until so many calls are answered."""
        until = time.monotonic() + seconds
        while len(self.server.answered) < answers:
            if time.monotonic() > until:
                raise AssertionError(f"{len(self.server.answered)} of {answers} answers came")
            time.sleep(0.01)

    def asked(self):
        """How often each image was asked for, by number."""
        return Counter(number for number, _ in self.server.answered)

    def most_in(self, span):
        """The most calls that arrived in any window of so many seconds."""
        moments = sorted(self.server.arrived)
        most = first = 0
        for last, moment in enumerate(moments):
            while moments[first] <= moment - span + TICK:
                first += 1
            most = max(most, last - first + 1)
        return most

    def rate(self, skip=0.2):
        """Calls a second, without the first and last part: how long processes take to start is left out."""
        moments = sorted(self.server.arrived)
        cut = int(len(moments) * skip)
        return (len(moments) - 2 * cut - 1) / (moments[-cut - 1] - moments[cut])


def kill_some(shared, processes, kills, seed=0):
    """Start senders of two batches, kill some of them on the way, and let the others end."""
    rng = random.Random(seed)
    running = [shared.start(("images", "others")[n % 2]) for n in range(processes)]
    for number in range(kills):
        shared.wait_for(shared.images * (number + 1) * 0.1)
        victim = running.pop(rng.randrange(len(running)))
        victim.kill()
        victim.communicate()
    for process in running:
        shared.ended(process)


class Apart:
    """A network namespace of its own, joined to ours by a cable: another machine, as far as we can make one."""

    def __init__(self):
        self.name, self.ours = f"dotledger-{os.getpid()}", "10.77.1.1"
        link = f"dl{os.getpid() % 100000}"
        self._ip("netns", "add", self.name)
        self._ip("link", "add", link, "type", "veth", "peer", "name", "eth9", "netns", self.name)
        self._ip("address", "add", f"{self.ours}/24", "dev", link)
        self._ip("link", "set", link, "up")
        self._ip("-n", self.name, "address", "add", "10.77.1.2/24", "dev", "eth9")
        self._ip("-n", self.name, "link", "set", "eth9", "up")
        self.prefix = ["ip", "netns", "exec", self.name]

    @staticmethod
    def _ip(*words):
        subprocess.run(["ip", *words], check=True, capture_output=True)

    def close(self):
        subprocess.run(["ip", "netns", "delete", self.name], check=False, capture_output=True)
