"""The picture with perspective and lens bending taken out, for laying under the sketch."""

from __future__ import annotations

from typing import TYPE_CHECKING

import attrs
import cv2
import numpy as np

from nomogon_core.errors import CalibrationError

if TYPE_CHECKING:
    from nomogon_core.reference.calibration import Calibration

GRID_PX = 24
MOST_SIDE = 2400
MOST_STRETCH = 6.0


@attrs.frozen
class Rectified:
    """Pixels (h, w[, 3]) and (a, b, c, d, e, f) that lays them onto the plane, see ``Calibration.px_matrix``."""

    pixels: np.ndarray = attrs.field(eq=False, repr=False)
    matrix: tuple


def placed_box(fit: Calibration, size: tuple[int, int]) -> tuple[tuple[int, int], tuple[float, ...]]:
    """(width, height) in pixels and the matrix of the rectified picture of a picture of this size.

    Where a strong tilt would stretch the picture beyond all measure, only its near part is taken.
    """
    width, height = size
    grid = np.stack(np.meshgrid(np.linspace(0, width - 1, 25), np.linspace(0, height - 1, 25)), axis=-1).reshape(-1, 2)
    places = fit.to_mm(grid)
    middle = fit.to_mm([((width - 1) / 2, (height - 1) / 2)])[0]
    reach = MOST_STRETCH * fit.mm_per_px * max(size)
    near = places[np.isfinite(places).all(axis=1) & (np.abs(places - middle) < reach).all(axis=1)]
    if len(near) < 4:
        raise CalibrationError("The picture cannot be rectified with this calibration; look for a wrong known length.")
    low, high = near.min(axis=0), near.max(axis=0)
    pixel = max(fit.mm_per_px, float((high - low).max()) / MOST_SIDE)
    across, down = (max(1, int(np.ceil(side / pixel))) for side in high - low)
    return (across, down), (pixel, 0.0, 0.0, -pixel, float(low[0]), float(high[1]))


def rectify(pixels: np.ndarray, fit: Calibration) -> Rectified:
    """Lay a picture flat.

    Args:
        pixels: (h, w) or (h, w, 3), any type that can be interpolated.
        fit: its calibration.

    Returns:
        :class:`Rectified`; what the picture does not show is white.

    Raises:
        CalibrationError: the calibration maps the picture out of reach.
    """
    (across, down), matrix = placed_box(fit, (pixels.shape[1], pixels.shape[0]))
    pixel, left, top = matrix[0], matrix[4], matrix[5]
    columns, rows = np.arange(0, across + GRID_PX, GRID_PX), np.arange(0, down + GRID_PX, GRID_PX)
    plane = np.stack(np.meshgrid(left + columns * pixel, top - rows * pixel), axis=-1).reshape(-1, 2)
    coarse = fit.to_px(plane).reshape(len(rows), len(columns), 2).astype(np.float32)
    # The coarse nodes lie GRID_PX apart; a resize with aligned corners interpolates between them exactly.
    at_x = np.tile(np.arange(across, dtype=np.float32) / GRID_PX, (down, 1))
    at_y = np.repeat(np.arange(down, dtype=np.float32)[:, None] / GRID_PX, across, axis=1)
    source = cv2.remap(coarse, at_x, at_y, cv2.INTER_LINEAR)
    white = 255 if pixels.dtype == np.uint8 else 1.0
    return Rectified(
        cv2.remap(
            pixels,
            source[..., 0],
            source[..., 1],
            cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_CONSTANT,
            borderValue=(white,) * 3,
        ),
        matrix,
    )
