"""``./nomogon trace PICTURE --known X1,Y1,X2,Y2,LENGTH --tolerance 0.1mm --out FILE``"""

import json
from pathlib import Path

from nomogon_cli.arguments import Parser, read_file
from nomogon_cli.scale import add_options, calibrate, other_than, scale_record
from nomogon_core.errors import InputError
from nomogon_core.exchange import drawing
from nomogon_core.quantity.units import parse_length
from nomogon_core.reference.decode import decode, inspect
from nomogon_core.trace.outlines import DEFAULT_SPECK_MM2, PARTS, TraceSettings, outline_record, trace

FORMATS = (".dxf", ".svg", ".json")


def _parser():
    parser = Parser(prog="trace", description="Outlines of a calibrated picture as lines, arcs, circles and splines.")
    parser.add_argument("picture")
    add_options(parser)
    parser.add_argument("--tolerance", default="0.1mm", help="how far a curve may leave the picture's edge")
    parser.add_argument("--out", required=True, metavar="FILE", help="ends in .dxf, .svg or .json")
    parser.add_argument("--report", metavar="REPORT.json")
    parser.add_argument("--threshold", type=float, default=0.5, help="share of the way from ground to part (0.5)")
    parser.add_argument("--speck", type=float, default=DEFAULT_SPECK_MM2, metavar="MM2", help="smaller outlines are left out")
    parser.add_argument("--part", choices=PARTS, help="whether the part is dark or bright against the ground; by itself the more striking, or the other than a card")
    parser.add_argument("--keep", choices=("all", "largest"), default="all")
    return parser


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
    data, name = read_file(options.picture), Path(options.picture).name
    light = decode(data, name)
    calibration, lengths, rectangles = calibrate(options, light, inspect(data, name))
    settings = TraceSettings(options.threshold, tolerance, options.speck, options.keep, part=options.part or other_than(rectangles, light))
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
