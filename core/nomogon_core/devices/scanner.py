"""A simulated flatbed scanner: a part of known size on the glass, as a picture with the faults that scanners have.

It is for trying things out and for tests, and is called a stand-in wherever it is shown. The faults are usual
ones (common practice): both axes are off by some tenths of a percent and not alike, the part lies a little
turned, one side casts a shadow, the lamp is not even, and the sensor is noisy.
"""

from __future__ import annotations

import io
import math
from collections.abc import Sequence
from typing import Any

import attrs
import cv2
import numpy as np
from PIL import Image

from nomogon_core.devices.compiled_coverage import coverage
from nomogon_core.errors import InputError
from nomogon_core.geometry.curves import closed_area, outline_points
from nomogon_core.quantity.units import MM_PER_INCH

RESOLUTIONS = (100, 150, 200, 300, 400, 600)
MARGIN_MM = 12.0
SCALE_ERROR = 0.004
MOST_PIXELS = 30_000_000


@attrs.frozen
class Scan:
    """A scan.

    Attributes:
        png: the file, with the nominal resolution noted in it.
        dpi: nominal resolution.
        px_from_mm: (a, b, c, d, e, f): x = a·mm_x + c·mm_y + e, y = b·mm_x + d·mm_y + f; the truth.
    """

    png: bytes = attrs.field(repr=False)
    dpi: int
    px_from_mm: tuple

    def to_px(self, places: Sequence[np.ndarray | tuple[int, int]] | np.ndarray) -> np.ndarray:
        a, b, c, d, e, f = self.px_from_mm
        return np.asarray(places, float) @ np.array([[a, b], [c, d]]) + (e, f)


def scan(
    outlines: tuple[tuple[Any, ...], ...],
    *,
    dpi: int = 300,
    turn_degrees: float = 0.0,
    face_tone: float = 0.09,
    lid_tone: float = 0.82,
    seed: int = 1,
) -> Scan:
    """Scan a part.

    Args:
        outlines: closed outlines in mm, the outer one first, then its holes.
        dpi: one of RESOLUTIONS.
        turn_degrees: how the part lies on the glass.
        face_tone, lid_tone: linear reflectance of the part and of the lid behind it.
        seed: of this scanner and this scan.

    Raises:
        InputError: the resolution is not offered, or the part too large for it.
    """
    if dpi not in RESOLUTIONS:
        raise InputError(f"The scanner stand-in scans at {', '.join(map(str, RESOLUTIONS))} dpi; {dpi} was asked for.")
    random = np.random.default_rng(seed)
    scale = dpi / MM_PER_INCH
    turn = math.radians(turn_degrees + random.normal(0, 0.4))
    across, down = (1 + error for error in random.uniform(-SCALE_ERROR, SCALE_ERROR, 2))
    cos, sin = math.cos(turn), math.sin(turn)
    linear = scale * np.array([[cos * across, -sin * down], [-sin * across, -cos * down]])
    flat = [outline_points(outline, 0.002) @ linear for outline in outlines]
    low, high = flat[0].min(axis=0), flat[0].max(axis=0)
    width, height = (int(math.ceil(side + 2 * MARGIN_MM * scale)) for side in high - low)
    if width * height > MOST_PIXELS:
        raise InputError(
            f"The part at {dpi} dpi would fill {width * height / 1e6:.0f} megapixels; choose a lower resolution."
        )
    shift = MARGIN_MM * scale - low
    polygons = [
        points + shift if (closed_area(outline) > 0) == (index == 0) else (points + shift)[::-1]
        for index, (points, outline) in enumerate(zip(flat, outlines))
    ]
    cover = coverage(polygons, width, height)
    stored = _sensor(cover, scale, face_tone, lid_tone, random)
    stream = io.BytesIO()
    Image.fromarray(stored).save(stream, "PNG", dpi=(dpi, dpi), compress_level=3)
    return Scan(stream.getvalue(), dpi, (*linear[0].tolist(), *linear[1].tolist(), *shift.tolist()))


def _sensor(cover, scale, face_tone, lid_tone, random):
    """Stored 8-bit values: shadow on one side, uneven lamp, lens blur, noise."""
    height, width = cover.shape
    thrown = max(1, int(round(0.35 * scale)))
    shadow = cv2.GaussianBlur(np.roll(cover, thrown, 0), (0, 0), 0.8 * thrown + 0.5)
    scene = lid_tone * (1 - 0.18 * shadow)
    scene += (face_tone - scene) * cover
    scene = cv2.GaussianBlur(scene.astype(np.float32), (0, 0), 0.75)
    lamp = 1 + 0.06 * np.cos(np.linspace(-0.5, 0.6, width)) - 0.05 * np.linspace(0, 1, height)[:, None] ** 2
    light = np.clip(scene * lamp, 0, 1)
    stored = np.where(light <= 0.0031308, light * 12.92, 1.055 * np.maximum(light, 1e-9) ** (1 / 2.4) - 0.055)
    return np.clip((stored + random.normal(0, 0.007, stored.shape)) * 255 + 0.5, 0, 255).astype(np.uint8)
