"""All files of a release from a Build sheet; runs where the kernel is."""

from __future__ import annotations

import hashlib
import io
import zipfile
from typing import TYPE_CHECKING

import attrs
import numpy as np

from nomogon_core.errors import OperationError
from nomogon_core.exchange.allowing import allowed, allowed_sheet, told_of
from nomogon_core.exchange.dimensioned import laid_out, notes_of, wanted
from nomogon_core.exchange.flat import DEFAULT_CHORD_MM, FILES, FLAT, file_name, flat_outlines, write_flat
from nomogon_core.exchange.writers import drawing, gltf, solids
from nomogon_core.exchange.writers.pdf import TitleBlock, drawing_pdf
from nomogon_core.inspect.making import making_of
from nomogon_core.solid import graph, kernel, planes
from nomogon_core.solid.facts import is_sound
from nomogon_core.solid.projection import projected
from nomogon_core.solid.sectioning import section

if TYPE_CHECKING:
    from collections.abc import Sequence

    from nomogon_core.inspect.making import Making
    from nomogon_core.solid.bodies import Body
    from nomogon_core.solid.graph import Cache
    from nomogon_core.solid.sheet import BuildSheet


LEAST_LOOK, UPRIGHT = 1e-6, planes.PLAN.normal
PLAIN = making_of({})
REPORT, NO_TIME = "report.txt", (1980, 1, 1, 0, 0, 0)
TRUE = {
    "step": "exact",
    "dxf": "exact outline, 1:1",
    "svg": "exact outline, 1:1",
    "sheet": "copies nested on one sheet, exact outlines, 1:1",
    "pdf": "dimensioned drawing, first angle, of the design",
    "views": "front, plan, side and askew, 1:1, hidden lines dashed; of many free faces within 0.05 mm",
}
# From the right, in front and above; a parallel view in which all three axes are as long (ISO 5456-3, isometric).
ASKEW = planes.Frame(
    (0.0, 0.0, 0.0),
    (2**-0.5, 2**-0.5, 0.0),
    (-(6**-0.5), 6**-0.5, 2 * 6**-0.5),
    (3**-0.5, -(3**-0.5), 3**-0.5),
)
SHEET = {"Front": planes.FRONT, "Plan": planes.PLAN, "Side": planes.SIDE, "Askew": ASKEW}


def write_file(
    kind: str,
    sheet: BuildSheet,
    title: str,
    *,
    chord: float = DEFAULT_CHORD_MM,
    cache: Cache | None = None,
    look: tuple[Sequence[float], Sequence[float]] | None = None,
    making: Making = PLAIN,
    block: TitleBlock | None = None,
) -> bytes:
    """Bytes of one file of the release.

    Args:
        kind: one of FILES, or ``view``; sheet: a :class:`nomogon_core.solid.sheet.BuildSheet`.
        look: of a ``view``: directions in space that run to the right and up in it.
        making: how it is made: what the file allows for, and of files for printing what points away from the bed;
            anything but straight up lays the part on it. Views and the drawing show the design.
        block: of a drawing: what its title block says; the title alone by default.

    Raises:
        OperationError: a step fails, or there is nothing to write.
    """
    if kind in FLAT:
        return write_flat(kind, flat_areas(sheet, making, cache), title, making, chord)
    if kind == "pdf":
        return drawing_of(sheet, block or TitleBlock(title), cache)
    if kind in ("view", "views"):
        frames = SHEET if look is None else {"View": frame_of_look(*look)}
        return drawing.views_svg(views_of(built(sheet, cache), frames), title=title).encode()
    if kind == "step":
        return solids.step(as_made(sheet, making, cache, lying=False))
    if kind == "glb":
        return gltf.glb(as_made(sheet, making, cache, lying=False), chord)
    lying = as_made(sheet, making, cache)
    return solids.stl(lying, chord) if kind == "stl" else solids.threemf(lying, chord)


def flat_areas(sheet: BuildSheet, making: Making, cache: Cache | None = None) -> list[list[tuple]]:
    """What the flat files show, before anything is allowed for: of each area the curves around it and around its holes.

    Raises:
        OperationError: there is no such outline, or the plane passes the part by.
    """
    if making.flat.of == "outline":
        return flat_outlines(sheet)
    frame = planes.BASE[making.flat.of]
    areas = section([body.shape for body in built(sheet, cache).values()], frame, making.flat.at)
    if not areas:
        raise OperationError(
            f"{making.flat.at:g} mm from {making.flat.of.capitalize()} there is nothing of the part. Type another "
            "distance for the flat files."
        )
    return areas


def as_made(sheet: BuildSheet, making: Making, cache: Cache | None = None, *, lying: bool = True) -> dict[str, Body]:
    """Bodies as the files have them, with what is allowed for, and lying as they are made where that is asked for.

    Raises:
        OperationError: a step fails, there is no body, or something cannot be allowed for.
    """
    bodies = allowed(built(allowed_sheet(sheet, making.allowances), cache), making.allowances)
    return bodies if not lying or tuple(making.up) == UPRIGHT else laid(bodies, making.up)


def drawing_of(sheet: BuildSheet, block: TitleBlock, cache: Cache | None = None) -> bytes:
    """A dimensioned drawing as PDF.

    Raises:
        OperationError: a step fails, there is no body, or it is too large.
    """
    cache = graph.Cache() if cache is None else cache
    bodies, told = built(sheet, cache), graph.run(sheet, cache)
    if not block.material:
        materials = dict.fromkeys(sheet.bodies[name]["material"] for name in bodies)
        block = attrs.evolve(block, material=", ".join(materials))
    views = [attrs.evolve(one, hidden=()) if one.name == "Askew" else one for one in views_of(bodies, SHEET)]
    square = {name: frame for name, frame in SHEET.items() if name != "Askew"}
    return drawing_pdf(laid_out(views, wanted(sheet, told, square), notes_of(sheet, told)), block)


def laid(bodies: dict[str, Body], up: Sequence[float]) -> dict[str, Body]:
    """Bodies turned together so that a direction points up, the lowest of them at height 0."""
    turn = kernel.turning_up(up)
    turned = {name: body.moved(turn) for name, body in bodies.items()}
    lift = kernel.lifting(-min(body.lowest() for body in turned.values()))
    return {name: body.moved(lift) for name, body in turned.items()}


def frame_of_look(right: Sequence[float], up: Sequence[float]) -> planes.Frame:
    """The frame of a view by the directions that run to the right and up in it.

    Raises:
        OperationError: they are one direction, or none.
    """
    normal = np.cross(right, up)
    if np.linalg.norm(normal) < LEAST_LOOK:
        raise OperationError("The view that came has no direction; turn the solid a little and try again.")
    normal = normal / np.linalg.norm(normal)
    across = np.asarray(right, float) / np.linalg.norm(right)
    upward = np.cross(normal, across)
    return planes.Frame((0.0, 0.0, 0.0), *(tuple(way.tolist()) for way in (across, upward, normal)))


def views_of(bodies: dict[str, Body], frames: dict[str, planes.Frame]) -> list[drawing.View]:
    """Views of all bodies together by name, laid out on a sheet."""
    shapes = [body.shape for body in bodies.values()]
    views = []
    for name, frame in frames.items():
        seen = projected(shapes, frame)
        views.append(drawing.View(name, seen.visible, seen.smooth, seen.hidden))
    return drawing.arranged(views)


def built(sheet: BuildSheet, cache: Cache | None = None) -> dict[str, Body]:
    """Bodies of a Build sheet of which every step works.

    Raises:
        OperationError: names the first step that fails.
    """
    result = graph.run(sheet, cache)
    numbers = sheet.numbers()
    for step, told in zip(sheet.steps, result.steps):
        if told.problem:
            what = f"Operation {numbers[step.name]}" if step.name in numbers else step.title
            raise OperationError(f"{what} fails, so nothing is released: {told.problem}")
    if not result.bodies:
        raise OperationError("There is no body to release; extrude a region first.")
    return result.bodies


def report(sheet: BuildSheet, bodies: dict[str, Body]) -> dict[str, list[dict]]:
    """Plain data of all bodies: volume, area, box, centre of mass, mass, validity."""
    told = []
    for name, body in bodies.items():
        material = sheet.bodies[name]["material"]
        told.append(
            {
                "name": body.title,
                "volume_mm3": body.facts.volume_mm3,
                "area_mm2": body.facts.area_mm2,
                "box_mm": [list(corner) for corner in body.facts.box],
                "center_of_mass_mm": list(body.facts.center),
                "solids": body.facts.solids,
                "valid": is_sound(attrs.asdict(body.facts), apart=name in sheet.apart),
                "colour": body.colour,
                "material": material,
                "mass_g": body.facts.mass_g(material),
            }
        )
    return {"bodies": told}


def bundle(
    sheet: BuildSheet,
    title: str,
    *,
    chord: float = DEFAULT_CHORD_MM,
    cache: Cache | None = None,
    making: Making = PLAIN,
    notes: Sequence[str] = (),
    block: TitleBlock | None = None,
) -> bytes:
    """A zip of all files of the release, with a report in plain words that has their checksums.

    Args:
        notes: sentences of the report on how the part is made and what was found; block: see :func:`write_file`.

    Raises:
        OperationError: a step fails, or there is no body.
    """
    cache = graph.Cache() if cache is None else cache
    bodies, files, missing = built(sheet, cache), {}, []
    for kind in FILES:
        try:
            files[kind] = write_file(kind, sheet, title, chord=chord, cache=cache, making=making, block=block)
        except OperationError as problem:
            why = "the part has no flat outline" if kind in FLAT else str(problem).rstrip(".")
            missing.append(f"No {kind.upper()}: {why}.")
    left = [body.title for body in bodies.values() if body.mesh is not None]
    if left and "step" in files:
        missing.append(f"STEP holds exact bodies only, so without {', '.join(left)}.")
    names = {kind: file_name(title, kind) for kind in files}
    changed = told_of(bodies, making.allowances)
    if changed:
        notes = [
            *notes,
            "The files allow for how it is made; sizes above and in views are those of the design.",
            *changed,
        ]
    text = _report_text(title, report(sheet, bodies)["bodies"], files, names, chord, [*notes, *missing])
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as made:
        for name, data in ((REPORT, text.encode()), *((names[kind], data) for kind, data in files.items())):
            made.writestr(zipfile.ZipInfo(name, NO_TIME), data, zipfile.ZIP_DEFLATED)
    return packed.getvalue()


def _report_text(title, told, files, names, chord, notes):
    lines = [title, "=" * len(title), "", "All sizes are millimetres.", ""]
    for one in told:
        low, high = one["box_mm"]
        size = " × ".join(f"{b - a:.2f}" for a, b in zip(low, high))
        pieces = "one solid" if one["solids"] == 1 else f"{one['solids']} solids"
        state = f"{pieces}, closed and valid" if one["valid"] else f"{pieces}, NOT closed and valid"
        lines += [
            f"{one['name']}: {one['material']}, {state}",
            f"  size {size} mm, volume {one['volume_mm3'] / 1000:.3f} cm³, mass {one['mass_g']:.2f} g",
        ]
    lines += ["", *notes, ""] if notes else [""]
    lines.append("Files, with their SHA-256:")
    for kind, data in files.items():
        true = TRUE.get(kind) or f"within {chord:g} mm of the {'outline, 1:1' if kind == 'lines' else 'surface'}"
        lines += [f"  {names[kind]}: {true}", f"    {hashlib.sha256(data).hexdigest()}"]
    return "\n".join([*lines, ""])


@attrs.frozen
class Released:
    """Files by kind and the report."""

    files: dict = attrs.field(repr=False)
    report: dict


def release_all(
    sheet: BuildSheet, title: str, chord: float = DEFAULT_CHORD_MM, kinds: tuple[str, ...] = FILES
) -> Released:
    """Files of the release and the report, with one rebuild.

    Args:
        kinds: of FILES.
    """
    cache = graph.Cache()
    files = {kind: write_file(kind, sheet, title, chord=chord, cache=cache) for kind in kinds}
    return Released(files, report(sheet, built(sheet, cache)))
