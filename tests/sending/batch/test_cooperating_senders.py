"""Several real processes, one batch, one bill: a counting service and a real PostgreSQL server."""

import contextlib
import json
import os
import random
import shutil
import subprocess
import tempfile
import threading
import time
import unittest
from importlib.util import find_spec
from unittest import mock

from dotledger.errors import LedgerError
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import batches
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.sender_crews import Crew, senders_of
from dotledger.sending.batch import cooperating_senders as together
from dotledger.sending.batch.cooperating_senders import Allowed
from dotledger.sending.calls.call_turns import CallGate
from dotledger.sending.policies.pacing import opening_pace
from tests.campaigns import stopped_senders
from tests.campaigns.crews import PROGRAMS, Apart, Server, Shared, kill_some
from tests.campaigns.senders import COMMAND, wrong_images
from tests.sending.helpers import ANSWER, description, pictures


class Heartbeat(unittest.TestCase):
    def test_that_fails(self):
        """Where the thread that speaks to the server fails, nothing goes on in silence: it is said why."""
        gate = CallGate(opening_pace(now=0.0, at_once=1), time.monotonic)
        crew = mock.Mock(
            **{
                "share.return_value": [],
                "others.return_value": [],
                "settled_images.return_value": 0,
            }
        )
        crew.renew.side_effect = [True, RuntimeError("odd")]
        plan = mock.Mock(gathered=[], kinds=("label",))
        allowed = Allowed(at_most=None, quota=None, budget=None, used=0, month="2031-05")
        with mock.patch.object(together, "_EVERY", 0.01):
            one = together.Together(crew=crew, plan=plan, gate=gate, meter=None, allowed=allowed,
                                    steady=time.monotonic, adopt=None, used_by_now=None, holds=6.0)  # fmt: skip
            one.begin()
            until = time.monotonic() + 10
            while not gate.stop_reason and time.monotonic() < until:
                time.sleep(0.01)
        self.assertEqual(gate.stop_reason, "speaking to the server failed (RuntimeError: odd)")
        self.assertIsNone(one.take(True))
        one.end(whole=False)

    def test_that_waits(self):
        """While a worker waits for what a killed sender left, the server still hears from this process."""
        gate = CallGate(opening_pace(now=0.0, at_once=1), time.monotonic)
        beats, waiting, heard = [], threading.Event(), threading.Event()

        def renew():
            beats.append(waiting.is_set())
            if beats.count(True) > 3:
                heard.set()
            return True

        lease = mock.Mock(first=0, last=0, taken_over=True)
        crew = mock.Mock(**{"share.return_value": [], "others.return_value": [], "settled_images.return_value": 0,
                            "lease.side_effect": [lease, None], "settled.return_value": {}, "renew.side_effect": renew})  # fmt: skip
        gathered = mock.MagicMock(items=["a"])
        gathered.__len__.return_value = 1
        plan = mock.Mock(gathered=gathered, kinds=("label",))
        allowed = Allowed(at_most=None, quota=None, budget=None, used=0, month="2031-05")

        def adopt():
            waiting.set()
            self.assertTrue(heard.wait(60))

        with mock.patch.object(together, "_EVERY", 0.01):
            one = together.Together(crew=crew, plan=plan, gate=gate, meter=None, allowed=allowed,
                                    steady=time.monotonic, adopt=adopt, used_by_now=None, holds=6.0)  # fmt: skip
            one.begin()
            self.assertEqual(one.take(True), (0, "a"))
            one.end(whole=False)


@unittest.skipUnless((PROGRAMS / "initdb").exists(), "no PostgreSQL server here")
@unittest.skipUnless(find_spec("psycopg"), "psycopg is not installed")
class Together(unittest.TestCase):
    alone = True  # eight processes, a database and a service are enough at one time

    @classmethod
    def setUpClass(cls):
        try:
            cls.server = Server(cls.enterClassContext(tempfile.TemporaryDirectory()))
        except (OSError, LookupError, subprocess.CalledProcessError) as error:
            raise unittest.SkipTest(f"PostgreSQL cannot be started here: {error}") from error
        cls.addClassCleanup(cls.server.stop)
        cls.address = cls.server.address

    def shared(self, images, pause=0.05, changes=(), **options):
        home = self.enterContext(tempfile.TemporaryDirectory())
        name = f"bell-{self.id().rpartition('.')[2]}".replace("_", "-")
        shared = Shared(home, self.address, images, pause, changes, name, forked=True, **options)
        self.addCleanup(shared.place.close)
        return shared

    def batches(self, *words):
        words = [*COMMAND, "batches", "--ledger", self.address, *words]
        return subprocess.run(words, capture_output=True, text=True, check=True).stdout

    def test_eight(self):
        """Eight processes, two batches with images in common: each paid once, the rate never over."""
        shared = self.shared(240, changes=[("at_once = 4", "at_once = 4\nper_second = 50")])
        shared.server.open.clear()  # until all are there: some start late on a busy machine
        running = [shared.start(("images", "others")[n % 2]) for n in range(8)]
        self.until_all_are_there("bell-test-eight", 8)
        shared.server.open.set()
        with LedgerStore(self.address) as ledger:
            ours = [one.id for one in batches(ledger) if one.service == "bell-test-eight"]
            at_work = [w["who"] for one in ours for w in senders_of(ledger, one, time.time())]
        said = [shared.ended(process) for process in running]
        self.assertEqual(set(shared.asked().values()), {1})
        self.assertEqual(len(shared.asked()), 240)
        self.assertLessEqual(shared.most_in(1.0), 50)
        here = {who.split()[1] for who in at_work}
        self.assertGreater(len(here & {str(process.pid) for process in running}), 2)
        self.assertRegex(said[0], "; 3 other senders besides this one")
        with LedgerStore(self.address) as ledger:
            for one in json.loads(self.batches("--json"))["batches"]:
                self.assertEqual(one["senders"], [])
                if one["service"] == "bell-test-eight":
                    self.assertTrue(one["ended"])
                    self.assertEqual(wrong_images(ledger, one["images"], one["batch"]), 0)

    def test_kills(self):
        """Two of five are killed: what came stays, the others do the rest, and nothing is lost."""
        shared = self.shared(200, pause=0.1)
        kill_some(shared, 5, 2)
        self.assertEqual(len(shared.asked()), 200)
        # Each of the two that were killed had four calls under way.
        self.assertLessEqual(len(shared.server.arrived) - 200, 8)

    def until_all_are_there(self, service, count):
        """Wait until so many send: those who come when all others are gone have limits of their own."""
        until = time.monotonic() + 90
        with LedgerStore(self.address) as ledger:
            while time.monotonic() < until:
                ours = [one.id for one in batches(ledger) if one.service == service]
                if sum(len(senders_of(ledger, one, 0.0)) for one in ours) >= count:
                    return
                time.sleep(0.05)
        raise AssertionError("they do not come")

    def test_limits_for_all(self):
        """Most calls, a budget and a quota hold for three processes together, to the last call."""
        for words, changes in (
            (["--at-most", "43"], []),
            (["--budget", "0.43"], []),
            ([], [("at_once = 4", "at_once = 4\nper_month = 43")]),
        ):
            name = f"bell{''.join(words[:1]) or '-quota'}"
            home = self.enterContext(tempfile.TemporaryDirectory())
            shared = Shared(home, self.address, 90, 0.02, changes, name, forked=True)
            shared.server.open.clear()
            running = [shared.start("images", *words) for _ in range(3)]
            self.until_all_are_there(name, 3)
            shared.server.open.set()
            said = [shared.ended(process) for process in running]
            self.assertEqual(sum(shared.asked().values()), 43, said)
            self.assertTrue(all("Stopped: the " in one for one in said), said)
            shared.place.close()

    def test_taken_to_be_gone(self):
        """Senders whose images the server gave to others, though they live, go on by themselves."""
        shared = self.shared(60, pause=0.1)
        running = [shared.start() for _ in range(2)]
        with LedgerStore(self.address) as ledger:
            for answers in (10, 25):
                shared.wait_for(answers)
                with ledger.writing() as connection:
                    connection.exec_driver_sql("UPDATE senders SET until = 0")
            said = [shared.ended(process) for process in running]
            [batch] = [
                one for one in batches(ledger) if one.service == "bell-test-taken-to-be-gone"
            ]
            self.assertEqual(wrong_images(ledger, 60, batch.id), 0)
        self.assertIn("going on with what is left", "".join(said))
        self.assertEqual([one.returncode for one in running], [0, 0], said)
        # What was under way when it happened is asked for again: four calls each, twice.
        self.assertLessEqual(sum(shared.asked().values()), 60 + 16, said)

    @unittest.skipUnless(shutil.which("ip") and os.geteuid() == 0, "no network namespaces here")
    def test_from_another_network(self):
        """Two of three senders are on another network: they reach server and service by a cable."""
        try:
            apart = Apart()
        except subprocess.CalledProcessError as error:
            self.skipTest(f"no network namespaces here: {error.stderr}")
        self.addCleanup(apart.close)
        here = [("127.0.0.1", apart.ours), ("[connect.key]", "plain_http = true\n[connect.key]")]
        limit = ("at_once = 4", "at_once = 4\nper_second = 40")
        server = Server(self.enterContext(tempfile.TemporaryDirectory()), apart.ours)
        self.addCleanup(server.stop)
        shared = self.shared(120, changes=[*here, limit], host=apart.ours)
        shared.address = server.address
        shared.forked = False  # those on the other network are not either: all begin together
        running = [shared.start(prefix=prefix) for prefix in ((), apart.prefix, apart.prefix)]
        said = [shared.ended(process) for process in running]
        self.assertEqual((len(shared.asked()), set(shared.asked().values())), (120, {1}))
        self.assertLessEqual(shared.most_in(1.0), 40)
        self.assertTrue(all(" 2 other senders" in one for one in said), said)

    def crew(self, ledger, service, **options):
        from dotledger import send
        from dotledger.testing import FakeTransport

        described = description(('"bell"', f'"{service}"'))
        if not hasattr(self, "known"):
            self.enterContext(mock.patch.dict(os.environ, {"DOTLEDGER_STATE": tempfile.mkdtemp()}))
            sent = send(
                pictures(2), described, transport=FakeTransport([ANSWER]), ledger=ledger, key="k"
            )
            self.known = sent.batch
        return Crew(ledger, batch=self.known, service=service, who="w", **options)

    def test_shares(self):
        """Whatever joins, wants, leaves or falls silent: what all may start is never above the limit."""
        rng = random.Random(3)
        with LedgerStore(self.address) as ledger:
            crews, started = {}, {}
            for _ in range(150):
                act = rng.random()
                if len(crews) < 2 or act < 0.1:
                    crew = self.crew(ledger, "shares", holds=60.0)
                    crews[crew.id], started[crew.id] = (crew, 0), 0
                chosen = rng.choice(list(crews))
                crew, calls = crews[chosen]
                if act > 0.95:
                    crew.leave()
                    crew.close()
                    del crews[chosen]
                    continue
                # It may have started all of its share in the last second, or less.
                used = rng.randint(0, calls)
                [share] = crew.share([(20, 1.0)], [used], wants=rng.random() < 0.8)
                crews[chosen] = (crew, share.calls)
                started[chosen] = max(used, share.calls, calls if share.calls < calls else 0)
                held = sum(started[one] for one in crews)
                self.assertLessEqual(held, 20, (crews, started))
            for _ in range(
                3
            ):  # all want, nobody is late: each has its even part, and all is shared out
                shares = [c.share([(20, 1.0)], [0], wants=True)[0] for c, _ in crews.values()]
            time.sleep(1.1)  # those who left are no longer counted
            shares = [c.share([(20, 1.0)], [0], wants=True)[0] for c, _ in crews.values()]
            self.assertEqual(sum(one.calls for one in shares), 19)  # one is kept back
            self.assertLessEqual(max(s.calls for s in shares) - min(s.calls for s in shares), 1)
            for crew, _ in crews.values():
                crew.leave()
                crew.close()

    def test_one_that_stands_still(self):
        """A sender that stops inside a transaction holds the others up for seconds, not for ever."""
        with LedgerStore(self.address) as ledger:
            still, other = self.crew(ledger, "still"), self.crew(ledger, "still")
            inside = still._alone("calls")
            inside.__enter__()
            self.assertEqual(other.set_aside(1, 5, None, "", 0)[0], 1)
            with self.assertRaisesRegex(LedgerError, "does not answer"):
                still._ask("SELECT 1")  # the server has ended its transaction by then
            with self.assertRaises(LedgerError):
                inside.__exit__(None, None, None)
            self.assertEqual(still.set_aside(1, 5, None, "", 0)[0], 1)  # and it goes on
            for crew in (still, other):
                crew.leave()
                crew.close()
            writing, done = threading.Event(), threading.Event()

            def stopped():
                with contextlib.suppress(LedgerError), ledger.writing():
                    writing.set()
                    done.wait(120)

            thread = threading.Thread(target=stopped)
            thread.start()
            writing.wait(60)
            with ledger.writing():
                self.assertFalse(done.is_set())
            done.set()
            thread.join()

    def test_what_was_set_aside_comes_back(self):
        """Calls and money of a killed sender are free again, but for what the ledger has of them."""
        with LedgerStore(self.address) as ledger:
            gone, other = (
                self.crew(ledger, "back", holds=60.0),
                self.crew(ledger, "back", holds=60.0),
            )
            self.assertEqual(gone.set_aside(10, 10, 12, "2031-05", 0), (10, False))
            self.assertEqual(gone.set_money_aside(0.5, 0.5), 0.5)
            with ledger.writing() as connection:
                gone.booked(connection, 3, 0.1, ours=True)
            self.assertEqual(other.set_aside(10, 10, 12, "2031-05", 0), (0, False))
            gone._ask(f"UPDATE senders SET until = 1 WHERE id = {gone.id}")
            self.assertEqual(other.set_aside(10, 10, 12, "2031-05", 0), (7, False))
            self.assertAlmostEqual(other.set_money_aside(0.5, 0.5), 0.4)
            self.assertFalse(gone.renew())  # it finds out before it asks
            with ledger.writing() as connection:  # what it had put aside is found, and counts
                other.booked(connection, 2, 0.0, ours=False)
            self.assertEqual(other.set_aside(10, 20, None, "2031-05", 0), (8, False))
            gone.give_back(7, 0.4, "2031-05")  # that was done already: it is not given back twice
            self.assertEqual(other.set_aside(10, 20, None, "2031-05", 0), (0, False))
            with ledger.writing() as connection:  # what was under way then comes back, and counts
                gone.booked(connection, 1, 0.0, ours=True)
            self.assertEqual(other.set_aside(10, 22, None, "2031-05", 0), (1, False))
            self.assertEqual(gone.set_aside(1, 22, None, "2031-05", 0), (0, False))
            other.leave()
            for crew in (gone, other):
                crew.close()

    def test_stopped_and_killed(self):
        """Some of five senders are stopped for seconds, one is killed: the others do the rest."""
        tries, wrong, _ = stopped_senders.attack(
            1, seed=2, processes=4, images=60, stops=2, kills=1
        )
        self.assertEqual((tries, wrong), (1, {}))

    def test_leases(self):
        """A lease has one owner; what a silent one held is taken over, what it asked too."""
        with LedgerStore(self.address) as ledger:
            first = self.crew(ledger, "leases", holds=60.0)
            second = self.crew(ledger, "leases", holds=60.0)
            first.open_leases(20, 2)
            second.open_leases(20, 2)
            first.done([0])  # settled before
            mine, yours = first.lease(), second.lease()
            self.assertEqual(
                [(one.first, one.last, one.taken_over) for one in (mine, yours)],
                [(8, 15, False), (16, 19, False)],
            )
            self.assertIsNone(second.lease())
            self.assertTrue(second.unfinished())
            wanted = {"look": ["i" * 64]}
            self.assertEqual(first.claim(wanted, "s" * 64), ({"look"}, False))
            self.assertEqual(second.claim(wanted, "s" * 64), (set(), False))
            asked = [("i" * 64, "s" * 64)]
            self.assertEqual(second.still_asked(asked), set(asked))
            ledger.change(schema.batches, self.known, ended=None)
            self.assertRegex(self.batches(), "2 senders at work")
            self.assertRegex(self.batches(str(self.known)), "Sending: w, last seen ")
            silent = self.crew(ledger, "leases", holds=0.1)
            time.sleep(0.2)  # for longer than it holds, and nobody missed it
            self.assertTrue(silent.renew())
            silent.leave()
            silent.close()
            with ledger.writing() as connection:  # the first says nothing for a minute
                connection.exec_driver_sql(f"UPDATE senders SET until = 1 WHERE id = {first.id}")
            self.assertEqual(len(senders_of(ledger, self.known, time.time())), 1)
            self.assertEqual(second.still_asked(asked), set())
            # Its own images look free to it: until it has renewed it takes and asks nothing.
            self.assertIsNone(first.lease())
            self.assertEqual(first.claim(wanted, "t" * 64), (set(), False))
            self.assertEqual(second.claim(wanted, "s" * 64), ({"look"}, True))
            self.assertFalse(first.renew())
            self.assertTrue(second.renew())
            taken = second.lease()
            self.assertEqual((taken.first, taken.taken_over), (8, True))
            self.assertFalse(second.unfinished())
            second.release(asked)
            second.leave()
            self.assertEqual(senders_of(ledger, self.known, time.time()), [])
            first.close()
            second.close()
