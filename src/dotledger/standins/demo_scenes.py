"""The demo's scenes: a lantern workshop's evening walk, drawn with exact ground truth."""

from __future__ import annotations

import io
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from random import Random

import numpy as np
from PIL import Image

from dotledger.core.boxes.box_forms import Box
from dotledger.core.tables.annotations_table import Annotations
from dotledger.formats.tables.findings_files import write_rows, write_table
from dotledger.safe_files import whole_file
from dotledger.standins.scene_painting import (
    PAINTERS,
    Painted,
    PaintedCanvas,
    paint_sky,
    paint_string,
)

__all__ = ["RECIPES", "Recipe", "Scene", "draw_scene", "scenes", "write_scenes"]

OBJECT_LABELS = ("banner", "basket", "lantern", "stool", "umbrella")
UNSAFE_LABELS = ("broken glass", "open flame", "smoke")
IMAGE_LABELS = ("banner", "dusk", "lantern", "moon", "people", "umbrella")
VOCABULARY = {
    "label": IMAGE_LABELS,
    "object": OBJECT_LABELS,
    "face": ("face",),
    "unsafe": UNSAFE_LABELS,
}

Thing = tuple[str, float, float, float]
"""What, where (shares of width and height) and how large (pixels)."""


@dataclass(frozen=True, kw_only=True)
class Recipe:
    """One scene: its file name, its sky, what stands where, and what is special about the file."""

    name: str
    things: tuple[Thing, ...] = ()
    sky: str = "indigo"
    string: bool = False
    size: tuple[int, int] = (800, 560)
    orientation: int = 1
    special: str = ""


@dataclass(frozen=True, kw_only=True)
class Scene:
    """A drawn scene: the file's bytes and what is true of it."""

    name: str
    data: bytes
    painted: tuple[Painted, ...]


def _row(what: str, *spots: tuple[float, float, float]) -> tuple[Thing, ...]:
    return tuple((what, x, y, size) for x, y, size in spots)


RECIPES: tuple[Recipe, ...] = (
    Recipe(name="walk-01.jpg", string=True, things=_row("lantern", (0.2, 0.26, 92), (0.5, 0.3, 104), (0.8, 0.27, 90)) + _row("person", (0.32, 0.62, 56), (0.66, 0.6, 60))),
    Recipe(name="walk-02.jpg", sky="plum", things=_row("person", (0.24, 0.55, 84), (0.62, 0.52, 92)) + _row("umbrella", (0.84, 0.56, 170))),
    Recipe(name="walk-03.jpg", sky="slate", things=_row("banner", (0.16, 0.4, 190), (0.86, 0.42, 200)) + _row("lantern", (0.5, 0.3, 120)) + _row("stool", (0.5, 0.86, 90))),
    Recipe(name="walk-04.jpg", things=_row("basket", (0.24, 0.82, 120), (0.46, 0.86, 96)) + _row("person", (0.72, 0.5, 90))),
    Recipe(name="walk-05.jpg", sky="plum", string=True, things=_row("lantern", (0.12, 0.24, 74), (0.31, 0.27, 80), (0.5, 0.28, 84), (0.69, 0.27, 78), (0.88, 0.24, 72)) + _row("stool", (0.3, 0.85, 84), (0.7, 0.85, 90))),
    Recipe(name="moon-01.jpg", sky="slate", things=_row("moon", (0.78, 0.2, 96)) + _row("lantern", (0.26, 0.34, 108)) + _row("person", (0.5, 0.58, 66))),
    Recipe(name="moon-02.jpg", things=_row("moon", (0.22, 0.22, 118)) + _row("umbrella", (0.64, 0.6, 180))),
    Recipe(name="moon-03.jpg", sky="plum", things=_row("moon", (0.52, 0.18, 84)) + _row("banner", (0.14, 0.44, 170)) + _row("basket", (0.76, 0.84, 110))),
    Recipe(name="moon-04.jpg", sky="slate", things=_row("moon", (0.34, 0.2, 104)) + _row("person", (0.2, 0.6, 60), (0.76, 0.6, 64))),
    Recipe(name="overlap-01.jpg", things=_row("lantern", (0.30, 0.36, 130), (0.40, 0.40, 130), (0.72, 0.34, 112)) + _row("person", (0.56, 0.66, 54))),
    Recipe(name="overlap-02.jpg", sky="plum", things=_row("lantern", (0.44, 0.34, 120), (0.53, 0.38, 116), (0.62, 0.33, 120)) + _row("stool", (0.2, 0.84, 96))),
    Recipe(name="overlap-03.jpg", sky="slate", things=_row("lantern", (0.22, 0.3, 110), (0.31, 0.35, 110)) + _row("banner", (0.8, 0.4, 180))),
    Recipe(name="crowd-01.jpg", sky="indigo", things=_row("person", *((0.10 + 0.105 * i, 0.68 + 0.012 * (i % 3), 13 + i % 4) for i in range(8))) + _row("lantern", (0.3, 0.3, 96), (0.7, 0.32, 96))),
    Recipe(name="crowd-02.jpg", sky="plum", things=_row("person", *((0.08 + 0.12 * i, 0.69 - 0.01 * (i % 2), 12 + 2 * (i % 3)) for i in range(8))) + _row("umbrella", (0.5, 0.4, 150))),
    Recipe(name="crowd-03.jpg", sky="slate", things=_row("person", (0.14, 0.68, 15), (0.24, 0.69, 14), (0.34, 0.68, 16), (0.62, 0.56, 72), (0.82, 0.58, 66)) + _row("moon", (0.5, 0.2, 80))),
    Recipe(name="fair-01.jpg", string=True, things=_row("lantern", (0.24, 0.25, 82), (0.74, 0.25, 82)) + _row("basket", (0.2, 0.86, 100)) + _row("stool", (0.5, 0.86, 84)) + _row("umbrella", (0.8, 0.64, 150)) + _row("person", (0.4, 0.58, 58))),
    Recipe(name="fair-02.jpg", sky="plum", things=_row("banner", (0.12, 0.36, 160), (0.3, 0.36, 160), (0.88, 0.36, 160)) + _row("person", (0.5, 0.56, 76), (0.7, 0.58, 70))),
    Recipe(name="fair-03.png", sky="slate", things=_row("basket", (0.3, 0.8, 150)) + _row("umbrella", (0.7, 0.52, 220))),
    Recipe(name="fair-04.png", things=_row("lantern", (0.2, 0.32, 100), (0.42, 0.28, 60), (0.58, 0.24, 44)) + _row("stool", (0.76, 0.8, 130))),
    Recipe(name="flame-01.jpg", sky="plum", things=_row("flame", (0.5, 0.76, 130)) + _row("person", (0.22, 0.56, 66), (0.78, 0.56, 66))),
    Recipe(name="flame-02.jpg", things=_row("flame", (0.26, 0.8, 90)) + _row("smoke", (0.34, 0.5, 170)) + _row("lantern", (0.74, 0.3, 100))),
    Recipe(name="glass-01.jpg", sky="slate", things=_row("glass", (0.4, 0.86, 220)) + _row("basket", (0.78, 0.82, 110))),
    Recipe(name="glass-02.jpg", things=_row("glass", (0.66, 0.88, 150)) + _row("lantern", (0.3, 0.34, 110)) + _row("person", (0.5, 0.58, 60))),
    Recipe(name="smoke-01.jpg", sky="plum", things=_row("smoke", (0.62, 0.46, 240)) + _row("stool", (0.24, 0.84, 100))),
    Recipe(name="stone-01.jpg", sky="slate", things=_row("stone", (0.3, 0.82, 170), (0.5, 0.86, 110)) + _row("umbrella", (0.74, 0.56, 170))),
    Recipe(name="puddle-01.jpg", things=_row("lantern", (0.36, 0.34, 112)) + _row("reflection", (0.38, 0.88, 60)) + _row("person", (0.7, 0.58, 66))),
    Recipe(name="puddle-02.jpg", sky="slate", things=_row("lantern", (0.62, 0.3, 100)) + _row("reflection", (0.6, 0.87, 56)) + _row("basket", (0.22, 0.84, 104))),
    Recipe(name="turned-01.jpg", sky="plum", size=(560, 760), orientation=6, things=_row("lantern", (0.3, 0.26, 120)) + _row("person", (0.66, 0.6, 86)) + _row("basket", (0.24, 0.86, 110))),
    Recipe(name="late/walk-06.jpg", sky="slate", string=True, things=_row("lantern", (0.3, 0.26, 88), (0.7, 0.26, 88)) + _row("banner", (0.5, 0.5, 130)) + _row("person", (0.2, 0.64, 40), (0.84, 0.64, 36))),
    Recipe(name="late/walk-07.jpg", sky="plum", things=_row("umbrella", (0.3, 0.56, 190)) + _row("person", (0.66, 0.58, 28), (0.78, 0.58, 26))),
    Recipe(name="late/walk-08.jpg", things=_row("lantern", (0.1, 0.3, 52), (0.9, 0.3, 52), (0.5, 0.24, 150)) + _row("stool", (0.3, 0.84, 88)) + _row("basket", (0.68, 0.84, 100))),
    Recipe(name="empty-01.jpg", sky="slate"),
    Recipe(name="empty-02.jpg", sky="indigo"),
    Recipe(name="damaged-01.jpg", special="damaged", things=_row("lantern", (0.5, 0.36, 120))),
    Recipe(name="tiny-01.png", special="tiny", things=_row("lantern", (0.5, 0.36, 160))),
)  # fmt: skip
"""The scenes of the demo; the difficult ones carry their difficulty in their name."""


def draw_scene(recipe: Recipe, *, seed: int = 7) -> Scene:
    """Draw one scene; equal arguments give equal bytes."""
    canvas = PaintedCanvas(*recipe.size, Random(f"{seed}/{recipe.name}"))
    paint_sky(canvas, recipe.sky)
    if recipe.string:
        paint_string(canvas, recipe.size[1] * 0.14)
    for what, x, y, size in recipe.things:
        painted = PAINTERS[what](canvas, x * canvas.width, y * canvas.height, size)
        canvas.painted.extend(painted)
    image = canvas.finished()
    return Scene(
        name=recipe.name,
        data=_encode(image, recipe),
        painted=tuple(canvas.painted + _whole_image(canvas)),
    )


def _whole_image(canvas: PaintedCanvas) -> list[Painted]:
    """Return what is true of the image as a whole."""
    whole = (0.0, 0.0, float(canvas.width), float(canvas.height))
    seen = {p.label for p in canvas.painted if p.kind == "object" and not p.ignore}
    labels = (seen & set(IMAGE_LABELS)) | {"dusk"}
    if any(p.kind == "face" for p in canvas.painted):
        labels.add("people")
    return [Painted(kind="label", label=label, box=whole) for label in sorted(labels)]


def _encode(image: Image.Image, recipe: Recipe) -> bytes:
    if recipe.special == "tiny":
        image = image.resize((30, 21), Image.Resampling.LANCZOS)
    buffer = io.BytesIO()
    if recipe.name.endswith(".png"):
        image.save(buffer, "PNG")
        return buffer.getvalue()
    exif = Image.Exif()
    if recipe.orientation == 6:
        image = image.transpose(Image.Transpose.ROTATE_90)
        exif[0x0112] = 6
    image.save(buffer, "JPEG", quality=90, exif=exif)
    data = buffer.getvalue()
    return data[: len(data) // 12] if recipe.special == "damaged" else data


def scenes(*, seed: int = 7, recipes: Sequence[Recipe] = RECIPES) -> Iterator[Scene]:
    """Draw every scene of the demo, or of other recipes."""
    return (draw_scene(recipe, seed=seed) for recipe in recipes)


def write_scenes(
    folder: Path, *, seed: int = 7, recipes: Sequence[Recipe] = RECIPES
) -> Annotations:
    """Write every scene below ``folder/images``, and what is true of them next to it.

    ``annotations.csv`` is the ground truth, ``images.csv`` what is known about the images.
    """
    drawn = []
    for scene in scenes(seed=seed, recipes=recipes):
        with whole_file(folder / "images" / scene.name) as draft:
            draft.write_bytes(scene.data)
        drawn.append(scene)
    annotations = truth(drawn)
    write_table(annotations, folder / "annotations.csv")
    with whole_file(folder / "images.csv") as draft:
        write_rows(draft, ("image", "width", "height", "sky", "scene"), map(_facts, recipes))
    return annotations


def _facts(recipe: Recipe) -> tuple[str, int, int, str, str]:
    """Return what is known about an image: its upright size, its sky and its kind of scene."""
    width, height = (30, 21) if recipe.special == "tiny" else recipe.size
    scene = recipe.name.rpartition("/")[2].partition("-")[0]
    return recipe.name, width, height, recipe.sky, scene


def truth(drawn: list[Scene]) -> Annotations:
    """Return what is true of drawn scenes as annotations; the tiny one shrinks its boxes too."""
    rows = [(scene, thing) for scene in drawn for thing in scene.painted]
    boxes = np.array([_truth_box(scene, thing) for scene, thing in rows]).reshape(-1, 4)
    return Annotations.from_columns(
        image=[scene.name for scene, _ in rows],
        kind=[thing.kind for _, thing in rows],
        label=[thing.label for _, thing in rows],
        x0=boxes[:, 0],
        y0=boxes[:, 1],
        x1=boxes[:, 2],
        y1=boxes[:, 3],
        ignore=[thing.ignore for _, thing in rows],
        vocabulary=VOCABULARY,
    )


def _truth_box(scene: Scene, thing: Painted) -> Box:
    """Return a thing's box in its file's pixels, or NaN for kinds judged by presence."""
    if thing.kind in ("label", "unsafe"):
        return (math.nan,) * 4
    factor = 30 / 800 if scene.name.startswith("tiny") else 1.0
    x0, y0, x1, y1 = (round(value * factor, 2) for value in thing.box)
    return (x0, y0, x1, y1)
