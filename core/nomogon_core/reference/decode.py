"""Picture bytes to linear light.

Edges are found in linear light, where a pixel on an edge is the mean of both sides weighted by area; in
the stored sRGB values every edge would shift toward the bright side (IEC 61966-2-1 gives the curve).
"""

import io
import warnings

import attrs
import cv2
import numpy as np
from PIL import Image, ImageOps, UnidentifiedImageError

from nomogon_core.errors import PictureError

FORMATS = {"PNG": "image/png", "JPEG": "image/jpeg", "WEBP": "image/webp", "TIFF": "image/tiff"}
MOST_PIXELS = 50_000_000
LEAST_SIDE = 16
_LUMA = (0.2126, 0.7152, 0.0722)

Image.MAX_IMAGE_PIXELS = None


@attrs.frozen
class PictureInfo:
    """What is known of a picture before its pixels are read."""

    format: str
    width: int
    height: int
    dpi: tuple | None

    @property
    def media_type(self):
        return FORMATS[self.format]


def srgb_to_linear(values):
    """Linear light 0..1 of sRGB values 0..1 (IEC 61966-2-1)."""
    values = np.asarray(values, float)
    return np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)


def linear_to_srgb(light):
    """sRGB values 0..1 of linear light 0..1 (IEC 61966-2-1)."""
    light = np.clip(np.asarray(light, float), 0, None)
    return np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055)


_LINEAR = srgb_to_linear(np.arange(256) / 255).astype(np.float32)
_LINEAR_PARTS = [(_LINEAR * weight).astype(np.float32) for weight in _LUMA]


def _open(data, name):
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            picture = Image.open(io.BytesIO(data), formats=list(FORMATS))
    except UnidentifiedImageError:
        raise PictureError(f"{name} is not a picture that can be read: its contents are not PNG, JPEG, WebP or TIFF. "
                           "Save it as one of these and drop it again.") from None
    except (OSError, ValueError, SyntaxError) as problem:
        raise PictureError(f"{name} cannot be read as a picture: {problem}. Save it anew and drop it again.") from None
    return picture


def inspect(data, name="The file"):
    """Format and size of a picture, without decoding its pixels.

    Args:
        data: the file's bytes.
        name: how the file is called in messages.

    Raises:
        PictureError: not a picture, too large, or too small to trace.
    """
    if not data:
        raise PictureError(f"{name} is empty. Choose a PNG, JPEG, WebP or TIFF picture.")
    with _open(data, name) as picture:
        width, height = picture.size
        if width * height > MOST_PIXELS:
            raise PictureError(f"{name} has {width} × {height} = {width * height / 1e6:.0f} megapixels; at most "
                               f"{MOST_PIXELS / 1e6:.0f} are taken. Reduce it and drop it again.")
        if min(width, height) < LEAST_SIDE:
            raise PictureError(f"{name} is {width} × {height} pixels; a side of at least {LEAST_SIDE} is needed to trace anything.")
        if picture.getexif().get(0x0112, 1) >= 5:
            width, height = height, width
        return PictureInfo(picture.format, width, height, _resolution(picture))


def _resolution(picture):
    dpi = picture.info.get("dpi")
    if not dpi:
        return None
    across, down = float(dpi[0]), float(dpi[1])
    return (across, down) if across > 1 and down > 1 else None


def decode(data, name="The file"):
    """Linear luminance of a picture.

    Args:
        data: the file's bytes.
        name: how the file is called in messages.

    Returns:
        float32 array (height, width), 0 black to 1 white, turned upright by its EXIF orientation; transparent
        pixels are laid on white.

    Raises:
        PictureError: the picture is refused by :func:`inspect` or is damaged.
    """
    info = inspect(data, name)
    with _open(data, name) as picture:
        upright = picture.getexif().get(0x0112, 1) == 1
        eight_bit = picture.mode in ("RGB", "L")
    _require_end(info.format, data, name)
    if upright and eight_bit and info.format in ("JPEG", "PNG"):
        pixels = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED | cv2.IMREAD_IGNORE_ORIENTATION)
        if pixels is not None and pixels.shape[:2] == (info.height, info.width):
            return _luminance(pixels)
    return _decode_any(data, name)


def _require_end(kind, data, name):
    """The closing mark of a JPEG or PNG must be there; decoders fill in what is missing without a word."""
    marks = {"JPEG": (b"\xff\xd9", 4096), "PNG": (b"IEND", 64)}
    if kind in marks and marks[kind][0] not in data[-marks[kind][1]:]:
        raise PictureError(f"{name} is cut off: the end of the {kind} is missing. Copy it again from where it came.")


def _decode_any(data, name):
    with _open(data, name) as picture:
        try:
            picture = ImageOps.exif_transpose(picture)
            if picture.mode in ("I;16", "I", "F"):
                return _sixteen_bit(np.asarray(picture, np.float64))
            if "A" in picture.getbands() or "transparency" in picture.info:
                picture = Image.alpha_composite(Image.new("RGBA", picture.size, "white"), picture.convert("RGBA"))
            pixels = np.asarray(picture.convert("L" if picture.mode in ("1", "L", "LA") else "RGB"))
        except (OSError, ValueError, SyntaxError) as problem:
            raise PictureError(f"{name} is damaged and cannot be decoded: {problem}. Copy it again from where it came.") from None
    return _luminance(pixels[..., ::-1] if pixels.ndim == 3 else pixels)


def _sixteen_bit(values):
    top = 65535.0 if values.max() > 255 else 255.0
    return srgb_to_linear(np.clip(values / top, 0, 1)).astype(np.float32)


def _luminance(pixels):
    """Linear luminance of 8-bit grey (h, w) or blue-green-red (h, w, 3) values."""
    if pixels.ndim == 2:
        return cv2.LUT(pixels, _LINEAR)
    blue, green, red = cv2.split(np.ascontiguousarray(pixels[..., :3]))
    light = cv2.LUT(green, _LINEAR_PARTS[1])
    light += cv2.LUT(red, _LINEAR_PARTS[0])
    light += cv2.LUT(blue, _LINEAR_PARTS[2])
    return light
