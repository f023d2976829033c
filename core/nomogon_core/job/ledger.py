"""The Ledger: every number of a job with its value, its uncertainty and where it comes from.

A row's id says what changing it changes: ``known:k1`` a known length, ``dimension:k7``, ``operation:op1:length``.
"""

import math

import attrs

from nomogon_core.errors import InputError
from nomogon_core.job.measuring import read_check
from nomogon_core.job.tracing import departures
from nomogon_core.quantity.units import MM_PER_INCH, format_angle, format_length
from nomogon_core.reference.calibration import COVERAGE_FACTOR
from nomogon_core.solid.operations import DENSITIES

SOURCES = ("gauge", "traced", "set", "derived")
OPERATION_WORDS = {"length": "length", "start": "start", "diameter": "diameter", "depth": "depth", "radius": "radius"}
GROUP_ORDER = {
    "reference": ("Known lengths", "Checks", "Fit", "Trace", "Picture", "Sketch", "Body", "Result"),
    "sketch": ("Known lengths", "Sketch", "Trace", "Fit", "Body", "Result", "Checks", "Picture"),
    "solid": ("Sketch", "Body", "Result", "Known lengths", "Checks", "Fit", "Trace", "Picture"),
    "inspect": ("Result", "Body", "Sketch", "Known lengths", "Checks", "Fit", "Trace", "Picture"),
    "release": ("Result", "Body", "Sketch", "Known lengths", "Checks", "Fit", "Trace", "Picture"),
}


@attrs.frozen
class Row:
    """One quantity as shown.

    Attributes:
        id: what it is; see the module.
        name, value, u95: texts; u95 is "" where there is none.
        source: one of SOURCES.
        editable: the value may be typed over.
        state: "" normal, "free", "bad", "off", "reads" for a reference dimension.
        unit: written after the group's unit does not apply, e.g. "px", else "".
        note: a second line, or "".
        wide: the value is words; it takes the columns of ± and source too.
        typed: what was typed for it, where that differs from how the value is shown.
        off: of a known length: how far off, as (text, share of its tolerance, reading), else None.
    """

    id: str
    name: str
    value: str
    u95: str = ""
    source: str = "derived"
    editable: bool = False
    state: str = ""
    unit: str = ""
    note: str = ""
    off: tuple | None = None
    wide: bool = False
    typed: str = ""

    @property
    def needle(self):
        """Where the pointer of ``off`` stands on a scale 134 wide, zero in the middle."""
        return round(67 + 44 * self.off[1], 1) if self.off else 67


@attrs.frozen
class Group:
    name: str
    rows: tuple


def ledger(view, stage, unit="mm"):
    """Groups of rows, the stage's own first; groups without rows are left out.

    Args:
        view: an :class:`nomogon_core.job.overview.Overview`.
        unit: "mm" or "in".
    """
    groups = {
        "Known lengths": _known(view, unit),
        "Checks": _checks(view, unit),
        "Fit": _fit(view, unit),
        "Picture": _picture(view),
        "Sketch": _dimensions(view, unit),
        "Body": _operations(view, unit),
        "Result": _result(view, unit),
        "Trace": _traces(view, unit),
    }
    return tuple(Group(name, tuple(groups[name])) for name in GROUP_ORDER[stage] if groups[name])


def _known_here(view):
    """What is known of the picture worked on, by id."""
    reference = view.documents["reference"]
    here = next((name for name, item in reference["pictures"].items() if item is view.picture), None)
    return {key: item for key, item in reference["known"].items() if item["picture"] == here}


def _off(told, item, fit, unit):
    """How far off a gauged length is from what the picture reads: text, share of what is usual, reading."""
    bound = math.hypot(item["gauge_u95_mm"], COVERAGE_FACTOR * math.sqrt(2) * item["sigma_px"] * fit.mm_per_px)
    off, read = (sum(values) / len(told) for values in zip(*((one.off_mm, one.read_mm) for one in told)))
    return (
        ("+" if off >= 0 else "") + format_length(off, unit=unit),
        max(-1.5, min(1.5, off / bound)),
        f"read {format_length(read, unit=unit)}",
    )


def _known(view, unit):
    fit = view.calibration
    residuals = {}
    for told in fit.residuals if fit else ():
        residuals.setdefault((told.key, told.name), []).append(told)
    several = len(residuals) > 1
    doubted = fit.doubt.key if fit and fit.doubt else None
    rows = []
    for key, item in _known_here(view).items():
        kind = item.get("kind", "length")
        if kind == "check":
            continue
        plain = "off" if not item.get("used", True) else "bad" if key == doubted else ""
        if kind == "straight":
            rows.append(Row(f"known:{key}", item["name"], f"{len(item['places'])} places", state=plain))
            continue
        if kind == "resolution":
            rows.append(
                Row(f"known:{key}", item["name"], f"{round(item['dpi'][0], 1):g} dpi", "0.5 %", "set", True, plain)
            )
            continue
        sides = (
            [("", item["name"], item["length_mm"])]
            if kind != "rectangle"
            else [(f":{side}", f"{item['name']}, {side}", item[f"{side}_mm"]) for side in ("width", "height")]
        )
        for ending, name, length in sides:
            told = residuals.get((key, name))
            off = _off(told, item, fit, unit) if told and several and plain != "off" else None
            state = plain or ("bad" if off and abs(off[1]) > 1 and not doubted else "")
            rows.append(
                Row(
                    f"known:{key}{ending}",
                    name,
                    format_length(length, unit=unit),
                    format_length(item["gauge_u95_mm"], unit=unit),
                    "gauge",
                    True,
                    state,
                    off=off,
                    typed="" if ending else item.get("typed", ""),
                )
            )
    return rows


def _checks(view, unit):
    fit, rows = view.calibration, []
    for key, item in _known_here(view).items():
        if item.get("kind") != "check" or fit is None:
            continue
        read, u95 = read_check(fit, item)
        angle = item["what"] == "angle"

        def show(value, angle=angle):
            return f"{math.degrees(value):.2f}°" if angle else format_length(value, unit=unit)

        rows.append(Row(f"known:{key}:read", item["name"], show(read), "" if fit.is_set else show(u95), "traced"))
        if item["gauge"]:
            off, bound = read - item["gauge"], math.hypot(u95, 0 if angle else item["gauge_u95_mm"])
            shown = (("+" if off >= 0 else "") + show(off), max(-1.5, min(1.5, off / bound)), "picture less gauge")
            rows.append(
                Row(
                    f"known:{key}",
                    f"{item['name']}, gauge",
                    show(item["gauge"]),
                    "" if angle else show(item["gauge_u95_mm"]),
                    "gauge",
                    True,
                    "bad" if abs(shown[1]) > 1 else "",
                    off=shown,
                )
            )
    return rows


def _fit(view, unit):
    fit = view.calibration
    if fit is None:
        return []
    if fit.is_set:
        return [
            Row("fit:scale", "Scale, px per mm", f"{1 / fit.mm_per_px:.3f}", source="set"),
            Row("fit:model", "Model", "set by hand", note=fit.why, wide=True),
        ]
    rows = [
        Row(
            "fit:scale", "Scale, px per mm", f"{1 / fit.mm_per_px:.3f}", f"{2 * fit.u_mm_per_px / fit.mm_per_px**2:.3f}"
        ),
        Row("fit:u95", "Uncertainty, 95 %", format_length(fit.u95_at_reach(), unit=unit)),
        Row(
            "fit:model",
            "Model",
            fit.model + (", bent lens" if fit.bends else ""),
            state="bad" if fit.doubt or "leaves residuals" in fit.why else "",
            note=fit.why,
            wide=True,
        ),
    ]
    if len(fit.residuals) > 1:
        rms = math.sqrt(sum(item.off_mm**2 for item in fit.residuals) / len(fit.residuals))
        rows.insert(1, Row("fit:rms", "Residual, rms", format_length(rms, unit=unit)))
    if fit.raised != 1:
        rows.append(Row("fit:raised", "Parallax taken out, %", f"{100 * (1 - fit.raised):.2f}"))
    return rows


def _traces(view, unit):
    """How far traced curves, as they are now, are from the picture's edge."""
    rows, told = [], departures(view.documents, view.sketch)
    for number, (name, one) in enumerate(told.items(), 1):
        title = f"Trace {number}, " if len(told) > 1 else "Edge to curve, "
        tolerance = view.documents["reference"]["traces"][name]["settings"]["tolerance_mm"]
        where = "; ".join(
            f"{format_length(abs(off), unit=unit)} at ({format_length(x, unit=unit)}, {format_length(y, unit=unit)})"
            for x, y, off in one.beyond
        )
        rows += [
            Row(f"trace:{name}:rms", f"{title}rms", _fine(one.rms, unit), source="traced"),
            Row(
                f"trace:{name}:max",
                f"{title}largest",
                _fine(one.largest, unit),
                source="traced",
                state="bad" if one.beyond else "",
                note=f"Over the tolerance of {format_length(tolerance, unit=unit)}: {where}" if where else "",
            ),
        ]
    return rows


def _fine(length, unit):
    """A departure, which is small, with one digit more than other lengths."""
    return f"{length / MM_PER_INCH:.5f}" if unit == "in" else f"{length:.3f}"


def _picture(view):
    picture = view.picture
    if not picture:
        return []
    rows = [
        Row("picture:width", "Width, px", str(picture["width"])),
        Row("picture:height", "Height, px", str(picture["height"])),
    ]
    rows += [
        Row(f"picture:{field}", word, picture[field], wide=True)
        for field, word in (("taken_from", "Taken from"), ("licence", "Licence"))
        if picture.get(field)
    ]
    if picture.get("dpi"):
        across, down = picture["dpi"]
        rows.append(
            Row(
                "picture:dpi",
                "Resolution noted in the file, dpi",
                f"{round(across, 1):g}" if across == down else f"{round(across, 1):g} × {round(down, 1):g}",
            )
        )
    return rows


def _dimensions(view, unit):
    rows = []
    for name, item in view.sketch.constraints.items():
        if not item.is_dimension:
            continue
        value = format_angle(item.value) if item.kind == "angle" else format_length(item.value, unit=unit)
        u95 = (
            ""
            if not item.u95
            else format_angle(item.u95, 2)
            if item.kind == "angle"
            else format_length(item.u95, unit=unit)
        )
        rows.append(
            Row(
                f"dimension:{name}",
                item.name,
                value if item.driving else f"({value})",
                u95,
                item.source if item.driving else "derived",
                item.driving,
                "" if item.driving else "reads",
                typed=item.typed if item.driving else "",
            )
        )
    return rows


def _operations(view, unit):
    failed = {name for name, _, _ in view.problems}
    rows = []
    for number, operation in enumerate(view.build.operations, 1):
        for field in operation.numbers():
            title = operation.title or operation.kind.capitalize()
            rows.append(
                Row(
                    f"operation:{operation.name}:{field}",
                    f"{number} {title}, {OPERATION_WORDS[field]}",
                    format_length(getattr(operation, field), unit=unit),
                    source="set",
                    editable=True,
                    state="off" if operation.suppressed else "bad" if operation.name in failed else "",
                )
            )
    return rows


def _result(view, unit):
    bodies = (view.result or {}).get("bodies", {})
    rows = []
    for name, facts in bodies.items():
        prefix = f"{name}: " if len(bodies) > 1 else ""
        low, high = facts["box"]
        size = " × ".join(format_length(b - a, unit=unit) for a, b in zip(low, high))
        mass = facts["volume_mm3"] / 1000 * DENSITIES[view.build.material]
        sound = facts["valid"] and facts["solids"] == 1
        rows += [
            Row(
                f"result:{name}:state",
                f"{prefix}Solid",
                "closed, valid" if sound else "not closed",
                state="" if sound else "bad",
            ),
            Row(f"result:{name}:volume", f"{prefix}Volume, cm³", f"({facts['volume_mm3'] / 1000:.3f})"),
            Row(f"result:{name}:mass", f"{prefix}Mass, {view.build.material}, g", f"({mass:.2f})"),
            Row(f"result:{name}:size", f"{prefix}Size", f"({size})"),
        ]
    return rows


def split_id(row_id):
    """(kind, rest) of an editable row's id.

    Raises:
        InputError: the id names nothing that can be changed.
    """
    kind, _, rest = str(row_id).partition(":")
    if kind not in ("known", "dimension", "operation") or not rest:
        raise InputError("That number is worked out from others, so it cannot be typed over; change one of those.")
    return kind, rest
