"""What runs in the worker's own processes, where a crash or a hang harms nobody: rebuilding and tracing.

Only plain data crosses into and out of these functions.
"""

from pathlib import Path

import attrs
import cv2
import numpy as np

from nomogon_core.devices import cutter, gauge, printer
from nomogon_core.exchange import allowing, release
from nomogon_core.exchange.flat import allowed_areas
from nomogon_core.exchange.writers.pdf import TitleBlock
from nomogon_core.inspect import telling
from nomogon_core.inspect.findings import inspected
from nomogon_core.inspect.lettering import of_marks
from nomogon_core.inspect.making import making_of, printer_of
from nomogon_core.job.against import found_against
from nomogon_core.job.document import build_of
from nomogon_core.job.edges import edge_record
from nomogon_core.job.library import traced
from nomogon_core.job.overview import overview
from nomogon_core.job.quantities import environment
from nomogon_core.job.sureness import how_sure
from nomogon_core.picture.cleanup import Scale, clean
from nomogon_core.picture.decode import decode, linear_to_srgb
from nomogon_core.quantity.units import format_length, format_short
from nomogon_core.sketch import model
from nomogon_core.solid import display, graph
from nomogon_core.solid.measuring import measured
from work.shapes import Files, Shapes

_CACHE = graph.Cache()
FIRST = ".first"
NOTHING = {"steps": [], "bodies": {}, "faces": [], "frames": {}, "sketches": {}, "measures": {}}


def _cache(shared):
    """This process's results, and those of others where it is told how to reach them."""
    return _CACHE.sharing(Shapes(*shared) if shared else None)


class _Onlooker:
    """Leaves how far a rebuild is, and the packed mesh of what is there already, in files for the process that waits.

    Args:
        progress: path of the one; that of the other ends in :data:`FIRST`.
    """

    def __init__(self, progress):
        self.at, self.picture = _teller(progress), Path(progress + FIRST)

    def seen(self, bodies):
        half = self.picture.with_suffix(".half")
        half.write_bytes(display.pack(bodies, coarse=True))
        half.replace(self.picture)


def rebuild_job(document, shared=None, count=None, files=None, progress=None):
    """Steps, facts of the bodies, frames of planes and faces, and the packed mesh of the first ``count`` steps of a
    Build sheet.

    Args:
        shared: see :func:`work.shapes.shared_by`; None shares nothing.
        files: where meshes are kept that it brings in; None asks the database that is shared.
        progress: path of a file that is told how far it is, see :class:`_Onlooker`; or None.
    """
    sheet = _sheet(document, shared, files)
    built = graph.run(sheet, _cache(shared), count, _Onlooker(progress) if progress else None)
    return _told_of(built, sheet), display.pack(built.bodies) if built.bodies else None


def _told_of(built, sheet):
    """What is known of a rebuild, as plain data."""
    result = {
        "steps": [attrs.asdict(step) for step in built.steps],
        "bodies": {name: attrs.asdict(body.facts) for name, body in built.bodies.items()},
        "faces": [
            {"body": body, "name": name, **attrs.asdict(frame)} for body, name, frame in graph.flat_faces(built.bodies)
        ],
        "frames": {name: attrs.asdict(frame) for name, frame in built.frames.items()},
    }
    result["extremes"] = {name: graph.extremes_of(body) for name, body in built.bodies.items()}
    result["measures"] = graph.measures_of(built, sheet)
    result["sketches"] = {name: _plain(sketch) for name, sketch in built.sketches.items()}
    return result


def _plain(sketch):
    data = model.to_json(sketch)
    return {part: data[part] for part in ("points", "curves", "constraints")}


def _whole(document):
    """What a rebuild is sent, with the parts that it does not need empty."""
    return {"references": {}, "traces": {}} | document


def _sheet(document, shared, files=None):
    whole = _whole(document)
    return build_of(whole, environment(whole), files=files or (Files(*shared) if shared else None))


def edge_in_sketch(document, shared, sketch, body, edge):
    """The plane curve that an edge of the solid shows in a sketch."""
    return {"curve": edge_record(_whole(document), sketch, body, edge, _cache(shared), Files(*shared))}, None


def measure_solid(document, shared, picks):
    """Sizes of what is picked on the solid, as plain data."""
    bodies = graph.run(_sheet(document, shared), _cache(shared)).bodies
    return {"measures": [attrs.asdict(one) for one in measured(bodies, picks)]}, None


def inspect_solid(document, shared, making, pictures):
    """What is found on all bodies before they are made, as plain data; nothing while a step fails."""
    sheet = _sheet(document, shared)
    built = graph.run(sheet, _cache(shared))
    found = _found(document | pictures, shared, sheet, built, making_of(making))
    return {"findings": [attrs.asdict(one) for one in found]}, None


def _found(document, shared, sheet, built, how):
    seen = found_against(document, built, Files(*shared)) if document.get("traces") else []
    found = [*inspected(built.bodies, how, sheet.apart, of_marks(sheet, built, how)), *seen]
    return sorted(found, key=lambda one: telling.RANK[one.severity])


def allow_for(document, shared, making):
    """In words, what the files of a release have otherwise than the design."""
    bodies = release.built(_sheet(document, shared), _cache(shared))
    return {"told": allowing.told_of(bodies, making_of(making).allowances)}, None


def print_part(document, shared, making):
    """What printing a part as its files have it takes, and its layers as JSON."""
    sheet = _sheet(document, shared)
    bodies = release.as_made(sheet, making_of(making), _cache(shared))
    facts = [(body.facts, sheet.bodies[name]["material"]) for name, body in bodies.items()]
    density = sum(one.mass_g(material) for one, material in facts) / sum(one.volume_mm3 / 1000 for one, _ in facts)
    told = printer.printed(list(bodies.values()), printer.Settings(**printer_of(making)), density)
    result = {name: getattr(told, name) for name in ("seconds", "grams", "metres", "cost")}
    for kind in ("hanging", "bridges"):
        result[kind] = [number for number, one in enumerate(told.layers, 1) if len(getattr(one, kind))]
    return result | {"layers": len(told.layers)}, printer.preview(told)


def cut_part(document, shared, making, unit):
    """What cutting copies of a part's flat outlines as the file has them takes, and the way of the tool as JSON."""
    how = making_of(making)
    areas = allowed_areas(release.flat_areas(_sheet(document, shared), how, _cache(shared)), how.allowances)
    told = cutter.cut(areas, how.cutter)
    result = {name: getattr(told, name) for name in ("seconds", "metres", "bare")}
    used = " × ".join(format_length(size, unit=unit) for size in told.nest.used)
    nest = {"copies": len(told.nest.places), "most": told.nest.most, "sheets": told.nest.sheets, "used": used}
    kerf, allowed = how.cutter["kerf"], how.allowances.kerf
    wanted = "" if cutter.allows(kerf, allowed) else format_short(kerf, unit=unit)
    words = {"words": cutter.in_words(told, kerf, allowed, unit), "wanted": wanted}
    return result | nest | words, cutter.preview(told, how.cutter)


def gauge_part(document, shared, making, part, unit):
    """Readings of one of the parts made, and by how much holes should grow in the files of the next, in words."""
    how, sheet, cache = making_of(making), _sheet(document, shared), _cache(shared)
    design = list(release.built(sheet, cache).values())
    made = list(release.as_made(sheet, how, cache, lying=False).values())
    readings = gauge.read(design, made, how.way, how.cutter["kerf"], how.allowances.kerf, str(part))
    return gauge.in_words(readings, unit), None


def _teller(progress):
    """A function that writes how far the work is, for the process that waits to read."""
    return (lambda share: Path(progress).write_text(f"{share:.3f}")) if progress else None


def trace_picture(document, name, data, settings, progress=None):
    """Fitted outlines of a picture, after its clean-up steps, as plain data."""
    return {"outlines": traced(document, name, data, settings, _teller(progress))}, None


def clean_picture(data, name, drawn, steps, mm_per_px, progress=None):
    """JPEG of a picture after its clean-up steps, at full size."""
    light = clean(decode(data, name, drawn=drawn), steps, Scale(1.0, mm_per_px), _teller(progress))
    stored = np.clip(linear_to_srgb(light) * 255 + 0.5, 0, 255).astype(np.uint8)
    return {"steps": len(steps)}, cv2.imencode(".jpg", stored, [cv2.IMWRITE_JPEG_QUALITY, 90])[1].tobytes()


def release_file(document, shared, kind, title, chord, look=None, making=(), pictures=(), block=()):
    """One file of the release, lying as it is made, or all in one zip with a report that tells what was found, also
    against the pictures."""
    sheet, cache, how = _sheet(document, shared), _cache(shared), making_of(dict(making))
    said = TitleBlock(title, **dict(block))
    if kind != "zip":
        made = release.write_file(kind, sheet, title, chord=chord, cache=cache, look=look, making=how, block=said)
        return {"kind": kind}, made
    release.built(sheet, cache)
    job, built = _whole(document) | dict(pictures), graph.run(sheet, cache)
    sure = how_sure(overview(job, _told_of(built, sheet))) if pictures else None
    notes = telling.report([*_found(job, shared, sheet, built, how), *([sure] if sure else [])], how, sheet)
    made = release.bundle(sheet, title, chord=chord, cache=cache, making=how, notes=notes, block=said)
    return {"kind": kind}, made
