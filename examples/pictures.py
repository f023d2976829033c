"""Photo-like pictures of the made-up parts, with the camera that took them as the truth."""

import attrs
import cv2
import numpy as np

from examples import parts
from examples.render import Camera, part_coverage, photograph

TINT = np.array([0.955, 1.0, 1.03], np.float32)


@attrs.frozen
class Shot:
    """A picture and what is true of it."""

    jpeg: bytes = attrs.field(repr=False)
    camera: Camera
    outlines: tuple = attrs.field(repr=False)
    width: int
    height: int


def shoot(outlines, width, height, camera, *, quality=92, **light):
    """A JPEG of a part under a camera; ``light`` goes to :func:`examples.render.photograph`."""
    return _developed(part_coverage(outlines, camera, width, height), outlines, camera, quality, **light)


def _developed(cover, outlines, camera, quality, **light):
    """The shot of a coverage (h, w)."""
    height, width = cover.shape
    grey = photograph(cover, **light)
    colour = np.clip(grey[..., None].astype(np.float32) * TINT, 0, 255).astype(np.uint8)
    return Shot(
        cv2.imencode(".jpg", colour, [cv2.IMWRITE_JPEG_QUALITY, quality])[1].tobytes(), camera, outlines, width, height
    )


def latch_plate():
    """84 mm over about 1850 pixels, turned by a hair."""
    return shoot(parts.latch_plate(), 2400, 1600, Camera(22.0, (276.4, 1305.7), 0.0), grain=0.05, shadow=0.22, seed=14)


def spout_plan(angle=0.0, seed=31, **light):
    """A plan of five dark sections with a light cross-hair in each, a row of 2,100 pixels."""
    camera, width, height = Camera(10.0, (120.0, 420.0), angle), 2340, 560
    sections = [(oval, cross) for _, oval, cross in parts.spout_plan()]
    cover = sum(part_coverage(one, camera, width, height) for one in sections)
    outlines = tuple(oval for oval, _ in sections)
    return _developed(cover, outlines, camera, 92, grain=0.03, seed=seed, **light)


def hinge_leaf():
    return shoot(
        parts.hinge_leaf(), 2000, 1400, Camera(24.0, (256.0, 1156.0), 0.0), grain=0.04, shadow=0.2, seed=21, part=0.11
    )


def entrance_reducer():
    return shoot(
        parts.entrance_reducer(),
        2600,
        1200,
        Camera(19.0, (255.0, 904.0), 0.0),
        grain=0.06,
        shadow=0.2,
        seed=22,
        ground=0.55,
        part=0.1,
    )
