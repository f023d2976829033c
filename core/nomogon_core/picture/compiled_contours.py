"""Compiled walk along the boundary between inside and outside pixels."""

from __future__ import annotations

import numpy as np
from numba import njit

# Steps on the lattice of pixel corners: east, south, west, north; the inside is on the right hand.
STEP_X = np.array([1, 0, -1, 0])
STEP_Y = np.array([0, 1, 0, -1])
INSIDE_X, INSIDE_Y = np.array([0, -1, -1, 0]), np.array([0, 0, -1, -1])
OUTSIDE_X, OUTSIDE_Y = np.array([0, 0, -1, -1]), np.array([-1, 0, 0, -1])


@njit(cache=True)
def _is_inside(light, x, y, level, dark):
    if x < 0 or y < 0 or y >= light.shape[0] or x >= light.shape[1]:
        return False
    return light[y, x] < level if dark else light[y, x] > level


@njit(cache=True)
def _walk(light, level, dark, column, row, visited, points, used):
    """One loop from the upper crack of a pixel: its points are added to ``points``, which may be replaced by a larger
    array; returns it, the index after its last point, twice the signed area and whether the loop touches the border."""
    height, width = light.shape
    x, y, way = column, row, 0
    twice_area = 0.0
    border = False
    while True:
        in_x, in_y = x + INSIDE_X[way], y + INSIDE_Y[way]
        out_x, out_y = x + OUTSIDE_X[way], y + OUTSIDE_Y[way]
        if way == 0:
            visited[in_y, in_x] = 1
        if used >= points.shape[0]:
            larger = np.empty((2 * points.shape[0], 2))
            larger[:used] = points[:used]
            points = larger
        if out_x < 0 or out_y < 0 or out_x >= width or out_y >= height:
            border = True
            share = 0.5
        else:
            here, there = light[in_y, in_x], light[out_y, out_x]
            share = (level - here) / (there - here) if there != here else 0.5
        points[used, 0] = in_x + share * (out_x - in_x)
        points[used, 1] = in_y + share * (out_y - in_y)
        used += 1
        next_x, next_y = x + STEP_X[way], y + STEP_Y[way]
        twice_area += x * next_y - next_x * y
        x, y = next_x, next_y
        left = (way + 3) % 4
        if _is_inside(light, x + INSIDE_X[left], y + INSIDE_Y[left], level, dark):
            way = left
        elif not _is_inside(light, x + INSIDE_X[way], y + INSIDE_Y[way], level, dark):
            way = (way + 1) % 4
        if x == column and y == row and way == 0:
            return points, used, twice_area, border


@njit(cache=True)
def boundary_loops(
    light: np.ndarray, level: float, dark: bool, least_area: float, most_loops: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, int]:
    """Closed boundaries of the inside, crossed at the level between pixel centres.

    The walk follows cracks between pixels with the inside, joined through corners, on its right; each crack
    gives one point, at the linear crossing between the two pixel centres (marching squares).

    Args:
        light: float32 (h, w).
        level: value at the edge.
        dark: whether the inside is darker than the level.
        least_area: loops that enclose fewer square pixels are passed over.
        most_loops: stop after so many.

    Returns:
        points (n, 2) of all loops in a row, first index of each loop and the end, signed areas (positive: outer),
        whether each touches the border, and how many loops were passed over.
    """
    height, width = light.shape
    visited = np.zeros((height, width), np.uint8)
    points = np.empty((65536, 2))
    used = 0
    starts = [0]
    areas = [0.0]
    borders = [False]
    passed = 0
    for row in range(height):
        for column in range(width):
            if visited[row, column] or not _is_inside(light, column, row, level, dark):
                continue
            if _is_inside(light, column, row - 1, level, dark):
                continue
            begin = used
            points, used, twice_area, border = _walk(light, level, dark, column, row, visited, points, used)
            if abs(twice_area) / 2 < least_area:
                used = begin
                passed += 1
                continue
            starts.append(used)
            areas.append(twice_area / 2)
            borders.append(border)
            if len(starts) > most_loops:
                return points[:used], np.array(starts), np.array(areas)[1:], np.array(borders)[1:], passed
    return points[:used], np.array(starts), np.array(areas)[1:], np.array(borders)[1:], passed


@njit(cache=True)
def _value_at(light, x, y):
    x = min(max(x, 0.0), light.shape[1] - 1.001)
    y = min(max(y, 0.0), light.shape[0] - 1.001)
    column, row = int(x), int(y)
    right, down = x - column, y - row
    top = light[row, column] * (1 - right) + light[row, column + 1] * right
    low = light[row + 1, column] * (1 - right) + light[row + 1, column + 1] * right
    return top * (1 - down) + low * down


@njit(cache=True)
def values_at(light: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Light (n,) at places (n, 2) between pixels."""
    values = np.empty(points.shape[0])
    for index in range(points.shape[0]):
        values[index] = _value_at(light, points[index, 0], points[index, 1])
    return values


@njit(cache=True)
def plateau_levels(
    light: np.ndarray, points: np.ndarray, normals: np.ndarray, near: float, far: float
) -> tuple[np.ndarray, np.ndarray]:
    """Mean light on both sides of a contour, between ``near`` and ``far`` pixels from it, and how much it differs
    there: (n, 2) each."""
    levels, spreads = np.empty((points.shape[0], 2)), np.empty((points.shape[0], 2))
    for index in range(points.shape[0]):
        for side in range(2):
            sign = 2.0 * side - 1.0
            total, least, most = 0.0, 1e18, -1e18
            for step in range(3):
                distance = sign * (near + (far - near) * step / 2)
                value = _value_at(
                    light,
                    points[index, 0] + distance * normals[index, 0],
                    points[index, 1] + distance * normals[index, 1],
                )
                total += value
                least, most = min(least, value), max(most, value)
            levels[index, side] = total / 3
            spreads[index, side] = most - least
    return levels, spreads


@njit(cache=True)
def shift_to_level(
    light: np.ndarray, points: np.ndarray, normals: np.ndarray, levels: np.ndarray, reach: float
) -> np.ndarray:
    """Move contour points along their normals to where the light crosses a level of their own.

    Points whose profile does not cross within ``reach`` pixels stay.
    """
    moved = points.copy()
    count = int(reach * 4) * 2 + 1
    profile = np.empty(count)
    for index in range(points.shape[0]):
        for step in range(count):
            offset = -reach + step * 0.25
            profile[step] = (
                _value_at(
                    light, points[index, 0] + offset * normals[index, 0], points[index, 1] + offset * normals[index, 1]
                )
                - levels[index]
            )
        best = reach * 2
        for step in range(count - 1):
            first, second = profile[step], profile[step + 1]
            if (first <= 0) != (second <= 0):
                offset = -reach + (step + first / (first - second)) * 0.25
                if abs(offset) < abs(best):
                    best = offset
        if abs(best) <= reach:
            moved[index, 0] += best * normals[index, 0]
            moved[index, 1] += best * normals[index, 1]
    return moved


@njit(cache=True)
def stroke_middles(
    light: np.ndarray, points: np.ndarray, normals: np.ndarray, reach: float, level: float
) -> tuple[np.ndarray, np.ndarray]:
    """Middle between the two edges of a stroke across each point, and the stroke's width there; -1 where one is not
    seen.

    Args:
        points, normals: (n, 2); reach: how far an edge may be away, in pixels; level: light at the edges.
    """
    middles, widths = points.copy(), np.full(points.shape[0], -1.0)
    for index in range(points.shape[0]):
        edges = np.empty(2)
        found = 0
        for side in range(2):
            sign = 2.0 * side - 1.0
            before = _value_at(light, points[index, 0], points[index, 1]) - level
            offset = 0.0
            while offset < reach:
                offset += 0.25
                here = (
                    _value_at(
                        light,
                        points[index, 0] + sign * offset * normals[index, 0],
                        points[index, 1] + sign * offset * normals[index, 1],
                    )
                    - level
                )
                if (here <= 0) != (before <= 0):
                    edges[side] = sign * (offset - 0.25 + 0.25 * before / (before - here))
                    found += 1
                    break
                before = here
        if found == 2:
            middle = (edges[0] + edges[1]) / 2
            middles[index, 0] += middle * normals[index, 0]
            middles[index, 1] += middle * normals[index, 1]
            widths[index] = edges[1] - edges[0]
    return middles, widths
