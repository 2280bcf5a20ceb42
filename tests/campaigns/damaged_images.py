"""Image files with bytes changed, cut out, doubled, swapped: refused or sent, never anything else."""

import io
import random
import warnings

from PIL import Image

from dotledger.errors import ImageError
from dotledger.images.image_facts import read_facts
from dotledger.images.image_preparation import Demands, prepare
from tests.sending.helpers import picture

DEMANDS = (
    Demands(),
    Demands(formats=("jpeg",), max_side=12),
    Demands(formats=("png",), colours=("grey",)),
    Demands(formats=("jpeg",), max_bytes=600, min_side=4),
)


def originals():
    """A small file of each format that is read, with metadata."""
    exif = Image.Exif()
    exif[0x0112] = 6
    made = [picture(1), picture(1, exif=exif.tobytes()), picture(1, mode="L")]
    made += [picture(1, form=form) for form in ("PNG", "GIF", "BMP", "WEBP", "TIFF")]
    made += [picture(1, form="PNG", mode=mode) for mode in ("RGBA", "P", "1", "I;16", "LA")]
    frames = [Image.new("RGB", (9, 7), colour) for colour in ("red", "blue")]
    for form in ("GIF", "TIFF", "WEBP", "PNG", "AVIF"):
        buffer = io.BytesIO()
        try:
            frames[0].save(buffer, form, save_all=True, append_images=frames[1:])
        except (KeyError, OSError, ValueError):
            continue
        made.append(buffer.getvalue())
    return made


def damaged(rng, files):
    """One file, damaged."""
    data = bytearray(rng.choice(files))
    for _ in range(rng.choice((1, 1, 2, 4, 12))):
        place, length = rng.randrange(len(data)), rng.choice((1, 2, 4, 16))
        way = rng.randrange(6)
        if way == 0:
            data[place] = rng.randrange(256)
        elif way == 1:
            data[place : place + length] = rng.choice((b"\xff", b"\x00")) * length
        elif way == 2:
            del data[place : place + length]
        elif way == 3:
            data[place:place] = rng.randbytes(length)
        elif way == 4:
            data[place:place] = data[place : place + 40]
        else:
            data = data[: place + 1]
        data = data or bytearray(b"\x00")
    return bytes(data)


def attack(tries, seed=0):
    """Look at and prepare damaged files; return (tries, failures by what went wrong)."""
    files, wrong = originals(), {}
    warnings.simplefilter("ignore")  # decoders warn of nearly every one
    for number in range(tries):
        data = damaged(random.Random(f"{seed}-{number}"), files)
        try:
            prepare(data, read_facts(data), DEMANDS[number % len(DEMANDS)])
        except ImageError:
            continue
        except BaseException as error:
            fault = f"{type(error).__name__}: {str(error)[:60]} (number {number})"
            wrong[fault] = wrong.get(fault, 0) + 1
    return tries, wrong
