"""Decoded pictures kept in memory for a while, with their clean-up steps; reduced copies; what the Board shows."""

import hashlib
import json
import threading
from collections import OrderedDict

import cv2
import numpy as np

from nomogon_core.job.document import calibration_of, picture_of
from nomogon_core.picture.cleanup import Scale, clean
from nomogon_core.picture.decode import linear_to_srgb
from nomogon_core.reference.rectify import rectify
from nomogon_core.trace.outlines import COLOURED
from store.models import Blob
from work import outside

MOST_KEPT, MOST_KEPT_BYTES = 24, 600_000_000
PREVIEW_PIXELS = 360_000
CLEAN_PREVIEW_PIXELS = 160_000
COLOUR_PREVIEW_PIXELS = 60_000
SLOW_PREVIEW_PIXELS = 90_000
# Thin lines are lost in a smaller copy.
FINE_PREVIEW_PIXELS = {"centre": 4_000_000, "flat": 1_500_000}
SHOWN_AS_THEY_ARE = ("image/png", "image/jpeg", "image/webp")
JPEG_QUALITY = 88

_lock = threading.Lock()
_kept = OrderedDict()
_making = {}


def remembered(key, make):
    """A value made once and kept for a while; who asks for it while it is being made waits for it."""
    with _lock:
        if key in _kept:
            _kept.move_to_end(key)
            return _kept[key]
        mine = _making.setdefault(key, threading.Lock())
    with mine:
        with _lock:
            if key in _kept:
                return _kept[key]
        try:
            value = make()
            with _lock:
                _keep(key, value)
        finally:
            with _lock:
                _making.pop(key, None)
    return value


def _keep(key, value):
    """Keep a value and let go of the oldest where these take too much; the newest always stays."""
    _kept[key] = value
    held = sum(map(_size, _kept.values()))
    while len(_kept) > 1 and (len(_kept) > MOST_KEPT or held > MOST_KEPT_BYTES):
        _, gone = _kept.popitem(last=False)
        held -= _size(gone)


def _size(value):
    """Bytes that the arrays of a value take."""
    parts = value if isinstance(value, tuple) else (value,)
    return sum(part.nbytes for part in parts if isinstance(part, np.ndarray))


def bytes_of(digest):
    return bytes(Blob.objects.get(pk=digest).data)


def _source(picture):
    """What the light of a stored picture depends on: its bytes, and whether a program drew it."""
    return picture["digest"], picture.get("drawn", False)


def _pixels(kind, picture):
    digest, drawn = _source(picture)
    return remembered((kind, digest, drawn), lambda: outside.pixels(kind, bytes_of(digest), picture["name"], drawn))


def raw_light(picture):
    """Linear luminance of a stored picture as it was taken."""
    return _pixels("light", picture)


def steps_of(picture):
    """The clean-up steps that are switched on."""
    return [step for step in picture.get("steps", []) if step.get("on", True)]


def steps_key(picture, mm_per_px):
    """What a cleaned picture depends on, short."""
    return hashlib.sha256(
        json.dumps([*_source(picture), steps_of(picture), mm_per_px], sort_keys=True).encode()
    ).hexdigest()[:20]


def mm_per_px_of(document, name=None):
    fit = calibration_of(document, name)
    return fit.mm_per_px if fit else None


def light_of(document, name):
    """Linear luminance of the picture worked on, after its clean-up steps."""
    _, picture = picture_of(document, name)
    steps = steps_of(picture)
    if not steps:
        return raw_light(picture)
    scale = mm_per_px_of(document, name)
    return remembered(("clean", steps_key(picture, scale)), lambda: clean(raw_light(picture), steps, Scale(1.0, scale)))


def colours_of(picture):
    """Linear red, green and blue of a stored picture."""
    return _pixels("colours", picture)


def reduced(light, pixels=PREVIEW_PIXELS):
    """A copy small enough for a live preview, and how many pixels of the picture one of its pixels spans."""
    height, width = light.shape[:2]
    share = (pixels / (width * height)) ** 0.5
    if share >= 1:
        return light, 1.0
    small = cv2.resize(light, (round(width * share), round(height * share)), interpolation=cv2.INTER_AREA)
    return small, width / small.shape[1]


def preview_light(document, name, pixels=PREVIEW_PIXELS):
    """The reduced cleaned picture and its factor, kept so that a slider's moves do not reduce it again."""
    _, picture = picture_of(document, name)
    key = ("reduced", pixels, steps_key(picture, mm_per_px_of(document, name)))
    return remembered(key, lambda: reduced(light_of(document, name), pixels))


def preview_colours(document, name, pixels=COLOUR_PREVIEW_PIXELS):
    """The reduced picture in colour and its factor."""
    _, picture = picture_of(document, name)
    return remembered(("reduced colours", pixels, *_source(picture)), lambda: reduced(colours_of(picture), pixels))


def preview_of(document, name, mode):
    """(light, colour or None, factor) to look for outlines in, as small as the way to find them allows."""
    if mode == "colour":
        colour, factor = preview_colours(document, name)
        return colour[..., 1], colour, factor
    pixels = FINE_PREVIEW_PIXELS.get(mode, SLOW_PREVIEW_PIXELS if mode == "edge" else PREVIEW_PIXELS)
    light, factor = preview_light(document, name, pixels)
    return light, preview_colours(document, name, pixels)[0] if mode in COLOURED else None, factor


def clean_preview(document, name, steps):
    """JPEG of the picture after steps that are not stored yet, on a reduced copy."""
    _, picture = picture_of(document, name)
    small, factor = remembered(
        ("raw reduced", *_source(picture)), lambda: reduced(raw_light(picture), CLEAN_PREVIEW_PIXELS)
    )
    return as_jpeg(clean(small, steps, Scale(factor, mm_per_px_of(document, name))))


def stored_values(light):
    """8-bit sRGB values of linear light."""
    table = np.clip(linear_to_srgb(np.arange(4096) / 4095) * 255 + 0.5, 0, 255).astype(np.uint8)
    return table[np.clip(light * 4095 + 0.5, 0, 4095).astype(np.uint16)]


def as_jpeg(light):
    return cv2.imencode(".jpg", stored_values(light), [cv2.IMWRITE_JPEG_QUALITY, JPEG_QUALITY])[1].tobytes()


def _stored_colours(picture):
    """8-bit blue-green-red values as a browser would show them."""
    return np.ascontiguousarray(stored_values(colours_of(picture))[..., ::-1])


def display_copy(picture, data, media_type):
    """Bytes and media type of what the Board shows: the picture itself, or a copy where a browser cannot show it."""
    if media_type in SHOWN_AS_THEY_ARE:
        return data, media_type
    return cv2.imencode(".png", _stored_colours(picture))[1].tobytes(), "image/png"


def flat_copy(document, name):
    """JPEG of a picture with perspective and bending taken out; what it shows is white where the picture ends."""
    _, picture = picture_of(document, name)
    pixels = stored_values(light_of(document, name)) if steps_of(picture) else _stored_colours(picture)
    flat = rectify(pixels, calibration_of(document, name))
    return cv2.imencode(".jpg", flat.pixels, [cv2.IMWRITE_JPEG_QUALITY, JPEG_QUALITY])[1].tobytes()
