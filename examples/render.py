"""Draws photo-like pictures of flat parts: exact area coverage, light, blur, noise, compression."""

import math

import attrs
import cv2
import numpy as np

from nomogon_core.devices.compiled_coverage import coverage
from nomogon_core.geometry.curves import Arc, Circle, Line, closed_area, outline_points
from nomogon_core.picture.decode import linear_to_srgb

CHORD_PX = 0.005


@attrs.frozen
class Camera:
    """A straight-down view: pixel = center + scale · turn(angle) · (x, -y)."""

    scale: float
    center: tuple
    angle: float = 0.0

    def to_px(self, points):
        points = np.asarray(points, float)
        cos, sin = math.cos(self.angle), math.sin(self.angle)
        turned = points @ np.array([[cos, sin], [-sin, cos]])
        return np.column_stack([turned[:, 0], -turned[:, 1]]) * self.scale + self.center


def part_coverage(outlines, camera, width, height):
    """Coverage of a part given as outlines in mm, the outer one first."""
    polygons = []
    for index, outline in enumerate(outlines):
        points = camera.to_px(outline_points(outline, CHORD_PX / camera.scale))
        outer = closed_area(outline) > 0
        polygons.append(points if outer == (index == 0) else points[::-1])
    return coverage(polygons, width, height)


def photograph(
    cover, *, ground=0.62, part=0.08, light=0.25, blur_px=0.8, noise=0.006, grain=0.0, shadow=0.0, mottle=0.12, seed=1
):
    """8-bit grey picture from coverage.

    Args:
        cover: share of the part in each pixel.
        ground, part: linear reflectance of both.
        light: how much the light falls off over the picture.
        blur_px: standard deviation of the lens blur.
        noise: standard deviation of the sensor's noise, in the stored values 0..1.
        grain: standard deviation of the ground's own texture.
        shadow: strength of a soft contact shadow.
        mottle: standard deviation of the part's own texture, as a share of its reflectance.
        seed: of the random numbers.
    """
    random = np.random.default_rng(seed)
    height, width = cover.shape
    down, across = np.mgrid[0:height, 0:width].astype(np.float32)
    texture = cv2.GaussianBlur(random.normal(0, 1, cover.shape).astype(np.float32), (0, 0), 9.0, sigmaY=1.2)
    base = ground * (1 + grain * texture / max(float(texture.std()), 1e-6))
    if shadow:
        soft = cv2.GaussianBlur(cover, (0, 0), 22.0)
        base = base * (1 - shadow * np.roll(soft, (14, 10), (0, 1)))
    speckle = cv2.GaussianBlur(random.normal(0, 1, cover.shape).astype(np.float32), (0, 0), 5.0)
    face = part * (1 + mottle * speckle / max(float(speckle.std()), 1e-6))
    scene = (base + (face - base) * cover).astype(np.float32)
    scene = cv2.GaussianBlur(scene, (0, 0), blur_px) if blur_px else scene
    u, v = across / width - 0.5, down / height - 0.5
    scene *= 1 + light * (0.7 * u - 0.5 * v) - 0.3 * light * (u * u + v * v)
    stored = linear_to_srgb(scene) + random.normal(0, noise, cover.shape)
    return np.clip(stored * 255 + 0.5, 0, 255).astype(np.uint8)


def rounded_polygon(corners, radii):
    """Counter-clockwise outline of a polygon with rounded corners (radius 0 keeps a corner sharp).

    Args:
        corners: (x, y) in order, counter-clockwise.
        radii: one a corner.
    """
    corners = [np.asarray(corner, float) for corner in corners]
    joints = []
    for index, corner in enumerate(corners):
        before = corners[index - 1] - corner
        after = corners[(index + 1) % len(corners)] - corner
        before, after = before / np.hypot(*before), after / np.hypot(*after)
        radius = radii[index]
        if radius <= 0:
            joints.append((corner, corner, None))
            continue
        half = math.acos(float(np.clip(before @ after, -1, 1))) / 2
        cut = radius / math.tan(half)
        middle = (before + after) / np.hypot(*(before + after))
        center = corner + middle * radius / math.sin(half)
        first, last = corner + before * cut, corner + after * cut
        start = math.atan2(*(first - center)[::-1])
        sweep = math.remainder(math.atan2(*(last - center)[::-1]) - start, 2 * math.pi)
        joints.append((first, last, Arc(center, radius, start, sweep)))
    outline = []
    for index, (_, last, arc) in enumerate(joints):
        if arc is not None:
            outline.append(arc)
        following = joints[(index + 1) % len(joints)][0]
        if np.hypot(*(following - last)) > 1e-9:
            outline.append(Line(last, following))
    return tuple(outline)


def slot(center, length, radius):
    """Level slot: two half circles whose centres are ``length`` apart."""
    x, y = center
    left, right = x - length / 2, x + length / 2
    return (
        Line((left, y - radius), (right, y - radius)),
        Arc((right, y), radius, -math.pi / 2, math.pi),
        Line((right, y + radius), (left, y + radius)),
        Arc((left, y), radius, math.pi / 2, math.pi),
    )


def hole(x, y, diameter):
    return (Circle((x, y), diameter / 2),)
