"""What runs in the worker's own processes, where a crash or a hang harms nobody: rebuilding and tracing.

Only plain data crosses into and out of these functions.
"""

from pathlib import Path

import attrs
import cv2
import numpy as np

from nomogon_core.exchange import release
from nomogon_core.job.document import build_of, calibration_of, picture_of, things_of
from nomogon_core.picture.cleanup import Scale, clean
from nomogon_core.picture.decode import colours, decode, linear_to_srgb
from nomogon_core.solid import display, rebuild
from nomogon_core.trace.outlines import COLOURED, TraceSettings, outline_record, trace

_CACHE = rebuild.Cache()


def warm():
    """Nothing; importing this module has loaded the kernel."""
    return True


def rebuild_job(documents, count=None):
    """Steps, facts of the bodies, and the packed mesh of the first ``count`` operations of a Build sheet."""
    build = build_of(documents)
    bodies, steps = rebuild.run(build.sketch, build.operations[:count], _CACHE)
    result = {
        "steps": [attrs.asdict(step) for step in steps],
        "bodies": {name: attrs.asdict(body.facts) for name, body in bodies.items()},
        "faces": [
            {"body": body, "name": name, **attrs.asdict(frame)} for body, name, frame in rebuild.flat_faces(bodies)
        ],
    }
    return result, display.pack(bodies) if bodies else None


def _teller(progress):
    """A function that writes how far the work is, for the process that waits to read."""
    return (lambda share: Path(progress).write_text(f"{share:.3f}")) if progress else None


def trace_picture(documents, data, settings, progress=None):
    """Fitted outlines of the picture worked on, after its clean-up steps, as plain data."""
    _, picture = picture_of(documents)
    fit = calibration_of(documents)
    light = decode(data, picture["name"], drawn=picture.get("drawn", False))
    steps = [step for step in picture.get("steps", []) if step.get("on", True)]
    colour = (
        colours(data, picture["name"], drawn=picture.get("drawn", False)) if settings.get("mode") in COLOURED else None
    )
    outlines = trace(
        clean(light, steps, Scale(1.0, fit.mm_per_px)),
        fit,
        TraceSettings(**settings),
        _teller(progress),
        things_of(documents),
        colour,
    )
    return {"outlines": [outline_record(outline) for outline in outlines]}, None


def clean_picture(data, name, drawn, steps, mm_per_px, progress=None):
    """JPEG of a picture after its clean-up steps, at full size."""
    light = clean(decode(data, name, drawn=drawn), steps, Scale(1.0, mm_per_px), _teller(progress))
    stored = np.clip(linear_to_srgb(light) * 255 + 0.5, 0, 255).astype(np.uint8)
    return {"steps": len(steps)}, cv2.imencode(".jpg", stored, [cv2.IMWRITE_JPEG_QUALITY, 90])[1].tobytes()


def release_file(documents, kind, title, chord):
    """One file of the release."""
    build = build_of(documents)
    return {"kind": kind}, release.write_file(kind, build.sketch, build.operations, title, chord=chord, cache=_CACHE)
