"""Picture bytes to linear light.

Edges are found in linear light, where a pixel on an edge is the mean of both sides weighted by area; in
the stored sRGB values every edge would shift toward the bright side (IEC 61966-2-1 gives the curve).
"""

from __future__ import annotations

import io
import math
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cache

import attrs
import cv2
import numpy as np
import pillow_heif
import tifffile
from PIL import Image, ImageCms, ImageOps, UnidentifiedImageError

from nomogon_core.errors import CoreError, PictureError

FORMATS = {
    "PNG": "image/png",
    "JPEG": "image/jpeg",
    "WEBP": "image/webp",
    "TIFF": "image/tiff",
    "BMP": "image/bmp",
    "GIF": "image/gif",
    "HEIF": "image/heic",
    "AVIF": "image/avif",
}
FORMAT_WORDS = "PNG, JPEG, WebP, TIFF, BMP, GIF, HEIC or AVIF"
MOST_PIXELS = 50_000_000
LEAST_SIDE = 16
EXIF_MAKE, EXIF_MODEL, EXIF_IFD, EXIF_FOCAL_35 = 0x010F, 0x0110, 0x8769, 0xA405
# A frame of film is 36 by 24 mm (ISO 1007, memory); focal lengths are noted as if the sensor were that large.
FILM_HALF_DIAGONAL_MM = math.hypot(36, 24) / 2
LEAST_FOCAL_MM, MOST_FOCAL_MM = 8, 400
FLAT_SIDE, MOSTLY_FLAT, LEAST_TONE, APART = 1500, 0.6, 0.01, 40
BETWEEN, WIDEST_DRAWN_EDGE = 0.15, 1.25
BAND_ROWS = 256
TOO_LARGE = "{name} needs more memory than there is for one file. Save it smaller, or with 8 bits a channel."
DEEP = 65535
_LUMA = (0.2126, 0.7152, 0.0722)

Image.MAX_IMAGE_PIXELS = None
pillow_heif.register_heif_opener()


@attrs.frozen
class PictureInfo:
    """What is known of a picture before its pixels are read.

    Attributes:
        dpi: (across, down), or None.
        camera: maker and model of the camera, "" where none is noted; focal: its focal length in half diagonals of the
            picture, or None.
    """

    format: str
    width: int
    height: int
    dpi: tuple | None
    camera: str = ""
    focal: float | None = None

    @property
    def media_type(self) -> str:
        return FORMATS[self.format]


def srgb_to_linear(values: float | np.ndarray) -> np.ndarray:
    """Linear light 0..1 of sRGB values 0..1 (IEC 61966-2-1)."""
    values = np.asarray(values, float)
    return np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)


def linear_to_srgb(light: np.ndarray) -> np.ndarray:
    """sRGB values 0..1 of linear light 0..1 (IEC 61966-2-1)."""
    light = np.clip(np.asarray(light, float), 0, None)
    return np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055)


_LINEAR = srgb_to_linear(np.arange(256) / 255).astype(np.float32)
_LINEAR_PARTS = [(_LINEAR * weight).astype(np.float32) for weight in _LUMA]


@contextmanager
def reading(name: str, what: str = "a picture") -> Iterator[None]:
    """Whatever a library of others raises while it reads a file from outside is a refusal of that file: on damaged and
    hostile files these raise errors of any kind.

    Raises:
        PictureError: in place of what was raised.
    """
    try:
        yield
    except CoreError:
        raise
    except MemoryError:
        raise PictureError(TOO_LARGE.format(name=name)) from None
    except RecursionError:
        raise PictureError(f"{name} is nested too deeply to be read. Save it anew with its groups dissolved.") from None
    except Exception as problem:  # noqa: BLE001  any kind, as said above
        if isinstance(problem, cv2.error) and problem.code == cv2.Error.StsNoMem:
            raise PictureError(TOO_LARGE.format(name=name)) from None
        told = " ".join(str(problem).split())[:120] or type(problem).__name__
        raise PictureError(f"{name} is damaged and cannot be read as {what}: {told}. Save it anew.") from None


def _open(data, name):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            return Image.open(io.BytesIO(data), formats=list(FORMATS))
        except UnidentifiedImageError:
            raise PictureError(
                f"{name} is not a picture that can be read: its contents are not {FORMAT_WORDS}. "
                "Save it as one of these and drop it again."
            ) from None


def inspect(data: bytes, name: str = "The file") -> PictureInfo:
    """Format and size of a picture, without decoding its pixels.

    Args:
        data: the file's bytes.
        name: how the file is called in messages.

    Raises:
        PictureError: not a picture, too large, or too small to trace.
    """
    if not data:
        raise PictureError(f"{name} is empty. Choose a picture: {FORMAT_WORDS}.")
    with reading(name), _open(data, name) as picture:
        width, height = picture.size
        if width * height > MOST_PIXELS:
            raise PictureError(
                f"{name} has {width} × {height} = {width * height / 1e6:.0f} megapixels; at most "
                f"{MOST_PIXELS / 1e6:.0f} are taken. Reduce it and drop it again."
            )
        if min(width, height) < LEAST_SIDE:
            raise PictureError(
                f"{name} is {width} × {height} pixels; a side of at least {LEAST_SIDE} is needed to trace anything."
            )
        if _orientation(picture) >= 5:
            width, height = height, width
        return PictureInfo(picture.format, width, height, _resolution(picture), *_camera(picture))


def _exif(picture):
    """What a camera noted. Pillow decodes a whole PNG for it, in case it stands behind the pixels: seconds that are
    spent only where something stands there (eXIf chunk, PNG third edition, 2025)."""
    held = "exif" in picture.info or "Raw profile type exif" in picture.info
    loaded = picture.fp is None
    if picture.format == "PNG" and not held and not loaded and b"eXIf" not in picture.fp.getvalue():
        return Image.Exif()
    return picture.getexif()


def _orientation(picture):
    """How the camera was held, after EXIF; 1 (upright) where nothing can be read of it."""
    try:
        noted = _exif(picture).get(0x0112, 1)
    except (OSError, ValueError, SyntaxError, KeyError, TypeError):
        return 1
    return noted if isinstance(noted, int) and 1 <= noted <= 8 else 1


def _camera(picture):
    """(maker and model, focal length in half diagonals or None) that EXIF notes."""
    try:
        exif = _exif(picture)
        words = " ".join(str(exif.get(tag, "")).strip() for tag in (EXIF_MAKE, EXIF_MODEL))
        as_film = float(exif.get_ifd(EXIF_IFD).get(EXIF_FOCAL_35, 0) or 0)
    except (OSError, ValueError, SyntaxError, KeyError, TypeError, AttributeError):
        return "", None
    plain = " ".join("".join(letter for letter in words if letter.isprintable()).split())[:80]
    return plain, as_film / FILM_HALF_DIAGONAL_MM if LEAST_FOCAL_MM <= as_film <= MOST_FOCAL_MM else None


def _resolution(picture):
    dpi = picture.info.get("dpi")
    if not dpi:
        return None
    across, down = float(dpi[0]), float(dpi[1])
    return (across, down) if across > 1 and down > 1 else None


def _is_deep(data, info):
    """Whether a PNG or TIFF holds 16 bits a channel in colour, which Pillow would reduce to 8."""
    if info.format == "PNG":
        return data[24:25] == b"\x10"
    if info.format != "TIFF":
        return False
    try:
        with tifffile.TiffFile(io.BytesIO(data)) as file:
            page = file.pages[0]
            return page.bitspersample == 16 and page.samplesperpixel >= 3
    except (tifffile.TiffFileError, ValueError, IndexError, KeyError, OSError):
        return False


def looks_drawn(data: bytes, name: str = "The file") -> bool:
    """Whether a picture was drawn by a program: most of it is exactly flat, in two tones or more that are well apart,
    as no camera or scanner sees it.

    Raises:
        PictureError: as :func:`inspect`.
    """
    inspect(data, name)
    with reading(name), _open(data, name) as picture:
        picture.draft("L", (FLAT_SIDE, FLAT_SIDE))
        grey = _on_white(picture)
    grey = cv2.cvtColor(grey, cv2.COLOR_RGB2GRAY) if grey.ndim == 3 else grey
    height, width = grey.shape
    grey = grey[
        max(0, height // 2 - FLAT_SIDE) : height // 2 + FLAT_SIDE,
        max(0, width // 2 - FLAT_SIDE) : width // 2 + FLAT_SIDE,
    ]
    around = np.ones((3, 3), np.uint8)
    flat = cv2.dilate(grey, around) == cv2.erode(grey, around)
    if flat.mean() < MOSTLY_FLAT:
        return False
    shares = np.bincount(grey[flat], minlength=256) / flat.sum()
    tones = np.nonzero(shares > LEAST_TONE)[0]
    if len(tones) < 2 or int(np.ptp(tones)) < APART or float(shares[tones].sum()) <= MOSTLY_FLAT:
        return False
    return _edge_width(grey, int(tones.min()), int(tones.max())) < WIDEST_DRAWN_EDGE


def _edge_width(grey, low, high):
    """How many pixels across the edges between two tones are in between: under one where a program mixes them, more
    where a lens did."""
    share = (grey.astype(np.float32) - low) / (high - low)
    above = share > 0.5
    # Steps between neighbours count a slanted edge 4/π times as long as it is, on the average over all directions.
    edge = (np.count_nonzero(above[:, 1:] != above[:, :-1]) + np.count_nonzero(above[1:] != above[:-1])) * math.pi / 4
    return float(np.count_nonzero((share > BETWEEN) & (share < 1 - BETWEEN)) / max(edge, 1.0))


def _on_white(picture):
    """8-bit values of a picture, (h, w) or (h, w, 3), its transparent pixels laid on white."""
    if "A" not in picture.getbands() and "transparency" not in picture.info:
        return np.asarray(picture.convert("L" if picture.mode in ("1", "L") else "RGB"))
    stored = np.asarray(picture.convert("RGBA"))
    laid = np.empty((*stored.shape[:2], 3), np.uint8)
    for row in range(0, len(stored), BAND_ROWS):
        laid[row : row + BAND_ROWS] = _laid_on_white(stored[row : row + BAND_ROWS])
    return laid


def decode(data: bytes, name: str = "The file", *, drawn: bool = False) -> np.ndarray:
    """Linear luminance of a picture.

    Args:
        data: the file's bytes.
        name: how the file is called in messages.
        drawn: the picture was drawn by a program, which mixes edge pixels in stored values: these count as light.

    Returns:
        float32 array (height, width), 0 black to 1 white, turned upright by its EXIF orientation; transparent
        pixels are laid on white; colours of another profile are taken to sRGB first.

    Raises:
        PictureError: the picture is refused by :func:`inspect` or is damaged.
    """
    info = inspect(data, name)
    _require_end(info.format, data, name)
    with reading(name):
        with _open(data, name) as picture:
            plain = _orientation(picture) == 1 and picture.mode in ("RGB", "L") and not _other_profile(picture)
        deep = _is_deep(data, info)
        if plain and not drawn and not deep and info.format in ("JPEG", "PNG"):
            pixels = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED | cv2.IMREAD_IGNORE_ORIENTATION)
            if pixels is not None and pixels.shape[:2] == (info.height, info.width):
                return _luminance(pixels)
        stored = _deep_colour(data, name) if deep else _upright(data, name)
        if stored.dtype == np.uint8 and not drawn:
            return _luminance(stored[..., ::-1] if stored.ndim == 3 else stored)
        return _in_bands(stored, lambda band: _weighted(_light(band, drawn, deep)))


def colours(data: bytes, name: str = "The file", *, drawn: bool = False) -> np.ndarray:
    """Linear red, green and blue of a picture: float32 (height, width, 3), upright.

    Raises:
        PictureError: as :func:`decode`.
    """
    info = inspect(data, name)
    _require_end(info.format, data, name)
    with reading(name):
        deep = _is_deep(data, info)
        stored = _deep_colour(data, name) if deep else _upright(data, name)
        if stored.dtype == np.uint8:
            if stored.ndim == 2:
                stored = np.repeat(stored[..., None], 3, axis=2)
            return cv2.LUT(stored, (np.arange(256) / 255).astype(np.float32) if drawn else _LINEAR)
        return _in_bands(stored, lambda band: _three(_light(band, drawn, deep)))


def _in_bands(stored: np.ndarray, change: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
    """A change of every pixel, some rows at a time, so that the values in between never fill the memory."""
    first = change(stored[:BAND_ROWS])
    changed = np.empty((len(stored), *first.shape[1:]), np.float32)
    changed[:BAND_ROWS] = first
    for row in range(BAND_ROWS, len(stored), BAND_ROWS):
        changed[row : row + BAND_ROWS] = change(stored[row : row + BAND_ROWS])
    return changed


def _light(values, drawn, blue_first):
    """Light 0..1, red first, of stored values (h, w) or (h, w, 3 or 4) of any depth, laid on white."""
    if values.ndim == 3 and values.shape[2] == 4:
        values = _laid_on_white(values)
    if values.ndim == 3 and blue_first:
        values = values[..., ::-1]
    if values.dtype == np.uint16:
        return np.take(_deep_table(drawn), values)
    values = values.astype(np.float32) / (255 if values.dtype == np.uint8 else 1)
    return values if drawn else srgb_to_linear(values).astype(np.float32)


@cache
def _deep_table(drawn):
    """Light of each of the 65,536 values of 16 bits."""
    stored = np.arange(DEEP + 1) / DEEP
    return (stored if drawn else srgb_to_linear(stored)).astype(np.float32)


def _laid_on_white(values):
    """Colours (h, w, 3) of values (h, w, 4) of 8 or 16 bits, the last one how far they cover what is behind.

    Division by 2ⁿ − 1 with rounding, without dividing: Blinn, J. F. (1995), Compositing, part 2 (memory).
    """
    bits = 8 * values.dtype.itemsize
    most, half = 2**bits - 1, 2 ** (bits - 1)
    if values[..., 3].min() == most:
        return values[..., :3]
    bare = np.multiply(most - values[..., :3], values[..., 3:], dtype=np.uint32) + np.uint32(half)
    bare += bare >> bits
    return most - (bare >> bits).astype(values.dtype)


def _weighted(light):
    """Luminance (h, w) of light (h, w) or (h, w, 3)."""
    return light if light.ndim == 2 else light @ np.array(_LUMA, np.float32)


def _three(light):
    return np.repeat(light[..., None], 3, axis=2) if light.ndim == 2 else light


def _require_end(kind, data, name):
    """The closing mark of a JPEG or PNG must be there; decoders fill in what is missing without a word."""
    marks = {"JPEG": (b"\xff\xd9", 4096), "PNG": (b"IEND", 64)}
    if kind in marks and marks[kind][0] not in data[-marks[kind][1] :]:
        raise PictureError(f"{name} is cut off: the end of the {kind} is missing. Copy it again from where it came.")


def _deep_colour(data, name):
    """Stored values of a 16-bit picture: (h, w), or (h, w, 3 or 4) with blue first."""
    pixels = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED | cv2.IMREAD_IGNORE_ORIENTATION)
    if pixels is None:
        raise PictureError(f"{name} is damaged and cannot be decoded. Copy it again from where it came.")
    return pixels


def _other_profile(picture):
    """The picture's own colour profile, or None when there is none or it is sRGB."""
    held = picture.info.get("icc_profile")
    if not held:
        return None
    try:
        profile = ImageCms.ImageCmsProfile(io.BytesIO(held))
        return None if "srgb" in ImageCms.getProfileDescription(profile).lower() else profile
    except (ImageCms.PyCMSError, OSError, ValueError):
        return None


def _in_srgb(picture, profile):
    """The picture's colours in sRGB; a profile that does not go with its pixels is passed over."""
    try:
        return ImageCms.profileToProfile(picture, profile, ImageCms.createProfile("sRGB"), outputMode="RGB")
    except (ImageCms.PyCMSError, ValueError):
        return picture


def _upright(data, name):
    """Stored values of a picture, upright, transparent pixels on white: 8-bit (h, w) or (h, w, 3), or deep grey ones,
    of 16 bits or 0..1."""
    with _open(data, name) as picture:
        profile = _other_profile(picture)
        picture = ImageOps.exif_transpose(picture)
        if picture.mode in ("I;16", "I;16B", "I", "F"):
            return _deep_grey(np.asarray(picture))
        if profile is not None and "A" in picture.getbands():
            picture = Image.fromarray(_on_white(picture))
        if profile is not None and picture.mode in ("L", "RGB", "CMYK", "LAB"):
            picture = _in_srgb(picture, profile)
        return _on_white(picture)


def _deep_grey(values):
    """Grey values of more than 8 bits or with a fraction, which stand for 0..255 where none is beyond, else for
    0..65535."""
    most = float(values.max())
    if values.dtype.kind == "u" and most > 255:
        return values.astype(np.uint16)
    return np.clip(values.astype(np.float32) / np.float32(DEEP if most > 255 else 255), 0, 1)


def _luminance(pixels):
    """Linear luminance of 8-bit grey (h, w) or blue-green-red (h, w, 3) values."""
    if pixels.ndim == 2:
        return cv2.LUT(pixels, _LINEAR)
    blue, green, red = cv2.split(np.ascontiguousarray(pixels[..., :3]))
    light = cv2.LUT(green, _LINEAR_PARTS[1])
    light += cv2.LUT(red, _LINEAR_PARTS[0])
    light += cv2.LUT(blue, _LINEAR_PARTS[2])
    return light
