"""Making one image fit a service's limits, or saying why it cannot."""

from __future__ import annotations

import io
import math

from msgspec import Struct
from PIL import Image

from dotledger.errors import ImageError
from dotledger.images.colour_profiles import in_srgb
from dotledger.images.image_facts import ImageFacts, open_image, read_facts
from dotledger.images.metadata_removal import Cleaned, without_metadata

__all__ = ["Demands", "Prepared", "decode_upright", "prepare"]

# Below 65 the blocks of JPEG become visible edges; from there on fewer pixels are the lesser harm.
_QUALITIES = (92, 85, 75, 65)
# A cut JPEG is repaired if at least 90 % of its rows decode; otherwise it is refused with the
# figure, since an answer about grey is not an answer.
_LEAST_ROWS_KEPT = 0.9
# Each step takes a quarter of the pixels: a few tries, and at most that much more than needed.
_SHRINK_STEP = 0.85
# So many times the pixels across that are wanted: below twice, what shrinking leaves out shows.
_SPARE = 2.0
_LOSSLESS = ("bmp", "gif", "png", "tiff")


class Demands(Struct, frozen=True, kw_only=True):
    """What a service accepts; None where it does not say.

    Attributes
    ----------
    formats, colours : tuple of str
        Accepted formats (the first is used for re-encoding) and colour modes.
    max_bytes, min_side, max_side, max_pixels : int or None
        Limits of a file and its image.
    smallest_face : int or None
        The smallest face the service says it finds, in pixels sent.
    keep_metadata : bool
        Send what the file says next to its picture: places, camera, previews.
    """

    formats: tuple[str, ...] = ("jpeg", "png")
    colours: tuple[str, ...] = ("rgb", "grey", "rgba")
    max_bytes: int | None = None
    min_side: int | None = None
    max_side: int | None = None
    max_pixels: int | None = None
    smallest_face: int | None = None
    keep_metadata: bool = False


class Prepared(Struct, frozen=True, kw_only=True):
    """An image ready to go out.

    Attributes
    ----------
    data : bytes
        What is sent.
    format : str
        Of what is sent.
    width, height : int
        Of what is sent, upright.
    turned : int
        The EXIF orientation that `data` still carries; 1 if none.
    steps : tuple of str
        What was done, for people; empty if the file goes out as it is.
    quality : int or None
        JPEG quality, if re-encoded as JPEG.
    """

    data: bytes
    format: str
    width: int
    height: int
    turned: int
    steps: tuple[str, ...] = ()
    quality: int | None = None

    @property
    def media_type(self) -> str:
        """Such as ``image/jpeg``."""
        return f"image/{self.format}"


def prepare(data: bytes, facts: ImageFacts, demands: Demands) -> Prepared:
    """Return the image as it should be sent.

    Parameters
    ----------
    facts : ImageFacts
        What `read_facts` says of it.

    Raises
    ------
    ImageError
        If it cannot be helped: smaller than the service takes, damaged beyond repair, or not
        to be brought under the byte limit. The message gives the figures.
    """
    # Sizes stand in the header: what is refused for them is refused before anything is decoded.
    _refuse_small(facts.width, facts.height, demands)
    fits = not _misfits(facts, demands)
    if facts.ends_well and fits and (cleaned := _cleaned(data, facts, demands)):
        return _as_is(cleaned, facts)
    image, steps = _decoded(data, facts, demands)
    steps += _misfits(facts, demands)
    if not steps and (cleaned := _cleaned(data, facts, demands)):
        return _as_is(cleaned, facts)
    steps = steps or [f"{facts.format} encoded anew: it does not follow the grammar of its format"]
    try:
        image, converted = in_srgb(image)
        return _fitted(_upright(image, _to_turn(facts)), facts, demands, steps + converted)
    except ImageError:
        raise
    except Exception as error:
        raise _damaged(data, error) from error


def _cleaned(data: bytes, facts: ImageFacts, demands: Demands) -> Cleaned | None:
    """Return a file without metadata; None where nobody can tell what it holds."""
    if demands.keep_metadata:
        return Cleaned(data, (), facts.orientation)
    try:
        return without_metadata(data, facts.format, facts.orientation)
    except Exception:  # an ImageError, or whatever a package makes of odd bytes
        return None


def _as_is(cleaned: Cleaned, facts: ImageFacts) -> Prepared:
    """Return the file itself, but for what no service needs to know of it."""
    gone = cleaned.removed
    return Prepared(
        data=cleaned.data,
        steps=(f"metadata removed: {', '.join(gone)}",) if gone else (),
        format=facts.format,
        width=facts.width,
        height=facts.height,
        turned=cleaned.turned,
    )


def _refuse_small(width: int, height: int, demands: Demands) -> None:
    if demands.min_side is not None and min(width, height) < demands.min_side:
        raise ImageError(
            "the image is too small for the service",
            got=f"{width} x {height} pixels",
            allowed=[f"sides of at least {demands.min_side}"],
        )


def _misfits(facts: ImageFacts, demands: Demands) -> list[str]:
    """Return what keeps the file from being sent as it is."""
    found = []
    if facts.format not in demands.formats:
        found.append(f"{facts.format} re-encoded as {_instead(facts, demands)}")
    if facts.colours not in demands.colours:
        found.append(f"colours {facts.colours} converted")
    if demands.max_bytes is not None and facts.size > demands.max_bytes:
        found.append(f"{facts.size:,} bytes brought under {demands.max_bytes:,}")
    if _factor(facts.width, facts.height, demands) < 1:
        found.append("too many pixels for the service")
    return found


def _instead(facts: ImageFacts, demands: Demands) -> str:
    """Return the accepted format for a file: what lost nothing so far shall not lose it now."""
    if facts.format in demands.formats:
        return facts.format
    lossless = facts.format in _LOSSLESS and "png" in demands.formats
    return "png" if lossless else demands.formats[0]


def _factor(width: int, height: int, demands: Demands) -> float:
    """Return the factor, at most 1, that brings the sides and pixels within the limits."""
    factors = [1.0]
    if demands.max_side is not None:
        factors.append(demands.max_side / max(width, height))
    if demands.max_pixels is not None:
        factors.append(math.sqrt(demands.max_pixels / (width * height)))
    return min(factors)


def decode_upright(data: bytes) -> Image.Image:
    """Return a file's picture, decoded and upright.

    Returns
    -------
    Image
        In the mode it was stored in.

    Raises
    ------
    ImageError
        If it cannot be decoded whole.
    """
    facts = read_facts(data)
    try:
        return _upright(_loaded(data), _to_turn(facts))
    except Exception as error:
        raise _damaged(data, error) from error


def _decoded(data: bytes, facts: ImageFacts, demands: Demands) -> tuple[Image.Image, list[str]]:
    """Decode the image, repairing a file that breaks off late enough."""
    try:
        return _loaded(data, _factor(facts.width, facts.height, demands)), []
    except Exception as error:  # decoders fail with whatever broken bytes lead them to
        return _mended(data, facts, error)


def _loaded(data: bytes, factor: float = 1.0) -> Image.Image:
    """Decode; a JPEG that will be shrunk a lot in fewer pixels, which its blocks give at once."""
    image = open_image(data)
    if factor < 1 and image.format == "JPEG":
        enough = factor * _SPARE
        image.draft(None, (math.ceil(image.width * enough), math.ceil(image.height * enough)))
    image.load()
    return image


def _damaged(data: bytes, cause: Exception) -> ImageError:
    return ImageError(f"the file is damaged ({cause})", got=f"{len(data):,} bytes", damaged=True)


_TURNS = {
    2: Image.Transpose.FLIP_LEFT_RIGHT,
    3: Image.Transpose.ROTATE_180,
    4: Image.Transpose.FLIP_TOP_BOTTOM,
    5: Image.Transpose.TRANSPOSE,
    6: Image.Transpose.ROTATE_270,
    7: Image.Transpose.TRANSVERSE,
    8: Image.Transpose.ROTATE_90,
}
"""What makes an image of each EXIF orientation upright (CIPA DC-008, tag 0112)."""


def _to_turn(facts: ImageFacts) -> int:
    """Return how a decoded picture is still to be turned: Pillow turns a TIFF as it decodes it."""
    return 1 if facts.format == "tiff" else facts.orientation


def _upright(image: Image.Image, orientation: int) -> Image.Image:
    """Turn an image upright, and drop what else the file says: it must not be turned again."""
    turned = image.transpose(_TURNS[orientation]) if orientation in _TURNS else image
    turned.info = {name: image.info[name] for name in ("transparency",) if name in image.info}
    return turned


def _mended(data: bytes, facts: ImageFacts, cause: Exception) -> tuple[Image.Image, list[str]]:
    if facts.format != "jpeg":
        raise _damaged(data, cause) from cause
    try:
        # With an end marker the decoder gives the rows it has, and fills the rest with grey.
        image = _loaded(data + b"\xff\xd9")
    except Exception as error:
        raise _damaged(data, error) from error
    kept = _rows_kept(image)
    if kept < _LEAST_ROWS_KEPT:
        raise ImageError(
            f"the file is damaged: only {kept:.0%} of its rows can be decoded",
            got=f"{len(data):,} bytes",
            allowed=[f"at least {_LEAST_ROWS_KEPT:.0%}"],
            damaged=True,
        ) from cause
    return image, [f"damaged file repaired, {kept:.1%} of its rows kept"]


def _rows_kept(image: Image.Image) -> float:
    """Return the share of rows above the flat grey with which the decoder fills what is missing."""
    import numpy as np

    rows = np.asarray(image.convert("L")).reshape(image.height, -1)
    flat = (rows.max(axis=1) == rows.min(axis=1)) & (np.abs(rows[:, 0].astype(int) - 128) <= 2)
    lost = len(flat) if flat.all() else int(np.argmin(flat[::-1]))
    return 1 - lost / len(flat)


def _fitted(image: Image.Image, facts: ImageFacts, demands: Demands, steps: list[str]) -> Prepared:
    target = _instead(facts, demands)
    if "jpeg" in demands.formats and _too_large(image, facts, demands, target):
        steps = [step.replace(f"re-encoded as {target}", "re-encoded as jpeg") for step in steps]
        target = "jpeg"
    image = _recoloured(image, target, demands)
    factor = _factor(image.width, image.height, demands)
    decoded = max(image.size) / max(facts.width, facts.height)
    # Always from the full image: shrinking what was shrunk loses sharpness each time.
    while True:
        shrunk = _shrunk(image, factor)
        _refuse_small(shrunk.width, shrunk.height, demands)
        data, quality = _encoded(shrunk, target, demands.max_bytes)
        if demands.max_bytes is None or len(data) <= demands.max_bytes:
            break
        # Under 16 pixels nothing can be recognised; the loop must end somewhere.
        if min(shrunk.size) <= max(demands.min_side or 1, 16):
            raise ImageError(
                "the image cannot be brought under the byte limit",
                got=f"{len(data):,} bytes at {shrunk.width} x {shrunk.height}",
                allowed=[f"up to {demands.max_bytes:,}"],
            )
        factor *= _SHRINK_STEP
    return Prepared(
        data=data,
        format=target,
        width=shrunk.width,
        height=shrunk.height,
        turned=1,
        steps=tuple(steps + _shrink_steps(factor * decoded, shrunk, demands)),
        quality=quality,
    )


def _too_large(image: Image.Image, facts: ImageFacts, demands: Demands, target: str) -> bool:
    """Tell whether a file would be over the limit as it is, or as PNG if it becomes that."""
    if demands.max_bytes is None:
        return False
    if target == facts.format or target != "png":
        return facts.size > demands.max_bytes
    shrunk = _shrunk(_recoloured(image, target, demands), _factor(*image.size, demands))
    return len(_encoded(shrunk, target, demands.max_bytes)[0]) > demands.max_bytes


def _shrink_steps(factor: float, shrunk: Image.Image, demands: Demands) -> list[str]:
    if factor >= 1:
        return []
    steps = [f"shrunk to {shrunk.width} x {shrunk.height} ({factor:.0%})"]
    if demands.smallest_face is not None:
        least = math.ceil(demands.smallest_face / factor)
        steps.append(
            f"faces under {least} pixels in the original fall below the service's smallest, "
            f"{demands.smallest_face}"
        )
    return steps


def _recoloured(image: Image.Image, target: str, demands: Demands) -> Image.Image:
    if image.mode in ("LA", "PA", "RGBA") or (image.mode == "P" and "transparency" in image.info):
        if target == "jpeg" or "rgba" not in demands.colours:
            return _flattened(image)
        return image.convert("RGBA")
    if image.mode in ("L", "1") and "grey" in demands.colours:
        return image.convert("L")
    if image.mode.startswith("I;16") or image.mode == "I":
        return _eight_bit(image).convert("L" if "grey" in demands.colours else "RGB")
    return image.convert("RGB")


def _eight_bit(image: Image.Image) -> Image.Image:
    """Bring 16-bit grey to 8 bits."""
    import numpy as np

    values = np.asarray(image, dtype=np.int64) >> 8
    return Image.fromarray(values.clip(0, 255).astype(np.uint8))


def _flattened(image: Image.Image) -> Image.Image:
    """Lay a picture with transparency on white."""
    # White, since that is what a page behind it would show; black would make shapes of shadows.
    rgba = image.convert("RGBA")
    ground = Image.new("RGB", image.size, (255, 255, 255))
    ground.paste(rgba, mask=rgba.getchannel("A"))
    return ground


def _shrunk(image: Image.Image, factor: float) -> Image.Image:
    if factor >= 1:
        return image
    size = (max(1, int(image.width * factor)), max(1, int(image.height * factor)))
    return image.resize(size, Image.Resampling.LANCZOS, reducing_gap=_SPARE)


def _encoded(image: Image.Image, target: str, limit: int | None) -> tuple[bytes, int | None]:
    """Encode at the best quality that fits, or at the lowest tried."""
    data, quality = b"", None
    for quality in _QUALITIES if target in ("jpeg", "webp") else (None,):
        buffer = io.BytesIO()
        image.save(buffer, target.upper(), **({} if quality is None else {"quality": quality}))
        data = buffer.getvalue()
        if limit is None or len(data) <= limit:
            break
    return data, quality
