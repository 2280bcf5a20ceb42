"""An evening walk with named walkers: who is on the pictures, and who is a stranger.

A function on this machine stands in for a service that knows four guests. Each wears a hat of one
colour; a stranger wears another, and the poor light makes colours look alike. Run it with a folder
to write into.
"""

import csv
import json
import sys
from io import BytesIO
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw

import dotledger

GUESTS = {
    "Old Reed": (220, 60, 50),
    "Sedge": (60, 160, 80),
    "Łucja Żółw": (70, 90, 220),
    "葦の人": (225, 180, 40),
}
STRANGERS = ((150, 60, 170), (150, 110, 70))
SKIN = (238, 200, 170)
MOODS = ("calm", "happy", "tired")

DESCRIPTION = """
service = "porch"

[connect]
code = "porch:look"

[connect.key]
sources = []
place = "none"

[[call]]
name = "look"
method = "POST"
path = "/"
kinds = ["face"]

[[read]]
kind = "face"
each = "faces[]"
label = "'face'"
confidence = { at = "sure" }
box = { at = "box", order = ["x0", "y0", "x1", "y1"], unit = "pixels" }
points = { at = "marks", name = "name" }
attributes.name = { at = "who", type = "person", similarity = "alike" }
attributes.age = { at = "years", type = "number", show = true }
attributes.mood = { at = "mood", type = "shares", show = true }
attributes.worn = { at = "worn", type = "list" }
"""


def paint(rng: np.random.Generator, people: list[tuple[str, tuple[int, int, int]]]) -> Image.Image:
    """Paint walkers side by side in the dusk, each with a hat."""
    picture = Image.new("RGB", (900, 600), (38, 40, 66))
    pen = ImageDraw.Draw(picture)
    for place, (_, hat) in enumerate(people):
        x, y = 60 + 160 * place, 150 + int(rng.integers(0, 220))
        pen.ellipse((x, y, x + 90, y + 120), fill=SKIN)
        dim = tuple(int(max(0, min(255, c + rng.normal(0, 34)))) for c in hat)
        pen.rectangle((x - 5, y - 18, x + 95, y + 28), fill=dim)
        for eye in (30, 60):
            pen.ellipse((x + eye - 5, y + 48, x + eye + 5, y + 58), fill=(20, 20, 30))
    return picture


def look(image: bytes, _: object) -> dict[str, object]:
    """Look for skin, and tell by the hat who it is: the simulated service."""
    pixels = np.asarray(Image.open(BytesIO(image)).convert("RGB")).astype(int)
    faces = []
    for place in range(5):
        strip = pixels[:, 60 + 160 * place : 150 + 160 * place]
        rows = np.flatnonzero((np.abs(strip - SKIN).sum(axis=2) < 40).sum(axis=1) > 8)
        if not len(rows):
            continue
        x, top, bottom = 60 + 160 * place, int(rows[0]) - 28, int(rows[-1])
        hat = pixels[top + 10, x + 40]
        far = {name: float(np.linalg.norm(hat - colour)) for name, colour in GUESTS.items()}
        who = min(far, key=lambda name: far[name])
        alike = round(max(0.0, 1 - far[who] / 220), 3)
        calm = 0.5 + 0.4 * float(np.sin(hat.sum()))
        faces.append(
            {
                "sure": 0.97,
                "box": [x, top, x + 90, bottom],
                "marks": [
                    {"name": f"{side} eye", "x": x + along, "y": top + 53}
                    for side, along in (("left", 30), ("right", 60))
                ],
                "years": int(18 + hat.sum() % 60),
                "mood": {"calm": round(calm, 2), "happy": round(0.9 - calm, 2), "tired": 0.1},
                "worn": ["hat"],
                **({"who": who, "alike": alike} if alike > 0.45 else {}),
            }
        )
    return {"faces": faces}


def make(folder: Path) -> None:
    """Write thirty pictures, what is known of them, and the list of guests."""
    rng = np.random.default_rng(7)
    everybody = [*GUESTS.items(), *(("", colour) for colour in STRANGERS)]
    (folder / "photos").mkdir(parents=True, exist_ok=True)
    (folder / "guests.txt").write_text("\n".join(GUESTS), encoding="utf-8")
    with (folder / "walkers.csv").open("w", newline="", encoding="utf-8") as file:
        rows = csv.writer(file)
        rows.writerow(["image", "kind", "label", "x0", "y0", "x1", "y1", "name", "stranger"])
        for number in range(30):
            people = [everybody[i] for i in rng.integers(0, len(everybody), rng.integers(1, 6))]
            picture = paint(rng, people)
            picture.save(folder / "photos" / f"porch-{number:02}.png")
            pixels = np.asarray(picture).astype(int)
            for place, (name, _) in enumerate(people):
                strip = pixels[:, 60 + 160 * place : 150 + 160 * place]
                skin = np.flatnonzero((np.abs(strip - SKIN).sum(axis=2) < 40).sum(axis=1) > 8)
                box = (60 + 160 * place, skin[0] - 28, 150 + 160 * place, skin[-1])
                stranger = "" if name else "yes"
                rows.writerow([f"porch-{number:02}.png", "face", "face", *box, name, stranger])


def main(folder: Path) -> None:
    """Send, measure who was named, choose how alike is alike enough, draw and sort."""
    make(folder)
    (folder / "porch.toml").write_text(DESCRIPTION, encoding="utf-8")
    ledger = folder / "porch.ledger"
    dotledger.send(
        folder / "photos",
        folder / "porch.toml",
        ledger=ledger,
        transport=look,
        kinds=["face"],
    )
    found = dotledger.findings_of(ledger)
    names = dotledger.measure(found, folder / "walkers.csv").identification()
    given = names.as_given
    print(f"Right names {given.right} of {given.enrolled}; strangers named {given.stranger_named}.")
    chosen = dotledger.choose_similarity(names, aim="at most 5% of names are false")
    print(*chosen.lines(), sep="\n")
    drawn = dotledger.draw(
        found, folder / "photos", folder / "named", write="{person}, {age:.0f}, {mood}",
        words={"calm": "ruhig", "happy": "froh", "tired": "müde"}, place="below",
    )  # fmt: skip
    print(f"{len(drawn.pictures)} pictures with names in {drawn.sheet.parent.name}")
    (folder / "chosen.json").write_text(json.dumps(chosen.to_dict()))


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "porch"))
