"""The pictures that lie under the sketch and on the solid."""

import hashlib

from django.urls import reverse

from nomogon_core.job.document import calibration_of, numbers_of
from nomogon_core.job.places import plane_words, run_alike
from nomogon_core.reference.rectify import placed_box
from nomogon_core.solid.planes import words_of
from store.pictures import steps_of


def underlays(document, address):
    """Each visible, calibrated picture with the matrix that places it in its plane.

    Args:
        address: called with (picture id, digest or None, key): where its pixels are had; without a digest, laid flat.
    """
    laid = []
    for name, picture in document["references"].items():
        fit = calibration_of(document, name)
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
                "plane": picture["plane"],
            }
        )
    return laid


def laid_pictures(job, document):
    """The visible, calibrated pictures of a job, each as it lies in its plane."""

    def address(picture, digest, key):
        return (
            reverse("picture", args=[job.pk, digest])
            if digest
            else reverse("reference-flat", args=[job.pk, picture, key])
        )

    return underlays(document, address)


def under_the_sketch(laid, document, sketch):
    """Those of the pictures whose plane coordinates are those of a sketch."""
    plane = document["sketches"][sketch]["plane"]
    return [picture for picture in laid if run_alike(document, picture["plane"], plane)]


def frame_of_plane(plane, result):
    """Plain data of a plane's frame by the last rebuild; None where it is not there."""
    told = result or {}
    if isinstance(plane, dict):
        return next(
            (face for face in told.get("faces", []) if (face["body"], face["name"]) == (plane["body"], plane["face"])),
            None,
        )
    return told.get("frames", {}).get(plane)


def on_the_solid(laid, document, result):
    """The pictures with the frame of what each lies on: None on Plan, and lost where that is gone."""
    told = []
    for picture in laid:
        plane = picture["plane"]
        frame = None if plane == "plan" else frame_of_plane(plane, result)
        lost = plane != "plan" and "faces" in (result or {}) and frame is None
        told.append(picture | {"frame": frame, "lost": lost, "on": plane_words(document, plane)})
    return told


def faces_in_words(document, result):
    """The flat faces of a rebuild, each with its body, its name, and what it is called."""
    numbers = numbers_of(document)
    return [
        {"body": face["body"], "name": face["name"], "words": words_of(face["name"], numbers)}
        for face in (result or {}).get("faces", [])
    ]
