"""Has every numeric inner loop of tracing compiled."""

from __future__ import annotations

import math

import numpy as np

from nomogon_core.picture.contours import find_contours, find_tones
from nomogon_core.trace.centre_lines import centre_lines
from nomogon_core.trace.compiled_cubics import fit_cubic
from nomogon_core.trace.fit import fit_open, fit_outline
from nomogon_core.trace.two_strokes import contours_by_strokes


def main() -> None:
    """Trace a small made-up picture with lines, arcs and a wavy side, so that every loop is used."""
    down, across = np.mgrid[0:160, 0:200].astype(float)
    wavy = 150 + 8 * np.sin(down / 9)
    inside = (across > 30) & (across < wavy) & (down > 30) & (down < 130) & (np.hypot(across - 80, down - 80) > 20)
    light = (0.8 - 0.7 * inside + 0.01 * np.sin(3.0 * across) * np.cos(2.0 * down)).astype(np.float32)
    contours_by_strokes(light, [[(100, 50), (130, 110)]], [[(10, 10), (10, 150)]])
    for contour in find_contours(light):
        fit_outline(contour.points * [1, -1], pixel=1.0, tolerance=1.0)
    angle = np.linspace(0, 2 * math.pi, 400, endpoint=False)
    radius = 60 + 6 * np.sin(5 * angle)
    fit_outline(np.column_stack([radius * np.cos(angle), radius * np.sin(angle)]), pixel=1.0, tolerance=0.8)
    fit_open(np.column_stack([4 * angle, 6 * np.sin(angle)]) * 10, pixel=1.0, tolerance=0.3)
    half = np.linspace(0, math.pi / 2, 40)
    fit_cubic(
        np.column_stack([np.cos(half), np.sin(half)]),
        np.array([1.0, 0.0]),
        np.array([0.0, 1.0]),
        np.array([0.0, 1.0]),
        np.array([1.0, 0.0]),
        False,
        True,
        6,
        math.inf,
    )
    stroke = (0.8 - 0.7 * (np.abs(across - 100 - 20 * np.sin(down / 30)) < 4)).astype(np.float32)
    centre_lines(stroke, find_tones(stroke))
