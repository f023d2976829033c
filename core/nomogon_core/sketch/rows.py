"""Rows of equations by kind, with their derivatives: the only source of both solvers.

Each function takes the parameters ``v``, the constants ``c`` of a row, and writes its derivatives into ``d``; it
returns the residual. Compiled, the three are one row; called from numpy, they are columns of many rows of a kind, so
that nothing here may branch on a value. rho is a radius, t and n the unit direction and the left normal of line ab.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba.extending import register_jitable

TURN = 6.283185307179586
TINY = 1e-300
LINEAR = 4  # terms of a linear row


def norm(v: Any, c: Any, d: Any) -> Any:
    """|q - p| - s1 rho1 - s2 rho2 - D; v: p, q, rho1, rho2; c: s1, s2, D."""
    x, y = v[2] - v[0], v[3] - v[1]
    size = np.sqrt(x * x + y * y) + TINY
    d[0], d[1], d[2], d[3], d[4], d[5] = -x / size, -y / size, x / size, y / size, -c[0], -c[1]
    return size - c[0] * v[4] - c[1] * v[5] - c[2]


def angle(v: Any, c: Any, d: Any) -> Any:
    """Angle from run ab to run cd, less theta, wrapped; v: a, b, c, d; c: theta."""
    ax, ay, bx, by = v[2] - v[0], v[3] - v[1], v[6] - v[4], v[7] - v[5]
    a, b = ax * ax + ay * ay + TINY, bx * bx + by * by + TINY
    d[0], d[1], d[2], d[3] = -ay / a, ax / a, ay / a, -ax / a
    d[4], d[5], d[6], d[7] = by / b, -bx / b, -by / b, bx / b
    turn = np.arctan2(ax * by - ay * bx, ax * bx + ay * by) - c[0]
    return turn - TURN * np.rint(turn / TURN)


def point_line(v: Any, c: Any, d: Any) -> Any:
    """n . (p - a) - s rho - D; v: a, b, p, rho; c: s, D."""
    tx, ty = v[2] - v[0], v[3] - v[1]
    size = np.sqrt(tx * tx + ty * ty) + TINY
    tx, ty = tx / size, ty / size
    px, py = v[4] - v[0], v[5] - v[1]
    share = (tx * px + ty * py) / size
    d[0], d[1], d[2], d[3] = (1 - share) * ty, -(1 - share) * tx, share * ty, -share * tx
    d[4], d[5], d[6] = -ty, tx, -c[0]
    return tx * py - ty * px - c[0] * v[6] - c[1]


def equal_runs(v: Any, c: Any, d: Any) -> Any:
    """|b - a| - |d - c|; v: a, b, c, d."""
    ax, ay, bx, by = v[2] - v[0], v[3] - v[1], v[6] - v[4], v[7] - v[5]
    a, b = np.sqrt(ax * ax + ay * ay) + TINY, np.sqrt(bx * bx + by * by) + TINY
    d[0], d[1], d[2], d[3] = -ax / a, -ay / a, ax / a, ay / a
    d[4], d[5], d[6], d[7] = bx / b, by / b, -bx / b, -by / b
    return a - b


def middle_on_axis(v: Any, c: Any, d: Any) -> Any:
    """n . ((p + q) / 2 - a); v: p, q, a, b."""
    tx, ty = v[6] - v[4], v[7] - v[5]
    size = np.sqrt(tx * tx + ty * ty) + TINY
    tx, ty = tx / size, ty / size
    mx, my = (v[0] + v[2]) / 2 - v[4], (v[1] + v[3]) / 2 - v[5]
    share = (tx * mx + ty * my) / size
    d[0], d[1], d[2], d[3] = -ty / 2, tx / 2, -ty / 2, tx / 2
    d[4], d[5], d[6], d[7] = (1 - share) * ty, -(1 - share) * tx, share * ty, -share * tx
    return tx * my - ty * mx


def across_axis(v: Any, c: Any, d: Any) -> Any:
    """t . (q - p); v: p, q, a, b."""
    tx, ty = v[6] - v[4], v[7] - v[5]
    size = np.sqrt(tx * tx + ty * ty) + TINY
    tx, ty = tx / size, ty / size
    qx, qy = v[2] - v[0], v[3] - v[1]
    lift = (tx * qy - ty * qx) / size
    d[0], d[1], d[2], d[3] = -tx, -ty, tx, ty
    d[4], d[5], d[6], d[7] = ty * lift, -tx * lift, -ty * lift, tx * lift
    return tx * qx + ty * qy


def on_ellipse(v: Any, c: Any, d: Any) -> Any:
    """sqrt(ab) (sqrt(u^2 + w^2) - 1), u and w the point's coordinates as shares of the semi-axes a and b; v: centre,
    end of the first axis, end of the second, point."""
    ax, ay, bx, by = v[2] - v[0], v[3] - v[1], v[4] - v[0], v[5] - v[1]
    px, py = v[6] - v[0], v[7] - v[1]
    a, b = ax * ax + ay * ay + TINY, bx * bx + by * by + TINY
    u, w = (ax * px + ay * py) / a, (bx * px + by * py) / b
    size = np.sqrt(u * u + w * w) + TINY
    scale = np.sqrt(np.sqrt(a * b))
    residual = scale * (size - 1)
    along, aside = scale * u / (size * a), scale * w / (size * b)
    of_a, of_b = residual / (2 * a), residual / (2 * b)
    d[2], d[3] = along * (px - 2 * u * ax) + of_a * ax, along * (py - 2 * u * ay) + of_a * ay
    d[4], d[5] = aside * (px - 2 * w * bx) + of_b * bx, aside * (py - 2 * w * by) + of_b * by
    d[6], d[7] = along * ax + aside * bx, along * ay + aside * by
    d[0], d[1] = -(d[2] + d[4] + d[6]), -(d[3] + d[5] + d[7])
    return residual


def linear(v: Any, c: Any, d: Any) -> Any:
    """c0 v0 + c1 v1 + c2 v2 + c3 v3 - c4."""
    d[0], d[1], d[2], d[3] = c[0], c[1], c[2], c[3]
    return c[0] * v[0] + c[1] * v[1] + c[2] * v[2] + c[3] * v[3] - c[4]


def line_ellipse(v: Any, c: Any, d: Any) -> Any:
    """s n . (m - a) - sqrt((n . P)^2 + (n . Q)^2), P and Q the semi-axes; v: a, b, centre m, end of P, end of Q; c: s,
    the side."""
    tx, ty = v[2] - v[0], v[3] - v[1]
    size = np.sqrt(tx * tx + ty * ty) + TINY
    tx, ty = tx / size, ty / size
    mx, my = v[4] - v[0], v[5] - v[1]
    px, py, qx, qy = v[6] - v[4], v[7] - v[5], v[8] - v[4], v[9] - v[5]
    p, q = tx * py - ty * px, tx * qy - ty * qx
    reach = np.sqrt(p * p + q * q) + TINY
    p, q = p / reach, q / reach
    # By the direction: t changes by (n / size) times the turn of b about a.
    turn = c[0] * (tx * mx + ty * my) - p * (tx * px + ty * py) - q * (tx * qx + ty * qy)
    d[2], d[3] = ty * turn / size, -tx * turn / size
    d[0], d[1] = -d[2] + c[0] * ty, -d[3] - c[0] * tx
    d[6], d[7], d[8], d[9] = p * ty, -p * tx, q * ty, -q * tx
    d[4], d[5] = -c[0] * ty - d[6] - d[8], c[0] * tx - d[7] - d[9]
    return c[0] * (tx * my - ty * mx) - reach


@register_jitable
def _ellipse_place(v):
    """Place and tangent of an ellipse at an angle; v: centre, end of P, end of Q, angle."""
    cos, sin = np.cos(v[6]), np.sin(v[6])
    px, py, qx, qy = v[2] - v[0], v[3] - v[1], v[4] - v[0], v[5] - v[1]
    return cos, sin, v[0] + cos * px + sin * qx, v[1] + cos * py + sin * qy, cos * qx - sin * px, cos * qy - sin * py


def circle_ellipse_reach(v: Any, c: Any, d: Any) -> Any:
    """|e(phi) - m| - s rho - D; v: the ellipse's centre and ends, phi, m, rho; c: s, D."""
    cos, sin, x, y, tx, ty = _ellipse_place(v)
    ux, uy = x - v[7], y - v[8]
    size = np.sqrt(ux * ux + uy * uy) + TINY
    ux, uy = ux / size, uy / size
    d[0], d[1] = (1 - cos - sin) * ux, (1 - cos - sin) * uy
    d[2], d[3], d[4], d[5] = cos * ux, cos * uy, sin * ux, sin * uy
    d[6], d[7], d[8], d[9] = tx * ux + ty * uy, -ux, -uy, -c[0]
    return size - c[0] * v[9] - c[1]


def circle_ellipse_square(v: Any, c: Any, d: Any) -> Any:
    """(e(phi) - m) . t / |t|, t the ellipse's tangent at phi; v: the ellipse's centre and ends, phi, m."""
    cos, sin, x, y, tx, ty = _ellipse_place(v)
    ux, uy = x - v[7], y - v[8]
    size = np.sqrt(tx * tx + ty * ty) + TINY
    tx, ty = tx / size, ty / size
    dot = ux * tx + uy * ty
    sx, sy = (ux - dot * tx) / size, (uy - dot * ty) / size  # by the tangent
    by_p_x, by_p_y = cos * tx - sin * sx, cos * ty - sin * sy
    by_q_x, by_q_y = sin * tx + cos * sx, sin * ty + cos * sy
    d[2], d[3], d[4], d[5] = by_p_x, by_p_y, by_q_x, by_q_y
    d[0], d[1] = tx - by_p_x - by_q_x, ty - by_p_y - by_q_y
    d[6] = size - sx * (x - v[0]) - sy * (y - v[1])
    d[7], d[8] = -tx, -ty
    return dot


def arc_length(v: Any, c: Any, d: Any) -> Any:
    """rho (sweep) - D, the sweep nearest to c0; v: centre, start, end, rho; c: sweep, D."""
    ax, ay, bx, by = v[2] - v[0], v[3] - v[1], v[4] - v[0], v[5] - v[1]
    a, b = ax * ax + ay * ay + TINY, bx * bx + by * by + TINY
    turn = np.arctan2(ax * by - ay * bx, ax * bx + ay * by) - c[0]
    sweep = c[0] + turn - TURN * np.rint(turn / TURN)
    d[2], d[3], d[4], d[5] = v[6] * ay / a, -v[6] * ax / a, -v[6] * by / b, v[6] * bx / b
    d[0], d[1], d[6] = -d[2] - d[4], -d[3] - d[5], sweep
    return v[6] * sweep - c[1]


def on_cubic(v: Any, c: Any, d: Any) -> Any:
    """One coordinate of a cubic at t, less a point's; v: the four coordinates, t, the point's."""
    s, t = 1 - v[4], v[4]
    d[0], d[1], d[2], d[3], d[5] = s * s * s, 3 * s * s * t, 3 * s * t * t, t * t * t, -1.0
    d[4] = 3 * (s * s * (v[1] - v[0]) + 2 * s * t * (v[2] - v[1]) + t * t * (v[3] - v[2]))
    return d[0] * v[0] + d[1] * v[1] + d[2] * v[2] + d[3] * v[3] - v[5]


def end_bend(v: Any, c: Any, d: Any) -> Any:
    """Curvature of a cubic at its first end less s / rho, times rho; v: first three controls, rho; c: s."""
    ax, ay, bx, by = v[2] - v[0], v[3] - v[1], v[4] - v[2], v[5] - v[3]
    square = ax * ax + ay * ay + TINY
    cube = square * np.sqrt(square)
    cross = ax * by - ay * bx
    bend = 2 * cross / (3 * cube)
    f, g = 2 / (3 * cube), 3 * bend / square
    p1x, p1y = f * (by + ay) - g * ax, -f * (bx + ax) - g * ay
    d[2], d[3], d[4], d[5] = p1x * v[6], p1y * v[6], -f * ay * v[6], f * ax * v[6]
    d[0], d[1], d[6] = -d[2] - d[4], -d[3] - d[5], bend
    return bend * v[6] - c[0]


def equal_bends(v: Any, c: Any, d: Any) -> Any:
    """Curvatures of two cubics that meet, as seen along both (s1 k1 - s2 k2), times the mean length of their first
    handles; v: the joint, then the next two controls of each; c: s1, s2, the length."""
    ax, ay, bx, by = v[2] - v[0], v[3] - v[1], v[4] - v[2], v[5] - v[3]
    ex, ey, fx, fy = v[6] - v[0], v[7] - v[1], v[8] - v[6], v[9] - v[7]
    a, e = ax * ax + ay * ay + TINY, ex * ex + ey * ey + TINY
    f, g = c[0] * c[2] * 2 / (3 * a * np.sqrt(a)), c[1] * c[2] * 2 / (3 * e * np.sqrt(e))
    one, two = f * (ax * by - ay * bx), g * (ex * fy - ey * fx)
    d[2], d[3] = f * (by + ay) - 3 * one * ax / a, -f * (bx + ax) - 3 * one * ay / a
    d[4], d[5] = -f * ay, f * ax
    d[6], d[7] = -(g * (fy + ey) - 3 * two * ex / e), g * (fx + ex) + 3 * two * ey / e
    d[8], d[9] = g * ey, -g * ex
    d[0], d[1] = -(d[2] + d[4] + d[6] + d[8]), -(d[3] + d[5] + d[7] + d[9])
    return one - two


def oval_end(v: Any, c: Any, d: Any) -> Any:
    """Sine (c: 1, 0) or cosine (c: 0, 1) of the angle between an ellipse's tangent at a place on it and the run from
    that place to another; v: centre, end of P, end of Q, the place, the other."""
    px, py, qx, qy = v[2] - v[0], v[3] - v[1], v[4] - v[0], v[5] - v[1]
    ex, ey, rx, ry = v[6] - v[0], v[7] - v[1], v[8] - v[6], v[9] - v[7]
    p, q = px * px + py * py + TINY, qx * qx + qy * qy + TINY
    u, w = (ex * px + ey * py) / p, (ex * qx + ey * qy) / q
    tx, ty = u * qx - w * px, u * qy - w * py
    t, r = np.sqrt(tx * tx + ty * ty) + TINY, np.sqrt(rx * rx + ry * ry) + TINY
    tx, ty, rx, ry = tx / t, ty / t, rx / r, ry / r
    # The tangent turned so that its product with the run is the sine or the cosine.
    nx, ny = c[1] * tx - c[0] * ty, c[1] * ty + c[0] * tx
    value = nx * rx + ny * ry
    mx, my = c[1] * rx + c[0] * ry, c[1] * ry - c[0] * rx
    gx, gy = (mx - value * tx) / t, (my - value * ty) / t  # by the tangent
    by_u, by_w = gx * qx + gy * qy, -(gx * px + gy * py)
    d[2] = -w * gx + by_u * (ex - 2 * u * px) / p
    d[3] = -w * gy + by_u * (ey - 2 * u * py) / p
    d[4] = u * gx + by_w * (ex - 2 * w * qx) / q
    d[5] = u * gy + by_w * (ey - 2 * w * qy) / q
    d[8], d[9] = (nx - value * rx) / r, (ny - value * ry) / r
    of_e_x, of_e_y = by_u * px / p + by_w * qx / q, by_u * py / p + by_w * qy / q
    d[6], d[7] = of_e_x - d[8], of_e_y - d[9]
    d[0], d[1] = -(d[2] + d[4] + of_e_x), -(d[3] + d[5] + of_e_y)
    return value


# The kinds in the order of their numbers: (function, parameters, constants).
KINDS = (
    (norm, 6, 3),
    (angle, 8, 1),
    (point_line, 7, 2),
    (equal_runs, 8, 0),
    (middle_on_axis, 8, 0),
    (across_axis, 8, 0),
    (on_ellipse, 8, 0),
    (linear, LINEAR, LINEAR + 1),
    (line_ellipse, 10, 1),
    (circle_ellipse_reach, 10, 2),
    (circle_ellipse_square, 9, 0),
    (arc_length, 7, 2),
    (on_cubic, 6, 0),
    (end_bend, 7, 1),
    (equal_bends, 10, 3),
    (oval_end, 10, 2),
)
NUMBER_OF = {function: number for number, (function, _, _) in enumerate(KINDS)}
WIDEST, MOST_CONSTANTS = 10, LINEAR + 1
