"""Compiled loops of the outline fitter: trial fits, the best chain of pieces, the joint adjustment.

A closed contour is an array (n, 2) of points about one pixel apart; index ranges may run past the end and
wrap around. A piece is a line (0), an arc (1), one cubic (2), or the gap (3) between the ends of an open path or of a
run that is looked at alone; it has no points.
"""

import math

import numpy as np
from numba import njit

LINE, ARC, CUBIC, GAP = 0, 1, 2, 3
EXTRAS = (0, 1, 4, 2)
MOST_SAMPLES = 120
CUBIC_SAMPLES = 48
STIFFENING = 12.0
CROSSING_STEPS = 32
FOLD_STEPS, FOLD_TURN, MOST_TURN = 16, math.radians(75.0), math.radians(250.0)
BAND = 16
NEWTON_STEPS = 50


@njit(cache=True)
def _middle(points, first, last, stride):
    """How many points a range has, and their mean."""
    total = points.shape[0]
    count, sum_x, sum_y = 0, 0.0, 0.0
    for index in range(first, last + 1, stride):
        sum_x += points[index % total, 0]
        sum_y += points[index % total, 1]
        count += 1
    return count, sum_x / count, sum_y / count


@njit(cache=True)
def line_through(points, first, last, stride):
    """Total least squares line: unit normal and offset, normal · p + offset = 0."""
    total = points.shape[0]
    _, mean_x, mean_y = _middle(points, first, last, stride)
    xx, xy, yy = 0.0, 0.0, 0.0
    for index in range(first, last + 1, stride):
        x, y = points[index % total, 0] - mean_x, points[index % total, 1] - mean_y
        xx += x * x
        xy += x * y
        yy += y * y
    angle = 0.5 * math.atan2(2 * xy, xx - yy)
    normal_x, normal_y = -math.sin(angle), math.cos(angle)
    return normal_x, normal_y, -(normal_x * mean_x + normal_y * mean_y)


@njit(cache=True)
def smallest_root(a0, a1, a2, a3):
    """The root next to zero of a polynomial of third degree whose values fall from there, by Newton's method (Chernov
    2010)."""
    root, value = 0.0, a0
    for _ in range(NEWTON_STEPS):
        slope = a1 + root * (2 * a2 + 3 * a3 * root)
        if slope == 0:
            break
        following = root - value / slope
        if following == root or not math.isfinite(following):
            break
        next_value = a0 + following * (a1 + following * (a2 + following * a3))
        if abs(next_value) >= abs(value):
            break
        root, value = following, next_value
    return root


@njit(cache=True)
def circle_through(points, first, last, stride):
    """Algebraic circle fit by Taubin (1991) in the Newton form of Chernov (2010): centre and radius, or -1."""
    total = points.shape[0]
    count, mean_x, mean_y = _middle(points, first, last, stride)
    m_xx, m_yy, m_xy, m_xz, m_yz, m_zz = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for index in range(first, last + 1, stride):
        x, y = points[index % total, 0] - mean_x, points[index % total, 1] - mean_y
        z = x * x + y * y
        m_xx += x * x / count
        m_yy += y * y / count
        m_xy += x * y / count
        m_xz += x * z / count
        m_yz += y * z / count
        m_zz += z * z / count
    m_z = m_xx + m_yy
    spread = m_xx * m_yy - m_xy * m_xy
    variance = m_zz - m_z * m_z
    a3, a2 = 4 * m_z, -3 * m_z * m_z - m_zz
    a1 = variance * m_z + 4 * spread * m_z - m_xz * m_xz - m_yz * m_yz
    a0 = m_xz * (m_xz * m_yy - m_yz * m_xy) + m_yz * (m_yz * m_xx - m_xz * m_xy) - variance * spread
    root = smallest_root(a0, a1, a2, a3)
    determinant = root * root - root * m_z + spread
    if abs(determinant) < 1e-18:
        return 0.0, 0.0, -1.0
    x = (m_xz * (m_yy - root) - m_yz * m_xy) / determinant / 2
    y = (m_yz * (m_xx - root) - m_xz * m_xy) / determinant / 2
    return x + mean_x, y + mean_y, math.sqrt(x * x + y * y + m_z)


@njit(cache=True)
def _line_misfit(points, first, last, stride, normal_x, normal_y, offset, limit):
    worst, squares, count = 0.0, 0.0, 0
    total = points.shape[0]
    for index in range(first, last + 1, stride):
        away = abs(normal_x * points[index % total, 0] + normal_y * points[index % total, 1] + offset)
        squares += away * away
        count += 1
        worst = max(worst, away)
        if worst > limit:
            break
    return worst, squares / max(count, 1)


@njit(cache=True)
def _circle_misfit(points, first, last, stride, x, y, radius, limit):
    worst, squares, count = 0.0, 0.0, 0
    total = points.shape[0]
    for index in range(first, last + 1, stride):
        away = abs(math.hypot(points[index % total, 0] - x, points[index % total, 1] - y) - radius)
        squares += away * away
        count += 1
        worst = max(worst, away)
        if worst > limit:
            break
    return worst, squares / max(count, 1)


@njit(cache=True)
def run_length(arc_lengths, first, last, total):
    extra = arc_lengths[total] if last >= total else 0.0
    return arc_lengths[last % total] - arc_lengths[first] + extra


@njit(cache=True)
def _inner_range(first, last, head, tail):
    """The range without the ``head`` and ``tail`` pixels at its ends, where corners are rounded by the lens."""
    low, high = int(head + 0.999), int(tail + 0.999)
    if last - first > 2 * (low + high) + 2:
        return first + low, last - high
    return first, last


@njit(cache=True)
def _turn(points, first, last, stride, x, y, radius):
    total = points.shape[0]
    turned = 0.0
    before_x, before_y = points[first % total, 0] - x, points[first % total, 1] - y
    for index in range(first + stride, last + 1, stride):
        here_x, here_y = points[index % total, 0] - x, points[index % total, 1] - y
        turned += math.atan2(before_x * here_y - before_y * here_x, before_x * here_x + before_y * here_y)
        before_x, before_y = here_x, here_y
    return turned


@njit(cache=True)
def line_and_arc_trials(points, arc_lengths, places, tolerance, skips, slacks):
    """All ranges between candidate places that one line or one arc covers within the tolerance.

    The pixels next to both ends, as many as ``skips`` says of each place, may be off by ``slacks`` more, since corners
    are
    rounded by the lens.

    Returns:
        arrays (from, steps, kind, mean square) of candidate indices and how many candidates further the end is.
    """
    total, count = points.shape[0], places.shape[0]
    begin, steps, kinds, squares = [0], [0], [0], [0.0]
    for i in range(count):
        line_fails, arc_fails = 0, 0
        for step in range(1, count + 1):
            j = (i + step) % count
            first = places[i]
            last = places[j] + (total if i + step >= count else 0)
            if last - first >= total:
                break
            size = run_length(arc_lengths, first, last, total)
            inner_first, inner_last = _inner_range(first, last, skips[i], skips[j])
            used = inner_last - inner_first + 1
            if used < 3:
                continue
            stride = 1 if used < 160 else used // MOST_SAMPLES
            if line_fails < 3:
                normal_x, normal_y, offset = line_through(points, inner_first, inner_last, stride)
                worst, square = _line_misfit(
                    points, inner_first, inner_last, stride, normal_x, normal_y, offset, 3 * tolerance
                )
                if worst <= tolerance:
                    head, _ = _line_misfit(points, first, inner_first, 1, normal_x, normal_y, offset, 1e9)
                    tail, _ = _line_misfit(points, inner_last, last, 1, normal_x, normal_y, offset, 1e9)
                    worst = max(worst, max(head - slacks[i], tail - slacks[j]))
                if worst <= tolerance:
                    begin.append(i)
                    steps.append(step)
                    kinds.append(LINE)
                    squares.append(square)
                    line_fails = 0
                elif worst > 2 * tolerance and size > 6 and inner_first > first:
                    line_fails += 1
            if arc_fails < 4 and used >= 5 and size > 3:
                x, y, radius = circle_through(points, inner_first, inner_last, stride)
                worst, square = 1e9, 0.0
                if 0 < radius < 2e4:
                    worst, square = _circle_misfit(points, inner_first, inner_last, stride, x, y, radius, 3 * tolerance)
                    if worst <= tolerance:
                        head, _ = _circle_misfit(points, first, inner_first, 1, x, y, radius, 1e9)
                        tail, _ = _circle_misfit(points, inner_last, last, 1, x, y, radius, 1e9)
                        worst = max(worst, max(head - slacks[i], tail - slacks[j]))
                    if worst <= tolerance:
                        turned = abs(_turn(points, inner_first, inner_last, stride, x, y, radius))
                        if turned > 6.2 or turned * radius < 0.6 * (inner_last - inner_first):
                            worst = 1e9
                if worst <= tolerance:
                    begin.append(i)
                    steps.append(step)
                    kinds.append(ARC)
                    squares.append(square)
                    arc_fails = 0
                elif worst > 2 * tolerance and size > 6 and inner_first > first:
                    arc_fails += 1
            if line_fails >= 3 and arc_fails >= 4:
                break
    return np.array(begin)[1:], np.array(steps)[1:], np.array(kinds)[1:], np.array(squares)[1:]


@njit(cache=True)
def _cubic_at(control, t):
    u = 1 - t
    return u * u * u * control[0] + 3 * u * u * t * control[1] + 3 * u * t * t * control[2] + t * t * t * control[3]


@njit(cache=True)
def _cubic_frame(control, t):
    """Place, first and second derivative of a cubic, as six numbers."""
    u = 1 - t
    b0, b1, b2, b3 = u * u * u, 3 * u * u * t, 3 * u * t * t, t * t * t
    d0, d1, d2 = 3 * u * u, 6 * u * t, 3 * t * t
    x0, y0, x1, y1 = control[0, 0], control[0, 1], control[1, 0], control[1, 1]
    x2, y2, x3, y3 = control[2, 0], control[2, 1], control[3, 0], control[3, 1]
    return (
        b0 * x0 + b1 * x1 + b2 * x2 + b3 * x3,
        b0 * y0 + b1 * y1 + b2 * y2 + b3 * y3,
        d0 * (x1 - x0) + d1 * (x2 - x1) + d2 * (x3 - x2),
        d0 * (y1 - y0) + d1 * (y2 - y1) + d2 * (y3 - y2),
        6 * (u * (x2 - 2 * x1 + x0) + t * (x3 - 2 * x2 + x1)),
        6 * (u * (y2 - 2 * y1 + y0) + t * (y3 - 2 * y2 + y1)),
    )


@njit(cache=True)
def _closer_parameter(control, x, y, t, rounds):
    """Newton steps of a parameter toward the foot of a point."""
    for _ in range(rounds):
        at_x, at_y, speed_x, speed_y, bend_x, bend_y = _cubic_frame(control, t)
        off_x, off_y = at_x - x, at_y - y
        slope = speed_x * speed_x + speed_y * speed_y + off_x * bend_x + off_y * bend_y
        if slope > 1e-12:
            t = min(max(t - (off_x * speed_x + off_y * speed_y) / slope, 0.0), 1.0)
    return t


@njit(cache=True)
def cubic_distances(control, points, steps):
    """Signed distances (n,) of points (n, 2) from a cubic: the nearest of its places at so many steps, then Newton's
    method."""
    grid = np.empty((steps, 2))
    for index in range(steps):
        grid[index] = _cubic_at(control, index / (steps - 1))
    out = np.empty(points.shape[0])
    for index in range(points.shape[0]):
        x, y = points[index, 0], points[index, 1]
        best, nearest = 1e300, 0
        for step in range(steps):
            away = (grid[step, 0] - x) ** 2 + (grid[step, 1] - y) ** 2
            if away < best:
                best, nearest = away, step
        t = _closer_parameter(control, x, y, nearest / (steps - 1), 3)
        foot, ahead, behind = (
            _cubic_at(control, t),
            _cubic_at(control, min(t + 1e-4, 1.0)),
            _cubic_at(control, max(t - 1e-4, 0.0)),
        )
        off_x, off_y = x - foot[0], y - foot[1]
        side = (ahead[0] - behind[0]) * off_y - (ahead[1] - behind[1]) * off_x
        out[index] = math.copysign(math.hypot(off_x, off_y), side if side != 0 else 1.0)
    return out


@njit(cache=True)
def _solve_small(normal, right, size):
    """Solve a small symmetric positive system in place (Gaussian elimination); the answer stands in ``right``."""
    for column in range(size):
        pivot = normal[column, column]
        if abs(pivot) < 1e-300:
            pivot = 1e-300
        for row in range(column + 1, size):
            share = normal[row, column] / pivot
            for k in range(column, size):
                normal[row, k] -= share * normal[column, k]
            right[row] -= share * right[column]
    for row in range(size - 1, -1, -1):
        for k in range(row + 1, size):
            right[row] -= normal[row, k] * right[k]
        pivot = normal[row, row]
        right[row] /= pivot if abs(pivot) > 1e-300 else 1e-300


@njit(cache=True)
def fit_cubic(data, start, end, out_way, in_way, free_start, free_end, rounds, give_up):
    """One cubic through fixed ends, handles along given directions or free.

    Starts as in Schneider (1990) with chord-length parameters, then reweights toward the distance along the
    normal (tangent distance minimisation, Wang et al. 2006).

    Args:
        data: (m, 2) points between the ends.
        out_way, in_way: unit directions of the handles, away from each end into the curve.
        free_start, free_end: let a handle point anywhere.
        give_up: stop early where two rounds leave a larger distance than this.

    Returns:
        control points (4, 2), largest and mean square distance.
    """
    count = data.shape[0]
    t = np.empty(count)
    before_x, before_y, way = start[0], start[1], 0.0
    for index in range(count):
        way += math.hypot(data[index, 0] - before_x, data[index, 1] - before_y)
        t[index] = way
        before_x, before_y = data[index, 0], data[index, 1]
    size = way + math.hypot(end[0] - before_x, end[1] - before_y) + 1e-9
    t /= size
    first = 2 if free_start else 1
    unknowns = first + (2 if free_end else 1)
    # Which handle each unknown moves, and along which direction.
    outer, way_x, way_y = np.empty(4, np.bool_), np.empty(4), np.empty(4)
    for a in range(unknowns):
        outer[a] = a >= first
        if (free_start and a < first) or (free_end and a >= first):
            along_x = a == 0 or a == first
            way_x[a], way_y[a] = (1.0, 0.0) if along_x else (0.0, 1.0)
        else:
            way_x[a], way_y[a] = (in_way[0], in_way[1]) if outer[a] else (out_way[0], out_way[1])
    control, best_control = np.empty((4, 2)), np.empty((4, 2))
    control[0, 0], control[0, 1], control[3, 0], control[3, 1] = start[0], start[1], end[0], end[1]
    control[1], control[2] = control[0], control[3]
    best, best_square = 1e18, 0.0
    normal, right, across, along = np.empty((4, 4)), np.empty(4), np.empty(4), np.empty(4)
    for turn in range(rounds):
        normal[:] = 0.0
        right[:] = 0.0
        for index in range(count):
            s = t[index]
            u = 1 - s
            inner_share, outer_share = 3 * u * u * s, 3 * u * s * s
            at_start, at_end = u * u * u + inner_share, s * s * s + outer_share
            want_x = data[index, 0] - at_start * start[0] - at_end * end[0]
            want_y = data[index, 1] - at_start * start[1] - at_end * end[1]
            axis_x, axis_y, along_weight = 1.0, 0.0, 1.0
            if turn:
                _, _, speed_x, speed_y, _, _ = _cubic_frame(control, s)
                pace = math.hypot(speed_x, speed_y) + 1e-12
                axis_x, axis_y, along_weight = -speed_y / pace, speed_x / pace, 0.03
            want_across, want_along = axis_x * want_x + axis_y * want_y, axis_y * want_x - axis_x * want_y
            for a in range(unknowns):
                share = outer_share if outer[a] else inner_share
                across[a] = share * (axis_x * way_x[a] + axis_y * way_y[a])
                along[a] = share * (axis_y * way_x[a] - axis_x * way_y[a])
                right[a] += across[a] * want_across + along_weight * along[a] * want_along
                for b in range(a + 1):
                    normal[a, b] += across[a] * across[b] + along_weight * along[a] * along[b]
        trace = 0.0
        for a in range(unknowns):
            trace += normal[a, a]
        for a in range(unknowns):
            normal[a, a] += 1e-9 * trace + 1e-12
            for b in range(a):
                normal[b, a] = normal[a, b]
        _solve_small(normal, right, unknowns)
        if free_start:
            control[1, 0], control[1, 1] = start[0] + right[0], start[1] + right[1]
        else:
            handle = min(max(right[0], 0.03 * size), 1.2 * size)
            control[1, 0], control[1, 1] = start[0] + handle * out_way[0], start[1] + handle * out_way[1]
        if free_end:
            control[2, 0], control[2, 1] = end[0] + right[first], end[1] + right[first + 1]
        else:
            handle = min(max(right[first], 0.03 * size), 1.2 * size)
            control[2, 0], control[2, 1] = end[0] + handle * in_way[0], end[1] + handle * in_way[1]
        worst, square = 0.0, 0.0
        for index in range(count):
            t[index] = _closer_parameter(control, data[index, 0], data[index, 1], t[index], 2)
            at_x, at_y, _, _, _, _ = _cubic_frame(control, t[index])
            away = (at_x - data[index, 0]) ** 2 + (at_y - data[index, 1]) ** 2
            square += away / count
            worst = max(worst, away)
        if worst < best:
            best, best_square = worst, square
            best_control[:] = control
        if turn and best > give_up * give_up:
            break
    return best_control, math.sqrt(best), best_square


@njit(cache=True)
def folds(control):
    """Whether a cubic loops or turns on the spot: by the directions that it takes at even parameters, and whether it
    crosses itself."""
    total, before_x, before_y = 0.0, 0.0, 0.0
    for index in range(FOLD_STEPS + 1):
        t = index / FOLD_STEPS
        u = 1 - t
        x = (
            u * u * (control[1, 0] - control[0, 0])
            + 2 * u * t * (control[2, 0] - control[1, 0])
            + t * t * (control[3, 0] - control[2, 0])
        )
        y = (
            u * u * (control[1, 1] - control[0, 1])
            + 2 * u * t * (control[2, 1] - control[1, 1])
            + t * t * (control[3, 1] - control[2, 1])
        )
        if index > 0:
            turn = abs(math.atan2(before_x * y - before_y * x, before_x * x + before_y * y))
            total += turn
            if turn > FOLD_TURN or total > MOST_TURN:
                return True
        before_x, before_y = x, y
    return total > math.pi and _crosses_itself(control)


@njit(cache=True)
def _crosses_itself(control):
    places = np.empty((CROSSING_STEPS + 1, 2))
    for index in range(CROSSING_STEPS + 1):
        places[index] = _cubic_at(control, index / CROSSING_STEPS)
    for i in range(CROSSING_STEPS - 1):
        for j in range(i + 2, CROSSING_STEPS):
            if _apart(places[i], places[i + 1], places[j], places[j + 1]) and _apart(
                places[j], places[j + 1], places[i], places[i + 1]
            ):
                return True
    return False


@njit(cache=True)
def _apart(a, b, p, q):
    """Whether two places lie on different sides of a line."""
    first = (b[0] - a[0]) * (p[1] - a[1]) - (b[1] - a[1]) * (p[0] - a[0])
    second = (b[0] - a[0]) * (q[1] - a[1]) - (b[1] - a[1]) * (q[0] - a[0])
    return (first > 0) != (second > 0)


@njit(cache=True)
def _bulges(control, points, first, last, stride, tolerance):
    """Whether a cubic leaves a range of the contour where no point of it would tell."""
    total = points.shape[0]
    limit = tolerance**2 + (0.55 * stride) ** 2
    for step in range(1, FOLD_STEPS):
        place = _cubic_at(control, step / FOLD_STEPS)
        least = 1e18
        for index in range(first - 2, last + 3, stride):
            away = (points[index % total, 0] - place[0]) ** 2 + (points[index % total, 1] - place[1]) ** 2
            least = min(least, away)
        if least > limit:
            return True
    return False


@njit(cache=True)
def cubic_trials(points, places, nodes, ways_in, ways_out, corner, tolerance, skips):
    """All ranges between candidate places that one cubic covers within the tolerance.

    At a corner its handle is free, and as many pixels as ``skips`` says of that place do not count.

    Returns:
        arrays (from, steps, mean square) and the control points (k, 4, 2).
    """
    total, count = points.shape[0], places.shape[0]
    begin, steps, squares = [0], [0], [0.0]
    controls = [np.zeros((4, 2))]
    data = np.empty((3 * CUBIC_SAMPLES, 2))
    for i in range(count):
        fails = 0
        for step in range(1, count + 1):
            j = (i + step) % count
            first = places[i]
            last = places[j] + (total if i + step >= count else 0)
            if last - first >= total:
                break
            if last - first < 4:
                continue
            stride = 1 if last - first < 60 else (last - first) // CUBIC_SAMPLES
            low = first + (int(skips[i]) if corner[i] else 0)
            high = last - (int(skips[j]) if corner[j] else 0)
            if high - low < 4:
                low, high = first, last
            used = (high - low) // stride + 1
            for index in range(used):
                place = (low + index * stride) % total
                data[index, 0], data[index, 1] = points[place, 0], points[place, 1]
            control, worst, square = fit_cubic(
                data[:used], nodes[i], nodes[j], ways_out[i], -ways_in[j], corner[i], corner[j], 6, 4 * tolerance
            )
            if worst <= tolerance and (folds(control) or _bulges(control, points, first, last, stride, tolerance)):
                continue
            if worst <= tolerance:
                begin.append(i)
                steps.append(step)
                squares.append(square)
                controls.append(control)
                fails = 0
            else:
                fails += 1
                if fails >= 3 or worst > 6 * tolerance:
                    break
    out = np.empty((len(controls) - 1, 4, 2))
    for index in range(1, len(controls)):
        out[index - 1] = controls[index]
    return np.array(begin)[1:], np.array(steps)[1:], np.array(squares)[1:], out


@njit(cache=True)
def cheapest_chain(count, first_trial, steps, costs, start):
    """Cheapest closed chain of trials around ``count`` places from ``start`` (dynamic programming).

    Args:
        first_trial: (count + 1,) where the trials of each place begin; trials are sorted by place.
        steps, costs: one a trial.

    Returns:
        total cost (infinite without a chain) and the trials taken, in order.
    """
    reach = np.full(count + 1, np.inf)
    reach[0] = 0.0
    came_from = np.full(count + 1, -1)
    by = np.full(count + 1, -1)
    for place in range(count):
        if reach[place] == np.inf:
            continue
        here = (start + place) % count
        for trial in range(first_trial[here], first_trial[here + 1]):
            target = place + steps[trial]
            if target <= count and reach[place] + costs[trial] < reach[target] - 1e-12:
                reach[target] = reach[place] + costs[trial]
                came_from[target] = place
                by[target] = trial
    chain = np.empty(count, np.int64)
    used = 0
    if reach[count] < np.inf:
        place = count
        while place > 0:
            chain[used] = by[place]
            used += 1
            place = came_from[place]
    return reach[count], chain[:used][::-1].copy()


@njit(cache=True)
def _arc_from_bulge(x0, y0, x1, y1, bulge):
    """Centre and radius of the arc with given ends; bulge is the tangent of a quarter of its sweep."""
    if abs(bulge) < 1e-7:
        bulge = 1e-7 if bulge >= 0 else -1e-7
    run_x, run_y = x1 - x0, y1 - y0
    chord = math.hypot(run_x, run_y) + 1e-12
    lift = chord * (1 - bulge * bulge) / (4 * bulge)
    return (
        (x0 + x1) / 2 - run_y / chord * lift,
        (y0 + y1) / 2 + run_x / chord * lift,
        chord * (1 + bulge * bulge) / (4 * abs(bulge)),
    )


@njit(cache=True)
def _piece_residuals(kind, joint, extra, data, feet, out):
    """Signed distances of a piece's points; ``feet`` holds t and the normal for cubics."""
    x0, y0, x1, y1 = joint[0], joint[1], joint[2], joint[3]
    if kind == LINE:
        run_x, run_y = x1 - x0, y1 - y0
        size = math.hypot(run_x, run_y) + 1e-12
        for index in range(data.shape[0]):
            out[index] = ((data[index, 1] - y0) * run_x - (data[index, 0] - x0) * run_y) / size
    elif kind == ARC:
        x, y, radius = _arc_from_bulge(x0, y0, x1, y1, extra[0])
        for index in range(data.shape[0]):
            out[index] = math.hypot(data[index, 0] - x, data[index, 1] - y) - radius
    else:
        for index in range(data.shape[0]):
            s = feet[index, 0]
            u = 1 - s
            b0, b1, b2, b3 = u * u * u, 3 * u * u * s, 3 * u * s * s, s * s * s
            x = (b0 + b1) * x0 + b1 * extra[0] + (b2 + b3) * x1 + b2 * extra[2]
            y = (b0 + b1) * y0 + b1 * extra[1] + (b2 + b3) * y1 + b2 * extra[3]
            out[index] = (x - data[index, 0]) * feet[index, 1] + (y - data[index, 1]) * feet[index, 2]


@njit(cache=True)
def end_angles(kind, joint, extra):
    """Directions of travel at both ends, as angles."""
    if kind == CUBIC:
        return math.atan2(extra[1], extra[0]), math.atan2(-extra[3], -extra[2])
    if kind == GAP:
        return extra[0], extra[1]
    chord = math.atan2(joint[3] - joint[1], joint[2] - joint[0])
    half = 2 * math.atan(extra[0]) if kind == ARC else 0.0
    return chord - half, chord + half


@njit(cache=True)
def _wrap(angle):
    return angle - 2 * math.pi * math.floor((angle + math.pi) / (2 * math.pi))


@njit(cache=True)
def _joint_of(x, piece, count):
    following = (piece + 1) % count
    return np.array([x[2 * piece], x[2 * piece + 1], x[2 * following], x[2 * following + 1]])


@njit(cache=True)
def _project_cubics(x, kinds, columns, data, data_start, feet):
    count = kinds.shape[0]
    control = np.empty((4, 2))
    for piece in range(count):
        if kinds[piece] != CUBIC:
            continue
        joint, c = _joint_of(x, piece, count), columns[piece]
        control[0, 0], control[0, 1], control[3, 0], control[3, 1] = joint[0], joint[1], joint[2], joint[3]
        control[1, 0], control[1, 1] = joint[0] + x[c], joint[1] + x[c + 1]
        control[2, 0], control[2, 1] = joint[2] + x[c + 2], joint[3] + x[c + 3]
        grid = np.empty((81, 2))
        for index in range(81):
            grid[index] = _cubic_at(control, index / 80)
        for index in range(data_start[piece], data_start[piece + 1]):
            nearest, best = 0, 1e18
            for step in range(81):
                away = (grid[step, 0] - data[index, 0]) ** 2 + (grid[step, 1] - data[index, 1]) ** 2
                if away < best:
                    best, nearest = away, step
            t = _closer_parameter(control, data[index, 0], data[index, 1], nearest / 80, 3)
            u = 1 - t
            speed = (
                u * u * (control[1] - control[0])
                + 2 * u * t * (control[2] - control[1])
                + t * t * (control[3] - control[2])
            )
            pace = math.hypot(speed[0], speed[1]) + 1e-12
            feet[index, 0], feet[index, 1], feet[index, 2] = t, -speed[1] / pace, speed[0] / pace


@njit(cache=True)
def _total_cost(x, kinds, columns, smooth, data, data_start, weights, feet, tangent_weight):
    count = kinds.shape[0]
    cost = 0.0
    out = np.empty(data.shape[0])
    for piece in range(count):
        low, high = data_start[piece], data_start[piece + 1]
        _piece_residuals(
            kinds[piece], _joint_of(x, piece, count), x[columns[piece] :], data[low:high], feet[low:high], out
        )
        for index in range(high - low):
            cost += weights[low + index] * out[index] ** 2
        if smooth[piece]:
            before = (piece - 1) % count
            here, _ = end_angles(kinds[piece], _joint_of(x, piece, count), x[columns[piece] :])
            _, there = end_angles(kinds[before], _joint_of(x, before, count), x[columns[before] :])
            cost += (tangent_weight * _wrap(here - there)) ** 2
    return cost


@njit(cache=True)
def _unknowns_of(piece, kinds, columns, count):
    extra = EXTRAS[kinds[piece]]
    following = (piece + 1) % count
    places = np.empty(4 + extra, np.int64)
    places[0], places[1], places[2], places[3] = 2 * piece, 2 * piece + 1, 2 * following, 2 * following + 1
    for index in range(extra):
        places[4 + index] = columns[piece] + index
    return places


@njit(cache=True)
def _piece_slopes(kind, joint, extra, data, feet, slopes):
    """Derivatives of a piece's signed distances by its unknowns: slopes (unknowns, points)."""
    x0, y0, x1, y1 = joint[0], joint[1], joint[2], joint[3]
    if kind == LINE:
        size = math.hypot(x1 - x0, y1 - y0) + 1e-12
        way_x, way_y = (x1 - x0) / size, (y1 - y0) / size
        for index in range(data.shape[0]):
            share = (way_x * (data[index, 0] - x0) + way_y * (data[index, 1] - y0)) / size
            slopes[0, index], slopes[1, index] = (1 - share) * way_y, -(1 - share) * way_x
            slopes[2, index], slopes[3, index] = share * way_y, -share * way_x
    elif kind == ARC:
        x, y, radius = _arc_from_bulge(x0, y0, x1, y1, extra[0])
        for a in range(5):
            move = np.zeros(5)
            move[a] = 1e-5
            to_x, to_y, to_radius = _arc_from_bulge(
                x0 + move[0], y0 + move[1], x1 + move[2], y1 + move[3], extra[0] + move[4]
            )
            by_x, by_y, by_radius = (to_x - x) / 1e-5, (to_y - y) / 1e-5, (to_radius - radius) / 1e-5
            for index in range(data.shape[0]):
                spoke_x, spoke_y = data[index, 0] - x, data[index, 1] - y
                away = math.hypot(spoke_x, spoke_y) + 1e-12
                slopes[a, index] = -(spoke_x * by_x + spoke_y * by_y) / away - by_radius
    else:
        for index in range(data.shape[0]):
            s = feet[index, 0]
            u = 1 - s
            b1, b2 = 3 * u * u * s, 3 * u * s * s
            for axis in range(2):
                normal = feet[index, 1 + axis]
                slopes[axis, index], slopes[2 + axis, index] = (u * u * u + b1) * normal, (s * s * s + b2) * normal
                slopes[4 + axis, index], slopes[6 + axis, index] = b1 * normal, b2 * normal


@njit(cache=True)
def _kink(x, piece, before, kinds, columns, count):
    here, _ = end_angles(kinds[piece], _joint_of(x, piece, count), x[columns[piece] :])
    _, there = end_angles(kinds[before], _joint_of(x, before, count), x[columns[before] :])
    return _wrap(here - there)


@njit(cache=True)
def _add(band, edge, corner, slot, a, b, value):
    """Add to a symmetric matrix kept as a band, a border and a corner; to be called for (a, b) and (b, a)."""
    inner = band.shape[0]
    row, column = slot[a], slot[b]
    if row < inner and column < inner:
        if row >= column:
            band[row, row - column] += value
    elif row >= inner and column >= inner:
        corner[row - inner, column - inner] += value
    elif row >= inner:
        edge[column, row - inner] += value


@njit(cache=True)
def _normal_equations(
    x, kinds, columns, smooth, data, data_start, weights, feet, tangent_weight, slot, band, edge, corner
):
    count, size = kinds.shape[0], x.shape[0]
    right = np.zeros(size)
    band[:], edge[:], corner[:] = 0.0, 0.0, 0.0
    most = 0
    for piece in range(count):
        most = max(most, data_start[piece + 1] - data_start[piece])
    residuals, slopes = np.empty(most), np.empty((8, most))
    for piece in range(count):
        low, high = data_start[piece], data_start[piece + 1]
        used = high - low
        places = _unknowns_of(piece, kinds, columns, count)
        joint = _joint_of(x, piece, count)
        _piece_residuals(kinds[piece], joint, x[columns[piece] :], data[low:high], feet[low:high], residuals)
        _piece_slopes(kinds[piece], joint, x[columns[piece] :], data[low:high], feet[low:high], slopes)
        for index in range(used):
            share = math.sqrt(weights[low + index])
            residuals[index] *= share
            for a in range(places.shape[0]):
                slopes[a, index] *= share
        for a in range(places.shape[0]):
            total = 0.0
            for index in range(used):
                total += slopes[a, index] * residuals[index]
            right[slot[places[a]]] += total
            for b in range(a + 1):
                total = 0.0
                for index in range(used):
                    total += slopes[a, index] * slopes[b, index]
                _add(band, edge, corner, slot, places[a], places[b], total)
                if a != b:
                    _add(band, edge, corner, slot, places[b], places[a], total)
    for piece in range(count):
        if not smooth[piece]:
            continue
        before = (piece - 1) % count
        places = np.unique(
            np.concatenate((_unknowns_of(before, kinds, columns, count), _unknowns_of(piece, kinds, columns, count)))
        )
        base = _kink(x, piece, before, kinds, columns, count)
        slope = np.empty(places.shape[0])
        for a in range(places.shape[0]):
            kept = x[places[a]]
            x[places[a]] = kept + 1e-6
            slope[a] = tangent_weight * _wrap(_kink(x, piece, before, kinds, columns, count) - base) / 1e-6
            x[places[a]] = kept
        for a in range(places.shape[0]):
            right[slot[places[a]]] += slope[a] * tangent_weight * base
            for b in range(places.shape[0]):
                _add(band, edge, corner, slot, places[a], places[b], slope[a] * slope[b])
    return right


@njit(cache=True)
def _solve_bordered(band, edge, corner, right):
    """Solve a symmetric positive system of a band with a border (LDLᵀ of the band, then the Schur complement of the
    corner)."""
    inner, width = band.shape[0], band.shape[1] - 1
    rows = right[:inner].copy()
    edge, corner = edge.copy(), corner.copy()
    border = corner.shape[0]
    last = right[inner:].copy()
    factor = band.copy()
    for j in range(inner):
        pivot = max(factor[j, 0], 1e-12)
        factor[j, 0] = pivot
        reach = min(width, inner - 1 - j)
        for k in range(1, reach + 1):
            share = factor[j + k, k] / pivot
            if share != 0.0:
                for far in range(k, reach + 1):
                    factor[j + far, far - k] -= share * factor[j + far, far]
        for k in range(1, reach + 1):
            factor[j + k, k] /= pivot
            share = factor[j + k, k]
            if share != 0.0:
                rows[j + k] -= share * rows[j]
                for column in range(border):
                    edge[j + k, column] -= share * edge[j, column]
    for j in range(inner):
        for a in range(border):
            share = edge[j, a] / factor[j, 0]
            last[a] -= share * rows[j]
            for b in range(border):
                corner[a, b] -= share * edge[j, b]
    last = np.linalg.solve(corner, last)
    for j in range(inner - 1, -1, -1):
        value = rows[j]
        for column in range(border):
            value -= edge[j, column] * last[column]
        value /= factor[j, 0]
        for k in range(1, min(width, inner - 1 - j) + 1):
            value -= factor[j + k, k] * rows[j + k]
        rows[j] = value
    return np.concatenate((rows, last))


@njit(cache=True)
def _slots(kinds, columns, size):
    """Where each unknown stands in the band: piece after piece, the joint first; and how many stand before the
    border."""
    count = kinds.shape[0]
    slot = np.empty(size, np.int64)
    at, inner = 0, 0
    for piece in range(count):
        if piece == count - 2 and count > 4:
            inner = at
        slot[2 * piece], slot[2 * piece + 1] = at, at + 1
        at += 2
        extra = EXTRAS[kinds[piece]]
        for index in range(extra):
            slot[columns[piece] + index] = at
            at += 1
    return slot, inner


@njit(cache=True)
def adjust_jointly(x, kinds, columns, smooth, data, data_start, weights, hold, tangent_weight, outer_rounds, leash):
    """Least squares over all joints, bulges and handles at once (Levenberg 1944, Marquardt 1963).

    Args:
        x: joints (2 a piece), then one bulge an arc, four handle coordinates a cubic and the directions at both ends of
            a gap; see ``columns``.
        columns: where each piece's own unknowns begin.
        smooth: whether the joint at each piece's start is smooth; its kink is weighted by ``tangent_weight``
            pixels a radian, more from round to round, so that smooth joints end up smooth.
        data: points of all pieces in a row; data_start: (pieces + 1,); weights: of their squared distances.
        hold: weights that keep each unknown where it is.
        leash: how far a joint may move, in pixels.

    Returns:
        the adjusted unknowns.
    """
    x = x.copy()
    begin = x.copy()
    joints = 2 * kinds.shape[0]
    feet = np.zeros((data.shape[0], 3))
    slot, inner = _slots(kinds, columns, x.shape[0])
    border = x.shape[0] - inner
    band, edge, corner = np.zeros((inner, BAND + 1)), np.zeros((inner, border)), np.zeros((border, border))
    damping = 1e-3
    for outer in range(outer_rounds):
        if outer > 0:
            tangent_weight *= STIFFENING
        _project_cubics(x, kinds, columns, data, data_start, feet)
        cost = _total_cost(x, kinds, columns, smooth, data, data_start, weights, feet, tangent_weight) + np.sum(
            hold * (x - begin) ** 2
        )
        for _ in range(6):
            right = _normal_equations(
                x, kinds, columns, smooth, data, data_start, weights, feet, tangent_weight, slot, band, edge, corner
            )
            for place in range(x.shape[0]):
                right[slot[place]] += hold[place] * (x[place] - begin[place])
                _add(band, edge, corner, slot, place, place, hold[place])
            better, move = False, 0.0
            for _ in range(5):
                damped, damped_corner = band.copy(), corner.copy()
                for a in range(inner):
                    damped[a, 0] += damping * band[a, 0] + 1e-7
                for a in range(border):
                    damped_corner[a, a] += damping * corner[a, a] + 1e-7
                ordered = _solve_bordered(damped, edge, damped_corner, right)
                trial, move_now = x.copy(), 0.0
                for a in range(x.shape[0]):
                    trial[a] -= ordered[slot[a]]
                    move_now = max(move_now, abs(ordered[slot[a]]))
                far = np.max(np.abs(trial[:joints] - begin[:joints]))
                trial_cost = _total_cost(
                    trial, kinds, columns, smooth, data, data_start, weights, feet, tangent_weight
                ) + np.sum(hold * (trial - begin) ** 2)
                if far < leash and trial_cost < cost:
                    move = move_now
                    better = trial_cost < cost * (1 - 1e-7)
                    x, cost = trial, trial_cost
                    damping = max(damping / 5, 1e-8)
                    break
                damping *= 6
            if not better or move < 1e-5:
                break
    return x


@njit(cache=True)
def distances_along(x, kinds, columns, data, data_start):
    """Unsigned distances of all pieces' points from their pieces, as the adjustment sees them."""
    count = kinds.shape[0]
    feet = np.zeros((data.shape[0], 3))
    _project_cubics(x, kinds, columns, data, data_start, feet)
    away = np.empty(data.shape[0])
    for piece in range(count):
        low, high = data_start[piece], data_start[piece + 1]
        _piece_residuals(
            kinds[piece],
            _joint_of(x, piece, count),
            x[columns[piece] :],
            data[low:high],
            feet[low:high],
            away[low:high],
        )
    return np.abs(away)


@njit(cache=True)
def one_sided_directions(points, window, skip):
    """Directions of travel before and after each point, from lines through ``window`` points, and their centres."""
    total = points.shape[0]
    before, after = np.empty((total, 2)), np.empty((total, 2))
    before_center, after_center = np.empty((total, 2)), np.empty((total, 2))
    for index in range(total):
        for side in range(2):
            first = index + skip if side else index - skip - window + total
            normal_x, normal_y, offset = line_through(points, first, first + window, 1)
            way_x, way_y = normal_y, -normal_x
            run_x = points[(first + window) % total, 0] - points[first % total, 0]
            run_y = points[(first + window) % total, 1] - points[first % total, 1]
            if run_x * way_x + run_y * way_y < 0:
                way_x, way_y = -way_x, -way_y
            center_x, center_y = 0.0, 0.0
            for step in range(window + 1):
                center_x += points[(first + step) % total, 0] / (window + 1)
                center_y += points[(first + step) % total, 1] / (window + 1)
            if side:
                after[index, 0], after[index, 1] = way_x, way_y
                after_center[index, 0], after_center[index, 1] = center_x, center_y
            else:
                before[index, 0], before[index, 1] = way_x, way_y
                before_center[index, 0], before_center[index, 1] = center_x, center_y
    return before, before_center, after, after_center
