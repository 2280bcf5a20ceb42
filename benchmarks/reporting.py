"""The report in a headless browser: size, first view, how soon the slider answers, memory.

1,000 images with 20,000 findings in one file (under 40 MB, 2 s, 100 ms, 500 MB); 10,000 images
with the pictures beside (under 3 s). The pictures are photographs in what matters: 1,600 x 1,200
pixels with texture.
"""

import io
import tempfile
import time
from pathlib import Path

import numpy as np
from PIL import Image

import dotledger
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings


def main(*, quick=False):
    from tests.browser import THERE

    if not THERE:
        print("no browser: nothing is measured")
        return
    for images, each, how in ((100 if quick else 1000, 20, "embed"), (1000 if quick else 10_000, 5, "link")):  # fmt: skip
        with tempfile.TemporaryDirectory() as home:
            _one(Path(home), images, each, how)


def photographs(number, kinds=24):
    """Return so many images by name, of a few different contents: making them is not measured."""
    rng = np.random.default_rng(1)
    made = []
    for _ in range(kinds):
        coarse = rng.integers(0, 255, (12, 16, 3), dtype=np.uint8)
        picture = Image.fromarray(coarse).resize((1600, 1200), Image.Resampling.BICUBIC)
        pixels = np.asarray(picture, dtype=float) + rng.normal(0, 9, (1200, 1600, 1))
        buffer = io.BytesIO()
        Image.fromarray(pixels.clip(0, 255).astype(np.uint8)).save(buffer, "JPEG", quality=88)
        made.append(buffer.getvalue())
    return {f"photo-{n:05}.jpg": made[n % kinds] for n in range(number)}


def tables(names, each):
    """Return findings and annotations: boxes of five labels, three of four found well."""
    rng = np.random.default_rng(2)
    total = len(names) * each
    image = np.repeat(np.array(names, dtype=object), each)
    label = rng.choice(["lamp", "cup", "chair", "window", "door"], total)
    x, y = rng.uniform(0, 1300, total), rng.uniform(0, 900, total)
    w, h = rng.uniform(20, 280, total), rng.uniform(20, 280, total)
    good = rng.random(total) < 0.75
    shift = np.where(good, rng.normal(0, 0.05, total), rng.normal(0, 0.6, total)) * w
    confidence = np.where(good, rng.beta(6, 2, total), rng.beta(2, 4, total))
    kind = ["object"] * total
    true = Annotations.from_columns(
        image=list(image),
        kind=kind,
        label=list(label),
        x0=x,
        y0=y,
        x1=x + w,
        y1=y + h,
        ignore=[False] * total,
    )
    found = Findings.from_columns(
        image=list(image),
        kind=kind,
        label=list(label),
        confidence=confidence,
        x0=x + shift,
        y0=y,
        x1=x + shift + w,
        y1=y + h,
    )
    return found, true


def _one(home, images, each, how):
    from tests.browser import Browser

    pictures = photographs(images)
    found, true = tables(list(pictures), each)
    began = time.perf_counter()
    path = dotledger.write_report(
        home / "r.html", found, true, images=pictures, threshold=0.5, how=how, draws=200
    )
    made = time.perf_counter() - began
    browser = Browser("--enable-precise-memory-info")
    try:
        browser.driver.get(f"file://{path}")
        view = browser.run(
            "const n = performance.getEntriesByType('navigation')[0];"
            "const p = performance.getEntriesByName('first-contentful-paint')[0];"
            "return [p ? p.startTime : NaN, n.loadEventEnd]"
        )
        times = browser.run(
            "const s = document.getElementById('threshold'); const t = [];"
            "for (let i = 30; i < 90; i += 2) { const a = performance.now(); s.value = i / 100;"
            "s.dispatchEvent(new Event('input')); document.body.offsetHeight; t.push(performance.now() - a); } return t"
        )
        heap = browser.run("return performance.memory.usedJSHeapSize") / 1e6
        whole = _resident(browser) / 1e6
    finally:
        browser.close()
    print(
        f"{images:,} images, {len(found):,} findings, {how}: file {path.stat().st_size / 1e6:.1f} MB, made in {made:.0f} s; "
        f"first view {view[0]:.0f} ms, loaded {view[1]:.0f} ms; slider {np.median(times):.0f} ms (longest {max(times):.0f}); "
        f"script's memory {heap:.0f} MB, the page's process {whole:.0f} MB"
    )


def _resident(browser):
    """Memory of the browser's largest renderer, in bytes."""
    sizes = [0]
    for status in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            words = status.read_bytes().split(b"\0")
            if b"--type=renderer" in words and browser._profile.name.encode() in b" ".join(words):
                pages = int((status.parent / "statm").read_text().split()[1])
                sizes.append(pages * 4096)
        except OSError:
            continue
    if max(sizes) == 0:
        for status in Path("/proc").glob("[0-9]*/cmdline"):
            try:
                if b"--type=renderer" in status.read_bytes():
                    sizes.append(int((status.parent / "statm").read_text().split()[1]) * 4096)
            except OSError:
                continue
    return max(sizes)
