"""Jobs as version 1 stored them."""

from core.tests.specimens import drawn
from examples.render import hole, rounded_polygon
from nomogon_core.sketch import model
from nomogon_core.sketch.constrain import constrain
from nomogon_core.sketch.model import Constraint
from nomogon_core.sketch.regions import find_regions


def old_operations(region):
    """An extrusion of 5 mm with rounded top edges."""
    extrude = {"name": "op1", "kind": "extrude", "mode": "new", "body": "Plate", "regions": [region], "length": 5.0}
    fillet = {"name": "op2", "kind": "fillet", "body": "Plate", "edges": ["top"], "radius": 1.0}
    empty = {"start": 0.0, "through": False, "diameter": 0.0, "depth": 0.0, "suppressed": False, "title": ""}
    return {"op1": empty | extrude, "op2": empty | fillet}


def whole_version_1():
    """Documents of version 1 that hold one of everything there was."""
    sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [6, 0, 0, 0]), hole(20, 20, 5))
    circle, line = (
        next(name for name, curve in sketch.curves.items() if curve.kind == kind) for kind in ("circle", "line")
    )
    sketch = constrain(sketch, Constraint("diameter", (circle,), value=5.0, name="Bore")).sketch
    sketch = constrain(sketch, Constraint("horizontal", (line,))).sketch
    length = {"picture": "r1", "used": True, "sigma_px": 0.1, "gauge_u95_mm": 0.02}
    corners = [[100, 100], [956, 102], [955, 640], [99, 639]]
    known = {
        "k1": {
            "kind": "length",
            "name": "Width",
            "start": [10, 10],
            "end": [610, 10],
            "length_mm": 60.0,
            "typed": "60 mm",
            "jaws": {"way": "level", "place": [9, 9]},
            **length,
        },
        "k2": {
            "kind": "diameter",
            "name": "Bore",
            "center": [200, 200],
            "half_axes": [25, 25],
            "angle": 0.0,
            "length_mm": 5.0,
            **length,
        },
        "k3": {
            "kind": "rectangle",
            "name": "Card",
            "corners": corners,
            "width_mm": 85.6,
            "height_mm": 53.98,
            "thing": "",
            **length,
            "used": False,
        },
        "k4": {
            "kind": "straight",
            "name": "Edge",
            "places": [[10, 10], [100, 10.1], [200, 10], [300, 10], [400, 10]],
            "picture": "r1",
            "used": False,
        },
        "k5": {
            "kind": "check",
            "name": "Check",
            "what": "distance",
            "places": [[10, 10], [10, 410]],
            "gauge": 40.0,
            "stand_in": False,
            **length,
        },
        "k6": {"kind": "resolution", "name": "Resolution", "dpi": [254.0, 254.0], "picture": "r1", "used": True},
    }
    picture = {
        "name": "plate.png",
        "digest": "0" * 64,
        "media_type": "image/png",
        "width": 1200,
        "height": 800,
        "dpi": [254.0, 254.0],
        "taken_from": "",
        "licence": "",
        "origin_px": [0.0, 799.0],
        "angle": 0.0,
        "at_mm": [0.0, 0.0],
        "flipped": False,
        "drawn": False,
        "stand_in": None,
        "camera": "",
        "focal": None,
        "visible": True,
        "locked": False,
        "opacity": 0.55,
        "model": "auto",
        "steps": [{"kind": "even", "reach_percent": 25, "on": True}],
        "height_mm": 2.0,
        "camera_mm": 400.0,
    }
    trace = {
        "picture": "r1",
        "settings": {"tolerance_mm": 0.1, "threshold": 0.5, "speck_mm2": 1.0, "keep": "all"},
        "max_dev_mm": 0.05,
        "rms_dev_mm": 0.01,
        "edge": [[10.0, 799.0], [300.0, 799.0]],
    }
    return {
        "reference": {
            "pictures": {"r1": picture},
            "active": "r1",
            "known": known,
            "traces": {"drawn": trace},
            "next_number": 9,
        },
        "sketch": model.to_json(sketch),
        "build": {
            "operations": old_operations(find_regions(sketch)[0].name),
            "order": ["op1", "op2"],
            "material": "PLA",
            "next_number": 5,
        },
    }
