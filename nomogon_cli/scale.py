"""From options of the command line to a calibration: known lengths, cards, sheets, circles, straight edges,
resolution."""

import attrs
import numpy as np

from nomogon_core.errors import InputError
from nomogon_core.picture.edges import UNSURE_PICK_PX, pick_edge
from nomogon_core.quantity.units import parse_positive_length
from nomogon_core.reference.calibration import CAMERA, KnownLength
from nomogon_core.reference.models import choose_model, is_guessed, resolution_lengths
from nomogon_core.reference.sheets import SIZE_U95_MM, SIZES_MM, find_rectangle, find_round, rectangle_from_corners

PICK_SEARCH_PX = 4.0
SMALLEST_SIGMA_PX = 0.1
EXACT_SIGMA_PX = 0.1
MEASURED_U95_MM = 0.05


def add_options(parser):
    """The options that say how large the picture is."""
    parser.add_argument(
        "--known",
        action="append",
        default=[],
        metavar="X1,Y1,X2,Y2,LENGTH",
        help="two places in pixels and how long that is; may be repeated",
    )
    parser.add_argument(
        "--known-diameter",
        action="append",
        default=[],
        metavar="X,Y,LENGTH",
        help="a place inside a round edge and its diameter; may be repeated",
    )
    parser.add_argument(
        "--card",
        metavar="auto|X1,Y1,…,X4,Y4",
        help="a bank card in the plane of the part, found or by its rough corners",
    )
    parser.add_argument(
        "--sheet", metavar="A4:X1,Y1,…,X4,Y4", help="a sheet (A4, A5, Letter) by its rough corners, or A4:auto"
    )
    parser.add_argument(
        "--rectangle",
        action="append",
        default=[],
        metavar="120x80mm:X1,…,Y4",
        help="a rectangle of any size by its rough corners",
    )
    parser.add_argument(
        "--straight",
        action="append",
        default=[],
        metavar="X1,Y1,…,Xn,Yn",
        help="places along an edge that is straight; takes lens bending out",
    )
    parser.add_argument("--dpi", metavar="file|N", help="the scan's resolution, or the one noted in the file")
    parser.add_argument(
        "--height",
        metavar="MM",
        help="height of the part's edge above the plane of the known sizes; needs --camera, but for a card or sheet",
    )
    parser.add_argument("--camera", metavar="MM", help="distance of the camera from that plane")
    parser.add_argument(
        "--picks",
        choices=("edge", "exact"),
        default="edge",
        help="move picks to the nearest edge within 4 px, or take them as they are",
    )


def _numbers(text, option, count=None):
    try:
        values = [float(part) for part in text.split(",")]
    except ValueError:
        raise InputError(
            f"{option} {text!r}: numbers with commas between them were expected, the places in pixels."
        ) from None
    if (count is not None and len(values) != count) or len(values) % 2:
        raise InputError(
            f"{option} {text!r}: {count // 2 if count else 'pairs of'} places were expected, X and Y of each."
        )
    return np.array(values).reshape(-1, 2)


def known_length(text, number, light, exact):
    """A known length from its text.

    Raises:
        InputError: not four numbers and a length.
    """
    parts = text.split(",", 4)
    if len(parts) != 5:
        raise InputError(f"--known {text!r} must be X1,Y1,X2,Y2,LENGTH, for example 120,80,960,80,84mm.")
    places = _numbers(",".join(parts[:4]), "--known", 4)
    name = f"Known length {number}"
    length = parse_positive_length(parts[4], name)
    picks = [pick_edge(light, x, y, search_px=PICK_SEARCH_PX) for x, y in places]
    if exact:
        return KnownLength(name, *map(tuple, places.tolist()), length, sigma_px=EXACT_SIGMA_PX)
    sigma = max(SMALLEST_SIGMA_PX, *(pick.sigma_px if pick.on_edge else UNSURE_PICK_PX for pick in picks))
    return KnownLength(name, (picks[0].x, picks[0].y), (picks[1].x, picks[1].y), length, sigma_px=sigma)


def _diameters(text, number, light):
    parts = text.split(",", 2)
    if len(parts) != 3:
        raise InputError(f"--known-diameter {text!r} must be X,Y,LENGTH, for example 320,240,12mm.")
    (near,) = _numbers(",".join(parts[:2]), "--known-diameter", 2)
    name = f"Known diameter {number}"
    length = parse_positive_length(parts[2], name)
    return [
        KnownLength(name, *pair, length, sigma_px=SMALLEST_SIGMA_PX) for pair in find_round(light, near).diameters()
    ]


def _sheet(text, light, option, kind=None):
    if kind is None:
        kind, _, text = text.partition(":")
        if kind not in ("A4", "A5", "Letter"):
            raise InputError(f"{option} {kind!r}: the sheet must be A4, A5 or Letter, for example A4:auto.")
    if text == "auto":
        return find_rectangle(light, kind)
    return rectangle_from_corners(light, kind, _numbers(text, option, 8), SIZES_MM[kind], SIZE_U95_MM[kind])


def _rectangle(text, number, light):
    size, _, corners = text.partition(":")
    sides = size.removesuffix("mm").split("x")
    if len(sides) != 2 or not corners:
        raise InputError(
            f"--rectangle {text!r} must be WIDTHxHEIGHTmm:X1,Y1,…,X4,Y4, for example "
            "120x80mm:10,10,900,12,905,600,8,598."
        )
    name = f"Rectangle {number}"
    width, height = (parse_positive_length(side, f"The side of {name}") for side in sides)
    return rectangle_from_corners(light, name, _numbers(corners, "--rectangle", 8), (width, height), MEASURED_U95_MM)


def _resolution(text, info):
    if text == "file":
        if info.dpi is None:
            raise InputError("--dpi file: the picture notes no resolution; give --dpi N or a known length.")
        across, down = info.dpi
        if is_guessed(info.dpi):
            raise InputError(
                f"--dpi file: the {across:g} dpi noted in the picture are what programs write when they do not know; "
                "give --dpi N or a known length."
            )
    else:
        try:
            across = down = float(text)
        except ValueError:
            raise InputError(f"--dpi {text!r} must be a number, or file.") from None
    return resolution_lengths((across, down))


def calibrate(options, light, info):
    """The calibration that the options ask for, and the known lengths and rectangles in it.

    Raises:
        InputError: nothing is known, or an option cannot be read.
    """
    lengths = [
        known_length(text, number, light, options.picks == "exact") for number, text in enumerate(options.known, 1)
    ]
    for number, text in enumerate(options.known_diameter, 1):
        lengths += _diameters(text, number, light)
    rectangles = [_sheet(options.card, light, "--card", "card")] if options.card else []
    rectangles += [_sheet(options.sheet, light, "--sheet")] if options.sheet else []
    rectangles += [_rectangle(text, number, light) for number, text in enumerate(options.rectangle, 1)]
    lengths += _resolution(options.dpi, info) if options.dpi else []
    if not lengths and not rectangles:
        raise InputError(
            "At least one --known X1,Y1,X2,Y2,LENGTH is needed, or a card, sheet, rectangle, diameter or resolution; "
            "without it a picture has no scale."
        )
    placing = {"origin_px": (0.0, light.shape[0] - 1.0)}
    straights = [
        [
            (pick.x, pick.y)
            for pick in (pick_edge(light, x, y, search_px=PICK_SEARCH_PX) for x, y in _numbers(text, "--straight"))
        ]
        for text in options.straight
    ]
    fit = choose_model(
        (info.width, info.height),
        lengths=lengths,
        rectangles=rectangles,
        straights=straights,
        focal=info.focal,
        **placing,
    )
    return _raised(fit, options), lengths, rectangles


def _raised(fit, options):
    if fit.model == CAMERA and options.height is not None:
        return attrs.evolve(fit, height_mm=parse_positive_length(options.height, "--height"))
    if (options.height is None) != (options.camera is None):
        raise InputError(
            "--height and --camera go together: the height of the edge above the plane, and the camera's distance "
            "from it."
        )
    if options.height is None:
        return fit
    height, camera = (
        parse_positive_length(options.height, "--height"),
        parse_positive_length(options.camera, "--camera"),
    )
    if height >= camera:
        raise InputError("--height must be less than --camera: the camera is above the part.")
    factor = 1 - height / camera
    return attrs.evolve(fit, raised=factor)


def scale_record(calibration, lengths):
    """Plain data of a calibration for the report."""
    record = {
        "model": calibration.model,
        "why": calibration.why,
        "mm_per_px": calibration.mm_per_px,
        "u95_mm_per_px": 2 * calibration.u_mm_per_px,
        "origin_px": list(calibration.origin_px),
        "known": [
            {
                "name": residual.name,
                "start_px": list(known.start),
                "end_px": list(known.end),
                "length_mm": known.length_mm,
                "read_mm": residual.read_mm,
                "off_mm": residual.off_mm,
                "u95_mm": residual.u95_mm,
            }
            for known, residual in zip(lengths, calibration.residuals)
        ],
    }
    record |= {
        "parameters": list(calibration.parameters),
        "covariance": calibration.covariance.tolist(),
        "reduced_chi2": calibration.reduced_chi2,
        "doubt": calibration.doubt and attrs.asdict(calibration.doubt),
    }
    return record
