"""The pictures that lie under the sketch."""

import hashlib

from nomogon_core.job import calibration_of
from nomogon_core.reference.rectify import placed_box
from reference.pictures import steps_of


def underlays(documents, address):
    """What the Board of the sketch lays under it: each visible, calibrated picture with the matrix that places it.

    Args:
        address: called with (picture id, digest or None, key): where its pixels are had; without a digest, laid flat.
    """
    laid = []
    for name, picture in documents["reference"]["pictures"].items():
        fit = calibration_of(documents, name)
        if fit is None or not picture.get("visible", True):
            continue
        size = (picture["width"], picture["height"])
        steps = steps_of(picture)
        key = hashlib.sha256(repr((fit.parameters, fit.origin_px, fit.angle, fit.at_mm, fit.flipped, fit.raised, steps)).encode()).hexdigest()[:16]
        straight = fit.is_linear and not steps
        matrix = fit.px_matrix() if straight else placed_box(fit, size)[1]
        laid.append({"url": address(name, picture["digest"] if straight else None, key), "matrix": list(matrix), "opacity": picture.get("opacity", 0.55),
                     "size": list(size) if straight else list(placed_box(fit, size)[0])})
    return laid
