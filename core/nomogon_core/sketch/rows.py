"""Rows of equations by kind, with their derivatives.

Row kinds (t and n are the unit direction and the left normal of line ab, rho a radius):

* N, norm: |q - p| - s1 rho1 - s2 rho2 - D
* A, angle: atan2(a x b, a . b) - theta, wrapped
* P, point and line: n . (p - a) - s rho - D
* E, equal lengths: |a| - |b|
* S, symmetric: P at the middle of p and q, and t . (q - p)
* O, point on an ellipse: sqrt(ab) (sqrt(u^2 + w^2) - 1), u and w the point's coordinates as shares of the semi-axes a
and b
* L, linear: sum of coefficients times parameters, minus a constant
"""

import numpy as np

WIDTHS = {"N": 6, "A": 8, "P": 7, "E": 8, "S1": 8, "S2": 8, "O": 8}


def _norm_rows(v, c, derivatives):
    run_x, run_y = v[2] - v[0], v[3] - v[1]
    size = np.sqrt(run_x**2 + run_y**2) + 1e-300
    residual = size - c[0] * v[4] - c[1] * v[5] - c[2]
    if not derivatives:
        return residual, None
    x, y = run_x / size, run_y / size
    return residual, np.stack([-x, -y, x, y, -c[0], -c[1]])


def _angle_rows(v, c, derivatives):
    ax, ay, bx, by = v[2] - v[0], v[3] - v[1], v[6] - v[4], v[7] - v[5]
    angle = np.arctan2(ax * by - ay * bx, ax * bx + ay * by) - c[0]
    residual = angle - 2 * np.pi * np.round(angle / (2 * np.pi))
    if not derivatives:
        return residual, None
    a, b = ax**2 + ay**2 + 1e-300, bx**2 + by**2 + 1e-300
    return residual, np.stack([-ay / a, ax / a, ay / a, -ax / a, by / b, -bx / b, -by / b, bx / b])


def _point_line_rows(v, c, derivatives):
    tx, ty = v[2] - v[0], v[3] - v[1]
    size = np.sqrt(tx**2 + ty**2) + 1e-300
    tx, ty = tx / size, ty / size
    px, py = v[4] - v[0], v[5] - v[1]
    residual = tx * py - ty * px - c[0] * v[6] - c[1]
    if not derivatives:
        return residual, None
    share = (tx * px + ty * py) / size
    return residual, np.stack([(1 - share) * ty, -(1 - share) * tx, share * ty, -share * tx, -ty, tx, -c[0]])


def _equal_rows(v, c, derivatives):
    ax, ay, bx, by = v[2] - v[0], v[3] - v[1], v[6] - v[4], v[7] - v[5]
    a, b = np.sqrt(ax**2 + ay**2) + 1e-300, np.sqrt(bx**2 + by**2) + 1e-300
    if not derivatives:
        return a - b, None
    return a - b, np.stack([-ax / a, -ay / a, ax / a, ay / a, bx / b, by / b, -bx / b, -by / b])


def _axis(v):
    tx, ty = v[6] - v[4], v[7] - v[5]
    size = np.sqrt(tx**2 + ty**2) + 1e-300
    return tx / size, ty / size, size


def _middle_on_axis_rows(v, c, derivatives):
    tx, ty, size = _axis(v)
    mx, my = (v[0] + v[2]) / 2 - v[4], (v[1] + v[3]) / 2 - v[5]
    residual = tx * my - ty * mx
    if not derivatives:
        return residual, None
    share = (tx * mx + ty * my) / size
    return residual, np.stack(
        [-ty / 2, tx / 2, -ty / 2, tx / 2, (1 - share) * ty, -(1 - share) * tx, share * ty, -share * tx]
    )


def _across_axis_rows(v, c, derivatives):
    tx, ty, size = _axis(v)
    qx, qy = v[2] - v[0], v[3] - v[1]
    residual = tx * qx + ty * qy
    if not derivatives:
        return residual, None
    lift = (tx * qy - ty * qx) / size
    return residual, np.stack([-tx, -ty, tx, ty, ty * lift, -tx * lift, -ty * lift, tx * lift])


def _on_ellipse_rows(v, c, derivatives):
    """v: centre, end of the first axis, end of the second, point."""
    center = v[0:2]
    axes, place = (v[2:4] - center, v[4:6] - center), v[6:8] - center
    squares = [(axis**2).sum(axis=0) + 1e-300 for axis in axes]
    shares = [(axis * place).sum(axis=0) / square for axis, square in zip(axes, squares)]
    size = np.sqrt(shares[0] ** 2 + shares[1] ** 2) + 1e-300
    scale = (squares[0] * squares[1]) ** 0.25
    residual = scale * (size - 1)
    if not derivatives:
        return residual, None
    by_axis = []
    for axis, square, share in zip(axes, squares, shares):
        by_axis.append(scale * share / size * (place - 2 * share * axis) / square + residual * axis / (2 * square))
    by_place = sum(scale * share / size * axis / square for axis, square, share in zip(axes, squares, shares))
    by_center = -(by_axis[0] + by_axis[1] + by_place)
    return residual, np.concatenate([by_center, *by_axis, by_place])


def _linear_rows(v, c, derivatives):
    factors, constant = c
    return (factors * v).sum(axis=0) - constant, factors


EVALUATORS = {
    "N": _norm_rows,
    "A": _angle_rows,
    "P": _point_line_rows,
    "E": _equal_rows,
    "S1": _middle_on_axis_rows,
    "S2": _across_axis_rows,
    "O": _on_ellipse_rows,
    "L": _linear_rows,
}
