"""The pictures that lie under the sketch and on the solid."""

import hashlib

from nomogon_core.job.document import calibration_of
from nomogon_core.reference.rectify import placed_box
from nomogon_core.solid.planes import faces_up, words_of
from reference.pictures import steps_of


def underlays(documents, address):
    """Each visible, calibrated picture with the matrix that places it in its plane.

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
        key = hashlib.sha256(
            repr((fit.parameters, fit.origin_px, fit.angle, fit.at_mm, fit.flipped, fit.raised, steps)).encode()
        ).hexdigest()[:16]
        straight = fit.is_linear and not steps
        matrix = fit.px_matrix() if straight else placed_box(fit, size)[1]
        laid.append(
            {
                "url": address(name, picture["digest"] if straight else None, key),
                "matrix": list(matrix),
                "opacity": picture.get("opacity", 0.55),
                "size": list(size) if straight else list(placed_box(fit, size)[0]),
                "id": name,
                "name": picture["name"],
                "face": picture.get("face"),
            }
        )
    return laid


def under_the_sketch(laid):
    """Those of the pictures whose plane coordinates are the base sketch's."""
    return [picture for picture in laid if not picture["face"] or faces_up(picture["face"]["name"])]


def on_the_solid(laid, documents, result):
    """The pictures with the frame of the face that each lies on: None on the base plane, and lost where that face is
    gone."""
    frames = {(face["body"], face["name"]): face for face in (result or {}).get("faces", [])}
    numbers = {name: place for place, name in enumerate(documents["build"]["order"], 1)}
    told = []
    for picture in laid:
        face = picture["face"]
        frame = frames.get((face["body"], face["name"])) if face else None
        told.append(
            picture
            | {
                "frame": frame,
                "lost": bool(face and "faces" in (result or {}) and frame is None),
                "on": f"{face['body']}, {words_of(face['name'], numbers)}" if face else "base plane",
            }
        )
    return told


def faces_in_words(documents, result):
    """The flat faces of a rebuild, each with its body, its name, and what it is called."""
    numbers = {name: place for place, name in enumerate(documents["build"]["order"], 1)}
    return [
        {"body": face["body"], "name": face["name"], "words": f"{face['body']}, {words_of(face['name'], numbers)}"}
        for face in (result or {}).get("faces", [])
    ]
