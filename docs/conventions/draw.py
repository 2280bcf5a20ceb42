"""Draw the small images of docs/reading.md: ``python docs/conventions/draw.py``."""

from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

from dotledger.standins.scene_painting import PaintedCanvas, paint_lantern, paint_sky

HERE = Path(__file__).parent
SIZE = (240, 160)
BOX = (80, 40, 160, 100)
TEAL, AMBER, WHITE = (38, 190, 160), (255, 206, 84), (236, 236, 246)


def ground():
    """Return the picture that every convention is shown on."""
    from random import Random

    canvas = PaintedCanvas(*SIZE, Random(5))
    paint_sky(canvas, "indigo")
    paint_lantern(canvas, 120, 70, 78)
    return canvas.finished()


def shown(name, dots=(), lines=(), note="", box=BOX):
    """Write one picture: the box, named dots, measured lines, and a note below."""
    image = Image.new("RGB", (SIZE[0], SIZE[1] + 20), (24, 24, 38))
    image.paste(ground())
    pen, font = ImageDraw.Draw(image), ImageFont.load_default(11)
    if isinstance(box[0], tuple):
        pen.polygon(box, outline=TEAL, width=2)
    else:
        pen.rectangle(box, outline=TEAL, width=2)
    for (x, y), text, (dx, dy) in dots:
        pen.ellipse((x - 4, y - 4, x + 4, y + 4), fill=AMBER, outline=(16, 16, 28), width=1)
        pen.text((x + dx, y + dy), text, font=font, fill=WHITE)
    for (x0, y0), (x1, y1), text in lines:
        pen.line((x0, y0, x1, y1), fill=AMBER, width=1)
        middle = ((x0 + x1) / 2, (y0 + y1) / 2)
        pen.text((middle[0] + 4, middle[1] + 2), text, font=font, fill=WHITE)
    pen.text((6, SIZE[1] + 3), note, font=font, fill=WHITE)
    image.save(HERE / f"{name}.png")


def main():
    """Draw them all."""
    x0, y0, x1, y1 = BOX
    first, last = ((x0, y0), "80, 40", (-40, -14)), ((x1, y1), "160, 100", (4, 2))
    across, down = ((x0, y1 + 10), (x1, y1 + 10), "80"), ((x1 + 10, y0), (x1 + 10, y1), "60")
    shown("corners", [first, last], note="[80, 40, 160, 100]")
    shown("corner-size", [first], [across, down], "x 80, y 40, w 80, h 60")
    shown("centre-size", [((120, 70), "120, 70", (-20, -48))], [across, down], "[120, 70, 80, 60]")
    outline = [(120, 34), (158, 58), (152, 98), (90, 100), (82, 60)]
    shown(
        "points",
        [(p, "", (0, 0)) for p in outline],
        note="[[120, 34], [158, 58], ...]",
        box=tuple(outline),
    )
    third = ((x0, y0), ".33, .25", (-46, -14)), ((x1, y1), ".67, .63", (4, 2))
    shown("fraction", third, note="[0.333, 0.25, 0.667, 0.625]")
    shown(
        "rows-first",
        [((x0, y0), "y .25, x .33", (-70, -14)), ((x1, y1), "y .63, x .67", (4, 2))],
        note="[0.25, 0.333, 0.625, 0.667]",
    )
    shown(
        "grid",
        [((x0, y0), "333, 250", (-50, -14)), ((x1, y1), "667, 625", (4, 2))],
        note="thousandths; or a grid of any size",
    )
    shown(
        "working",
        [((x0, y0), "40, 20", (-40, -14)), ((x1, y1), "80, 50", (4, 2))],
        note="in a canvas of 120 x 80, reported",
    )


if __name__ == "__main__":
    main()
