"""The library of sample pictures: each sample part photographed from above, beside a card at a tilt, or scanned."""

import attrs
import numpy as np

from examples.parts import SAMPLES
from examples.pictures import shoot
from examples.render import Camera
from examples.tilted import Pinhole, shoot_beside_card
from nomogon_core.devices import scanner
from nomogon_core.errors import InputError
from nomogon_core.geometry.curves import bounds

WAYS = {
    "scan": "Flatbed scan (stand-in)",
    "above": "Photo from straight above",
    "card": "Tilted photo beside a bank card",
}
MADE_FOR = "drawn by a script for this program"
LICENCE = "free to use (CC0)"


@attrs.frozen
class SamplePicture:
    """A sample picture and the homography (3, 3) from the part's millimetres to its pixels."""

    data: bytes = attrs.field(repr=False)
    name: str
    px_from_mm: np.ndarray


def _homography(to_px):
    """The homography that a mapping of the plane is, from four places."""
    places = np.array([(0, 0), (100, 0), (100, 60), (0, 60)], float)
    rows = []
    for (x, y), (u, v) in zip(places, to_px(places)):
        rows += [[x, y, 1, 0, 0, 0, -u * x, -u * y, -u], [0, 0, 0, x, y, 1, -v * x, -v * y, -v]]
    return np.linalg.svd(np.array(rows))[2][-1].reshape(3, 3)


def take(part, way, *, dpi=300, turn_degrees=0.0, seed=1):
    """A sample picture.

    Args:
        part: a key of SAMPLES; way: a key of WAYS.
        dpi, turn_degrees: of a scan, see :func:`nomogon_core.devices.scanner.scan`.
        seed: of the noise and of the scanner's faults.

    Raises:
        InputError: there is no such part or way.
    """
    if part not in SAMPLES or way not in WAYS:
        raise InputError("There is no such sample picture; choose a part and how its picture is taken.")
    outlines = SAMPLES[part].outlines()
    if way == "scan":
        scan = scanner.scan(outlines, dpi=dpi, turn_degrees=turn_degrees, seed=seed)
        return SamplePicture(scan.png, f"{part}-scan-{dpi}.png", _homography(scan.to_px))
    (left, low), (right, high) = bounds(outlines[0], 0.05)
    if way == "above":
        scale = 1800 / (right - left)
        size = int(1800 + 500), int((high - low) * scale + 500)
        camera = Camera(scale, (250.0 - left * scale, size[1] - 250.0 + low * scale), 0.012)
        return SamplePicture(
            shoot(outlines, *size, camera, grain=0.04, shadow=0.2, seed=seed).jpeg,
            f"{part}-photo.jpg",
            _homography(camera.to_px),
        )
    camera = Pinhole((3000, 2250), tilt=14.0, turn=0.15, focal=2500.0, height=250.0, target=((left + right) / 2, 55.0))
    photo = shoot_beside_card(
        camera, outlines, part_at=(0.0, 0.0), card_at=((left + right) / 2 - 42.8, high + 14.0), seed=seed
    )
    return SamplePicture(photo, f"{part}-beside-card.jpg", _homography(camera.to_px))
