"""The Ledger: every number of a job with its value, its uncertainty and where it comes from.

A row's id says what changing it changes: ``known:k1`` a known length, ``dimension:k7``, ``operation:op1:length``.
"""

import math

import attrs

from nomogon_core.errors import InputError
from nomogon_core.quantity.units import format_angle, format_length
from nomogon_core.reference.calibration import COVERAGE_FACTOR
from nomogon_core.solid.operations import DENSITIES

SOURCES = ("gauge", "traced", "set", "derived")
OPERATION_WORDS = {"length": "length", "start": "start", "diameter": "diameter", "depth": "depth", "radius": "radius"}
GROUP_ORDER = {
    "reference": ("Known lengths", "Fit", "Picture", "Sketch", "Body", "Result"),
    "sketch": ("Known lengths", "Sketch", "Fit", "Body", "Result", "Picture"),
    "solid": ("Sketch", "Body", "Result", "Known lengths", "Fit", "Picture"),
    "inspect": ("Result", "Body", "Sketch", "Known lengths", "Fit", "Picture"),
    "release": ("Result", "Body", "Sketch", "Known lengths", "Fit", "Picture"),
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
        view: an :class:`nomogon_core.overview.Overview`.
        unit: "mm" or "in".
    """
    groups = {"Known lengths": _known(view, unit), "Fit": _fit(view, unit), "Picture": _picture(view),
              "Sketch": _dimensions(view, unit), "Body": _operations(view, unit), "Result": _result(view, unit)}
    return tuple(Group(name, tuple(groups[name])) for name in GROUP_ORDER[stage] if groups[name])


def _known(view, unit):
    residuals = {item.name: item for item in (view.calibration.residuals if view.calibration else ())}
    rows = []
    for name, item in view.documents["reference"]["known"].items():
        told = residuals.get(item["name"])
        several = len(residuals) > 1
        off = None
        if told and several:
            bound = math.hypot(item["gauge_u95_mm"], COVERAGE_FACTOR * math.sqrt(2) * item["sigma_px"] * view.calibration.mm_per_px)
            sign = "+" if told.off_mm >= 0 else ""
            off = (sign + format_length(told.off_mm, unit=unit), max(-1.5, min(1.5, told.off_mm / bound)),
                   f"read {format_length(told.read_mm, unit=unit)}")
        rows.append(Row(f"known:{name}", item["name"], format_length(item["length_mm"], unit=unit), format_length(item["gauge_u95_mm"], unit=unit),
                        "gauge", True, "bad" if off and abs(off[1]) > 1 else "", off=off))
    return rows


def _fit(view, unit):
    fit = view.calibration
    if fit is None:
        return []
    rows = [Row("fit:scale", "Scale, px per mm", f"{1 / fit.mm_per_px:.3f}", f"{2 * fit.u_mm_per_px / fit.mm_per_px**2:.3f}"),
            Row("fit:u95", "Uncertainty, 95 %", format_length(fit.u95_at_reach(), unit=unit))]
    if len(fit.residuals) > 1:
        rms = math.sqrt(sum(item.off_mm**2 for item in fit.residuals) / len(fit.residuals))
        rows.insert(1, Row("fit:rms", "Residual, rms", format_length(rms, unit=unit)))
    return rows


def _picture(view):
    picture = view.picture
    if not picture:
        return []
    rows = [Row("picture:width", "Width, px", str(picture["width"])), Row("picture:height", "Height, px", str(picture["height"]))]
    if picture.get("dpi"):
        across, down = picture["dpi"]
        rows.append(Row("picture:dpi", "Resolution noted in the file, dpi", f"{across:g}" if across == down else f"{across:g} × {down:g}"))
    return rows


def _dimensions(view, unit):
    rows = []
    for name, item in view.sketch.constraints.items():
        if not item.is_dimension:
            continue
        value = format_angle(item.value) if item.kind == "angle" else format_length(item.value, unit=unit)
        u95 = format_length(item.u95, unit=unit) if item.u95 and item.kind != "angle" else ""
        rows.append(Row(f"dimension:{name}", item.name, value if item.driving else f"({value})", u95, item.source if item.driving else "derived",
                        item.driving, "" if item.driving else "reads"))
    return rows


def _operations(view, unit):
    failed = {name for name, _, _ in view.problems}
    rows = []
    for number, operation in enumerate(view.build.operations, 1):
        for field in operation.numbers():
            title = operation.title or operation.kind.capitalize()
            rows.append(Row(f"operation:{operation.name}:{field}", f"{number} {title}, {OPERATION_WORDS[field]}",
                            format_length(getattr(operation, field), unit=unit), source="set", editable=True,
                            state="off" if operation.suppressed else "bad" if operation.name in failed else ""))
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
        rows += [Row(f"result:{name}:state", f"{prefix}Solid", "closed, valid" if sound else "not closed", state="" if sound else "bad"),
                 Row(f"result:{name}:volume", f"{prefix}Volume, cm³", f"({facts['volume_mm3'] / 1000:.3f})"),
                 Row(f"result:{name}:mass", f"{prefix}Mass, {view.build.material}, g", f"({mass:.2f})"),
                 Row(f"result:{name}:size", f"{prefix}Size", f"({size})")]
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
