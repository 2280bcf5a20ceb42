"""Who is paired with whom: the tie rules, case by case, against cases worked by hand."""

import itertools
import random
import unittest

from dotledger import pair_tables
from tests import reference
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.worked_cases import WORKED


def by_library(case, found, annotated):
    """The pairs and those set aside, as places in the case; `found` and `annotated` are its orders."""
    said = findings_of([("a", "face", "f", *case.findings[n]) for n in found])
    true = annotations_of(
        [("a", "face", "f", case.annotations[n], n in case.ignored) for n in annotated]
    )
    states = pair_tables(said, true, overlap=case.required)
    pairs = {
        (found[row], annotated[partner])
        for row, partner in enumerate(states.partner.tolist())
        if states.finding[row] == "right"
    }
    aside = {found[row] for row, state in enumerate(states.finding) if state == "set aside"}
    return pairs, aside


def by_reference(case):
    """The same of the slow reference, which tells findings only."""
    found = [{"confidence": c, "box": box, "place": n} for n, (c, box) in enumerate(case.findings)]
    true = [
        {"box": box, "ignore": n in case.ignored, "place": n}
        for n, box in enumerate(case.annotations)
    ]
    result = reference.pair_group(found, true, case.required)
    return (
        {one["place"] for one, state, _ in result if state == "right"},
        {one["place"] for one, state, _ in result if state == "set aside"},
    )


class WorkedCases(unittest.TestCase):
    def test_in_every_order_of_rows(self):
        """Each case comes out as worked by hand, whatever the order of rows (24 of the orders, where there are more)."""
        for case in WORKED:
            orders = list(
                itertools.product(
                    itertools.permutations(range(len(case.findings))),
                    itertools.permutations(range(len(case.annotations))),
                )
            )
            for found, annotated in random.Random(1).sample(orders, min(len(orders), 24)):
                with self.subTest(case.rule, found=found, annotated=annotated):
                    self.assertEqual(
                        by_library(case, found, annotated), ({*case.pairs}, {*case.aside})
                    )

    def test_the_reference(self):
        """The slow reference knows the same rules."""
        for case in WORKED:
            with self.subTest(case.rule):
                right = {finding for finding, _ in case.pairs}
                self.assertEqual(by_reference(case), (right, {*case.aside}))
