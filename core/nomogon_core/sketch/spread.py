"""How sure a size of a sketch is: what the trace, the picture's scale and the constraints together say of it."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from nomogon_core.geometry.curves import Ellipse, EllipticArc
from nomogon_core.sketch.joint import U95, Joint
from nomogon_core.sketch.model import OVAL

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

MOST_CURVES = 150
SAME_SHARE, STEPS, RANK = 1e-6, 64, 1e-9


def span_u95(sketch: Sketch, low: str, high: str, way: tuple[float, float], scale_sigma: float) -> float | None:
    """95 % uncertainty, in millimetres, of how far two curves reach apart along a direction, to first order; None where
    the sketch is too large to be judged, or one of them is not in it.

    The covariance of all places (trace and scale) goes through the solver's own step (least movement onto the
    constraints; GUM 5.1, law of propagation): dimensions that were set hold exactly, gauged ones up to their own
    uncertainty, traced ones say nothing that the trace did not.

    Args:
        low, high: ids of the curves that are extreme against and along the direction.
        way: unit vector; scale_sigma: relative standard uncertainty of the picture's scale.
    """
    if len(sketch.curves) > MOST_CURVES or low not in sketch.curves or high not in sketch.curves:
        return None
    joint = _estimates(sketch).get(scale_sigma)
    if joint is None:
        joint = _estimates(sketch)[scale_sigma] = _estimate(sketch, scale_sigma)
    slope = _reach(joint, high, np.asarray(way)) + _reach(joint, low, -np.asarray(way))
    return U95 * math.sqrt(max(float(slope @ joint.covariance @ slope), 0.0)) * joint.size


def _estimates(sketch):
    return sketch.derived(_none_yet)


def _none_yet(sketch):
    return {}


def _estimate(sketch, scale_sigma):
    joint = Joint(sketch)
    joint.seal()
    for curve in sketch.curves.values():
        if curve.u95 is not None and curve.kind in ("spline", *OVAL):
            # Its poles do not lie on it, so they go together wherever the curve may lie.
            at = np.array([joint.equations.point_at[point] for point in curve.points])
            for axis in (0, 1):
                joint.covariance[np.ix_(at + axis, at + axis)] += (curve.u95 / U95 / joint.size) ** 2
    # The scale stretches all that was traced alike.
    traced = np.sqrt(np.diag(joint.covariance)) > 0
    stretched = np.where(traced, joint.x, 0.0)
    joint.covariance += scale_sigma**2 * np.outer(stretched, stretched)
    return _solved(joint)


def _solved(joint):
    """The estimate after the sketch was solved: the solver moves it to the nearest places that meet the constraints.

    That is no measurement: a size that was set says nothing about the scale, so nothing is learned from it.
    """
    sketch, chosen, noise = joint.sketch, [], []
    for row in range(joint.given):
        item = sketch.constraints.get(joint.owners[row])
        is_size = item is not None and item.is_dimension
        if not (is_size and item.source == "traced"):
            chosen.append(row)
            noise.append((item.u95 or 0.0) / U95 / joint.size if is_size else 0.0)
    if not chosen:
        return joint
    _, slopes = joint.told(chosen)
    jacobian = np.zeros((len(chosen), len(joint.x)))
    np.add.at(jacobian, (np.arange(len(chosen))[:, None], joint.at[chosen]), slopes)
    jacobian[:, 0] = 0.0  # the constant zero
    back = np.linalg.pinv(jacobian, rcond=RANK)
    stays = np.eye(len(joint.x)) - back @ jacobian
    joint.covariance = stays @ joint.covariance @ stays.T + (back * np.square(noise)) @ back.T
    return joint


def _reach(joint, name, way):
    """How far a curve reaches along a direction, as slopes of all parameters."""
    sketch, curve, slope = joint.sketch, joint.sketch.curves[name], np.zeros(len(joint.x))
    at = [joint.equations.point_at[point] for point in curve.points]

    def add(index, share):
        slope[at[index] : at[index] + 2] += share * way

    if curve.kind == "circle":
        add(0, 1.0)
        slope[joint.equations.radius_at[name]] += 1.0
        return slope
    if curve.kind in OVAL:
        shape = sketch.geometry(name)
        turn = _extreme_turn(shape.whole if isinstance(shape, EllipticArc) else shape, way)
        if isinstance(shape, Ellipse) or _covers(shape.first, shape.sweep, turn):
            add(0, 1 - math.cos(turn) - math.sin(turn))
            add(1, math.cos(turn))
            add(2, math.sin(turn))
            return slope
    places = np.array([sketch.points[point] for point in curve.points])
    along = places @ way
    if curve.kind == "arc":
        shape = sketch.geometry(name)
        if _covers(shape.start_angle, shape.sweep, math.atan2(way[1], way[0])):
            add(0, 1.0)
            slope[joint.equations.radius_at[name]] += 1.0
            return slope
    if curve.kind == "spline":
        piece, weights = _extreme_of_spline(places, way)
        for index, share in enumerate(weights):
            add(piece + index, share)
        return slope
    ends = range(len(at) - 2, len(at))
    best = max(along[index] for index in ends)
    tips = [index for index in ends if best - along[index] <= SAME_SHARE * joint.size]
    for index in tips:
        add(index, 1 / len(tips))
    return slope


def _covers(first, sweep, angle):
    start = first if sweep > 0 else first + sweep
    return (angle - start) % (2 * math.pi) < abs(sweep)


def _extreme_turn(shape: Ellipse, way):
    """Eccentric angle at which an ellipse reaches farthest along a direction."""
    (a, b), cos, sin = shape.semi_axes, math.cos(shape.angle), math.sin(shape.angle)
    return math.atan2(b * float(way @ (-sin, cos)), a * float(way @ (cos, sin)))


def _extreme_of_spline(places, way):
    """(index of the first control point of a piece, shares of its four) where a spline reaches farthest."""
    t = np.linspace(0, 1, STEPS + 1)
    shares = np.column_stack([(1 - t) ** 3, 3 * t * (1 - t) ** 2, 3 * t**2 * (1 - t), t**3])
    best, found = -math.inf, (0, shares[0])
    for piece in range(0, len(places) - 3, 3):
        reach = shares @ (places[piece : piece + 4] @ way)
        if reach.max() > best:
            best, found = float(reach.max()), (piece, shares[int(reach.argmax())])
    return found
