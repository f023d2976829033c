"""Compiles the numeric inner loops into their cache: ``python -m nomogon_core.warm``."""

import math

import numpy as np

from nomogon_core.trace.contours import find_contours
from nomogon_core.trace.fit import fit_outline


def main():
    """Trace a small made-up picture with lines, arcs and a wavy side, so that every loop is used."""
    down, across = np.mgrid[0:160, 0:200].astype(float)
    wavy = 150 + 8 * np.sin(down / 9)
    inside = (across > 30) & (across < wavy) & (down > 30) & (down < 130) & (np.hypot(across - 80, down - 80) > 20)
    for contour in find_contours((0.8 - 0.7 * inside).astype(np.float32)):
        fit_outline(contour.points * [1, -1], pixel=1.0, tolerance=1.0)
    angle = np.linspace(0, 2 * math.pi, 400, endpoint=False)
    radius = 60 + 6 * np.sin(5 * angle)
    fit_outline(np.column_stack([radius * np.cos(angle), radius * np.sin(angle)]), pixel=1.0, tolerance=0.8)


if __name__ == "__main__":
    main()
