"""``./nomogon trace PICTURE --known X1,Y1,X2,Y2,LENGTH --tolerance 0.1mm --out FILE``"""

import json
import math
import time
from pathlib import Path

import attrs

from nomogon_cli.arguments import Parser, read_file
from nomogon_cli.scale import add_options, calibrate, scale_record
from nomogon_core.errors import InputError
from nomogon_core.exchange.writers import drawing
from nomogon_core.geometry.curves import outline_points
from nomogon_core.picture.decode import colours, decode, inspect, looks_drawn
from nomogon_core.quantity.units import parse_length
from nomogon_core.trace.finding import SAME_COLOUR, SIDES_OF_LINES, colour_at
from nomogon_core.trace.halves import SIDES
from nomogon_core.trace.outlines import (
    COLOURED,
    DEFAULT_SPECK_MM2,
    DEFAULT_TOLERANCE_MM,
    MODES,
    PARTS,
    TraceSettings,
    outline_record,
    tolerance_for,
    trace,
)
from nomogon_core.trace.symmetry import find_axis
from nomogon_core.trace.things import thing_of

FORMATS = (".dxf", ".svg", ".json")


def _parser():
    parser = Parser(prog="trace", description="Outlines of a calibrated picture as lines, arcs, circles and splines.")
    parser.add_argument("picture")
    add_options(parser)
    _add_accuracy_and_files(parser)
    _add_what_is_found(parser)
    _add_how_it_is_told(parser)
    _add_symmetry(parser)
    return parser


def _add_accuracy_and_files(parser):
    parser.add_argument(
        "--tolerance",
        default="auto",
        help="how far a curve may leave the picture's edge, for example 0.1mm; by itself as fine as the picture allows",
    )
    parser.add_argument(
        "--drawn",
        choices=("auto", "yes", "no"),
        default="auto",
        help="whether a program drew the picture, so that its edges are mixed in stored values; seen by itself",
    )
    parser.add_argument("--out", required=True, metavar="FILE", help="ends in .dxf, .svg or .json")
    parser.add_argument("--report", metavar="REPORT.json")


def _add_what_is_found(parser):
    parser.add_argument("--threshold", type=float, default=0.5, help="share of the way from ground to part (0.5)")
    parser.add_argument(
        "--speck", default=f"{DEFAULT_SPECK_MM2}mm2", metavar="MM2", help="smaller outlines are left out"
    )
    parser.add_argument(
        "--gap",
        default="0mm",
        metavar="MM",
        help="gaps and cracks no wider than this are closed first, except in --mode colour",
    )
    parser.add_argument(
        "--part",
        choices=PARTS,
        help=(
            "whether the part is dark or bright against the ground; by itself the more striking, or the other than a "
            "card"
        ),
    )
    parser.add_argument(
        "--keep",
        default="all",
        metavar="all|largest|N",
        help="every outline, the largest, or the N largest, each with its holes",
    )


def _add_how_it_is_told(parser):
    parser.add_argument(
        "--mode",
        choices=MODES,
        default="tone",
        help="what tells part from ground; centre follows the middle of strokes",
    )
    parser.add_argument(
        "--colour",
        action="append",
        default=[],
        metavar="X,Y",
        help="a place in the picture that has the part's colour, for --mode colour; may be repeated",
    )
    parser.add_argument(
        "--reach", type=float, default=SAME_COLOUR, help="how far a colour reaches, as a distance in OKLab (0.06)"
    )
    parser.add_argument(
        "--part-stroke",
        action="append",
        default=[],
        metavar="X,Y X,Y …",
        help="a stroke along places on the part, for --mode strokes; may be repeated",
    )
    parser.add_argument(
        "--ground-stroke", action="append", default=[], metavar="X,Y X,Y …", help="the same on the ground"
    )
    parser.add_argument("--flatten", action="store_true", help="level the ground's light everywhere first")
    parser.add_argument(
        "--sides",
        choices=SIDES_OF_LINES,
        default="auto",
        help="of drawn lines and rings: both sides, the outer one, or what is likely; --mode centre follows the middle",
    )


def _add_symmetry(parser):
    parser.add_argument(
        "--halves",
        choices=SIDES,
        help="fit the half on this side of the mirror axis, or the mean of both, and mirror it",
    )
    parser.add_argument(
        "--symmetry",
        choices=("off", "auto"),
        default="off",
        help="report the mirror axis of the largest outline and its departure",
    )


def _area(text):
    """Square millimetres as typed: ``2`` or ``2mm2``.

    Raises:
        InputError: no number.
    """
    try:
        return float(str(text).lower().replace("mm²", "").replace("mm2", ""))
    except ValueError:
        raise InputError(f"--speck {text}: square millimetres were expected, for example 2mm2.") from None


def _keep(text):
    if text in ("all", "largest"):
        return text
    if text.isdigit() and int(text):
        return int(text)
    raise InputError(f"--keep {text}: all, largest or a number of outlines was expected.")


def _place(text, option="--colour"):
    try:
        x, y = (float(part) for part in text.split(","))
    except ValueError:
        raise InputError(f"{option} {text}: a place X,Y in pixels was expected.") from None
    return x, y


def _strokes(texts, option):
    return tuple(tuple(_place(place, option) for place in text.split()) for text in texts)


def _told(outline, mm_per_px):
    """An outline's record, with how many of each kind and its deviations in pixels."""
    record = outline_record(outline)
    del record["comb"]
    kinds = [item["kind"] for item in record["primitives"]]
    return record | {
        "kinds": {kind: kinds.count(kind) for kind in sorted(set(kinds))},
        "max_dev_px": outline.max_dev_mm / mm_per_px,
        "rms_dev_px": outline.rms_dev_mm / mm_per_px,
    }


def _settings(options, colour, tolerance):
    picked = (
        tuple(tuple(float(value) for value in colour_at(colour, *_place(text))) for text in options.colour)
        if options.mode == "colour"
        else ()
    )
    return TraceSettings(
        options.threshold,
        tolerance,
        _area(options.speck),
        _keep(options.keep),
        part=options.part or "auto",
        mode=options.mode,
        flatten=options.flatten,
        colours=picked,
        reach=options.reach,
        halves=options.halves or "",
        gap_mm=parse_length(options.gap),
        sides=options.sides,
        part_strokes=_strokes(options.part_stroke, "--part-stroke"),
        ground_strokes=_strokes(options.ground_stroke, "--ground-stroke"),
    )


def _symmetry(outline, mm_per_px):
    axis = find_axis(outline_points(outline.curves, 0.1 * mm_per_px))
    return {
        "point_mm": list(axis.point),
        "angle_degrees": math.degrees(axis.angle),
        "rms_mm": axis.rms,
        "largest_mm": axis.largest,
    }


def run(arguments):
    """Trace, write, report.

    Raises:
        CoreError: anything about the input that cannot be used.
    """
    options = _parser().parse_args(arguments)
    kind = Path(options.out).suffix.lower()
    if kind not in FORMATS:
        raise InputError(f"--out {options.out}: the name must end in .dxf, .svg or .json.")
    typed = None if options.tolerance == "auto" else parse_length(options.tolerance)
    data, name = read_file(options.picture), Path(options.picture).name
    drawn = looks_drawn(data, name) if options.drawn == "auto" else options.drawn == "yes"
    light = decode(data, name, drawn=drawn)
    calibration, lengths, rectangles = calibrate(options, light, inspect(data, name))
    colour = colours(data, name) if options.mode in COLOURED else None
    settings = _settings(options, colour, DEFAULT_TOLERANCE_MM if typed is None else typed)
    begin, things, why = time.perf_counter(), [thing_of(item) for item in rectangles], "as given"
    if typed is None:
        tolerance, why = tolerance_for(light, calibration, settings, things, colour)
        settings = attrs.evolve(settings, tolerance_mm=tolerance)
    outlines = trace(light, calibration, settings, things=things, colour=colour)
    report = {
        "scale": scale_record(calibration, lengths),
        "outlines": [_told(outline, calibration.mm_per_px) for outline in outlines],
        "tolerance_mm": settings.tolerance_mm,
        "tolerance_why": why,
        "drawn": drawn,
        "seconds": round(time.perf_counter() - begin, 3),
    }
    if options.symmetry == "auto":
        report["symmetry"] = _symmetry(outlines[0], calibration.mm_per_px)
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
