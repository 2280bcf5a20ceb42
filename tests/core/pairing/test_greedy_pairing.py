"""Who is paired with whom: the tie rules, case by case, against cases worked by hand."""

import itertools
import random
import unittest

from dotledger import pair_tables
from tests import reference
from tests.core.measurement.test_measure import (
    annotations_of,
    as_tables,
    at_a_time,
    findings_of,
    random_case,
)
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


class AgainstReference(unittest.TestCase):
    def check(self, seed):
        """The library's state of each finding and annotation is that of the slow reference."""
        found, true = random_case(seed)
        said, truth = as_tables(found, true)
        required = (0.3, 0.5, 1 / 3, 0.75)[seed % 4]
        states = pair_tables(said, truth, overlap=required)
        groups = {(a["image"], a["label"]) for a in true if a["label"]}
        wanted = {}
        for image, label in {(f["image"], f["label"]) for f in found} & groups:
            mine = [f for f in found if (f["image"], f["label"]) == (image, label)]
            theirs = [a for a in true if (a["image"], a["label"]) == (image, label)]
            for finding, state, _ in reference.pair_group(mine, theirs, required):
                key = (image, label, finding["confidence"], tuple(finding["box"]))
                wanted.setdefault(key, []).append(state)
        got = {}
        confidence = [None if c != c else c for c in said.confidence.tolist()]
        rows = zip(said.image.values(), said.label.values(), confidence, said.box.tolist(), states.finding)  # fmt: skip
        for image, label, sure, box, state in rows:
            if (key := (image, label, sure, tuple(box))) in wanted:
                got.setdefault(key, []).append(state)
        self.assertEqual({k: sorted(v) for k, v in got.items()}, {k: sorted(v) for k, v in wanted.items()}, seed)  # fmt: skip
        return len(wanted)

    def test_random_cases(self):
        """Four hundred random cases, and the same however few rows are worked on at a time."""
        self.assertGreater(sum(self.check(seed) for seed in range(400)), 500)
        for size in (1, 3):
            with at_a_time(size):
                self.assertGreater(sum(self.check(seed) for seed in range(60)), 50)
