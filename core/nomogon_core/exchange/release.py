"""All files of a release from a job's sketch and operations; runs where the kernel is."""

import attrs

from nomogon_core.errors import OperationError
from nomogon_core.exchange.flat import DEFAULT_CHORD_MM, write_flat
from nomogon_core.exchange.writers import solids
from nomogon_core.solid import rebuild

FILES = ("step", "stl", "3mf", "dxf", "svg")


def write_file(kind, sketch, operations, title, *, chord=DEFAULT_CHORD_MM, cache=None):
    """Bytes of one file of the release.

    Args:
        kind: one of FILES.

    Raises:
        OperationError: an operation fails, or there is nothing to write.
    """
    if kind in ("dxf", "svg"):
        return write_flat(kind, sketch, operations, title)
    bodies = built(sketch, operations, cache)
    if kind == "step":
        return solids.step(bodies)
    return solids.stl(bodies, chord) if kind == "stl" else solids.threemf(bodies, chord)


def built(sketch, operations, cache=None):
    """Bodies of a Build sheet of which every operation works.

    Raises:
        OperationError: names the first operation that fails.
    """
    bodies, steps = rebuild.run(sketch, operations, cache)
    for number, step in enumerate(steps, 1):
        if step.problem:
            raise OperationError(f"Operation {number} fails, so nothing is released: {step.problem}")
    if not bodies:
        raise OperationError("There is no body to release; extrude a region first.")
    return bodies


def report(bodies, material):
    """Plain data of all bodies: volume, area, box, centre of mass, mass, validity."""
    return {
        "bodies": [
            {
                "name": name,
                "volume_mm3": body.facts.volume_mm3,
                "area_mm2": body.facts.area_mm2,
                "box_mm": [list(corner) for corner in body.facts.box],
                "center_of_mass_mm": list(body.facts.center),
                "solids": body.facts.solids,
                "valid": body.facts.valid and body.facts.solids == 1,
                "material": material,
                "mass_g": body.facts.mass_g(material),
            }
            for name, body in bodies.items()
        ]
    }


@attrs.frozen
class Released:
    """Files by kind and the report."""

    files: dict = attrs.field(repr=False)
    report: dict


def release_all(sketch, operations, title, material, chord=DEFAULT_CHORD_MM):
    """Every file of the release and the report, with one rebuild."""
    cache = rebuild.Cache()
    files = {kind: write_file(kind, sketch, operations, title, chord=chord, cache=cache) for kind in FILES}
    return Released(files, report(built(sketch, operations, cache), material))
