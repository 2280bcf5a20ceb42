"""Pacing and trying again: decisions by equality, no network, no clock."""

import math
import random
import threading
import unittest

import msgspec

from dotledger.sending.calls.call_turns import CallGate
from dotledger.sending.policies import pacing
from dotledger.sending.policies.pacing import GiveUp, Send, Wait
from dotledger.sending.policies.rate_windows import Start, Starts
from dotledger.sending.policies.retrying import (
    Accept,
    Again,
    Attempt,
    Fail,
    Patience,
    Renew,
    Stop,
    next_step,
)


def opened(**options):
    return pacing.opening_pace(now=0.0, **{"at_once": 4, **options})


def proven(pace, now=0.0):
    """The state after a first call that was accepted."""
    pace, decision = pacing.ask(pace, now)
    assert decision == Send()
    return pacing.accepted(pace, now)


def arrivals(options, late, until, still=(0.0, 0.0)):
    """When a service sees calls that arrive up to `late` after they started, and answers at once."""
    rng, now, flying, seen = random.Random(5), 0.0, [], []
    pace = opened(**options, at_once=10**6)
    starts = Starts(pace.windows)
    while now < until:
        pace, decision = pacing.ask(pace, now, starts.free_from(now))
        if isinstance(decision, Send):
            seen.append(now + 0.01 + rng.random() * late)
            flying.append((seen[-1] + 0.01 + rng.random() * late, starts.start(now)))
            continue
        ends = min(flying, key=lambda one: one[0], default=(math.inf, None))
        wake = now + decision.seconds + rng.random() * late
        now = min(wake, ends[0])
        if still[0] <= now < still[1]:
            now = still[1]
        if ends[0] <= now:
            flying.remove(ends)
            starts.end(ends[1], now)
            pace = pacing.accepted(pace, now)
    return sorted(seen)


class Pacing(unittest.TestCase):
    def test_the_first_call_goes_alone(self):
        """Until a call is accepted nobody else starts; then as many as allowed."""
        pace, first = pacing.ask(opened(), 0)
        pace, second = pacing.ask(pace, 0)
        self.assertEqual((first, second), (Send(), Wait(math.inf)))
        pace = pacing.accepted(pace, 1)
        decisions = []
        for _ in range(5):
            pace, decision = pacing.ask(pace, 1)
            decisions.append(decision)
        self.assertEqual(decisions, [Send()] * 4 + [Wait(math.inf)])

    def test_buckets(self):
        """Buckets spread the calls, a tenth quicker than the limit; all of them must agree."""
        pace = proven(opened(per_second=10))
        pace, decision = pacing.ask(pace, 0)
        self.assertAlmostEqual(decision.seconds, 1 / 11)
        self.assertEqual(pacing.ask(pace, 0, 5.0)[1], Wait(5.0))
        pace, decision = pacing.ask(pace, 0.2)
        self.assertEqual(decision, Send())
        slow = proven(opened(per_second=1000, per_minute=6))
        self.assertAlmostEqual(pacing.ask(slow, 1)[1].seconds, 60 / (6 * 1.1) - 1)

    def test_no_window_sees_too_many(self):
        """However late calls and timers are, a service that counts sees at most the limit."""
        for options, count, span, late, least in (
            ({"per_second": 50}, 50, 1.0, 0.001, 0.98),
            ({"per_second": 50}, 50, 1.0, 0.025, 0.95),
            ({"per_minute": 300}, 300, 60.0, 0.5, 0.97),
            ({"per_second": 1}, 1, 1.0, 0.01, 0.95),
            ({"per_second": 2.5}, 3, 1.2, 0.02, 0.95),
        ):
            seen = arrivals(options, late, 6 * span)
            rate = (len(seen) - 1) / (seen[-1] - seen[0])
            with self.subTest(options=options, late=late):
                full = [b - a for a, b in zip(seen, seen[count:], strict=False) if b - a < span]
                self.assertEqual(full, [])
                self.assertGreaterEqual(rate, least * count / span)

    def test_lost_time_is_caught_up(self):
        """After the whole machine stood still for 0.3 of ten seconds, nearly none of it is lost."""
        seen = arrivals({"per_second": 50}, 0.001, 10.0, still=(4.0, 4.3))
        self.assertGreater(len(seen), 0.97 * 500)

    def test_everybody_waits(self):
        """A refusal with a wait holds everyone until then; a clock set back adds no tokens."""
        pace = proven(opened(per_second=10))
        pace, _ = pacing.ask(pace, 1)
        pace = pacing.refused(pace, 1, 5.0)
        self.assertEqual(pacing.ask(pace, 2)[1], Wait(4.0))
        self.assertEqual(pacing.ask(pace, 6)[1], Send())
        bucket = pacing.Bucket(rate=10, size=1, level=0, at=100)
        self.assertEqual(bucket.filled(50).level, 0)

    def test_exactly_at_a_border(self):
        """A whole token, the end of a pause and the end of a window count from their moment on."""
        bucket = pacing.Bucket(rate=2, size=1, level=0, at=0)
        self.assertEqual(bucket.filled(0.25).wait(), 0.25)
        self.assertEqual(bucket.filled(0.5).wait(), 0.0)
        self.assertEqual(bucket.filled(9.0).level, 1)
        self.assertEqual(pacing.opening_pace(now=0, at_once=1, per_second=40).buckets[0].size, 2)
        self.assertEqual(pacing.opening_pace(now=0, at_once=1, per_second=39).buckets[0].size, 1)
        held = pacing.refused(proven(opened(per_second=10)), 1.0, 2.0)
        # A refusal exactly when the pause ends is a new event; one before it is not.
        self.assertEqual(pacing.refused(held, 2.9, None).refused, 1)
        self.assertEqual(pacing.refused(held, 3.0, None).refused, 2)
        pace = proven(opened())
        self.assertEqual(pacing.accepted(pace, 10.0).window, (0.0, 2))
        self.assertEqual(pacing.accepted(pace, 10.1).window, (10.1, 1))

    def test_calls_given_back(self):
        """What never left, and what was refused, does not count against a budget."""
        pace, _ = pacing.ask(opened(left=5), 0)
        self.assertEqual((pace.left, pace.under_way), (4, 1))
        for back, left in (
            (pacing.ended(pace), 4),
            (pacing.ended(pace, free=True), 5),
            (pacing.refused(pace, 0, None), 5),
            (pacing.accepted(pace, 0), 4),
        ):
            self.assertEqual((back.left, back.under_way), (left, 0))
        self.assertIsNone(pacing.ended(opened(), free=True).left)

    def test_a_learned_rate(self):
        """The first refusal gives 97 % of what was accepted a second; a later one takes a fifth."""
        pace = proven(opened())
        for second in range(1, 5):
            pace = pacing.accepted(pace, float(second))
        pace = pacing.refused(pace, 5.0, 0.0)  # five accepted in five seconds
        self.assertAlmostEqual(pace.learned, 0.97)
        self.assertEqual((pace.ceiling, pace.buckets[-1].level), (1.0, 0.0))
        again = pacing.refused(pacing.accepted(pace, 6.0), 7.0, 0.0)
        self.assertAlmostEqual(again.learned, 0.8 * again.ceiling)
        near = pacing.accepted(pace, 6.0).learned - pace.learned
        self.assertAlmostEqual(near, 0.001)  # above 92 % of the ceiling it creeps
        far = pacing.accepted(msgspec.structs.replace(pace, ceiling=50.0), 6.0).learned
        self.assertAlmostEqual(far - pace.learned, 0.02)

    def test_budget_and_stop(self):
        """When the budget is used up or the batch is stopped, the reason is given."""
        pace = opened(left=1, budget_reason="enough")
        pace, decision = pacing.ask(pace, 0)
        self.assertEqual(decision, Send())
        self.assertEqual(pacing.ask(pacing.accepted(pace, 0), 0)[1], GiveUp("enough"))
        stopped = pacing.stopped(pacing.stopped(pace, "first"), "second")
        self.assertEqual(pacing.ask(stopped, 0)[1], GiveUp("first"))

    def test_refusals_without_a_time(self):
        """Waits double up to thirty seconds; after ten with nothing accepted, all stop."""
        pace, now, waits = proven(opened(at_once=1, per_second=10**6)), 10.0, []
        while not pace.stop:
            pace, decision = pacing.ask(pace, now)
            self.assertEqual(decision, Send())
            pace = pacing.refused(pace, now, None)
            waits.append(pacing.ask(pace, now)[1])
            now += getattr(waits[-1], "seconds", 0)
        self.assertEqual(waits[:-1], [Wait(float(s)) for s in (1, 2, 4, 8, 16, 30, 30, 30, 30, 30)])
        self.assertRegex(waits[-1].reason, "10 waits.*quota")
        pace = pacing.refused(proven(opened()), 10.0, None)
        again, _ = pacing.ask(pace, 11.0)
        again = pacing.refused(pacing.accepted(again, 11.0), 11.0, None)
        self.assertEqual(pacing.ask(again, 11.0)[1], Wait(1.0))

    def test_failing_one_after_another(self):
        """Twenty failures in a row stop all with the last reason; one that goes well starts anew."""
        pace = opened()
        for count in range(19):
            pace = pacing.failed(pace, f"reason {count}")
        self.assertEqual(pace.stop, "")
        self.assertIn("20 calls in a row", pacing.failed(pace, "x").stop)
        self.assertRegex(pacing.failed(pace, "the lamp is out").stop, "the lamp is out$")
        self.assertEqual(pacing.failed(pacing.went_well(pace), "x").stop, "")
        pace = opened()
        for grave in (True, False, True):
            pace = pacing.failed(pace, "x", grave=grave)
        self.assertEqual(pace.stop, "")
        self.assertIn("4 calls in a row", pacing.failed(pace, "x", grave=True).stop)

    def test_an_undeclared_limit_is_learned(self):
        """Against a service that takes 50 a second, most of it is used with few refusals."""
        rng = random.Random(3)
        pace, now, taken, refused, window = opened(at_once=16), 0.0, 0, 0, []
        flying = []
        while now < 30:
            pace, decision = pacing.ask(pace, now)
            if isinstance(decision, Send):
                window = [t for t in window if t > now - 1]
                good = len(window) < 50
                if good:
                    window.append(now)
                flying.append((now + 0.02 + rng.random() * 0.005, good))
                continue
            flying.sort()
            coming = flying[0][0] if flying else math.inf
            now = min(now + decision.seconds, coming)
            while flying and flying[0][0] <= now:
                _, good = flying.pop(0)
                taken, refused = taken + good, refused + (not good)
                pace = pacing.accepted(pace, now) if good else pacing.refused(pace, now, 1.0)
        self.assertGreater(taken / now / 50, 0.75)
        self.assertLess(refused / taken, 0.10)


class TryingAgain(unittest.TestCase):
    def step(self, *, random=1.0, proven=True, **facts):
        return next_step(
            Attempt(**{"number": 1, **facts}),
            now=1000.0,
            random=random,
            patience=Patience(),
            proven=proven,
        )

    def test_every_case(self):
        """Each status leads to its step."""
        for facts, wanted in (
            ({"status": 200}, Accept()),
            ({"status": 429, "retry_after": "7"}, Again(7.0, everyone=True)),
            ({"status": 503, "retry_after": "2"}, Again(2.0, everyone=True)),
            (
                {"status": 429, "retry_after": "Thu, 01 Jan 1970 00:16:50 GMT"},
                Again(10.0, everyone=True),
            ),
            ({"status": 429}, Again(None, everyone=True)),
            (
                {"status": 429, "number": 24},
                Fail("refused 24 times because of the rate (status 429)"),
            ),
            ({"trouble": "unreachable", "number": 9}, Again(20.0)),
            ({"status": 503}, Again(0.4)),
            ({"status": 500}, Again(0.4)),
            ({"status": 500, "number": 3}, Again(1.6)),
            ({"status": 500, "number": 3, "random": 0.0}, Again(0.8)),
            ({"status": 500, "number": 4, "detail": "x"}, Fail("status 500: x (after 4 attempts)")),
            ({"trouble": "timeout"}, Again(0.4)),
            ({"trouble": "cut", "number": 4}, Fail("the connection failed (after 4 attempts)")),
            ({"status": 400, "detail": "small"}, Fail("status 400: small")),
            ({"status": 401, "renewable": True}, Renew()),
            ({"status": 401, "unauthorized": 1}, Again(0.4)),
            *(
                (
                    {"status": status, "given": "elsewhere"},
                    Fail(f"the address that the answer names gave status {status}"),
                )
                for status in (301, 401, 402, 403, 404, 410)
            ),
            ({"status": 429, "given": "elsewhere", "retry_after": "7200"}, Again(0.4)),
            (
                {"trouble": "unreachable", "given": "elsewhere", "number": 4},
                Fail("the address that the answer names cannot be reached (after 4 attempts)"),
            ),
            ({"status": 404, "given": "here", "proven": False}, Fail("status 404")),
            ({"status": 403}, Fail("status 403")),
            ({"status": 404}, Fail("status 404")),
        ):
            self.assertEqual(self.step(**facts), wanted, facts)

    def test_reasons_to_stop(self):
        """What would fail every call stops the batch with its reason."""
        for facts, sign in (
            ({"status": 401, "proven": False, "unauthorized": 1}, "does not accept the key"),
            ({"status": 401, "unauthorized": 2}, "does not accept the key"),
            ({"status": 401, "renewable": True, "renewals": 6}, "does not accept the key"),
            ({"status": 402}, "payment"),
            ({"status": 403, "proven": False}, "forbids"),
            ({"status": 404, "proven": False}, "no such address"),
            ({"status": 429, "retry_after": "7200"}, "120 minutes.*quota"),
            ({"status": 302, "proven": False, "detail": "to x"}, "elsewhere .302.: to x"),
            ({"status": 405, "proven": False}, "method"),
            ({"trouble": "unreachable", "number": 10, "detail": "x"}, "cannot be reached: x"),
            ({"trouble": "unreachable", "number": 4, "proven": False}, "cannot be reached"),
            ({"trouble": "unusable", "detail": "no token"}, "^no token$"),
        ):
            step = self.step(**facts)
            self.assertIsInstance(step, Stop)
            self.assertRegex(step.reason, sign)


class Parts(unittest.TestCase):
    """A limit of 10 a second of which others have a part."""

    def test_of_a_limit(self):
        """Four a second of ten: the fifth waits for the first to be a second old; with none, none starts."""
        starts = Starts(opened(per_second=10).windows)
        self.assertEqual(starts.used(0.0), [0])
        starts.limit([4], until=9.0, now=0.0)
        for now in (1.0, 1.1, 1.2, 1.3):
            self.assertLess(starts.free_from(now), now)
            starts.start(now)
        self.assertAlmostEqual(starts.free_from(1.3), 1.0 + 1.002 + 0.03)
        self.assertEqual(starts.free_from(9.0), math.inf)  # others may have it by then
        starts.limit([0], until=99.0, now=1.4)
        self.assertEqual(starts.free_from(5.0), math.inf)

    def test_used(self):
        """After a change as many as may still be in the window; later no more than the part."""
        starts = Starts(opened(per_second=10).windows)
        for now in range(10):
            starts.start(now / 10)
        starts.limit([3], until=99.0, now=1.0)
        self.assertEqual(starts.used(1.0), [10])
        self.assertEqual(starts.used(1.5), [5])  # from 0.468 on
        self.assertEqual(starts.used(2.1), [3])

    def test_a_call_counts_from_when_it_left(self):
        """A turn is not a call yet: until it leaves it holds its place, and its second begins then."""
        starts = Starts(opened(per_second=2).windows)
        first = starts.start(0.0, away=False)  # its connection has to be opened first
        second = starts.start(0.1, away=False)
        self.assertEqual((starts.free_from(9.0), starts.used(9.0)), (math.inf, [2]))
        starts.left(first, 0.4)
        starts.end(first, 0.5)
        self.assertAlmostEqual(starts.free_from(0.5), 0.4 + 1.002 + 0.03)
        starts.start(2.0)
        self.assertEqual(starts.free_from(2.0), math.inf)
        starts.end(second, 2.5)  # it never left, as far as anybody knows
        self.assertAlmostEqual(starts.free_from(2.5), 2.5 + 1.002 + 0.03)

    def test_spread(self):
        """The bucket of a part fills at that part's rate; a learned one stays."""
        pace = pacing.shared(opened(per_second=10), 0.0, [2])
        self.assertAlmostEqual(pace.buckets[0].rate, 2.2)
        self.assertEqual(pacing.shared(pace, 0.0, [0]).buckets, ())
        learning = pacing.refused(proven(opened()), 1.0, 1.0)
        self.assertEqual(len(learning.buckets), 1)
        self.assertEqual(pacing.shared(learning, 1.0, []).buckets, learning.buckets)
        both = msgspec.structs.replace(
            learning, windows=pace.windows, buckets=pace.buckets + learning.buckets
        )
        self.assertEqual(pacing.shared(both, 1.0, [3]).buckets[1:], learning.buckets)


class TheGate(unittest.TestCase):
    def test_more_is_asked_for(self):
        """Calls are set aside a few at a time; when there are no more, everybody hears why."""
        gate, given = CallGate(proven(opened(at_once=9)), lambda: 0.0), [2, 1, 0]
        gate.allow(0, "", lambda: (given[0], "" if given.pop(0) else "all are used up"))
        self.assertFalse(gate.over)
        entered = [gate.enter() for _ in range(4)]
        self.assertEqual([type(one) for one in entered], [Start] * 3 + [GiveUp])
        self.assertEqual((entered[-1].reason, gate.over), ("all are used up", True))

    def test_a_share(self):
        """A thread that waits without a share goes on as soon as there is one."""
        gate, entered = CallGate(proven(opened(per_second=5)), lambda: 100.0), []
        gate.share([0], 200.0)
        thread = threading.Thread(target=lambda: entered.append(gate.enter()))
        thread.start()
        thread.join(0.05)
        self.assertEqual(entered, [])
        gate.share([1], 200.0)
        thread.join(10)
        self.assertEqual(([type(one) for one in entered], gate.used()), ([Start], [1]))

    def test_threads_get_through_and_are_let_go(self):
        """Waiting threads start when a call ends, and all leave when the gate is stopped."""
        gate, entered = CallGate(opened(at_once=1), lambda: 0.0), []

        def work():
            while isinstance(gate.enter(), Start):
                entered.append(1)
                gate.accepted() if len(entered) < 5 else gate.stop("over")
            entered.append(gate.enter().reason)

        threads = [threading.Thread(target=work) for _ in range(3)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(10)
        self.assertEqual((entered.count(1), entered.count("over")), (5, 3))
