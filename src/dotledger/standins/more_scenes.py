"""Any number of seeded scenes next to those of the demo: 33 are too few to choose thresholds by."""

from __future__ import annotations

from collections.abc import Sequence
from random import Random

from dotledger.standins.demo_scenes import RECIPES, Recipe, Thing

__all__ = ["recipes"]

_SKIES = ("indigo", "plum", "slate")
_FIGURES = (
    ("lantern", (40, 130), (0.22, 0.40)),
    ("moon", (70, 120), (0.16, 0.24)),
    ("person", (13, 90), (0.54, 0.70)),
    ("umbrella", (140, 210), (0.50, 0.62)),
    ("banner", (130, 200), (0.34, 0.46)),
    ("basket", (90, 150), (0.78, 0.86)),
    ("stool", (80, 130), (0.78, 0.86)),
    ("reflection", (50, 64), (0.85, 0.89)),
    ("stone", (100, 170), (0.80, 0.86)),
    ("flame", (80, 130), (0.74, 0.82)),
    ("glass", (140, 220), (0.84, 0.88)),
    ("smoke", (160, 240), (0.44, 0.54)),
)
"""What may stand in a scene: how large in pixels, and how far down."""
_OFTEN = {"lantern": 9, "person": 8, "umbrella": 3, "banner": 3, "basket": 4, "stool": 4, "moon": 3,
          "reflection": 1, "stone": 2, "flame": 1, "glass": 1, "smoke": 1}  # fmt: skip
_ONCE = ("flame", "glass", "smoke", "moon")
_MOST = 7


def recipes(count: int, *, seed: int = 7) -> tuple[Recipe, ...]:
    """Return so many scenes: those of the demo first, then made-up ones.

    Parameters
    ----------
    count : int
        At least 1.
    seed : int, default 7
        Equal seeds give equal scenes; more of them begin with the same.
    """
    drawn = [_recipe(number, Random(f"{seed}/scene/{number}")) for number in range(36, count + 1)]
    return (*RECIPES[:count], *drawn)


def _recipe(number: int, rng: Random) -> Recipe:
    names = list(_OFTEN)
    wanted = rng.choices(names, [_OFTEN[name] for name in names], k=rng.randint(0, _MOST))
    # There is one moon, and a hazard is true of the image as a whole: once is enough.
    wanted = [w for i, w in enumerate(wanted) if w not in _ONCE or w not in wanted[:i]]
    crowd = rng.random() < 0.12
    things = _spread(["person"] * rng.randint(5, 9) if crowd else wanted, rng, small=crowd)
    return Recipe(
        name=f"more/evening-{number:05d}.jpg",
        things=things,
        sky=rng.choice(_SKIES),
        string=any(what == "lantern" for what, *_ in things) and rng.random() < 0.4,
    )


def _spread(wanted: Sequence[str], rng: Random, *, small: bool) -> tuple[Thing, ...]:
    """Return things side by side; some lanterns are pushed together on purpose."""
    ranges = {name: (sizes, downs) for name, sizes, downs in _FIGURES}
    step = 0.84 / max(len(wanted), 1)
    things: list[Thing] = []
    for place, what in enumerate(rng.sample(list(wanted), len(wanted))):
        (low, high), (up, down) = ranges[what]
        size = rng.uniform(12, 18) if small else rng.uniform(low, high)
        across = 0.08 + step * (place + rng.uniform(0.3, 0.7))
        if what == "lantern" and rng.random() < 0.2:
            across -= step * 0.5
        things.append((what, round(across, 3), round(rng.uniform(up, down), 3), round(size)))
    return tuple(things)
