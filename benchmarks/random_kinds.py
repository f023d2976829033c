"""The eight kinds of pictures that people bring, drawn at random with known outlines: photo, brushed metal, pencil
drawing, silhouette,
logo, cartoon, plan, perforated plate."""

import math

import attrs
import cv2
import numpy as np
import shapely
from skimage.graph import route_through_array

from benchmarks.random_parts import random_part
from benchmarks.unseen_parts import shoot
from examples.render import Camera, photograph
from nomogon_core.devices.compiled_coverage import coverage
from nomogon_core.geometry.curves import closed_area, outline_points
from nomogon_core.picture.decode import linear_to_srgb
from nomogon_core.trace.outlines import TraceSettings

CHORD_PX = 0.02
MM_PER_PX = 0.1


@attrs.frozen
class Picture:
    """A picture of one kind.

    Attributes:
        kind: its name; data: the file; wanted: closed outlines (n, 2) in pixels that somebody wants of it.
        tries: settings as a person would choose them, one after the other.
        partly: whether stretches of an outline may stay open, as it cannot be seen everywhere.
    """

    kind: str
    data: bytes = attrs.field(repr=False)
    wanted: tuple = attrs.field(repr=False)
    tries: tuple = attrs.field(repr=False)
    partly: bool = False


def _settings(**fields):
    return TraceSettings(tolerance_mm=0.8 * MM_PER_PX, **fields)


def _jpeg(picture, random, worst=80):
    return cv2.imencode(".jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, int(random.integers(worst, 96))])[1].tobytes()


def _placed_part(random, width, height, share):
    """Outlines (n, 2) of a random part in the middle of a picture, the outer one and then holes, each turned as
    :func:`coverage` wants it."""
    outlines, turn = random_part(random), random.uniform(-math.pi, math.pi)
    seen = Camera(1.0, (0.0, 0.0), turn).to_px(np.vstack([outline_points(curves, 0.05) for curves in outlines]))
    scale = share * min(width / np.ptp(seen[:, 0]), height / np.ptp(seen[:, 1]))
    camera = Camera(
        scale, tuple(np.array([width, height]) / 2 - scale * (seen.min(axis=0) + seen.max(axis=0)) / 2), turn
    )
    placed = []
    for index, curves in enumerate(outlines):
        points = camera.to_px(outline_points(curves, CHORD_PX / scale))
        placed.append(points if (closed_area(curves) > 0) == (index == 0) else points[::-1])
    return placed


def photo(random):
    """A part on a plain ground, from straight above."""
    shot = shoot(random)
    return Picture(
        "photo",
        shot.jpeg,
        tuple(outline_points(curves, CHORD_PX) for curves in shot.truth),
        (_settings(), _settings(mode="edge")),
    )


def _noise(random, size, across, along, degrees=0.0):
    """Texture of unit strength, longer along one direction."""
    width, height = size
    side = math.ceil(math.hypot(width, height))
    grain = cv2.GaussianBlur(random.normal(0, 1, (side, side)).astype(np.float32), (0, 0), along, sigmaY=across)
    turned = cv2.warpAffine(
        grain, cv2.getRotationMatrix2D((side / 2, side / 2), degrees, 1.0), (side, side), borderMode=cv2.BORDER_REFLECT
    )
    top, left = (side - height) // 2, (side - width) // 2
    return turned[top : top + height, left : left + width] / max(float(grain.std()), 1e-9)


def metal(random, size=(2400, 1800)):
    """Brushed metal with glare and a shadow beside it, on a ground of like tone, with a stroke on each as a person
    would draw them."""
    width, height = size
    polygons = _placed_part(random, width, height, random.uniform(0.55, 0.75))
    cover = coverage(polygons, width, height)
    tone = random.uniform(0.25, 0.5)
    ground = tone * (
        1 + random.uniform(0.02, 0.06) * _noise(random, size, 2.5, 2.5) + 0.05 * _noise(random, size, 60, 60)
    )
    face = (
        tone
        * random.uniform(0.85, 1.18)
        * (1 + random.uniform(0.08, 0.2) * _noise(random, size, 0.9, random.uniform(20, 50), random.uniform(0, 180)))
    )
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    angle = random.uniform(0, math.pi)
    off = (x - width / 2) * math.cos(angle) + (y - height / 2) * math.sin(angle) - random.uniform(-200, 200)
    face *= 1 + random.uniform(0.4, 1.2) * np.exp(-((off / random.uniform(80, 220)) ** 2) / 2)
    shadow = np.roll(cv2.GaussianBlur(cover, (0, 0), random.uniform(8, 25)), random.integers(-30, 31, 2), (0, 1))
    ground *= 1 - random.uniform(0.2, 0.5) * shadow
    scene = cv2.GaussianBlur(
        (ground + (face - ground) * cover).astype(np.float32), (0, 0), random.uniform(0.8, 1.5)
    ) * (1 + 0.2 * (x / width - 0.5))
    stored = np.clip(linear_to_srgb(scene) + random.normal(0, 0.01, scene.shape), 0, 1)
    margin = 0.03 * width
    corners = np.array(
        [(margin, margin), (margin, height - margin), (width - margin, height - margin), (width - margin, margin)]
    )
    on_part, on_ground = _along_middle(cover > 0.5, random), np.roll(corners, int(random.integers(4)), axis=0)[:3]
    strokes = _settings(mode="strokes", part_strokes=(on_part,), ground_strokes=(on_ground,))
    wider = attrs.evolve(strokes, part_strokes=(on_part, _along_middle(cover > 0.5, random)))
    return Picture(
        "metal", _jpeg((255 * stored + 0.5).astype(np.uint8), random), tuple(polygons), (strokes, wider), partly=True
    )


def _along_middle(inside, random):
    """A stroke as a person draws it along the middle of a shape: from one of its wide places to the one farthest from
    it."""
    step = 8
    depth = cv2.distanceTransform(inside.astype(np.uint8), cv2.DIST_L2, 5)[::step, ::step]
    rows, columns = np.nonzero(depth > 0.5 * depth.max())
    start = int(random.integers(len(rows)))
    end = int(np.argmax(np.hypot(rows - rows[start], columns - columns[start])))
    way, _ = route_through_array(
        np.where(depth > 0, 1 / (depth + 1) ** 2, 1e3), (rows[start], columns[start]), (rows[end], columns[end])
    )
    return np.array(way, float)[::3, ::-1] * step


def _wavy(random, middle, radius, waves=5, share=0.12):
    """A smooth closed outline (n, 2) around a place."""
    angle = np.linspace(0, 2 * math.pi, 1200, endpoint=False)
    swing = sum(
        random.uniform(-share, share) / order * np.cos(order * angle + random.uniform(0, 6.28))
        for order in range(2, waves + 1)
    )
    return np.asarray(middle) + (radius * (1 + swing))[:, None] * np.column_stack([np.cos(angle), np.sin(angle)])


def _shrunk(points, by):
    """A closed outline moved inwards by a width of each place (n,)."""
    run = np.roll(points, -3, axis=0) - np.roll(points, 3, axis=0)
    return points + np.asarray(by)[:, None] * np.column_stack([-run[:, 1], run[:, 0]]) / np.hypot(*run.T)[:, None]


def _stroked(paths, wide, size):
    """Coverage of strokes along paths (n, 2)."""
    width, height = size
    shape = shapely.union_all([shapely.LineString(path).buffer(wide / 2, quad_segs=12) for path in paths])
    polygons = []
    for one in getattr(shape, "geoms", [shape]):
        one = shapely.geometry.polygon.orient(one)
        polygons += [np.array(one.exterior.coords)[:-1], *(np.array(ring.coords)[:-1] for ring in one.interiors)]
    return coverage(polygons, width, height)


def pencil(random, size=(2000, 1500)):
    """Closed shapes drawn with a pencil on creased paper in uneven light."""
    width, height = size
    shapes = [
        _wavy(random, (width * (0.28 + 0.44 * index), height * 0.5), random.uniform(230, 340)) for index in range(2)
    ]
    wide = random.uniform(3, 5)
    ink = _stroked([np.vstack([shape, shape[:1]]) for shape in shapes], wide, size)
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    paper = (
        0.75 * (1 + 0.25 * (x / width - 0.5) - 0.2 * (y / height - 0.5)) * (1 + 0.01 * _noise(random, size, 1.5, 1.5))
    )
    for _ in range(4):
        angle, off = random.uniform(0, math.pi), random.uniform(0.2, 0.8)
        side = (x - off * width) * math.cos(angle) + (y - off * height) * math.sin(angle)
        paper *= 1 + random.uniform(0.02, 0.06) * np.tanh(side / 3) * np.exp(-((side / random.uniform(60, 300)) ** 2))
    grain = np.clip(1 + 0.35 * _noise(random, size, 1.2, 1.2), 0.2, 1.8)
    scene = cv2.GaussianBlur((paper * (1 - random.uniform(0.12, 0.25) * ink * grain)).astype(np.float32), (0, 0), 0.9)
    stored = np.clip(linear_to_srgb(scene) + random.normal(0, 0.008, scene.shape), 0, 1)
    tries = (_settings(mode="centre"), _settings(mode="centre", flatten=True))
    return Picture("pencil", _jpeg((255 * stored + 0.5).astype(np.uint8), random), tuple(shapes), tries)


def silhouette(random):
    """A dark shape drawn by a program, small and compressed."""
    side = int(random.integers(400, 700))
    shape = _wavy(random, (side / 2, side / 2), 0.36 * side, waves=9, share=0.25)
    cover = coverage([shape], side, side)
    return Picture(
        "silhouette",
        _jpeg((255 * (1 - cover)).astype(np.uint8), random, worst=60),
        (shape,),
        (_settings(), _settings(threshold=0.4)),
    )


def logo(random):
    """A ring around a part, drawn by a program."""
    side = int(random.integers(700, 1100))
    part = _placed_part(random, side, side, 0.45)
    rim = np.linspace(0, 2 * math.pi, 2000, endpoint=False)
    circle = np.column_stack([np.cos(rim), np.sin(rim)])
    outer = 0.46 * side
    ring = [side / 2 + outer * circle, (side / 2 + (outer - random.uniform(0.02, 0.06) * side) * circle)[::-1]]
    cover = coverage([*ring, *part], side, side)
    data = cv2.imencode(".png", (255 * (1 - cover) + 0.5).astype(np.uint8))[1].tobytes()
    return Picture("logo", data, (*ring, *part), (_settings(), _settings(sides="both")))


def cartoon(random):
    """Flat colours, each with an ink line around it whose width changes."""
    side = int(random.integers(900, 1300))
    turn = random.uniform(0, 2 * math.pi)
    shapes = [_wavy(random, (side / 2, side / 2), 0.38 * side)]
    shapes += [
        _wavy(random, side / 2 + 0.17 * side * np.array([math.cos(angle), math.sin(angle)]), 0.09 * side)
        for angle in (turn, turn + math.pi)
    ]
    hues = [np.array(hue, float) for hue in ((240, 200, 90), (120, 190, 230), (235, 130, 110), (150, 210, 140))]
    picture, wanted = np.full((side, side, 3), 255.0), []
    for index, shape in zip(random.permutation(len(hues)), shapes):
        angle = np.linspace(0, 2 * math.pi, len(shape), endpoint=False)
        inner = _shrunk(shape, random.uniform(5, 7) + random.uniform(2, 3.5) * np.cos(2 * angle + random.uniform(0, 6)))
        for outline, colour in ((shape, (25, 25, 30)), (inner, hues[index])):
            cover = coverage([outline], side, side)[..., None]
            picture = picture * (1 - cover) + cover * np.array(colour)
        wanted += [shape, inner]
    return Picture(
        "cartoon",
        _jpeg((picture + 0.5).astype(np.uint8), random),
        tuple(wanted),
        (_settings(mode="flat"), _settings(mode="flat", reach=0.1)),
    )


def plan(random, size=(2200, 900)):
    """Closed sections with a sharp tail, each with a cross-hair and a label, as line drawing on a scan."""
    width, height = size
    sections, marks = [], []
    labels = np.zeros((height, width), np.uint8)
    for index in range(3):
        left, long = width * (0.06 + 0.31 * index), random.uniform(480, 580)
        middle = height * random.uniform(0.42, 0.58)
        t = np.linspace(0, 1, 500)
        deep = long * random.uniform(0.14, 0.2)
        # A nose that is round and a tail that is sharp: half thickness of the square root of the place, less a line.
        half = deep * 2.6 * (np.sqrt(t) - t) * (1 - 0.25 * t)
        bow = random.uniform(0.02, 0.08) * long * np.sin(math.pi * t)
        upper, lower = (
            np.column_stack([left + long * t, middle - bow - half]),
            np.column_stack([left + long * t, middle - bow + half]),
        )
        sections.append(np.vstack([upper[::-1], lower[1:-1]]))
        center = np.array([left + 0.3 * long, middle - bow[150]])
        reach = 0.5 * deep
        marks += [
            np.array([center - (reach, 0), center + (reach, 0)]),
            np.array([center - (0, reach), center + (0, reach)]),
        ]
        cv2.putText(
            labels,
            f"{int(random.integers(10, 99))}.{index}",
            (int(left + 0.4 * long), int(middle + deep + 110)),
            cv2.FONT_HERSHEY_SIMPLEX,
            1.4,
            255,
            3,
            cv2.LINE_AA,
        )
    ink = np.maximum(
        _stroked([np.vstack([section, section[:1]]) for section in sections], random.uniform(3, 4.5), size),
        _stroked(marks, 2.5, size),
    )
    cover = np.maximum(ink, labels / np.float32(255))
    picture = photograph(
        cover,
        ground=0.8,
        part=0.05,
        light=0.05,
        blur_px=0.7,
        noise=0.006,
        mottle=0.1,
        seed=int(random.integers(1 << 30)),
    )
    return Picture(
        "plan",
        _jpeg(picture, random),
        tuple(sections),
        (_settings(mode="centre"), _settings(mode="centre", threshold=0.4)),
    )


def plate(random):
    """A plate with some hundred round holes."""
    width, height = 1500, 1200
    rim = np.linspace(0, 2 * math.pi, 200, endpoint=False)
    circle, pitch = np.column_stack([np.cos(rim), np.sin(rim)]), random.uniform(60, 75)
    polygons = [np.array([(80, 80), (width - 80, 80), (width - 80, height - 80), (80, height - 80)], float)]
    for x in np.arange(150, width - 140, pitch):
        for y in np.arange(150, height - 140, pitch):
            polygons.append((np.array([x, y]) + random.uniform(-2, 2, 2) + random.uniform(14, 22) * circle)[::-1])
    picture = photograph(coverage(polygons, width, height), noise=0.006, light=0.2, seed=int(random.integers(1 << 30)))
    return Picture("plate", _jpeg(picture, random), tuple(polygons), (_settings(), _settings(flatten=True)))


KINDS = (photo, metal, pencil, silhouette, logo, cartoon, plan, plate)
