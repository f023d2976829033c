"""The Tray of each stage: groups that ``[`` and ``]`` turn through, and in each its tools with what their first click
does."""

from nomogon_core.inspect.making import WAYS
from nomogon_core.sketch.edits import EDITS
from nomogon_core.solid.operations import DECLARATIONS

VIEWS = (
    ("view-turned", "Turned", ""),
    ("view-top", "Above", ""),
    ("view-front", "Front", ""),
    ("view-right", "Right", ""),
    ("view-bottom", "Below", ""),
    ("fit", "Whole", ""),
)


def _edits(shelf):
    """The tools of edits that are said as sentences."""
    return tuple((f"edit-{kind}", one.title, one.told) for kind, one in EDITS.items() if one.shelf == shelf)


def _operations(shelf):
    """The tools of operations of a shelf."""
    return tuple((kind, one.title, one.told) for kind, one in DECLARATIONS.items() if one.shelf == shelf)


TRAYS = {
    "reference": (
        {
            "name": "Measure",
            "tools": (
                (
                    "known",
                    "Between edges",
                    "Click the first edge of a length that you have measured; it is found to a fraction of a pixel.",
                ),
                (
                    "known-exact",
                    "Between points",
                    "Click the first of two points that you know the distance of; they are taken as clicked.",
                ),
                ("diameter", "Round edge", "Click inside a round edge whose diameter you have measured."),
                ("resolution", "Scan's dpi", ""),
            ),
        },
        {
            "name": "Jaws",
            "tools": (
                (
                    "jaws-level",
                    "Across",
                    "Click on the part; two upright jaws close on its outermost edges, left and right.",
                ),
                (
                    "jaws-upright",
                    "Up and down",
                    "Click on the part; two level jaws close on its outermost edges, above and below.",
                ),
                (
                    "jaws-along",
                    "Along an edge",
                    "Click on the part, then two places on an edge that one jaw shall lie along.",
                ),
                (
                    "jaws-closest",
                    "Narrowest",
                    "Click on the part; two jaws close on it where it is narrowest, whichever way that is.",
                ),
                ("whole-width", "Whole picture", ""),
            ),
        },
        {
            "name": "Rectify",
            "tools": (
                ("card", "Bank card", "Click on a bank card (85.60 × 53.98 mm) that lies in the plane of the part."),
                ("sheet", "Sheet", "Click on a sheet of paper that lies under or beside the part."),
                (
                    "rectangle",
                    "Rectangle",
                    "Click the four corners of a rectangle that you have measured, in order around it.",
                ),
                (
                    "straight",
                    "Straight edge",
                    "Click both ends of an edge that is straight in reality; it takes lens bending out.",
                ),
            ),
        },
        {
            "name": "Check",
            "tools": (
                (
                    "check",
                    "Distance",
                    "Click two edges; the picture's reading stands in the Ledger beside your gauge's.",
                ),
                ("check-round", "Diameter", "Click inside a round edge."),
                ("check-angle", "Angle", "Click the corner, then a place on each of its two sides."),
                ("quality", "Good enough?", "How good the picture is, and what would make it better."),
            ),
        },
        {
            "name": "Place",
            "tools": (
                ("level", "Level by edge", "Click two places on a straight edge that should lie level or upright."),
                ("origin", "Origin", "Click the place that should be the origin."),
                ("axis", "Mirror axis", ""),
                (
                    "pictures",
                    "Pictures",
                    "All pictures of the job: which one to work on, how each lies, what is shown.",
                ),
            ),
        },
        {
            "name": "Clean up",
            "tools": (
                ("clean", "Steps", "Clean-up steps; the picture itself stays as it is."),
                ("crop", "Crop", "Drag a box over what should stay."),
                ("erase", "Erase", "Drag over what should become ground."),
                ("paint", "Paint", "Drag over what should become part."),
            ),
        },
        {
            "name": "Trace",
            "tools": (
                (
                    "outlines",
                    "Find outlines",
                    "Move the threshold until the outlines sit on the edges; click an outline to leave it out or keep "
                    "it.",
                ),
            ),
        },
        {"name": "View", "tools": (("fit", "Whole picture", ""), ("closer", "Closer", ""), ("farther", "Farther", ""))},
    ),
    "sketch": (
        {
            "name": "Draw",
            "tools": (
                (
                    "line",
                    "Line",
                    "Click where the line begins; ends nearby and the picture's edges are caught, unless Alt is held.",
                ),
                ("arc", "Arc", "Click where the arc begins, then where it ends, then a place between."),
                ("circle", "Circle", "Click the centre, then a place on the rim."),
                (
                    "ellipse",
                    "Ellipse",
                    "Click the centre, then the end of one axis, then a place as far from it as the ellipse reaches.",
                ),
                ("spline", "Spline", "Click places along the curve; Enter ends it."),
                ("rectangle", "Rectangle", "Click two opposite corners."),
                (
                    "oval-arc",
                    "Elliptical arc",
                    "Click the centre of its ellipse, then the end of one axis, then both ends.",
                ),
                *_edits("Bring"),
            ),
        },
        {
            "name": "Edges",
            "tools": (
                (
                    "follow",
                    "Follow edge",
                    "Click an edge of the picture, then another place on it; the edge between is followed.",
                ),
                (
                    "round",
                    "Round edge",
                    "Click inside a round edge of the picture; a circle, or an ellipse if it is oval, is put on it.",
                ),
                (
                    "arc-edge",
                    "Arc on edge",
                    "Click roughly where a round edge of the picture begins, then where it ends, then a place between.",
                ),
                (
                    "bring",
                    "Edge of solid",
                    "Click an edge of the solid behind; it comes in as construction that follows it.",
                ),
                ("meant", "Meant?", "What the picture says about what was meant; tick what should be so."),
                *_edits("Picture"),
            ),
        },
        {
            "name": "Edit",
            "tools": (
                ("choose", "Choose", "Click to choose, Shift click to add; drag what is free."),
                ("remove", "Delete", "Click what should go; what hangs on it goes along."),
                ("construction", "Construction", "Click a curve to make it construction or outline."),
                ("join", "Join", "Click the first loose end, then the second."),
                ("trim", "Trim", "Click the part of a curve that should go, back to where it crosses others."),
                ("extend", "Extend", "Click a line or arc near the loose end that should go on to the next curve."),
            ),
        },
        {"name": "Change", "tools": _edits("Change")},
        {
            "name": "Shape",
            "tools": (
                ("more", "Add point", "Click a spline where it should have another point; its shape stays."),
                (
                    "fewer",
                    "Drop point",
                    "Click a spline near the point that should go; how far the curve moves is told.",
                ),
                (
                    "smoother",
                    "Smoother",
                    "Click a spline whose bend should go on evenly through its points; how far it moves is told.",
                ),
                *_edits("Shape"),
            ),
        },
        {
            "name": "Tie",
            "tools": (
                ("horizontal", "Horizontal", "Click a line, or two points, that should lie level."),
                ("vertical", "Vertical", "Click a line, or two points, that should stand upright."),
                ("parallel", "Parallel", "Click two lines."),
                ("perpendicular", "Perpendicular", "Click two lines."),
                ("tangent", "Tangent", "Click two curves that should touch smoothly."),
                ("equal", "Equal", "Click two lines, or two circles or arcs."),
            ),
        },
        {
            "name": "Place",
            "tools": (
                ("coincident", "Coincident", "Click two points that should be one place."),
                ("concentric", "Concentric", "Click two circles or arcs."),
                ("symmetric", "Symmetric", "Click two points, then the line between them."),
                ("midpoint", "Midpoint", "Click a point, then a line."),
                ("on curve", "On curve", "Click a point, then a curve."),
                ("fixed", "Fixed", "Click a point or curve that should stay where it is."),
                (
                    "smooth",
                    "Smooth",
                    "Click a spline and the curve that it ends at: their bends become equal there.",
                ),
            ),
        },
        {
            "name": "Dimension",
            "tools": (
                ("distance", "Distance", "Click a line, or two points, or a point and a curve, or two curves."),
                ("across", "Across", "Click two points, or a line, to say how far apart they are from left to right."),
                ("up", "Up", "Click two points, or a line, to say how far apart they are from bottom to top."),
                ("radius", "Radius", "Click a circle or an arc."),
                (
                    "diameter",
                    "Diameter",
                    "Click a circle or an arc; or a line of a half profile, then its axis.",
                ),
                ("angle", "Angle", "Click two lines."),
                ("arc length", "Arc length", "Click an arc."),
            ),
        },
        {
            "name": "View",
            "tools": (
                ("fit", "Whole sketch", ""),
                ("comb", "Edge comb", "How far the curves are from the picture's edge, drawn thirty times as long."),
                ("findings", "Findings", "What keeps areas from closing: point at one to see it large."),
                ("grid", "Grid", ""),
            ),
        },
    ),
    "solid": (
        *({"name": shelf, "tools": _operations(shelf)} for shelf in ("Shape", "Edges", "Again", "Bodies", "Marks")),
        {
            "name": "Planes",
            "tools": (
                ("sketch", "Sketch on", "Click the flat face that a new sketch should lie on, or choose a plane."),
                ("plane-offset", "Offset plane", "Click the plane or flat face to offset from."),
                (
                    "plane-turned",
                    "Turned plane",
                    "Click the plane or flat face to turn, then the edge to turn it about.",
                ),
                ("plane-midway", "Midway plane", "Click the first of two planes or flat faces."),
                ("plane-points", "Plane of points", "Click three corners of the solid."),
            ),
        },
        {
            "name": "Reference",
            "tools": (
                ("lay", "Picture on a face", "Choose a picture, then click the flat face of the solid that it shows."),
            ),
        },
        {"name": "View", "tools": (*VIEWS[:-1], ("perspective", "Perspective", ""), VIEWS[-1])},
        {
            "name": "Look",
            "tools": (
                (
                    "measure",
                    "Measure",
                    "Click a face, an edge or a corner; a second one for what is between.",
                ),
                ("section", "Section", "Drag the plane; what is cut is hatched."),
                ("as-drawing", "Save as drawing", ""),
            ),
        },
    ),
    "inspect": (
        {
            "name": "Made by",
            "tools": tuple((f"way-{way.kind}", way.title, "") for way in WAYS),
        },
        {
            "name": "Lying",
            "tools": (
                ("lay-drawn", "As drawn", ""),
                ("lay-over", "Turned over", ""),
                ("lay-front", "On its front", ""),
                ("lay-back", "On its back", ""),
            ),
        },
        {"name": "View", "tools": VIEWS},
    ),
}
