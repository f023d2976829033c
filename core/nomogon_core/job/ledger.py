"""The Ledger: every number of a job with its value, its uncertainty and where it comes from.

A row's id says what changing it changes: see :mod:`quantities`.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs

from nomogon_core.errors import InputError
from nomogon_core.job.document import known_of, measured_in, numbers_of
from nomogon_core.job.measuring import read_check
from nomogon_core.job.quantities import environment, hangs_on, u95_of, web_of
from nomogon_core.job.sizes import sizes_u95
from nomogon_core.quantity.expression import ANGLE, LENGTH, PLAIN
from nomogon_core.quantity.units import MM_PER_INCH, format_angle, format_length
from nomogon_core.reference.calibration import COVERAGE_FACTOR
from nomogon_core.solid.facts import DENSITIES, is_sound
from nomogon_core.solid.operations import declaration

if TYPE_CHECKING:
    from nomogon_core.job.overview import Overview
    from nomogon_core.job.quantities import Quantity

SOURCES = ("gauge", "traced", "set", "derived")
GROUP_ORDER = {
    "reference": (
        "Known lengths",
        "Checks",
        "Fit",
        "Trace",
        "Picture",
        "Quantities",
        "Sketch",
        "Planes",
        "Body",
        "Result",
    ),
    "sketch": (
        "Quantities",
        "Sketch",
        "Known lengths",
        "Trace",
        "Fit",
        "Planes",
        "Body",
        "Result",
        "Checks",
        "Picture",
    ),
    "solid": ("Quantities", "Sketch", "Planes", "Body", "Result", "Known lengths", "Checks", "Fit", "Trace", "Picture"),
    "inspect": (
        "Result",
        "Body",
        "Planes",
        "Quantities",
        "Sketch",
        "Known lengths",
        "Checks",
        "Fit",
        "Trace",
        "Picture",
    ),
    "release": (
        "Result",
        "Body",
        "Planes",
        "Quantities",
        "Sketch",
        "Known lengths",
        "Checks",
        "Fit",
        "Trace",
        "Picture",
    ),
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
        hangs: ids of the rows that hang on it; can_go: it can be taken away; can_be_named: it can be called otherwise.
        called: what expressions call it, "" for nothing.
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
    hangs: tuple = ()
    can_go: bool = False
    can_be_named: bool = False
    called: str = ""

    @property
    def needle(self) -> float:
        """Where the pointer of ``off`` stands on a scale 134 wide, zero in the middle."""
        return round(67 + 44 * self.off[1], 1) if self.off else 67


@attrs.frozen
class Group:
    name: str
    rows: tuple


def ledger(view: Overview, stage: str, unit: str = "mm") -> tuple[Group, ...]:
    """Groups of rows, the stage's own first; groups without rows are left out.

    Args:
        view: an :class:`nomogon_core.job.overview.Overview`.
        unit: "mm" or "in".
    """
    web = web_of(view.document)
    told = _Told(view, unit, environment(view.document, web), hangs_on(view.document, web), web)
    groups = {
        "Known lengths": _known(view, unit),
        "Checks": _checks(view, unit),
        "Fit": _fit(view, unit),
        "Picture": _picture(view),
        "Quantities": _free(told),
        "Planes": _planes(told),
        "Body": _operations(told),
        "Result": _result(view, unit),
        "Trace": _traces(view, unit),
    }
    found = []
    for name in GROUP_ORDER[stage]:
        if name == "Sketch":
            found += [Group(title, tuple(map(told.linked, rows))) for title, rows in _dimensions(told) if rows]
        elif groups[name]:
            found.append(Group(name, tuple(map(told.linked, groups[name]))))
    return tuple(found)


@attrs.frozen
class _Told:
    """What rows of quantities are made from."""

    view: Any
    unit: str
    known: dict
    hangs: dict
    web: Any

    def linked(self, row: Row) -> Row:
        """A row with what hangs on it, and whether it can be renamed."""
        own = next((item for item in self.web.items if item.id == row.id), None)
        return attrs.evolve(
            row,
            hangs=tuple(dict.fromkeys(self.hangs.get(row.id, ()))),
            can_be_named=row.can_be_named
            or (own is not None and not (row.id.startswith("known:") and row.id.count(":") > 1)),
            called=own.name if own else row.called,
        )

    def u95(self, item: Quantity) -> float:
        """95 % uncertainty of a quantity, its own or that of what it is worked out from."""
        if item.id in self.web.uses and item.name in self.known:
            return u95_of(self.known[item.name])
        return item.u95

    def source(self, item: Quantity, plain: str = "set") -> str:
        return "derived" if item.id in self.web.uses else plain


def number_text(value: float, dimension: tuple[int, ...], unit: str) -> str:
    """A number of any dimension as a row shows it."""
    if tuple(dimension) == ANGLE:
        return format_angle(value)
    if tuple(dimension) == LENGTH:
        return format_length(value, unit=unit)
    if tuple(dimension) == PLAIN:
        return f"{value:.6g}".replace("-", "\N{MINUS SIGN}")
    power = dimension[0]
    scale = 1.0 if unit == "mm" else MM_PER_INCH**power
    return f"{value / scale:.6g} {unit}{ {2: '²', 3: '³'}.get(power, f'^{power}') }"


def _free(told):
    rows = []
    for item in told.web.items:
        if item.id.startswith("quantity:"):
            u95 = told.u95(item)
            rows.append(
                Row(
                    item.id,
                    item.name,
                    number_text(item.number, item.dimension, told.unit),
                    number_text(u95, item.dimension, told.unit) if u95 else "",
                    told.source(item),
                    True,
                    typed=item.typed,
                    can_go=True,
                )
            )
    read = (told.view.result or {}).get("measures", {})
    for key, item in measured_in(told.view.document).items():
        value, lost = read.get(item["name"]), item["name"] in read and read[item["name"]] is None
        rows.append(
            Row(
                f"quantity:{key}",
                item["name"],
                "…" if value is None else f"({number_text(value, item['dimension'], told.unit)})",
                state="bad" if lost else "reads",
                note="What it was taken from is not there any more; measure again." if lost else "",
                can_go=True,
                can_be_named=True,
                called=item["name"],
            )
        )
    return rows


def _planes(told):
    return [
        Row(
            item.id,
            item.name,
            number_text(item.number, item.dimension, told.unit),
            source=told.source(item),
            editable=True,
            typed=item.typed,
        )
        for item in told.web.items
        if item.id.startswith("plane:")
    ]


def _known_here(view):
    """What is known of the picture worked on, by id."""
    return known_of(view.document, view.picture_id)


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
    rows, told = [], view.departures
    for number, (name, one) in enumerate(told.items(), 1):
        title = f"Trace {number}, " if len(told) > 1 else "Edge to curve, "
        tolerance = view.document["traces"][name]["settings"]["tolerance_mm"]
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


def _dimensions(told):
    """(title, rows) of each sketch, the open one first."""
    view, found = told.view, []
    order = sorted(view.sketches, key=lambda name: name != view.sketch_id)
    by_id = {item.id: item for item in told.web.items}
    for sketch in order:
        rows = []
        for name, item in view.sketches[sketch].sketch.constraints.items():
            if not item.is_dimension:
                continue
            quantity = by_id[f"dimension:{name}"]
            value = number_text(item.value, quantity.dimension, told.unit)
            u95 = told.u95(quantity)
            shown = ""
            if u95:
                shown = format_angle(u95, 2) if item.kind == "angle" else format_length(u95, unit=told.unit)
            rows.append(
                Row(
                    quantity.id,
                    item.name,
                    value if item.driving else f"({value})",
                    shown,
                    told.source(quantity, item.source) if item.driving else "derived",
                    item.driving,
                    "" if item.driving else "reads",
                    typed=item.typed if item.driving else "",
                )
            )
        title = view.document["sketches"][sketch]["title"] if len(order) > 1 else "Sketch"
        found.append((title, rows))
    return found


def _operations(told):
    view = told.view
    failed = {name for name, _, _ in view.problems}
    late = {step["name"]: step.get("numbers", {}) for step in (view.result or {}).get("steps", [])}
    by_id = {item.id: item for item in told.web.items}
    numbers = numbers_of(view.document)
    rows = []
    for operation in view.build.operations:
        for blank in declaration(operation.kind).standing(operation.blanks):
            item = (
                by_id.get(f"operation:{operation.name}:{blank.name}")
                if getattr(blank, "dimension", None) is not None
                else None
            )
            if item is None:
                continue
            value = late.get(operation.name, {}).get(blank.name, item.number)
            is_late = operation.blanks[blank.name].get("late")
            rows.append(
                Row(
                    item.id,
                    f"{numbers[operation.name]} {item.name}",
                    "…" if is_late and not value else number_text(value, item.dimension, told.unit),
                    source="derived" if is_late else told.source(item),
                    editable=True,
                    state="off" if operation.suppressed else "bad" if operation.name in failed else "",
                    typed=item.typed,
                )
            )
    return rows


def _result(view, unit):
    bodies = (view.result or {}).get("bodies", {})
    rows = []
    for name, facts in bodies.items():
        body = view.document["bodies"].get(name)
        if body is None:
            continue
        prefix = f"{body['name']}: " if len(bodies) > 1 else ""
        low, high = facts["box"]
        size = " × ".join(format_length(b - a, unit=unit) for a, b in zip(low, high))
        mass = facts["volume_mm3"] / 1000 * DENSITIES[body["material"]]
        sound = is_sound(facts, apart=name in view.build.apart)
        pieces = f", {facts['solids']} pieces" if facts["solids"] > 1 else ""
        rows += [
            Row(
                f"result:{name}:state",
                f"{prefix}Solid",
                f"closed, valid{pieces}" if sound else "not closed",
                state="" if sound else "bad",
            ),
            Row(f"result:{name}:volume", f"{prefix}Volume, cm³", f"({facts['volume_mm3'] / 1000:.3f})"),
            Row(f"result:{name}:mass", f"{prefix}Mass, {body['material']}, g", f"({mass:.2f})"),
            Row(f"result:{name}:size", f"{prefix}Size", f"({size})", note=_size_note(view, name, unit)),
        ]
    return rows


def _size_note(view, body, unit):
    """The picture's part in the size of a body, in words; "" where none is known."""
    told = sizes_u95(view, body)
    if not any(told):
        return ""
    shown = " × ".join("set" if not one and one is not None else _fine(one, unit) if one else "?" for one in told)
    return f"± {shown} from picture and gauge, 95 %"


def split_id(row_id: str) -> tuple[str, str]:
    """(kind, rest) of an editable row's id.

    Raises:
        InputError: the id names nothing that can be changed.
    """
    kind, _, rest = str(row_id).partition(":")
    if kind not in ("known", "dimension", "operation", "quantity", "plane") or not rest:
        raise InputError("That number is worked out from others, so it cannot be typed over; change one of those.")
    return kind, rest


def command_for(row_id: str, text: str, unit: str) -> tuple[str, dict[str, Any]]:
    """Name and arguments of the command that gives a Ledger row a new value.

    Raises:
        InputError: the row cannot be typed over.
    """
    kind, rest = split_id(row_id)
    if kind == "known":
        name, _, side = rest.partition(":")
        return "reference.set_known", {"name": name, "text": text, "unit": unit, "side": side}
    if kind == "dimension":
        return "sketch.set_value", {"name": rest, "text": text, "unit": unit}
    if kind == "quantity":
        return "ledger.set", {"name": rest, "text": text, "unit": unit}
    name, _, field = rest.partition(":")
    if kind == "plane":
        return "plane.set", {"name": name, "field": field, "text": text, "unit": unit}
    return "solid.set", {"name": name, "blanks": {field: text}, "unit": unit}
