"""The checks of a part as findings: each with its number, its place, a sentence with its reason, and a remedy."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import attrs

from nomogon_core.inspect import corners, lying, reaching, thin
from nomogon_core.inspect.bridging import BRIDGE_MM
from nomogon_core.inspect.making import Making
from nomogon_core.inspect.meshed import Meshed
from nomogon_core.inspect.telling import RANK, Finding
from nomogon_core.solid.bores import bores_of
from nomogon_core.solid.facts import is_sound
from nomogon_core.solid.planes import operation_of

if TYPE_CHECKING:
    from nomogon_core.solid.bodies import Body

MOST_OF_A_KIND = 6
HANGS_MM2, WIDE_MM, USUAL_GROWTH_MM = 1.0, 10.0, 0.2
WALLS, GAPS, NARROW = "wall", "gap", ("stroke", "gap")
# EN 1993-1-8, table 3.3 (from memory): from the middle of a hole to the edge at least 1.2 of its diameter.
EDGE_DIAMETERS, LEAST_BORE_MM = 1.2, 2.0


def inspected(
    bodies: dict[str, Body],
    making: Making,
    apart: frozenset[str] = frozenset(),
    marks: Sequence[Finding] = (),
) -> list[Finding]:
    """Everything found on all bodies, what is to be mended first.

    Args:
        apart: ids of bodies that may be of several pieces.
        marks: what is found on letters and marks, see :func:`lettering.of_marks`, which is not told twice.
    """
    found: list[Finding] = []
    for name, body in bodies.items():
        found.append(_whole(body, name in apart))
        if body.mesh is not None:
            found += _of_mesh(body)
            continue
        meshed = Meshed(body)
        found += [*CHECKS[making.way](meshed, making), *_edges(meshed)]
    told = {one.operations for one in marks if one.operations and one.key.split()[0] in NARROW}
    found = [one for one in found if one.operations not in told or one.key.split()[0] not in (WALLS, GAPS)]
    return sorted([*found, *marks], key=lambda one: RANK[one.severity])


def _whole(body, apart):
    sound = is_sound(attrs.asdict(body.facts), apart=apart)
    pieces = f"{body.facts.solids} solid{'s' if body.facts.solids != 1 else ''}"
    if sound:
        return Finding(f"whole {body.name}", body.name, "well", "Closed, valid", pieces)
    return Finding(
        f"whole {body.name}", body.name, "mend", "Not one closed, valid solid", pieces, "Look at the Build sheet."
    )


def _of_mesh(body):
    count, note = len(body.mesh.triangles), f" When it came: {body.mesh.note}." if body.mesh.note else ""
    sentence = f"It is a mesh: whether it is closed was checked, but not its walls, overhangs and corners.{note}"
    return [Finding(f"mesh {body.name}", body.name, "know", "Mesh", f"{count:,} triangles", sentence)]


def _makers(faces):
    """Ids of the operations that made some faces, each once."""
    return tuple(dict.fromkeys(operation_of(face) for face in faces))


def _at(place):
    return "({:.1f}, {:.1f}, {:.1f})".format(*(round(value, 1) + 0.0 for value in place))


def _thin(meshed: Meshed, least: float, reason: str, *, gaps: bool = False) -> list[Finding]:
    kind = GAPS if gaps else WALLS
    told = []
    for one in thin.thin_places(meshed, least, gaps=gaps)[:MOST_OF_A_KIND]:
        makers = _makers(one.faces)
        beside = " and ".join(f"{{{index}}}" for index in range(len(makers)))
        runs = "tapers to an edge" if one.tapers else f"is {one.size:.2f} mm"
        told.append(
            Finding(
                f"{kind} {meshed.body.name} {' '.join(one.faces)}",
                meshed.body.name,
                "mend",
                "Narrow gap" if gaps else "Thin wall",
                f"{one.size:.2f} mm",
                f"{reason} It {runs} at {_at(one.place)}, between faces of {beside}.",
                makers,
                one.place,
                one.faces,
            )
        )
    if not told:
        words = "Gaps are wide enough" if gaps else "Walls are thick enough"
        told.append(Finding(f"{kind}s {meshed.body.name}", meshed.body.name, "well", words, f"{least:.2f} mm and more"))
    return told


def _printing(meshed: Meshed, making: Making) -> list[Finding]:
    nozzle = making.numbers["nozzle"]
    walls = _thin(meshed, 2 * nozzle, f"Two widths of the nozzle are {2 * nozzle:.2f} mm (common practice).")
    gaps = _thin(
        meshed, nozzle, f"A gap narrower than the nozzle, {nozzle:.2f} mm, closes up (common practice).", gaps=True
    )
    return [*walls, *gaps, *_hanging(meshed, making), *_bed(meshed, making), *_holes(meshed, making)]


def _hanging(meshed, making):
    most = making.numbers["hang"]
    now = lying.lying(meshed, making.up, most)
    name = meshed.body.name
    spanned = f"{now.bridged:.0f} mm² · up to {now.span:.1f} mm"
    why = f"It is held at both ends, and machines span {BRIDGE_MM:g} mm without support (common practice)."
    bridges = [Finding(f"bridges {name}", name, "know", "Bridges", spanned, why)] if now.bridged >= HANGS_MM2 else []
    if now.hanging < HANGS_MM2:
        return [*bridges, Finding(f"hangs {name}", name, "well", "Nothing hangs", f"foot {now.foot:.0f} mm²")]
    best = lying.best_way(meshed, most)
    remedy, turned = None, "No way to lie is better."
    if best and best.hanging < 0.8 * now.hanging:
        left = "nothing hangs" if best.hanging < HANGS_MM2 else f"only {best.hanging:.0f} mm² hang"
        turned = f"Laid another way, {left}."
        remedy = {"words": "Lay it that way", "command": "inspect.lay", "arguments": {"up": list(best.up)}}
    makers = _makers(now.faces)[:3]
    return [
        *bridges,
        Finding(
            f"hangs {name}",
            name,
            "mend",
            "Overhang",
            f"{now.steepest:.0f}° · {now.hanging:.0f} mm²",
            f"Steeper than {most:.0f}° needs support (common practice), most of it at {_at(now.worst)}. {turned}",
            makers,
            now.worst,
            now.faces,
            remedy,
        ),
    ]


def _bed(meshed, making):
    bed, tall = (making.numbers["bed_x"], making.numbers["bed_y"]), making.numbers["bed_z"]
    fit = lying.bed_fit(meshed, making.up, bed)
    height = lying.lying(meshed, making.up, 90.0, bridges=False).height
    name, sizes = meshed.body.name, f"{fit.sizes[0]:.0f} × {fit.sizes[1]:.0f} × {height:.0f}"
    if fit.slack < 0 or height > tall:
        why = (
            f"The bed takes {bed[0]:g} × {bed[1]:g} × {tall:g} mm, turned any way. Split the part, or take another bed."
        )
        return [Finding(f"bed {name}", name, "mend", "Too large for the bed", sizes, why)]
    turned = f", turned by {fit.turn:.0f}°" if fit.turn else ""
    return [Finding(f"bed {name}", name, "well", "Fits the bed", f"{sizes} of {bed[0]:g} × {bed[1]:g}{turned}")]


def _holes(meshed, making):
    """That printed holes come out small, unless they are let grow at release."""
    found = [bore for bore in bores_of(meshed.body.shape) if bore.radius < WIDE_MM]
    if not found:
        return []
    name, allowed = meshed.body.name, making.allowances
    sizes = ", ".join(f"Ø {2 * radius:.2f}" for radius in sorted({round(bore.radius, 3) for bore in found})[:4])
    if all(allowed.grows(2 * bore.radius) for bore in found):
        return [Finding(f"holes {name}", name, "well", f"Holes grow by {allowed.holes:.2f} mm in the files", sizes)]
    why = "Common practice: printed holes come out 0.1 to 0.4 mm undersize and are drilled or drawn larger."
    smallest = min(found, key=lambda bore: bore.radius)
    return [
        Finding(
            f"holes {name}",
            name,
            "know",
            "Holes will print small",
            sizes,
            why,
            place=tuple(start + smallest.length / 2 * way for start, way in zip(smallest.start, smallest.way)),
            remedy={
                "words": f"Grow them by {USUAL_GROWTH_MM} mm in the files",
                "command": "release.allow",
                "arguments": {"name": "holes", "text": f"{USUAL_GROWTH_MM} mm"},
            },
        )
    ]


def _edges(meshed):
    """That round holes keep their distance from edges and from each other."""
    bores = [bore for bore in bores_of(meshed.body.shape) if LEAST_BORE_MM <= 2 * bore.radius < 2 * WIDE_MM]
    lands = [land for land in (reaching.land_of(meshed, bore) for bore in bores) if land]
    narrow, name = sorted(_close(lands), key=lambda land: land.size), meshed.body.name
    if lands and not narrow:
        size = min(land.size for land in lands)
        return [Finding(f"edges {name}", name, "well", "Holes keep from the edges", f"{size:.2f} mm and more")]
    told = []
    for land in narrow[:MOST_OF_A_KIND]:
        makers, diameter = _makers(land.faces), 2 * land.bore.radius
        told.append(
            Finding(
                f"edge {name} {' '.join(land.faces)}",
                name,
                "know",
                "Hole close to an edge",
                f"{land.size:.2f} mm",
                f"Beside the hole of Ø {diameter:.2f} mm at {_at(land.place)} only {land.size:.2f} mm are left; for a "
                f"screw that is pulled sideways the edge is {EDGE_DIAMETERS:g} diameters from its middle, "
                f"{(EDGE_DIAMETERS - 0.5) * diameter:.2f} mm from the hole (EN 1993-1-8).",
                makers,
                land.place,
                land.faces,
            )
        )
    return told


def _close(lands):
    return [land for land in lands if land.size < (EDGE_DIAMETERS - 0.5) * 2 * land.bore.radius - 1e-6]


def _undercut(meshed, up, word, well):
    """That everything is reached along the pull, from above or from below."""
    name, hidden = meshed.body.name, reaching.hidden_from(meshed, [up, tuple(-value for value in up)])
    if hidden is None:
        return [Finding(f"undercut {name}", name, "well", "No undercuts", well)]
    return [
        Finding(
            f"undercut {name}",
            name,
            "mend",
            "Undercut",
            f"{hidden.area:.0f} mm²",
            f"{word}; most of it is at {_at(hidden.place)}. Turn the part, or change the operation.",
            _makers(hidden.faces)[:3],
            hidden.place,
            hidden.faces,
        )
    ]


def _cutting(meshed: Meshed, making: Making) -> list[Finding]:
    kerf, bridge = making.numbers["kerf"], making.numbers["bridge"]
    walls = _thin(meshed, bridge, f"A bridge narrower than {bridge:.2f} mm burns or breaks (common practice).")
    gaps = _thin(meshed, kerf, f"The beam takes away {kerf:.2f} mm, so a narrower slot comes out wider.", gaps=True)
    sheet = (making.numbers["sheet_x"], making.numbers["sheet_y"])
    fit = lying.bed_fit(meshed, making.up, sheet)
    name, sizes = meshed.body.name, f"{fit.sizes[0]:.0f} × {fit.sizes[1]:.0f}"
    if fit.slack < 0:
        why = f"The sheet is {sheet[0]:g} × {sheet[1]:g} mm."
        return [*walls, *gaps, Finding(f"bed {name}", name, "mend", "Too large for the sheet", sizes, why)]
    return [
        *walls,
        *gaps,
        Finding(f"bed {name}", name, "well", "Fits the sheet", f"{sizes} of {sheet[0]:g} × {sheet[1]:g}"),
    ]


def _milling(meshed: Meshed, making: Making) -> list[Finding]:
    cutter, reach = making.numbers["cutter"], making.numbers["reach"]
    told = _thin(meshed, making.numbers["wall"], "A thinner wall chatters under the cutter (common practice).")
    told += _thin(meshed, cutter, f"A cutter of Ø {cutter:.2f} mm does not get in.", gaps=True)
    told += _undercut(meshed, making.up, "No cutter gets there from above or from below", "from above or below")
    found = corners.inside_corners(meshed, making.up, cutter / 2)
    for one in found[:MOST_OF_A_KIND]:
        makers = _makers(one.faces)
        deep = f" It is {one.height:.1f} mm deep, more than the reach of {reach:.1f} mm." if one.height > reach else ""
        told.append(
            Finding(
                f"corner {meshed.body.name} {' '.join(one.faces)}",
                meshed.body.name,
                "mend",
                "Sharp inside corner" if one.radius == 0 else "Tight inside corner",
                f"R {one.radius:.2f}",
                f"A cutter of Ø {cutter:.2f} mm leaves R {cutter / 2:.2f} in the corner at {_at(one.place)}.{deep} "
                "Round it with a fillet, or take a thinner cutter.",
                makers,
                one.place,
                one.faces,
            )
        )
    if not found:
        told.append(
            Finding(
                f"corners {meshed.body.name}",
                meshed.body.name,
                "well",
                "The cutter reaches all corners",
                f"Ø {cutter:g}",
            )
        )
    return told


def _casting(meshed: Meshed, making: Making) -> list[Finding]:
    least, inside = making.numbers["draft"], making.numbers["inside"]
    told = _thin(meshed, making.numbers["wall"], "Metal does not run into thinner walls (common practice).")
    told += _undercut(meshed, making.up, "A pattern does not come out of a mould in two halves there", "two halves")
    steep, name = corners.steep_sides(meshed, making.up, least), meshed.body.name
    if steep:
        makers = _makers(steep.faces)[:3]
        told.append(
            Finding(
                f"draft {name}",
                name,
                "mend",
                "Too little draft",
                f"{steep.least:.1f}° · {steep.area:.0f} mm²",
                f"A pattern needs {least:g}° to come out of the mould (common practice: 1° to 3°); most is missing at "
                f"{_at(steep.place)}. Add a draft to the operation.",
                makers,
                steep.place,
                steep.faces,
            )
        )
    else:
        told.append(Finding(f"draft {name}", name, "well", "All sides have draft", f"{least:g}° and more"))
    for one in corners.inside_corners(meshed, making.up, inside)[:MOST_OF_A_KIND]:
        makers = _makers(one.faces)
        why = (
            f"Castings tear at inside corners under R {inside:g} (common practice), here at {_at(one.place)}. Round it."
        )
        told.append(
            Finding(
                f"corner {name} {' '.join(one.faces)}",
                name,
                "mend",
                "Sharp inside corner",
                f"R {one.radius:.2f}",
                why,
                makers,
                one.place,
                one.faces,
            )
        )
    return told


CHECKS: dict[str, Callable[[Meshed, Making], list[Finding]]] = {
    "printing": _printing,
    "cutting": _cutting,
    "milling": _milling,
    "casting": _casting,
}
