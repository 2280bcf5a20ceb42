"""Prices in steps of a month, against one request after another; budgets that are never overdrawn."""

import random
import unittest

from dotledger import open_service
from dotledger.errors import DescriptionError
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import usage
from dotledger.sending.calls.spending_meter import Meter
from dotledger.sending.policies.pricing import (
    money_for,
    per_request,
    price_lines,
    price_now,
    units_used,
)
from dotledger.services.call_parts import Cost, Step
from dotledger.testing import Response
from tests.sending.helpers import ANSWER, InFolder, description, picture, pictures

STEPS = (
    "per_1000 = 10.0",
    "per_1000 = 0.0\nsteps = [{ above = 3, per_1000 = 10.0 }, { above = 6, per_1000 = 4.0 }]",
)


class Steps(unittest.TestCase):
    def test_by_hand(self):
        """A thousand free, then 1.50, from a million on 1.00: the money of 2,000,000 requests."""
        cost = Cost(steps=(Step(above=1000, per_1000=1.5), Step(above=10**6, per_1000=1.0)))
        self.assertAlmostEqual(money_for(cost, 0, 2 * 10**6), 999 * 1.5 + 1000 * 1.0)
        self.assertEqual(
            [per_request(cost, n) for n in (0, 999, 1000, 10**6 - 1, 10**6)],
            [0, 0, 0.0015, 0.0015, 0.001],
        )
        self.assertEqual(money_for(Cost(per_1000=2.0), 5, 500), 1.0)

    def test_one_after_another(self):
        """Many at once cost what each of them costs, one by one."""
        rng = random.Random(4)
        for _ in range(200):
            above = sorted(rng.sample(range(1, 60), rng.randint(0, 4)))
            cost = Cost(
                per_1000=rng.uniform(0, 9),
                steps=tuple(Step(above=a, per_1000=rng.uniform(0, 9)) for a in above),
            )
            used, count = rng.randrange(80), rng.randrange(80)
            slowly = sum(per_request(cost, used + n) for n in range(count))
            self.assertAlmostEqual(money_for(cost, used, count), slowly)

    def test_contradictions(self):
        """Steps out of order, twice the same, at none, or below nothing."""
        for steps in ("{ above = 5, per_1000 = 1 }, { above = 5, per_1000 = 2 }", "{ above = 9, per_1000 = 1 }, { above = 5, per_1000 = 2 }",
                      "{ above = 0, per_1000 = 1 }", "{ above = 5, per_1000 = -1 }", "{ from = 5, per_1000 = 1 }"):  # fmt: skip
            with self.subTest(steps), self.assertRaises(DescriptionError):
                description(("per_1000 = 10.0", f"per_1000 = 10.0\nsteps = [{steps}]"))


class Counted(unittest.TestCase):
    def test_a_new_month(self):
        """With the month the first step begins again; what was given back was never used."""
        meter = Meter(description(STEPS))
        meter.start({"look": 2, "gone": 1}, "2026-11")
        self.assertEqual(
            [meter.take("look", "2026-11") for _ in range(4)], [0.01, 0.01, 0.01, 0.004]
        )
        meter.give_back("look", 0.004)
        self.assertEqual(meter.take("look", "2026-11"), 0.004)
        self.assertEqual(meter.take("look", "2026-12"), 0.0)

    def test_a_budget_to_the_last_cent(self):
        """As many requests as the money is for, and not one more."""
        meter = Meter(description())
        meter.start({}, "2026-11", 0.07)
        self.assertEqual(sum(meter.take("look", "2026-11") is not None for _ in range(20)), 7)
        self.assertEqual(meter.reason, "the budget of 0.07 EUR is reached")

    def test_a_shared_budget(self):
        """Money is asked for when it is needed, and what others used counts for the steps."""
        meter, purse = Meter(description(STEPS)), [0.0, 0.02]

        def more(needed):
            purse[0] += needed
            return min(needed, purse[1])

        meter.start({"look": 3}, "2026-11", 1.0, more)
        self.assertEqual([meter.take("look", "2026-11"), round(purse[0], 9)], [0.01, 0.01])
        meter.others_used({"look": 6})
        self.assertEqual([meter.take("look", "2026-11"), round(meter.left, 9)], [0.004, 0.0])
        purse[1] = 0.001
        self.assertIsNone(meter.take("look", "2026-11"))

    def test_said(self):
        """The step in use, and the next one; nothing of a price without steps, or of none."""
        [now] = price_now(description(STEPS), {"look": 4})
        self.assertEqual(
            (now.of, now.used, now.per_1000, now.next_above, now.next_per_1000),
            ("", 4, 10.0, 6, 4.0),
        )
        self.assertEqual(
            price_lines([now], "EUR"),
            ["Price after 4 this month: 10.00 EUR a thousand requests; from 6 on 4.00."],
        )
        self.assertEqual(price_lines(price_now(description(), {}), "EUR"), [])
        self.assertEqual(price_now(description(("per_1000 = 10.0", "per_1000 = 0.0")), {}), [])


class Spent(InFolder):
    def test_from_sending_to_sending(self):
        """The ledger knows how far the month is: 3 free, 3 at a hundredth, the rest at 0.004."""
        service = description(STEPS)
        first, _ = self.send(pictures(5), [ANSWER], service)
        second, _ = self.send(pictures(8), [ANSWER], service)
        self.assertEqual((round(first.money, 9), round(second.money, 9)), (0.02, 0.018))
        with LedgerStore(self.path) as ledger:
            self.assertAlmostEqual(usage(ledger)[0].money, 0.038)
        with open_service(service, self.path, key="k", transport=_Answers()) as bell:
            bell.look(picture(9))
        with LedgerStore(self.path) as ledger:
            self.assertAlmostEqual(usage(ledger)[0].money, 0.042)

    def test_by_the_image_and_by_the_operation(self):
        """A request about eleven pictures is eleven images; each kind asked of an image is an operation."""
        for per, wanted in (("request", 0.01), ("image", 0.11), ("operation", 0.33)):
            service = description(("per_1000 = 10.0", f'per_1000 = 10.0\nper = "{per}"'))
            meter = Meter(service, {"look": 3})
            meter.start({}, "2026-11", 1.0)
            self.assertAlmostEqual(meter.take("look", "2026-11", 11), wanted)
            self.assertAlmostEqual(meter.left, 1.0 - wanted)
            meter.give_back("look", wanted, 11)
            self.assertAlmostEqual(meter.left, 1.0)
            made = [("look", service.kinds, 2, 22), ("look", service.kinds[:1], 1, 1)]
            units = {"request": 3, "image": 23, "operation": 22 * len(service.kinds) + 1}
            self.assertEqual(units_used(service, made), {"look": units[per]})
        service = description(
            (
                "per_1000 = 10.0",
                'per_1000 = 10.0\nper = "operation"\nsteps = [{ above = 5, per_1000 = 1.0 }]',
            )
        )
        count = len(service.kinds)
        first, _ = self.send(pictures(2), [ANSWER], service)
        operations = 2 * count
        self.assertAlmostEqual(first.money, money_for(service.price, 0, operations))
        second, _ = self.send(pictures(4), [ANSWER], service)
        self.assertAlmostEqual(second.money, money_for(service.price, operations, 2 * count))
        with self.assertRaisesRegex(DescriptionError, "per"):
            description(("per_1000 = 10.0", 'per_1000 = 10.0\nper = "pixel"'))

    def test_budget_in_steps(self):
        """Free requests go out on a budget of nothing; the first that costs stops it."""
        sent, transport = self.send(pictures(9), [ANSWER], description(STEPS), budget=0.0)
        self.assertEqual((len(transport.requests), sent.money, sent.at_limit), (3, 0.0, True))
        self.assertIn("budget of 0 EUR", sent.stopped_because)

    def test_what_a_failure_costs(self):
        """An attempt that the service answered counts; one that it refused for its rate does not."""
        busy = Response(status=429, headers={"retry-after": "0"}, body=b"{}")
        sent, _ = self.send(pictures(2), [busy, ANSWER])
        self.assertAlmostEqual(sent.money, 0.02)


class _Answers:
    def send(self, request):
        import json

        return Response(status=200, headers={}, body=json.dumps(ANSWER).encode())
