"""The Tray of each stage: groups that ``[`` and ``]`` turn through, and in each its tools with what their first click does."""

TRAYS = {
    "reference": (
        {"name": "Measure", "tools": (
            ("known", "Between edges", "Click the first edge of a length that you have measured; it is found to a fraction of a pixel."),
            ("known-exact", "Between points", "Click the first of two points that you know the distance of; they are taken as clicked."),
            ("level", "Level by edge", "Click two places on a straight edge that should lie level or upright."))},
        {"name": "Trace", "tools": (("outlines", "Find outlines", "Move the threshold until the outlines sit on the edges; click an outline to leave it out or keep it."),)},
        {"name": "View", "tools": (("fit", "Whole picture", ""), ("closer", "Closer", ""), ("farther", "Farther", ""))},
    ),
    "sketch": (
        {"name": "Draw", "tools": (
            ("line", "Line", "Click where the line begins; ends and centres nearby are caught."),
            ("arc", "Arc", "Click where the arc begins, then where it ends, then a place between."),
            ("circle", "Circle", "Click the centre, then a place on the rim."),
            ("spline", "Spline", "Click places along the curve; Enter ends it."),
            ("rectangle", "Rectangle", "Click two opposite corners."))},
        {"name": "Edit", "tools": (
            ("choose", "Choose", "Click to choose, Shift click to add; drag what is free."),
            ("remove", "Delete", "Click what should go; what hangs on it goes along."),
            ("construction", "Construction", "Click a curve to make it construction or outline."),
            ("join", "Join ends", "Click the first loose end, then the second."),
            ("fit", "Whole sketch", ""))},
        {"name": "Tie", "tools": (
            ("coincident", "Coincident", "Click two points that should be one place."),
            ("horizontal", "Horizontal", "Click a line, or two points, that should lie level."),
            ("vertical", "Vertical", "Click a line, or two points, that should stand upright."),
            ("parallel", "Parallel", "Click two lines."),
            ("perpendicular", "Perpendicular", "Click two lines."),
            ("tangent", "Tangent", "Click two curves that should touch smoothly."),
            ("equal", "Equal", "Click two lines, or two circles or arcs."))},
        {"name": "Place", "tools": (
            ("concentric", "Concentric", "Click two circles or arcs."),
            ("symmetric", "Symmetric", "Click two points, then the line between them."),
            ("midpoint", "Midpoint", "Click a point, then a line."),
            ("on curve", "On curve", "Click a point, then a line, circle or arc."),
            ("fixed", "Fixed", "Click a point or curve that should stay where it is."))},
        {"name": "Dimension", "tools": (
            ("distance", "Distance", "Click a line, or two points, or a point and a line."),
            ("across", "Across", "Click two points, or a line, to say how far apart they are from left to right."),
            ("up", "Up", "Click two points, or a line, to say how far apart they are from bottom to top."),
            ("radius", "Radius", "Click a circle or an arc."),
            ("diameter", "Diameter", "Click a circle or an arc."),
            ("angle", "Angle", "Click two lines."))},
    ),
    "solid": (
        {"name": "Shape", "tools": (
            ("extrude", "Extrude", "Click the regions to extrude; click again to leave one out."),
            ("hole", "Hole", "Click the circles of the sketch that should be holes."),
            ("fillet", "Fillet", "Click edges of the solid, or choose a rule."))},
        {"name": "View", "tools": (
            ("view-turned", "Turned", ""), ("view-top", "From above", ""), ("view-front", "From the front", ""),
            ("view-right", "From the right", ""), ("view-bottom", "From below", ""), ("fit", "Whole part", ""))},
    ),
}
