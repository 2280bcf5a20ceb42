"""Calls and money by service and month, and how the calls of a batch went."""

import itertools
from unittest import mock

from dotledger.images.image_gathering import gather
from dotledger.ledger.batch_queries import find_batch, outcome_counts
from dotledger.ledger.usage_queries import call_figures, preparations, requests_in_month, usage
from dotledger.sending.batch.batch_sending import Sending
from dotledger.sending.batch.sending_dependencies import Means
from dotledger.sending.policies.send_plan import make_plan
from dotledger.services.credentials import Key
from dotledger.testing import FakeTransport, answer
from tests.sending.helpers import ANSWER, InFolder, description, number_of, pictures

DECEMBER_31, JANUARY_1 = 1798675200.0, 1798761600.0  # 2026-12-31 and 2027-01-01, midnight UTC


class Usage(InFolder):
    def sent_at(self, moment, images, replies, service=None, **options):
        """Send with a wall clock that stands at a moment and a steady one that ticks quarters."""
        ticks = itertools.count()
        means = Means(
            transport=FakeTransport(replies),
            wall=lambda: moment,
            steady=lambda: next(ticks) / 4,
            sleep=lambda _: None,
        )
        plan = make_plan(service or description(), gather(images))
        return Sending(plan, str(self.path), Key("k", "test"), means=means, **options).run()

    def test_months_are_apart(self):
        """Every request that was answered counts in its month; those without success as failed."""
        self.sent_at(DECEMBER_31, pictures(3), [ANSWER])
        later = {f"n-{n}": data for n, data in enumerate(list(pictures(9).values())[3:])}
        self.sent_at(
            JANUARY_1, later, lambda r: answer({}, 400) if number_of(r) == 5 else answer(ANSWER)
        )
        ledger = self.ledger()
        old, new = usage(ledger)
        self.assertEqual((old.month, old.calls, old.failed, old.images), ("2026-12", 3, 0, 3))
        self.assertEqual((new.month, new.calls, new.failed, new.images), ("2027-01", 6, 1, 5))
        self.assertAlmostEqual(new.money, 0.06)
        self.assertEqual(sum(requests_in_month(ledger, "bell", "2027-01").values()), 6)
        self.assertEqual(sum(requests_in_month(ledger, "other", "2027-01").values()), 0)

    def test_a_batch_over_the_end_of_a_month(self):
        """Its calls count in the month in which each began, next to those of other batches."""
        self.sent_at(DECEMBER_31, pictures(3), [ANSWER])
        images = {f"o-{n}": data for n, data in enumerate(list(pictures(9).values())[3:])}
        for moment, most in ((DECEMBER_31 + 86_399, 2), (JANUARY_1 + 1, None)):
            self.sent_at(moment, images, [ANSWER], at_most=most)
        other = {"p": list(pictures(10).values())[9]}
        self.sent_at(JANUARY_1 + 2, other, [ANSWER])
        found = [(m.month, m.calls, m.images) for m in usage(self.ledger())]
        self.assertEqual(found, [("2026-12", 5, 5), ("2027-01", 5, 5)])

    def test_outcomes_in_blocks(self):
        """Images are counted so many at a time: the same counts, wherever a block ends."""
        self.sent_at(
            JANUARY_1,
            pictures(7),
            lambda r: answer({}, 400) if number_of(r) == 5 else answer(ANSWER),
        )
        ledger = self.ledger()
        batch = find_batch(ledger)
        whole = outcome_counts(ledger, batch)
        self.assertEqual(
            (whole["label"]["found"], whole["label"]["failed"], whole["label"]["pending"]),
            (6, 1, 0),
        )
        for size in (1, 2, 3, 6, 7, 8):
            with mock.patch("dotledger.ledger.batch_queries._COUNTED_AT_ONCE", size):
                self.assertEqual(outcome_counts(ledger, batch), whole, size)

    def test_how_the_calls_went(self):
        """Attempts beyond the first, bytes and seconds; without a success no seconds."""
        replies = [answer({}, 500), ANSWER, ANSWER]
        self.sent_at(JANUARY_1, pictures(2), replies, description(("at_once = 4", "at_once = 1")))
        ledger = self.ledger()
        figures = call_figures(ledger, find_batch(ledger))
        self.assertEqual((figures.calls, figures.retries, round(figures.money, 9)), (3, 1, 0.03))
        self.assertEqual(figures.sent_bytes, sum(map(len, pictures(2).values())))
        self.assertGreaterEqual(figures.median, 0.25)
        self.assertLessEqual(figures.median, figures.p95)
        self.sent_at(JANUARY_1, {"x": list(pictures(9).values())[8]}, [answer({}, 400)])
        none = call_figures(ledger, find_batch(ledger))
        self.assertNotEqual(none.median, none.median)

    def test_preparations(self):
        """Images that did not go out as they are stand with what was done."""
        small = description(("[limits]", "[limits]\nmax_side = 12"))
        self.sent_at(JANUARY_1, pictures(1), [ANSWER], small)
        ledger = self.ledger()
        [(name, steps)] = preparations(ledger, find_batch(ledger))
        self.assertEqual((name, steps[-1]), ("p-0.jpg", "shrunk to 12 x 8 (50%)"))
