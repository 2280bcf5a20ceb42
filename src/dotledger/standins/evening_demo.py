"""The whole demo in one place: scenes on disk and simulated services up."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

import numpy as np

from dotledger.core.boxes.box_overlap import overlap
from dotledger.core.measurement.measure import measure
from dotledger.core.pairing.pairing_rows import pair_tables
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.services.service_description import Description, parse_description
from dotledger.standins.chalk import chalk
from dotledger.standins.demo_scenes import RECIPES, write_scenes
from dotledger.standins.flint import flint
from dotledger.standins.marl import marl
from dotledger.standins.more_scenes import recipes
from dotledger.standins.service_misbehaviour import NO_TROUBLE, Trouble
from dotledger.standins.simulated_service import Running, Simulated, serve

__all__ = [
    "MAKERS",
    "Evening",
    "description_of",
    "description_text",
    "evening_walk",
    "pointed_text",
    "running",
    "what_it_shows",
]

MAKERS: dict[str, Callable[[Trouble], Simulated]] = {"flint": flint, "marl": marl, "chalk": chalk}
"""Every simulated service, with the function that makes it from its trouble."""


def description_text(name: str) -> str:
    """Return the shipped description of a simulated service, as TOML."""
    return (resources.files("dotledger.standins") / f"{name}.toml").read_text(encoding="utf-8")


def description_of(running: Running) -> Description:
    """Return the description of a simulated service that is up, pointed at it."""
    name = running.service.name
    text = description_text(name)
    return parse_description(text, name=f"{name}.toml").with_settings(running.settings)


def pointed_text(running: Running) -> str:
    """Return the shipped description with the port it runs on."""
    text = description_text(running.service.name)
    return re.sub(r'^port = "\d+"', f'port = "{running.port}"', text, flags=re.MULTILINE)


@contextmanager
def running(name: str, trouble: Trouble = NO_TROUBLE, *, port: int = 0) -> Iterator[Running]:
    """Run one simulated service by name while the block lasts."""
    with serve(MAKERS[name](trouble), port=port) as up:
        yield up


@dataclass(frozen=True, kw_only=True)
class Evening:
    """The demo's surroundings.

    Attributes
    ----------
    images : Path
        The folder of scenes.
    annotations : Path
        Their exact ground truth, as CSV.
    services : mapping of str to Description
        Simulated services that are up, by name.
    keys : mapping of str to str
        Their keys, which are made up and open nothing.
    """

    images: Path
    annotations: Path
    services: Mapping[str, Description]
    keys: Mapping[str, str]


@contextmanager
def evening_walk(
    folder: Path, *, services: tuple[str, ...] = ("flint", "marl"), count: int = len(RECIPES)
) -> Iterator[Evening]:
    """Draw the scenes below `folder` (if they are not there yet) and run simulated services.

    Parameters
    ----------
    services : tuple of str
        Names from `MAKERS`.
    count : int
        How many scenes; see `dotledger.standins.more_scenes`.
    """
    if not (folder / "annotations.csv").exists():
        write_scenes(folder, recipes=recipes(count))
    with ExitStack() as stack:
        up = [stack.enter_context(running(name)) for name in services]
        yield Evening(
            images=folder / "images",
            annotations=folder / "annotations.csv",
            services={one.service.name: description_of(one) for one in up},
            keys={one.service.name: one.service.key for one in up},
        )


def what_it_shows(found: Mapping[str, Findings], annotations: Annotations) -> list[str]:
    """Return, in sentences, what the scenes were made to show, read off the results."""
    cut = {name: table.cut(0.5) for name, table in found.items()}
    missed = {name: _missed_faces(table, annotations) for name, table in cut.items()}
    moons = {name: _moons_taken(table, annotations) for name, table in cut.items()}
    boxes = {name: _mean_overlap(table, annotations) for name, table in cut.items()}
    blind = max(missed, key=lambda name: len(missed[name]))
    fooled = max(moons, key=lambda name: moons[name])
    loose = min(boxes, key=lambda name: boxes[name])
    heights = missed[blind]
    return [
        f"{blind} misses the most faces: {len(heights)}, "
        f"the median one {np.median(heights) if len(heights) else 0:.0f} pixels high.",
        f"{fooled} takes the moon for a lantern: in {moons[fooled]} of "
        f"{_count(annotations, 'moon')} images with a moon.",
        f"{loose} draws the loosest boxes: mean overlap {boxes[loose]:.2f}, "
        "averaged over object labels.",
    ]


def _missed_faces(table: Findings, annotations: Annotations) -> list[float]:
    """Return the heights of the faces missed."""
    state = pair_tables(table, annotations).annotation
    rows = (state == "missed") & annotations.kind.among(["face"])
    height: list[float] = (annotations.box[rows, 3] - annotations.box[rows, 1]).tolist()
    return height


def _moons_taken(table: Findings, annotations: Annotations) -> int:
    """Count images with a moon in which a wrong lantern is found above everything else."""
    state = pair_tables(table, annotations).finding
    lantern = (state == "wrong") & table.label.among(["lantern"])
    with_moon = annotations.image.take(annotations.label.among(["moon"])).used()
    real = annotations.label.among(["lantern"])
    taken = set()
    for row in np.flatnonzero(lantern & table.image.among(with_moon)):
        name = table.image.names[table.image.codes[row]]
        same = real & annotations.image.among([name]) & ~np.isnan(annotations.box[:, 0])
        if not (overlap(annotations.box[same], table.box[row]) > 0.05).any():
            taken.add(name)
    return len(taken)


def _mean_overlap(table: Findings, annotations: Annotations) -> float:
    return (
        measure(table, annotations, kinds=["object"])
        .kinds["object"]
        .mean_over_labels["mean_overlap"]
    )


def _count(annotations: Annotations, label: str) -> int:
    return len(annotations.image.take(annotations.label.among([label])).used())
