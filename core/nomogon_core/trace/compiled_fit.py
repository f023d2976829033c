"""Compiled loops of the outline fitter: trial fits, the best chain of pieces, the joint adjustment.

A closed contour is an array (n, 2) of points about one pixel apart; index ranges may run past the end and
wrap around. A piece is a line (0), an arc (1) or one cubic (2).
"""

import math

import numpy as np
from numba import njit

LINE, ARC, CUBIC = 0, 1, 2
MOST_SAMPLES = 120
CUBIC_SAMPLES = 48
STIFFENING = 12.0


@njit(cache=True)
def line_through(points, first, last, stride):
    """Total least squares line: unit normal and offset, normal · p + offset = 0."""
    total = points.shape[0]
    count, sum_x, sum_y = 0, 0.0, 0.0
    for index in range(first, last + 1, stride):
        sum_x += points[index % total, 0]
        sum_y += points[index % total, 1]
        count += 1
    mean_x, mean_y = sum_x / count, sum_y / count
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
def circle_through(points, first, last, stride):
    """Algebraic circle fit by Taubin (1991) in the Newton form of Chernov (2010): centre and radius, or -1."""
    total = points.shape[0]
    count, mean_x, mean_y = 0, 0.0, 0.0
    for index in range(first, last + 1, stride):
        mean_x += points[index % total, 0]
        mean_y += points[index % total, 1]
        count += 1
    mean_x /= count
    mean_y /= count
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
    root, value = 0.0, a0
    for _ in range(50):
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
def _inner_range(arc_lengths, first, last, total, skip):
    """The range without ``skip`` pixels at both ends, where corners are rounded by the lens."""
    reach = int(skip + 0.999)
    if last - first > 4 * reach + 2:
        return first + reach, last - reach
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
def line_and_arc_trials(points, arc_lengths, places, tolerance, skip, slack):
    """All ranges between candidate places that one line or one arc covers within the tolerance.

    The ``skip`` pixels next to both ends may be off by ``slack`` more, since corners are rounded by the lens.

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
            inner_first, inner_last = _inner_range(arc_lengths, first, last, total, skip)
            used = inner_last - inner_first + 1
            if used < 3:
                continue
            stride = 1 if used < 160 else used // MOST_SAMPLES
            if line_fails < 3:
                normal_x, normal_y, offset = line_through(points, inner_first, inner_last, stride)
                worst, square = _line_misfit(points, inner_first, inner_last, stride, normal_x, normal_y, offset, 3 * tolerance)
                if worst <= tolerance:
                    head, _ = _line_misfit(points, first, inner_first, 1, normal_x, normal_y, offset, 1e9)
                    tail, _ = _line_misfit(points, inner_last, last, 1, normal_x, normal_y, offset, 1e9)
                    worst = max(worst, max(head, tail) - slack)
                if worst <= tolerance:
                    begin.append(i)
                    steps.append(step)
                    kinds.append(LINE)
                    squares.append(square)
                    line_fails = 0
                elif worst > 2 * tolerance and size > 6:
                    line_fails += 1
            if arc_fails < 4 and used >= 5 and size > 3:
                x, y, radius = circle_through(points, inner_first, inner_last, stride)
                worst, square = 1e9, 0.0
                if 0 < radius < 2e4:
                    worst, square = _circle_misfit(points, inner_first, inner_last, stride, x, y, radius, 3 * tolerance)
                    if worst <= tolerance:
                        head, _ = _circle_misfit(points, first, inner_first, 1, x, y, radius, 1e9)
                        tail, _ = _circle_misfit(points, inner_last, last, 1, x, y, radius, 1e9)
                        worst = max(worst, max(head, tail) - slack)
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
                elif worst > 2 * tolerance and size > 6:
                    arc_fails += 1
            if line_fails >= 3 and arc_fails >= 4:
                break
    return np.array(begin)[1:], np.array(steps)[1:], np.array(kinds)[1:], np.array(squares)[1:]


@njit(cache=True)
def _cubic_at(control, t):
    u = 1 - t
    return u * u * u * control[0] + 3 * u * u * t * control[1] + 3 * u * t * t * control[2] + t * t * t * control[3]


@njit(cache=True)
def _closer_parameter(control, x, y, t, rounds):
    """Newton steps of a parameter toward the foot of a point."""
    for _ in range(rounds):
        u = 1 - t
        value = _cubic_at(control, t)
        speed = 3 * (u * u * (control[1] - control[0]) + 2 * u * t * (control[2] - control[1]) + t * t * (control[3] - control[2]))
        bend = 6 * (u * (control[2] - 2 * control[1] + control[0]) + t * (control[3] - 2 * control[2] + control[1]))
        off_x, off_y = value[0] - x, value[1] - y
        slope = speed[0] ** 2 + speed[1] ** 2 + off_x * bend[0] + off_y * bend[1]
        if slope > 1e-12:
            t = min(max(t - (off_x * speed[0] + off_y * speed[1]) / slope, 0.0), 1.0)
    return t


@njit(cache=True)
def fit_cubic(data, start, end, out_way, in_way, free_start, free_end, rounds):
    """One cubic through fixed ends, handles along given directions or free.

    Starts as in Schneider (1990) with chord-length parameters, then reweights toward the distance along the
    normal (tangent distance minimisation, Wang et al. 2006).

    Args:
        data: (m, 2) points between the ends.
        out_way, in_way: unit directions of the handles, away from each end into the curve.
        free_start, free_end: let a handle point anywhere.

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
    control = np.empty((4, 2))
    control[0], control[3] = start, end
    best, best_square, best_control = 1e18, 0.0, control.copy()
    basis = np.zeros((2, unknowns))
    for turn in range(rounds):
        normal = np.zeros((unknowns, unknowns))
        right = np.zeros(unknowns)
        for index in range(count):
            u, s = 1 - t[index], t[index]
            inner, outer = 3 * u * u * s, 3 * u * s * s
            basis[:] = 0.0
            if free_start:
                basis[0, 0], basis[1, 1] = inner, inner
            else:
                basis[0, 0], basis[1, 0] = inner * out_way[0], inner * out_way[1]
            if free_end:
                basis[0, first], basis[1, first + 1] = outer, outer
            else:
                basis[0, first], basis[1, first] = outer * in_way[0], outer * in_way[1]
            at_start, at_end = u * u * u + inner, s * s * s + outer
            want_x = data[index, 0] - at_start * start[0] - at_end * end[0]
            want_y = data[index, 1] - at_start * start[1] - at_end * end[1]
            if turn == 0:
                axis_x, axis_y, along_weight = 1.0, 0.0, 1.0
            else:
                speed = 3 * (u * u * (control[1] - control[0]) + 2 * u * s * (control[2] - control[1]) + s * s * (control[3] - control[2]))
                pace = math.hypot(speed[0], speed[1]) + 1e-12
                axis_x, axis_y, along_weight = -speed[1] / pace, speed[0] / pace, 0.03
            for a in range(unknowns):
                across_a = axis_x * basis[0, a] + axis_y * basis[1, a]
                along_a = axis_y * basis[0, a] - axis_x * basis[1, a]
                right[a] += across_a * (axis_x * want_x + axis_y * want_y) + along_weight * along_a * (axis_y * want_x - axis_x * want_y)
                for b in range(unknowns):
                    normal[a, b] += across_a * (axis_x * basis[0, b] + axis_y * basis[1, b])
                    normal[a, b] += along_weight * along_a * (axis_y * basis[0, b] - axis_x * basis[1, b])
        trace = 0.0
        for a in range(unknowns):
            trace += normal[a, a]
        for a in range(unknowns):
            normal[a, a] += 1e-9 * trace + 1e-12
        found = np.linalg.solve(normal, right)
        if free_start:
            control[1, 0], control[1, 1] = start[0] + found[0], start[1] + found[1]
        else:
            control[1] = start + min(max(found[0], 0.03 * size), 1.2 * size) * out_way
        if free_end:
            control[2, 0], control[2, 1] = end[0] + found[first], end[1] + found[first + 1]
        else:
            control[2] = end + min(max(found[first], 0.03 * size), 1.2 * size) * in_way
        worst, square = 0.0, 0.0
        for index in range(count):
            t[index] = _closer_parameter(control, data[index, 0], data[index, 1], t[index], 2)
            value = _cubic_at(control, t[index])
            away = (value[0] - data[index, 0]) ** 2 + (value[1] - data[index, 1]) ** 2
            square += away / count
            worst = max(worst, away)
        if worst < best:
            best, best_square = worst, square
            best_control[:] = control
    return best_control, math.sqrt(best), best_square


@njit(cache=True)
def cubic_trials(points, places, nodes, ways_in, ways_out, corner, tolerance, skip):
    """All ranges between candidate places that one cubic covers within the tolerance.

    Returns:
        arrays (from, steps, mean square) and the control points (k, 4, 2).
    """
    total, count = points.shape[0], places.shape[0]
    begin, steps, squares = [0], [0], [0.0]
    controls = [np.zeros((4, 2))]
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
            low = first + (int(skip) if corner[i] else 0)
            high = last - (int(skip) if corner[j] else 0)
            if high - low < 4:
                low, high = first, last
            used = (high - low) // stride + 1
            data = np.empty((used, 2))
            for index in range(used):
                data[index] = points[(low + index * stride) % total]
            control, worst, square = fit_cubic(data, nodes[i], nodes[j], ways_out[i], -ways_in[j], False, False, 6)
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
    return ((x0 + x1) / 2 - run_y / chord * lift, (y0 + y1) / 2 + run_x / chord * lift, chord * (1 + bulge * bulge) / (4 * abs(bulge)))


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
            speed = u * u * (control[1] - control[0]) + 2 * u * t * (control[2] - control[1]) + t * t * (control[3] - control[2])
            pace = math.hypot(speed[0], speed[1]) + 1e-12
            feet[index, 0], feet[index, 1], feet[index, 2] = t, -speed[1] / pace, speed[0] / pace


@njit(cache=True)
def _total_cost(x, kinds, columns, smooth, data, data_start, feet, tangent_weight):
    count = kinds.shape[0]
    cost = 0.0
    out = np.empty(data.shape[0])
    for piece in range(count):
        low, high = data_start[piece], data_start[piece + 1]
        _piece_residuals(kinds[piece], _joint_of(x, piece, count), x[columns[piece]:], data[low:high], feet[low:high], out)
        for index in range(high - low):
            cost += out[index] ** 2
        if smooth[piece]:
            before = (piece - 1) % count
            here, _ = end_angles(kinds[piece], _joint_of(x, piece, count), x[columns[piece]:])
            _, there = end_angles(kinds[before], _joint_of(x, before, count), x[columns[before]:])
            cost += (tangent_weight * _wrap(here - there)) ** 2
    return cost


@njit(cache=True)
def _unknowns_of(piece, kinds, columns, count):
    extra = 1 if kinds[piece] == ARC else (4 if kinds[piece] == CUBIC else 0)
    following = (piece + 1) % count
    places = np.empty(4 + extra, np.int64)
    places[0], places[1], places[2], places[3] = 2 * piece, 2 * piece + 1, 2 * following, 2 * following + 1
    for index in range(extra):
        places[4 + index] = columns[piece] + index
    return places


@njit(cache=True)
def _normal_equations(x, kinds, columns, smooth, data, data_start, feet, tangent_weight):
    count, size = kinds.shape[0], x.shape[0]
    normal, right = np.zeros((size, size)), np.zeros(size)
    for piece in range(count):
        low, high = data_start[piece], data_start[piece + 1]
        places = _unknowns_of(piece, kinds, columns, count)
        base, moved = np.empty(high - low), np.empty(high - low)
        slopes = np.empty((places.shape[0], high - low))
        _piece_residuals(kinds[piece], _joint_of(x, piece, count), x[columns[piece]:], data[low:high], feet[low:high], base)
        for a in range(places.shape[0]):
            kept = x[places[a]]
            x[places[a]] = kept + 1e-5
            _piece_residuals(kinds[piece], _joint_of(x, piece, count), x[columns[piece]:], data[low:high], feet[low:high], moved)
            x[places[a]] = kept
            slopes[a] = (moved - base) / 1e-5
        for a in range(places.shape[0]):
            right[places[a]] += slopes[a] @ base
            for b in range(places.shape[0]):
                normal[places[a], places[b]] += slopes[a] @ slopes[b]
    for piece in range(count):
        if not smooth[piece]:
            continue
        before = (piece - 1) % count
        places = np.unique(np.concatenate((_unknowns_of(before, kinds, columns, count), _unknowns_of(piece, kinds, columns, count))))
        base = _kink(x, piece, before, kinds, columns, count)
        slope = np.empty(places.shape[0])
        for a in range(places.shape[0]):
            kept = x[places[a]]
            x[places[a]] = kept + 1e-6
            slope[a] = tangent_weight * _wrap(_kink(x, piece, before, kinds, columns, count) - base) / 1e-6
            x[places[a]] = kept
        for a in range(places.shape[0]):
            right[places[a]] += slope[a] * tangent_weight * base
            for b in range(places.shape[0]):
                normal[places[a], places[b]] += slope[a] * slope[b]
    return normal, right


@njit(cache=True)
def _kink(x, piece, before, kinds, columns, count):
    here, _ = end_angles(kinds[piece], _joint_of(x, piece, count), x[columns[piece]:])
    _, there = end_angles(kinds[before], _joint_of(x, before, count), x[columns[before]:])
    return _wrap(here - there)


@njit(cache=True)
def adjust_jointly(x, kinds, columns, smooth, data, data_start, tangent_weight, outer_rounds, leash):
    """Least squares over all joints, bulges and handles at once (Levenberg 1944, Marquardt 1963).

    Args:
        x: joints (2 a piece), then one bulge an arc and four handle coordinates a cubic; see ``columns``.
        columns: where each piece's own unknowns begin.
        smooth: whether the joint at each piece's start is smooth; its kink is weighted by ``tangent_weight``
            pixels a radian, more from round to round, so that smooth joints end up smooth.
        data: points of all pieces in a row; data_start: (pieces + 1,).
        leash: how far a joint may move, in pixels.

    Returns:
        the adjusted unknowns.
    """
    x = x.copy()
    begin = x.copy()
    joints = 2 * kinds.shape[0]
    feet = np.zeros((data.shape[0], 3))
    damping = 1e-3
    for outer in range(outer_rounds):
        if outer > 0:
            tangent_weight *= STIFFENING
        _project_cubics(x, kinds, columns, data, data_start, feet)
        cost = _total_cost(x, kinds, columns, smooth, data, data_start, feet, tangent_weight)
        for _ in range(6):
            normal, right = _normal_equations(x, kinds, columns, smooth, data, data_start, feet, tangent_weight)
            better, move = False, 0.0
            for _ in range(5):
                damped = normal.copy()
                for a in range(x.shape[0]):
                    damped[a, a] += damping * normal[a, a] + 1e-7
                step = np.linalg.solve(damped, right)
                trial = x - step
                far = np.max(np.abs(trial[:joints] - begin[:joints]))
                trial_cost = _total_cost(trial, kinds, columns, smooth, data, data_start, feet, tangent_weight)
                if far < leash and trial_cost < cost:
                    move = np.max(np.abs(step))
                    better = trial_cost < cost * (1 - 1e-7)
                    x, cost = trial, trial_cost
                    damping = max(damping / 5, 1e-8)
                    break
                damping *= 6
            if not better or move < 1e-5:
                break
    return x


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
