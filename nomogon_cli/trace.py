"""``./nomogon trace PICTURE --known X1,Y1,X2,Y2,LENGTH --tolerance 0.1mm --out FILE``"""

import json
from pathlib import Path

from nomogon_cli.arguments import Parser, read_file
from nomogon_core.errors import InputError
from nomogon_core.exchange import drawing
from nomogon_core.quantity.units import parse_length, parse_positive_length
from nomogon_core.reference.calibration import KnownLength, fit_similarity
from nomogon_core.reference.decode import decode
from nomogon_core.reference.edges import UNSURE_PICK_PX, pick_edge
from nomogon_core.trace.outlines import DEFAULT_SPECK_MM2, TraceSettings, outline_record, trace

FORMATS = (".dxf", ".svg", ".json")
PICK_SEARCH_PX = 4.0


def _parser():
    parser = Parser(prog="trace", description="Outlines of a calibrated picture as lines, arcs, circles and splines.")
    parser.add_argument("picture")
    parser.add_argument("--known", action="append", default=[], metavar="X1,Y1,X2,Y2,LENGTH", help="two places in pixels and how long that is; may be repeated")
    parser.add_argument("--tolerance", default="0.1mm", help="how far a curve may leave the picture's edge")
    parser.add_argument("--out", required=True, metavar="FILE", help="ends in .dxf, .svg or .json")
    parser.add_argument("--report", metavar="REPORT.json")
    parser.add_argument("--threshold", type=float, default=0.5, help="share of the way from ground to part (0.5)")
    parser.add_argument("--speck", type=float, default=DEFAULT_SPECK_MM2, metavar="MM2", help="smaller outlines are left out")
    parser.add_argument("--keep", choices=("all", "largest"), default="all")
    parser.add_argument("--picks", choices=("edge", "exact"), default="edge", help="move picks to the nearest edge within 4 px, or take them as they are")
    return parser


def known_length(text, number, light, exact):
    """A known length from its text on the command line.

    Raises:
        InputError: not four numbers and a length.
    """
    parts = text.split(",", 4)
    if len(parts) != 5:
        raise InputError(f"--known {text!r} must be X1,Y1,X2,Y2,LENGTH, for example 120,80,960,80,84mm.")
    try:
        places = [float(part) for part in parts[:4]]
    except ValueError:
        raise InputError(f"--known {text!r}: the first four parts must be numbers, the places in pixels.") from None
    name = f"Known length {number}"
    length = parse_positive_length(parts[4], name)
    picks = [pick_edge(light, x, y, search_px=PICK_SEARCH_PX) for x, y in (places[:2], places[2:])]
    if exact:
        return KnownLength(name, tuple(places[:2]), tuple(places[2:]), length, sigma_px=0.1)
    sigma = max(pick.sigma_px if pick.on_edge else UNSURE_PICK_PX for pick in picks)
    return KnownLength(name, (picks[0].x, picks[0].y), (picks[1].x, picks[1].y), length, sigma_px=sigma)


def run(arguments):
    """Trace, write, report.

    Raises:
        CoreError: anything about the input that cannot be used.
    """
    options = _parser().parse_args(arguments)
    kind = Path(options.out).suffix.lower()
    if kind not in FORMATS:
        raise InputError(f"--out {options.out}: the name must end in .dxf, .svg or .json.")
    tolerance = parse_length(options.tolerance)
    if not options.known:
        raise InputError("At least one --known X1,Y1,X2,Y2,LENGTH is needed; without it a picture has no scale.")
    light = decode(read_file(options.picture), Path(options.picture).name)
    lengths = [known_length(text, number, light, options.picks == "exact") for number, text in enumerate(options.known, 1)]
    calibration = fit_similarity(lengths, origin_px=(0.0, light.shape[0] - 1.0))
    settings = TraceSettings(options.threshold, tolerance, options.speck, options.keep)
    outlines = trace(light, calibration, settings)
    report = {"scale": scale_record(calibration, lengths), "outlines": [outline_record(outline) for outline in outlines]}
    curves = [outline.curves for outline in outlines]
    if kind == ".dxf":
        data = drawing.dxf(curves)
    elif kind == ".svg":
        data = drawing.svg(curves, title=Path(options.picture).stem).encode()
    else:
        data = json.dumps(report, indent=1).encode()
    Path(options.out).write_bytes(data)
    if options.report:
        Path(options.report).write_text(json.dumps(report, indent=1))
    return 0


def scale_record(calibration, lengths):
    """Plain data of a calibration for the report."""
    return {
        "model": calibration.model, "mm_per_px": calibration.mm_per_px, "u95_mm_per_px": 2 * calibration.u_mm_per_px,
        "origin_px": list(calibration.origin_px),
        "known": [{"name": residual.name, "start_px": list(known.start), "end_px": list(known.end), "length_mm": known.length_mm,
                   "read_mm": residual.read_mm, "off_mm": residual.off_mm, "u95_mm": residual.u95_mm}
                  for known, residual in zip(lengths, calibration.residuals)],
    }
