"""The watch: each round judged once, whoever looks how often; alarms that are true, and told."""

import io
import json
import math
import unittest
from contextlib import redirect_stdout
from unittest import mock

import numpy as np

from dotledger import plot, send, watch
from dotledger.core.comparison.exchange_test import exchanges
from dotledger.core.comparison.planned_looks import look_at, looks_that_images_bear
from dotledger.errors import ArgumentError, LedgerError
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.look_log import add_look, looks_since
from dotledger.report.pages.watch_page import watch_page
from dotledger.testing import FakeTransport, Response
from tests import simulation
from tests.core.comparison.test_drift import rounds
from tests.core.measurement.test_measure import findings_of
from tests.forked import check_output, dotledger
from tests.sending.helpers import InFolder, description, number_of, pictures

THINGS = ("bell", "stool", "drum")


class Simulated(unittest.TestCase):
    def test_years_without_a_change(self):
        """Ten looks at one first round, all answers drawn anew: hardly any watch raises an alarm."""
        alarms = 0
        for year in range(30):
            rng = np.random.default_rng(year)
            scene = simulation.scene_of(rng, 12)
            days = [findings_of(simulation.answered(rng, scene, anew=True)) for _ in range(11)]
            alarms += any(look_at(days[0], day, planned=10).alarm for day in days[1:])
        self.assertLessEqual(alarms, 5)  # 5 % of 30 are 1.5: more than 5 come in 1 of 300 tries

    def test_a_lost_label(self):
        """On a hundred images it is an alarm of the first day, of a year of planned ones."""
        for seed in range(2):
            look = look_at(*rounds(seed, 100, "lost label", anew=True))
            self.assertTrue(look.alarm)
            self.assertLessEqual(
                {f.of for f in look.figures if f.changed}, {"object", "object:stool"}
            )
            self.assertEqual(look.exchanges, 146_000)

    def test_against_plain_counting(self):
        """The p-value is a plain count over all exchanges, to the last of 4096."""
        first, second = rounds(3, 12, "gone")
        counts = [
            np.bincount([int(i[1:]) for i, lab in zip(t.image.values(), t.label.values()) if lab], minlength=12)
            for t in (first, second)
        ]  # fmt: skip
        both = np.concatenate(list(exchanges(12, 0, 500, 4096)), axis=1)
        moved = np.abs((counts[1] - counts[0]) @ (1 - 2 * both))
        share = np.mean(moved >= abs((counts[1] - counts[0]).sum()))
        look = look_at(first, second)
        self.assertEqual(look.exchanges, 4096)
        self.assertAlmostEqual(share, 2 / 4096)
        self.assertGreaterEqual(look.p_value, share, "many figures cannot be surer than one")
        self.assertEqual((look.alarm, look.bears), (False, 102))
        self.assertTrue(look_at(first, second, planned=12).alarm)
        self.assertEqual([looks_that_images_bear(n) for n in (0, 4, 5, 6)], [0, 0, 0, 1])


class Rounds(InFolder):
    def setUp(self):
        super().setUp()
        self.images = pictures(30)

    def round(self, name, things=THINGS, images=None, sure=0.9):
        """Send a round to a service that sees these things, each in every second or third image."""

        def answer(request):
            number = number_of(request)
            seen = [t for n, t in enumerate(THINGS) if t in things and number % (n + 2) != 1]
            return {
                "tags": [],
                "things": [
                    {"name": one, "sure": sure, "box": [1, 1 + 4 * n, 9, 4 + 4 * n]}
                    for n, one in enumerate(seen)
                ],
            }

        asked = self.images if images is None else images
        send(
            asked,
            description(),
            ledger=self.path,
            key="k",
            transport=FakeTransport(answer),
            round=name,
        )
        with LedgerStore(self.path) as ledger, ledger.writing() as connection:
            # How long the machine of the tests took is no figure of the service.
            connection.exec_driver_sql("UPDATE calls SET seconds = 0.1")

    def test_each_round_once(self):
        """A lost label is an alarm of its round; a round that was judged is not judged again."""
        self.round("may")
        self.round("june")
        first = watch(self.path, "may")
        self.assertEqual((first.made, first.fresh, first.alarm), (1, (2,), False))
        self.assertTrue(first.rounds[0].look.same)
        self.round("july", things=("bell", "drum"))
        with mock.patch("dotledger.api.drift_watch.look_at", side_effect=look_at) as judged:
            second = watch(self.path, "may")
            self.assertEqual(second.fresh, (3,))
            self.assertEqual((second.alarm, [r.name for r in second.alarms]), (True, ["july"]))
            again = watch(self.path, "may")
            self.assertEqual(judged.call_count, 1)
        self.assertEqual((again.fresh, again.made, again.alarm), ((), 2, True))
        self.assertEqual(repr(again.rounds), repr(second.rounds))
        changed = {f.of for f in again.alarms[0].look.figures if f.changed}
        self.assertIn("object:stool", changed)
        self.assertLessEqual(changed, {"object", "object:stool"})
        self.round("august")
        later = watch(self.path, "may")
        self.assertEqual((later.alarm, len(later.alarms)), (False, 1), "the newest is as the first")

    def test_what_it_says(self):
        """The command's last line, its exit status, its JSON and its page agree."""
        self.round("may")
        self.round("june")
        self.round("july", things=("bell", "drum"))
        said = self.said("--page", str(self.folder / "w.html"))
        self.assertEqual(said.returncode, 1)
        self.assertRegex(
            said.stdout, r"bell since may \(batch 1, sent .*\)\.\n2 of 365 planned looks made, 2 of"
        )
        self.assertIn("findings per image, object:stool: 0.67, now 0.00", said.stdout)
        self.assertNotIn("description", said.stdout, "a round is no other description")
        self.assertIn("labels only in the first round: object:stool (20)", said.stdout)
        self.assertIn("Alarm: july differs from the first round.", said.stdout.splitlines()[-1])
        page = (self.folder / "w.html").read_text()
        self.assertIn("Alarm: july differs from the first round.", page)
        self.assertIn("findings per image: object:stool", page)
        text = self.said("--json").stdout
        check_output(text)
        told = json.loads(text)
        self.assertEqual((told["alarm"], told["fresh"], told["service"]), (True, [], "bell"))
        self.assertEqual([one["look"]["alarm"] for one in told["rounds"]], [False, True])
        self.round("august")
        calm = self.said()
        self.assertEqual(calm.returncode, 0)
        self.assertRegex(calm.stdout, r"august has the same labels.* 1 earlier round did\.\n$")
        self.assertEqual(self.said("--looks", "9").returncode, 2)

    def said(self, *more):
        return dotledger("drift", "bell", "--since", "may", "--ledger", str(self.path), *more)

    def test_no_promise_that_cannot_be_kept(self):
        """Six images bear one look: no alarm is possible in 365, and that is what is said."""
        self.images = pictures(6)
        self.round("may")
        self.round("june", things=())
        said = self.said()
        self.assertEqual(said.returncode, 0)
        self.assertNotIn("No alarm", said.stdout)
        self.assertIn("its 6 images bear 1 look and 365 are planned", said.stdout)
        self.assertIn("no change of the answers, however large, is an alarm", said.stdout)

    def test_two_rounds_at_once(self):
        """An alarm of a round that is not the newest: status, last line and page agree on it."""
        self.round("may")
        self.round("june", things=("bell", "drum"))
        self.round("july")
        said = self.said("--page", str(self.folder / "w.html"))
        self.assertEqual(said.returncode, 1)
        wanted = "Alarm: june differs from the first round; july has the same labels"
        self.assertIn(wanted, said.stdout.splitlines()[-1])
        self.assertIn(wanted, (self.folder / "w.html").read_text())
        self.assertNotIn("No alarm", said.stdout)
        again = self.said()
        self.assertEqual(again.returncode, 0)
        self.assertRegex(again.stdout, r"july has the same labels.* 1 earlier round did\.\n$")

    def test_nothing_answered(self):
        """A later round without any answer is named, and the last line does not pass over it."""
        self.round("may")
        self.round("june")
        silent = FakeTransport(lambda _: Response(status=400, body=b"{}"))
        options = {"ledger": self.path, "key": "k", "transport": silent, "round": "july"}
        send(self.images, description(("at_once = 4", "at_once = 1")), **options)
        with LedgerStore(self.path) as ledger, ledger.writing() as connection:
            connection.exec_driver_sql(
                "UPDATE batches SET ended = '2031-01-01' WHERE round = 'july'"
            )
        said = self.said()
        self.assertEqual(said.returncode, 3)
        self.assertIn("july (batch 3): no image was answered", said.stdout)
        self.assertRegex(
            said.stdout.splitlines()[-1], r"june has the same .* 1 later round not judged\."
        )

    def test_a_first_round_that_goes_on(self):
        """A first round that is still being sent is no measure for others."""
        self.round("may")
        with LedgerStore(self.path) as ledger, ledger.writing() as connection:
            connection.exec_driver_sql("UPDATE batches SET ended = NULL")
        with self.assertRaisesRegex(LedgerError, "first round of a watch is not complete"):
            watch(self.path, "may")

    def test_more_looks_than_planned(self):
        """Whoever comes second to the last planned look writes none."""
        self.round("may")
        self.round("june")
        with LedgerStore(self.path) as ledger:
            first, second = (find_batch(ledger, batch=n) for n in (1, 2))
            how = {"planned": 1, "now": 2e9, "result": {}}
            self.assertEqual(add_look(ledger, first, second, settings="a", **how).number, 1)
            self.assertEqual(add_look(ledger, first, second, settings="a", **how).number, 1)
            with self.assertRaisesRegex(LedgerError, "all 1 planned looks"):
                add_look(ledger, first, second, settings="b", **how)

    def test_what_is_not_judged(self):
        """Other images, a round that is still being sent, other services: named, or not looked at."""
        self.round("may")
        self.round("june", images={f"x{n}": d for n, d in self.images.items()})
        self.round("july")
        with LedgerStore(self.path) as ledger, ledger.writing() as connection:
            connection.exec_driver_sql("UPDATE batches SET ended = NULL WHERE round = 'july'")
        found = watch(self.path, 1)
        self.assertEqual((found.rounds, found.made), ((), 0))
        self.assertRegex(found.left_out[0], r"june \(batch 2\): other images")
        self.assertRegex(found.left_out[1], r"july \(batch 3\): still being sent")
        self.assertEqual(len(watch(self.path, 1, any_images=True).rounds), 1)

    def test_the_plan_is_kept(self):
        """Looks under other settings count too; when all are made, nothing is judged any more."""
        self.round("may")
        self.round("june")
        self.assertEqual(watch(self.path, "may", looks=2).planned, 2)
        with self.assertRaisesRegex(ArgumentError, "planned for 2 looks, and 1 are made"):
            watch(self.path, "may", looks=3)
        self.assertEqual(watch(self.path, "may", threshold=0.5).rounds[0].number, 2)
        refused = watch(self.path, "may", threshold=0.95)
        self.assertEqual(refused.rounds, ())
        self.assertIn("all 2 planned looks have been made", refused.left_out[0])
        with LedgerStore(self.path) as ledger:
            made = looks_since(ledger, find_batch(ledger, batch=1))
        self.assertEqual([one.number for one in made], [1, 2])
        for since, fault in (
            ("", "named by the number"),
            ("march", "does not hold"),
            (9, "batch 9"),
        ):
            with self.assertRaisesRegex((ArgumentError, LedgerError), fault):
                watch(self.path, since)

    def test_two_at_once(self):
        """Whoever judges the same round meanwhile adds nothing: there is one look."""
        self.round("may")
        self.round("june")

        def meanwhile(*tables, **options):
            with mock.patch("dotledger.api.drift_watch.look_at", side_effect=look_at):
                watch(self.path, "may")
            return look_at(*tables, **options)

        with mock.patch("dotledger.api.drift_watch.look_at", side_effect=meanwhile):
            self.assertEqual(watch(self.path, "may").made, 1)

    def test_drawn(self):
        """The chart has a line a figure, in widths of its band; the page is whole without rounds."""
        self.round("may")
        page = watch_page(watch(self.path, "may"))
        self.assertIn("No later round to judge.", page)
        self.assertNotIn("Matplotlib", page)
        with mock.patch("dotledger.report.pages.watch_page.can_draw", return_value=False):
            self.assertIn("Charts need Matplotlib", watch_page(watch(self.path, "may")))
        for name in ("june", "july"):
            self.round(name, things=THINGS if name == "june" else ("bell",), sure=0.8)
        axes = plot(watch(self.path, "may"), "rounds")
        self.assertGreater(len(axes.lines), 3)
        ends = [y for line in axes.lines for y in line.get_ydata() if not math.isnan(y)]
        self.assertLess(max(map(abs, ends)), 5)
        self.assertIn("findings per image, object", str(axes.get_legend_handles_labels()[1]))
        with redirect_stdout(io.StringIO()) as said:
            print(watch(self.path, "may"))
        self.assertIn("june", said.getvalue())
