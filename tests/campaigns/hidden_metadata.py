"""A marker planted in every place that an image format has next to its pixels, and looked for in what leaves."""

import io
import random
import struct
import zlib

import numpy as np
import pandas as pd
from PIL import Image, TiffImagePlugin
from PIL.PngImagePlugin import PngInfo

from dotledger import cover
from dotledger.core.tables.findings_table import Findings
from dotledger.images.image_facts import read_facts
from dotledger.images.image_preparation import Demands, prepare
from dotledger.images.image_segments import png_chunk, png_chunks

MARK = b"LanternBay-SN00417-AdaRo"
DEMANDS = Demands(formats=("jpeg", "png", "webp", "gif", "tiff", "bmp"))


def picture(kind, rng, size=(48, 32), **options):
    """A small picture with noise in it, as a file."""
    noise = np.frombuffer(rng.randbytes(size[0] * size[1] * 3), np.uint8).reshape(
        size[1], size[0], 3
    )
    image = Image.fromarray(noise)
    held = io.BytesIO()
    if kind == "GIF":
        image = image.quantize(16)
    image.save(held, kind, **options)
    return held.getvalue()


def marked(rng):
    """The marker with some bytes around it, so that lengths differ."""
    return rng.randbytes(rng.randrange(0, 40)) + MARK + rng.randbytes(rng.randrange(0, 40))


def _segment(marker, body, fill=0):
    return b"\xff" * fill + struct.pack(">BBH", 0xFF, marker, len(body) + 2) + body


_PREFIXES = (b"Exif\0\0MM\0*\0\0\0\x08", b"Exif\0\0II*\0\x08\0\0\0", b"http://ns.adobe.com/xap/1.0/\0", b"ICC_PROFILE\0\x01\x01",
             b"MPF\0", b"FPXR\0", b"Photoshop 3.0\0", b"JFXX\0\x10", b"JFIF\0\x01\x02\0\0\x01\0\x01\x04\x02", b"Adobe\0\x64\0\0\0\0\x01",
             b"Ducky\0", b"JPS\0", b"GoPro\0", b"")  # fmt: skip


def jpeg(rng):
    """A JPEG with the marker before, between or behind its parts, or at the end of one."""
    data = picture(
        "JPEG", rng, progressive=rng.random() < 0.5, restart_marker_blocks=rng.choice((0, 4))
    )
    marker = rng.choice([*range(0xE0, 0xF0), 0xFE, 0xFE, 0xF0, 0xC8, 0xDB, 0xC4, 0xDD])
    part = _segment(marker, rng.choice(_PREFIXES) + marked(rng), rng.randrange(0, 4))
    heads = [
        at
        for at in range(2, len(data) - 4)
        if data[at] == 0xFF and data[at + 1] in (0xDB, 0xC0, 0xC2, 0xC4, 0xDA, 0xE0)
    ]
    way = rng.randrange(5)
    if way == 0:
        return data[:2] + part + data[2:]
    if way == 1:
        at = rng.choice(heads)
        return data[:at] + part + data[at:]
    if way == 2:
        return data + rng.choice(
            (MARK, picture("JPEG", rng)[:-2] + _segment(0xFE, marked(rng)) + b"\xff\xd9")
        )
    if way == 3:  # longer than it should be
        at = rng.choice(heads)
        size = struct.unpack(">H", data[at + 2 : at + 4])[0]
        more = marked(rng)
        return (
            data[: at + 2]
            + struct.pack(">H", size + len(more))
            + data[at + 4 : at + 2 + size]
            + more
            + data[at + 2 + size :]
        )
    return data[:-2] + part + data[-2:]  # behind the scan


def png(rng):
    """A PNG with the marker in a chunk of any name, in a compressed text, or behind its pixels."""
    info = PngInfo()
    data = picture("PNG", rng, pnginfo=info)
    chunks = list(png_chunks(data))
    names = (b"tEXt", b"iTXt", b"eXIf", b"tIME", b"sPLT", b"hIST", b"prVt", b"maRk", b"acTL", b"fdAT", b"oFFs", b"sTER", b"iDOT", b"IDAT", b"iCCP", b"gAMA", b"pHYs", b"caBX")  # fmt: skip
    way = rng.randrange(6)
    if way == 0:
        return data + marked(rng)
    at = rng.choice(chunks[1:]).start
    if way == 1:  # which only who unpacks it sees
        chunk = png_chunk(b"zTXt", b"Raw profile type exif\0\0" + zlib.compress(marked(rng)))
    elif way == 2:
        chunk = png_chunk(b"iCCP", MARK + b"\0\0" + zlib.compress(b"x"))
    elif way == 3:
        pixels = b"".join(one.body for one in chunks if one.kind == b"IDAT")
        more = (
            pixels + marked(rng)
            if rng.random() < 0.5
            else zlib.compress(zlib.decompress(pixels) + marked(rng), 0)
        )
        kept = [one for one in chunks if one.kind != b"IDAT"]
        return (
            data[:8]
            + data[kept[0].start : kept[0].end]
            + png_chunk(b"IDAT", more)
            + data[kept[-1].start :]
        )
    elif way == 4:
        return data[: chunks[-1].start] + png_chunk(b"IEND", marked(rng))
    else:
        chunk = png_chunk(rng.choice(names), marked(rng))
    return data[:at] + chunk + data[at:]


def webp(rng):
    """A WebP with the marker in a chunk of any name, of a frame too, or behind the end."""
    more = {"exif": b"Exif\0\0MM\0*" + marked(rng)} if rng.random() < 0.3 else {}
    more |= {"xmp": marked(rng)} if rng.random() < 0.3 else {}
    data = picture("WEBP", rng, lossless=True, **more)
    if rng.random() < 0.3:
        return data + marked(rng)
    body = marked(rng)
    chunk = (
        rng.choice((b"EXIF", b"XMP ", b"JUNK", b"ICCP", b"abcd", b"ANIM"))
        + struct.pack("<I", len(body))
        + body
        + b"\0" * (len(body) % 2)
    )
    whole = data[12:] + chunk if rng.random() < 0.5 else chunk + data[12:]
    return b"RIFF" + struct.pack("<I", 4 + len(whole)) + b"WEBP" + whole


def gif(rng):
    """A GIF with the marker in an extension, or behind the end."""
    data = picture("GIF", rng)
    blocks = bytes([len(MARK)]) + MARK + b"\0"
    way = rng.randrange(4)
    if way == 0:
        return data + marked(rng)
    label = rng.choice(
        (b"\xfe", b"\xff\x0bLANTERN\x01\x02\x03\x04", b"\x01\x0c" + bytes(12), b"\x77")
    )
    at = 13 + (3 << (data[10] & 7) + 1 if data[10] & 0x80 else 0)
    return (
        data[:at] + b"\x21" + label + blocks + data[at:]
        if way < 3
        else data[:-1] + b"\x21" + label + blocks + b";"
    )


def tiff(rng):
    """A TIFF with the marker in a tag, in a second picture, in a gap, or behind the end."""
    text = MARK.decode()
    tags = TiffImagePlugin.ImageFileDirectory_v2()
    tag = rng.choice((270, 271, 272, 305, 306, 315, 33432, 700, 33723, 34377, 50341, 65000, 40092))
    tags[tag] = text if tag < 33723 and tag != 700 else MARK
    tags.tagtype[tag] = 2 if isinstance(tags[tag], str) else 7
    data = picture("TIFF", rng, tiffinfo=tags)
    if rng.random() < 0.3:
        held = io.BytesIO()
        first = Image.open(io.BytesIO(data))
        first.load()
        second = Image.frombytes("L", (len(MARK), 1), MARK)
        first.save(held, "TIFF", save_all=True, append_images=[second])
        data = held.getvalue()
    return data + marked(rng)


def bmp(rng):
    """A BMP with the marker between its head and its pixels, or behind them."""
    data = picture("BMP", rng)
    if rng.random() < 0.5:
        return data + marked(rng)
    place = struct.unpack("<I", data[10:14])[0]
    more = marked(rng)
    return data[:10] + struct.pack("<I", place + len(more)) + data[14:place] + more + data[place:]


BUILDERS = {"JPEG": jpeg, "PNG": png, "WEBP": webp, "GIF": gif, "TIFF": tiff, "BMP": bmp}


def holds(data):
    """Whether a file holds the marker, also where only who unpacks its parts sees it."""
    if MARK in data:
        return True
    if not data.startswith(b"\x89PNG"):
        return False
    try:
        parts = list(png_chunks(data))
        pixels = zlib.decompress(b"".join(one.body for one in parts if one.kind == b"IDAT"))
    except Exception:
        return True  # what nobody can read may hold anything
    texts = [one.body.partition(b"\0")[2][1:] for one in parts if one.kind in (b"zTXt", b"iCCP")]
    return MARK in pixels or any(MARK in zlib.decompressobj().decompress(text) for text in texts)


def same_pixels(old, new):
    """Whether two files show the same first picture; an original may be too odd to be looked at."""
    two = np.asarray(Image.open(io.BytesIO(new)).convert("RGB"))
    try:
        one = np.asarray(Image.open(io.BytesIO(old)).convert("RGB"))
    except Exception:
        return True
    return one.shape == two.shape and bool((one == two).all())


def attack(tries, seed=0):
    """Plant, send, look; count what still holds the marker, what lost a pixel, and what was not sent."""
    rng, wrong, figures = random.Random(seed), {}, {"sent": 0, "encoded anew": 0, "refused": 0}
    for number in range(tries):
        kind = rng.choice(tuple(BUILDERS))
        data = BUILDERS[kind](rng)
        try:
            made = prepare(data, read_facts(data), DEMANDS)
        except Exception as error:
            figures["refused"] += 1
            if not str(error):
                wrong[f"{kind} {number}: nothing said"] = 1
            continue
        anew = any("encoded anew" in step or "repaired" in step for step in made.steps)
        figures["encoded anew" if anew else "sent"] += 1
        if holds(made.data):
            wrong[f"{kind} {seed}/{number}: it was sent"] = 1
        elif not made.steps:
            wrong[f"{kind} {seed}/{number}: not said what went"] = 1
        elif not anew and not same_pixels(data, made.data):
            wrong[f"{kind} {seed}/{number}: other pixels"] = 1
    return tries, wrong, figures


def cover_attack(tries, seed=0):
    """The same with covered copies: what was planted next to the picture is nowhere in the copy."""
    rng, wrong, figures = random.Random(seed), {}, {"covered": 0, "refused": 0}
    columns = {"image": ["a"], "kind": ["face"], "label": ["face"], "confidence": [0.9]}
    boxes = {"x0": [4.0], "y0": [4.0], "x1": [20.0], "y1": [20.0]}
    found = Findings.from_frame(pd.DataFrame({**columns, **boxes}))
    for number in range(tries):
        kind = rng.choice(tuple(BUILDERS))
        data = BUILDERS[kind](rng)
        try:
            done = cover(data, found, name="a")
        except Exception as error:
            figures["refused"] += 1
            if not str(error):
                wrong[f"{kind} {number}: nothing said"] = 1
            continue
        figures["covered"] += 1
        if holds(done.data):
            wrong[f"{kind} {seed}/{number}: still there"] = 1
    return tries, wrong, figures
