"""Photos of random parts beside a card or on a sheet by a random camera: 12 megapixels, tilted, the lens bending either
way.

The camera here is written apart from the one that the core fits: OpenCV projects (Zhang 2000; forward distortion after
Brown 1971).
"""

import math

import attrs
import cv2
import numpy as np

from benchmarks.random_parts import random_part
from examples.render import rounded_polygon
from nomogon_core.devices.compiled_coverage import coverage
from nomogon_core.geometry.curves import closed_area, moved, outline_points
from nomogon_core.picture.decode import linear_to_srgb

SIZE = (4000, 3000)
HALF_DIAGONAL = math.hypot(*SIZE) / 2
# ISO/IEC 7810 ID-1 (memory) and ISO 216.
CARD_MM, SHEET_MM = (85.60, 53.98), (297.0, 210.0)
CARD_SIGMA_MM, SHEET_SIGMA_MM = 0.04, 0.05
DENSE_MM = 0.4
MARGIN_MM = 8.0


@attrs.frozen
class Lens:
    """A camera over the plane z = 0 (z up): millimetres to pixels."""

    matrix: np.ndarray
    distortion: np.ndarray
    turn: np.ndarray
    shift: np.ndarray

    def to_px(self, places):
        places = np.atleast_2d(np.asarray(places, float))
        world = np.column_stack([places, np.zeros(len(places))])
        return cv2.projectPoints(world, self.turn, self.shift, self.matrix, self.distortion)[0].reshape(-1, 2)

    def to_mm(self, pixels):
        """The inverse, by Newton steps."""
        pixels, at = np.atleast_2d(np.asarray(pixels, float)), np.zeros((len(np.atleast_2d(pixels)), 2))
        for _ in range(15):
            here, right, up = self.to_px(at), self.to_px(at + (1e-3, 0)), self.to_px(at + (0, 1e-3))
            slopes = np.stack([(right - here) / 1e-3, (up - here) / 1e-3], axis=2)
            at = at + np.linalg.solve(slopes, (pixels - here)[:, :, None])[:, :, 0]
        return at


@attrs.frozen
class Photo:
    """One photo with all that is true of it.

    Attributes:
        jpeg: its bytes; lens: the camera; outlines: of the part, where it lies, in millimetres.
        thing: "card" or "sheet"; size_mm: what a person would say of it; corners_px: true corners.
        focal: as EXIF notes it, in half diagonals, or None; bend: k1; spoiled: what happened to a corner.
    """

    jpeg: bytes = attrs.field(repr=False)
    lens: Lens = attrs.field(repr=False)
    outlines: tuple = attrs.field(repr=False)
    thing: str
    size_mm: tuple
    corners_px: np.ndarray = attrs.field(repr=False)
    focal: float | None
    bend: float
    spoiled: str | None = None


def random_lens(random, reach_mm, middle):
    """A camera that sees a circle of ``reach_mm`` around a place."""
    focal = HALF_DIAGONAL * random.uniform(1.0, 1.5)
    principal = (np.array(SIZE) - 1) / 2 + random.normal(0, 0.01 * HALF_DIAGONAL, 2)
    matrix = np.array([[focal, 0, principal[0]], [0, focal, principal[1]], [0, 0, 1]])
    distortion = np.array([random.uniform(-0.06, 0.06), random.normal(0, 0.006), 0, 0, 0])
    lean, spin, toward = (
        math.radians(random.uniform(0, 25)),
        random.uniform(0, 2 * math.pi),
        random.uniform(0, 2 * math.pi),
    )
    spin_matrix = cv2.Rodrigues(np.array([0, 0, spin]))[0]
    lean_matrix = cv2.Rodrigues(lean * np.array([math.cos(toward), math.sin(toward), 0]))[0]
    turn = lean_matrix @ np.diag([1.0, -1.0, -1.0]) @ spin_matrix
    distance = reach_mm * focal / (0.46 * min(SIZE)) * (1 + 0.5 * math.sin(lean))
    shift = np.array([0, 0, distance]) - turn @ np.array([*middle, 0.0])
    return Lens(matrix, distortion, cv2.Rodrigues(turn)[0], shift)


def _dense(outline):
    points = outline_points(outline, 0.0001)
    closed = np.vstack([points, points[:1]])
    along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(closed, axis=0).T))])
    keep = np.concatenate([[True], np.diff(along) > 1e-12])
    along, closed = along[keep], closed[keep]
    places = np.unique(np.concatenate([along[:-1], np.arange(0, along[-1], DENSE_MM)]))
    return np.column_stack([np.interp(places, along, closed[:, 0]), np.interp(places, along, closed[:, 1])])


def _cover(lens, outlines):
    polygons = []
    for index, outline in enumerate(outlines):
        points = lens.to_px(_dense(outline))
        polygons.append(points if (closed_area(outline) > 0) == (index == 0) else points[::-1])
    return coverage(polygons, *SIZE)


def _spoil(scene, random, lens, corners, spoiled, dark, ground, face):
    """Something dark laid over a corner of a card or sheet, or the corner folded over: the ground shows, and the back
    of the paper, a little darker."""
    index = int(random.integers(4))
    corner, sides = corners[index], [corners[(index + step) % 4] - corners[index] for step in (1, -1)]
    legs = [
        side / np.hypot(*side) * random.uniform(0.06, 0.12) * min(np.hypot(*one) for one in sides) for side in sides
    ]
    if spoiled == "covered":
        rim = np.linspace(0, 2 * math.pi, 60, endpoint=False)
        blot = (
            corner
            + 0.3 * (legs[0] + legs[1])
            + np.hypot(*legs[0]) * (1 + 0.2 * np.cos(3 * rim))[:, None] * np.column_stack([np.cos(rim), np.sin(rim)])
        )
        scene += (dark - scene) * coverage([lens.to_px(blot)[::-1]], *SIZE)
        return
    fold = np.array([corner + legs[0], corner + legs[1]])
    way = (fold[1] - fold[0]) / np.hypot(*(fold[1] - fold[0]))
    foot = fold[0] + ((corner - fold[0]) @ way) * way
    for triangle, tone in ((np.array([corner, *fold]), ground), (np.array([2 * foot - corner, *fold]), 0.93 * face)):
        places = lens.to_px(triangle)
        scene += (tone - scene) * np.maximum(coverage([places], *SIZE), coverage([places[::-1]], *SIZE))


def shoot(random, thing=None, spoiled=None):
    """One photo of a random part beside a bank card or on a sheet of paper.

    Args:
        thing: "card" or "sheet"; spoiled: None, or whether one corner of a sheet is "covered" by something or "folded"
            over.
    """
    thing = thing or ("card", "sheet")[int(random.integers(2))]
    part = random_part(random)
    points = np.vstack([outline_points(outline, 0.05) for outline in part])
    low, extent = points.min(axis=0), np.ptp(points, axis=0)
    if thing == "card":
        said, sigma, radius = CARD_MM, CARD_SIGMA_MM, 3.18
        size = np.add(said, random.normal(0, sigma, 2))
        at = np.array([random.uniform(-10, 10), extent[1] + random.uniform(6, 20)])
        whole_low, whole_high = np.minimum(at, 0), np.maximum(at + size, extent)
    else:
        size = np.add(SHEET_MM, random.normal(0, 0.4, 2))
        said, radius = tuple(size + random.normal(0, SHEET_SIGMA_MM, 2)), 0.0
        at = -random.uniform(0.15, 0.85, 2) * (size - extent - 2 * MARGIN_MM) - MARGIN_MM
        whole_low, whole_high = at, at + size
    middle = (whole_low + whole_high) / 2
    lens = random_lens(random, float(np.hypot(*(whole_high - whole_low))) / 2 * 1.08, middle)
    outlines = tuple(
        tuple(moved(curve, lambda point: (point[0] - low[0], point[1] - low[1])) for curve in outline)
        for outline in part
    )
    outline = rounded_polygon(np.array([(0, 0), (size[0], 0), tuple(size), (0, size[1])]) + at, [radius] * 4)
    ground, face, part_face = random.uniform(0.15, 0.35), random.uniform(0.65, 0.85), random.uniform(0.03, 0.08)
    scene = ground + (face - ground) * _cover(lens, (outline,))
    scene -= (scene - part_face) * _cover(lens, outlines)
    spoiled = spoiled if thing == "sheet" else None
    if spoiled:
        _spoil(
            scene,
            random,
            lens,
            np.array([(0, 0), (size[0], 0), tuple(size), (0, size[1])]) + at,
            spoiled,
            part_face,
            ground,
            face,
        )
    scene = cv2.GaussianBlur(scene.astype(np.float32), (0, 0), random.uniform(0.6, 1.6))
    width, height = SIZE
    fall = random.uniform(0, 0.35)
    across, down = (
        np.linspace(-0.5, 0.5, width, dtype=np.float32),
        np.linspace(-0.5, 0.5, height, dtype=np.float32)[:, None],
    )
    scene *= 1 + fall * (math.cos(lens.shift[0]) * across + math.sin(lens.shift[0]) * down)
    stored = linear_to_srgb(scene) + random.normal(0, random.uniform(0.004, 0.016), scene.shape)
    jpeg = cv2.imencode(
        ".jpg",
        np.clip(stored * 255 + 0.5, 0, 255).astype(np.uint8),
        [cv2.IMWRITE_JPEG_QUALITY, int(random.integers(85, 97))],
    )[1].tobytes()
    noted = lens.matrix[0, 0] / HALF_DIAGONAL * (1 + random.normal(0, 0.01)) if random.random() < 0.5 else None
    corners = lens.to_px(np.array([(0, size[1]), tuple(size), (size[0], 0), (0, 0)]) + at)
    return Photo(jpeg, lens, outlines, thing, tuple(said), corners, noted, float(lens.distortion[0]), spoiled)
