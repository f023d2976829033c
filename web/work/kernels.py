"""What runs in the worker's own processes, where a crash or a hang harms nobody: rebuilding and tracing.

Only plain data crosses into and out of these functions.
"""

import attrs

from nomogon_core.job import build_of, calibration_of
from nomogon_core.reference.decode import decode
from nomogon_core.solid import display, rebuild, release
from nomogon_core.trace.outlines import TraceSettings, outline_record, trace

_CACHE = rebuild.Cache()


def warm():
    """Nothing; importing this module has loaded the kernel."""
    return True


def rebuild_job(documents, count=None):
    """Steps, facts of the bodies, and the packed mesh of the first ``count`` operations of a Build sheet."""
    build = build_of(documents)
    bodies, steps = rebuild.run(build.sketch, build.operations[:count], _CACHE)
    result = {"steps": [attrs.asdict(step) for step in steps], "bodies": {name: attrs.asdict(body.facts) for name, body in bodies.items()}}
    return result, display.pack(bodies) if bodies else None


def trace_picture(documents, picture, settings):
    """Fitted outlines of a picture, as plain data."""
    outlines = trace(decode(picture), calibration_of(documents), TraceSettings(**settings))
    return {"outlines": [outline_record(outline) for outline in outlines]}, None


def release_file(documents, kind, title, chord):
    """One file of the release."""
    build = build_of(documents)
    return {"kind": kind}, release.write_file(kind, build.sketch, build.operations, title, chord=chord, cache=_CACHE)
