"""The rules of pairing between equals, each as a case worked by hand.

Boxes are whole numbers, so every overlap here is a fraction that can be checked with a pencil. Each case
says which rule of the definitions decides it and what a pairing without that rule would give. Nothing is
computed here; `tests.core.pairing.test_pairing` and the slow reference are held against the same lines.
"""

from typing import NamedTuple


class Case(NamedTuple):
    """One image and one label: findings (confidence, box), annotations (box), and who gets whom.

    `pairs` are (place of the finding, place of the annotation), `aside` the findings that are set
    aside, both counted from 0 in the order of the lines. `ignored` are places of annotations.
    """

    rule: str
    required: float
    findings: tuple
    annotations: tuple
    pairs: tuple
    aside: tuple = ()
    ignored: tuple = ()


WORKED = (
    Case(
        # Worked in the comment above the pairing (core/pairing/greedy_pairing.py).
        "six findings: right, taken already, right by the better overlap, taken, set aside, alone",
        0.5,
        (
            (0.95, (0, 0, 8, 10)),
            (0.90, (0, 0, 10, 10)),
            (0.80, (20, 0, 29, 10)),
            (0.80, (20, 0, 28, 10)),
            (0.70, (42, 0, 52, 10)),
            (0.60, (70, 0, 80, 10)),
        ),
        ((0, 0, 10, 10), (20, 0, 30, 10), (40, 0, 60, 10)),
        pairs=((0, 0), (2, 1)),
        aside=(4,),
        ignored=(2,),
    ),
    Case(
        # IoU: the first 80/100, the second 100/100. The sure one visits first and takes the annotation.
        "falling confidence: the surer finding chooses first, though the other lies better",
        0.5,
        ((0.9, (0, 0, 8, 10)), (0.8, (0, 0, 10, 10))),
        ((0, 0, 10, 10),),
        pairs=((0, 0),),
    ),
    Case(
        # Both 0.7. IoU with the left annotation: the first 60/100, the second 90/100. By the box alone the
        # first would visit first (equal x0 and y0, then x1 6 < 9), and the better finding would be wrong.
        "equal confidence: falling best overlap decides who chooses first",
        0.5,
        ((0.7, (0, 0, 6, 10)), (0.7, (0, 0, 9, 10))),
        ((0, 0, 10, 10),),
        pairs=((1, 0),),
    ),
    Case(
        # Best overlap counts countable annotations only: the first lies exactly on the ignored one, which
        # does not make it visit first. IoU with the countable one: 50/150 = 1/3 and 80/120 = 2/3.
        "falling best overlap: an ignored annotation does not count",
        0.3,
        ((0.7, (15, 0, 25, 10)), (0.7, (12, 0, 22, 10))),
        ((10, 0, 20, 10), (15, 0, 25, 10)),
        pairs=((1, 0),),
        aside=(0,),
        ignored=(1,),
    ),
    Case(
        # Equal confidence and equal overlap (80/100 each): the one further left visits first.
        "equal confidence and overlap: x0, then y0, x1, y1",
        0.5,
        ((0.7, (2, 0, 10, 10)), (0.7, (0, 0, 8, 10))),
        ((0, 0, 10, 10),),
        pairs=((1, 0),),
    ),
    Case(
        # 80/120 = 2/3 with the first annotation, 40/160 = 1/4 with the second: both are enough.
        "a finding takes the annotation of the greatest overlap, not the first that is enough",
        0.25,
        ((0.7, (2, 0, 12, 10)),),
        ((0, 0, 10, 10), (8, 0, 18, 10)),
        pairs=((0, 0),),
    ),
    Case(
        # Equal confidence, overlap (80/100 each), x0 and y0: the one that ends further left visits first,
        # though the other ends further up.
        "equal confidence, overlap, x0 and y0: x1 before y1",
        0.5,
        ((0.7, (0, 0, 10, 8)), (0.7, (0, 0, 8, 10))),
        ((0, 0, 10, 10),),
        pairs=((1, 0),),
    ),
    Case(
        # The finding overlaps both annotations by 50/150 = 1/3: the one that comes first by x0 is taken,
        # though it stands second in the table.
        "equal overlaps of one finding: the annotation that comes first by x0, y0, x1, y1",
        0.3,
        ((0.7, (5, 0, 15, 10)),),
        ((10, 0, 20, 10), (0, 0, 10, 10)),
        pairs=((0, 1),),
    ),
    Case(
        # 1/3 and 0.333333333 are equal at nine decimals, so a required overlap of 0.333333333 is met.
        "overlaps are compared at nine decimals",
        0.333333333,
        ((0.7, (5, 0, 15, 10)),),
        ((0, 0, 10, 10),),
        pairs=((0, 0),),
    ),
    Case(
        # The second finding's best annotation is taken; the other one overlaps it by 40/160 = 1/4 only.
        "a finding that comes too late takes the best annotation that is free, if that is enough",
        0.25,
        ((0.9, (0, 0, 10, 10)), (0.8, (4, 0, 14, 10))),
        ((0, 0, 10, 10), (10, 0, 20, 10)),
        pairs=((0, 0), (1, 1)),
    ),
    Case(
        # 100 of the finding's 100 lie in the ignored annotation, but a free one is met first (100/100).
        "a free annotation goes before an ignored one",
        0.5,
        ((0.7, (0, 0, 10, 10)),),
        ((0, 0, 20, 10), (0, 0, 10, 10)),
        pairs=((0, 1),),
        ignored=(0,),
    ),
    Case(
        # Share of the finding inside: 50/100, exactly the required overlap.
        "set aside: by the share of the finding that lies inside, which may be exactly the required one",
        0.5,
        ((0.7, (5, 0, 15, 10)), (0.6, (6, 0, 16, 10))),
        ((0, 0, 10, 10),),
        pairs=(),
        aside=(0,),
        ignored=(0,),
    ),
    Case(
        # A finding without a confidence (None) is certain: it visits before 1.0.
        "no confidence sorts before every confidence",
        0.5,
        ((1.0, (0, 0, 10, 10)), (None, (0, 0, 8, 10))),
        ((0, 0, 10, 10),),
        pairs=((1, 0),),
    ),
)
