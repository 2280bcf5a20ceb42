"""Near-copies: how many of each sort are found, how many different images are taken for one.

Photographs are those that scikit-image ships; without it only the drawn scenes are measured.
"""

import io
import time

import numpy as np
from PIL import Image, ImageEnhance, ImageOps

from dotledger.core.copies.image_fingerprints import (
    LEAST,
    PARTS,
    Prints,
    nearest_copies,
    pairs_alike,
)
from dotledger.images.image_prints import print_of
from dotledger.standins.demo_scenes import draw_scene
from dotledger.standins.more_scenes import recipes

PHOTOS = (
    *("coffee", "cat", "brick", "grass", "gravel", "coins", "page", "clock", "text", "camera"),
    *("rocket", "moon", "hubble_deep_field", "immunohistochemistry", "cell", "colorwheel"),
)


def main(*, quick=False):
    scenes = {f"scene {n}": _scene(r) for n, r in enumerate(recipes(60 if quick else 200))}
    scenes = {name: one for name, one in scenes.items() if one is not None}
    for what, images in (("drawn scenes", scenes), ("photographs", _photos())):
        if images:
            _rates(what, images, 20 if quick else 60)
    _speed(10_000 if quick else 100_000, 100 if quick else 1_000)


def _scene(recipe):
    try:
        picture = Image.open(io.BytesIO(draw_scene(recipe).data)).convert("RGB")
    except OSError:  # the demo's damaged file
        return None
    return picture if min(picture.size) >= 64 else None


def _photos():
    try:
        import skimage.data
    except ImportError:
        print("photographs are not measured: scikit-image is not installed")
        return {}
    found = {}
    for name in PHOTOS:
        try:
            pixels = getattr(skimage.data, name)()
        except Exception:  # some are fetched, which fails offline
            continue
        pixels = pixels if pixels.dtype == np.uint8 else (pixels * 255).astype(np.uint8)
        found[name] = Image.fromarray(pixels).convert("RGB")
    return found


def _sorts(image):
    width, height = image.size

    def cut(share, across, down):
        left, top = width * (1 - share) * across, height * (1 - share) * down
        box = (left, top, left + width * share, top + height * share)
        return image.crop(tuple(int(side) for side in box))

    return {
        "half the size": image.resize((width // 2, height // 2)),
        "an eighth": image.resize((width // 8, height // 8)),
        "twice": image.resize((width * 2, height * 2)),
        "flattened by a fifth": image.resize((width, height * 4 // 5)),
        "JPEG 50": _jpeg(image, 50),
        "JPEG 15": _jpeg(image, 15),
        "cut to 0.97, off centre": cut(0.97, 0.3, 0.7),
        "cut to 0.92, off centre": cut(0.92, 0.8, 0.2),
        "cut to 0.85, at a corner": cut(0.85, 0, 1),
        "cut to 0.7": cut(0.7, 0.5, 0.5),
        "brighter by 0.4": ImageEnhance.Brightness(image).enhance(1.4),
        "darker by 0.4": ImageEnhance.Brightness(image).enhance(0.6),
        "less contrast": ImageEnhance.Contrast(image).enhance(0.6),
        "grey": image.convert("L"),
        "mirrored": ImageOps.mirror(image),
        "mirrored, half, JPEG 50": _jpeg(
            ImageOps.mirror(image).resize((width // 2, height // 2)), 50
        ),
    }


def _jpeg(image, quality):
    buffer = io.BytesIO()
    image.save(buffer, "JPEG", quality=quality)
    return Image.open(buffer).convert("RGB")


def _print(name, image):
    buffer = io.BytesIO()
    image.save(buffer, "PNG", compress_level=1)
    return print_of(name, buffer.getvalue())


def _rates(what, images, most):
    from dotledger.core.copies.image_fingerprints import joined

    known = joined([_print(name, image) for name, image in images.items()])
    for least in (0.7, LEAST, 0.9):
        alike, pairs = pairs_alike(known, least=least)
        found, right, tried = {}, 0, 0
        for name, image in list(images.items())[:most]:
            for sort, copy in _sorts(image).items():
                near = nearest_copies(_print("new", copy), known.of(name), least=least)
                found.setdefault(sort, []).append(bool(near))
                every = nearest_copies(_print("new", copy), known, least=least)
                right += bool(every) and every[0].known == name
                tried += bool(every)
        print(f"{what}, likeness {least}: {alike} of {pairs:,} pairs of different images alike;")
        print(f"  of copies found, {right / max(tried, 1):.3f} are of the right image")
        rates = {sort: np.mean(hits) for sort, hits in found.items()}
        print("  found: " + ", ".join(f"{sort} {rate:.2f}" for sort, rate in rates.items()))


def _speed(known, new):
    rng = np.random.default_rng(1)

    def made(number):
        bits = rng.integers(0, 256, (number, 2 + len(PARTS), 18), dtype=np.uint8)
        names = tuple(f"{place}.jpg" for place in range(number))
        return Prints(names=names, whole=bits[:, 0], mirrored=bits[:, 1], parts=bits[:, 2:])

    kept, asked = made(known), made(new)
    began = time.perf_counter()
    found = nearest_copies(asked, kept)
    seconds = time.perf_counter() - began
    print(f"{new:,} new against {known:,} known: {seconds:.1f} s, {len(found)} false copies")
