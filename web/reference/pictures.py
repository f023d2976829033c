"""Decoded pictures kept in memory for a while, and reduced copies for the Board."""

import threading
from collections import OrderedDict

import cv2
import numpy as np

from jobs.models import Blob
from nomogon_core.reference.decode import decode, linear_to_srgb

MOST_PICTURES = 3
PREVIEW_PIXELS = 1_600_000
SHOWN_SIDE = 2400

_lock = threading.Lock()
_kept = OrderedDict()


def light_of(digest, name):
    """Linear luminance of a stored picture."""
    with _lock:
        if digest in _kept:
            _kept.move_to_end(digest)
            return _kept[digest]
    light = decode(bytes(Blob.objects.get(pk=digest).data), name)
    with _lock:
        _kept[digest] = light
        while len(_kept) > MOST_PICTURES:
            _kept.popitem(last=False)
    return light


def reduced(light):
    """A copy small enough for a live preview, and how many pixels of the picture one of its pixels spans."""
    share = (PREVIEW_PIXELS / light.size) ** 0.5
    if share >= 1:
        return light, 1.0
    height, width = light.shape
    small = cv2.resize(light, (round(width * share), round(height * share)), interpolation=cv2.INTER_AREA)
    return small, width / small.shape[1]


def display_copy(digest, data, media_type):
    """Bytes and media type of what the Board shows: the picture itself, or a grey copy where a browser cannot show it."""
    if media_type in ("image/png", "image/jpeg", "image/webp"):
        return data, media_type
    stored = np.clip(linear_to_srgb(light_of(digest, "The picture")) * 255 + 0.5, 0, 255).astype(np.uint8)
    return cv2.imencode(".png", stored)[1].tobytes(), "image/png"
