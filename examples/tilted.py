"""Hand-held shots: a tilted pinhole camera with lens bending over flat things, and pictures of parts beside a card."""

import math

import cv2
import numpy as np

from examples.render import coverage, rounded_polygon
from nomogon_core.geometry.curves import closed_area, outline_points
from nomogon_core.picture.decode import linear_to_srgb
from nomogon_core.reference.models import fit_plane

# ISO/IEC 7810 ID-1 (memory): 85.60 x 53.98 mm, corner radius 3.18 mm.
CARD = rounded_polygon([(0, 0), (85.60, 0), (85.60, 53.98), (0, 53.98)], [3.18] * 4)
BEND_ROUNDS = 40
DENSE_MM = 0.5


def scale_from(lengths, **placing):
    """The calibration of a picture taken from straight above, by known lengths alone."""
    return fit_plane("similarity", (4000, 3000), lengths=lengths, **placing)


class Pinhole:
    """A camera above the plane z = 0, tilted, whose lens bends; millimetres to pixels."""

    def __init__(
        self, size, *, tilt=0.0, turn=0.4, bend=0.0, focal=3600.0, height=320.0, squash=1.0, target=(60.0, 80.0)
    ):
        """Args:
        size: (width, height) in pixels; tilt in degrees, turn in radians.
        bend: k of q (1 + k r²) that takes the bending out, r in half diagonals.
        squash: scale of y over x.
        """
        lean, spin = (
            math.radians(tilt),
            np.array([[math.cos(turn), -math.sin(turn), 0], [math.sin(turn), math.cos(turn), 0], [0, 0, 1]]),
        )
        self.matrix = (
            np.array([[1, 0, 0], [0, math.cos(lean), -math.sin(lean)], [0, math.sin(lean), math.cos(lean)]]) @ spin
        )
        self.size, self.height, self.focal, self.bend, self.squash, self.target = (
            size,
            height,
            focal,
            bend,
            squash,
            target,
        )

    def to_px(self, places):
        """Pixels (n, 2) of places (n, 2) on the plane."""
        x, y, z = (
            self.matrix
            @ np.column_stack(
                [np.atleast_2d(np.asarray(places, float)) - self.target, np.zeros(len(np.atleast_2d(places)))]
            ).T
        )
        straight = self.focal * np.column_stack([x, -y]) / (self.height - z)[:, None] * (1.0, self.squash)
        half, bent = math.hypot(*self.size) / 2, straight.copy()
        for _ in range(BEND_ROUNDS if self.bend else 0):
            bent = straight / (1 + self.bend * ((bent / half) ** 2).sum(axis=1, keepdims=True))
        return bent + ((self.size[0] - 1) / 2, (self.size[1] - 1) / 2)


def _dense(polygon):
    """The polygon with a place every half millimetre, since a lens bends straight sides."""
    closed = np.vstack([polygon, polygon[:1]])
    along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(closed, axis=0).T))])
    places = np.unique(np.concatenate([along[:-1], np.arange(0, along[-1], DENSE_MM)]))
    return np.column_stack([np.interp(places, along, closed[:, 0]), np.interp(places, along, closed[:, 1])])


def _cover(camera, outlines, at):
    polygons = []
    for index, outline in enumerate(outlines):
        points = camera.to_px(_dense(outline_points(outline, 0.002)) + at)
        polygons.append(points if (closed_area(outline) > 0) == (index == 0) else points[::-1])
    return coverage(polygons, *camera.size)


def shoot_beside_card(
    camera, outlines, *, part_at, card_at, card=(CARD,), blur_px=0.9, noise=0.008, light=0.2, quality=92, seed=1
):
    """JPEG of a dark part and a bright card on a mid-grey ground."""
    random = np.random.default_rng(seed)
    scene = 0.25 + 0.55 * _cover(camera, card, card_at)
    scene -= (scene - 0.05) * _cover(camera, outlines, part_at)
    scene = cv2.GaussianBlur(scene.astype(np.float32), (0, 0), blur_px)
    width, height = camera.size
    down, across = np.mgrid[0:height, 0:width].astype(np.float32)
    scene *= 1 + light * (0.6 * (across / width - 0.5) - 0.5 * (down / height - 0.5))
    stored = linear_to_srgb(scene) + random.normal(0, noise, scene.shape)
    return cv2.imencode(
        ".jpg", np.clip(stored * 255 + 0.5, 0, 255).astype(np.uint8), [cv2.IMWRITE_JPEG_QUALITY, quality]
    )[1].tobytes()
