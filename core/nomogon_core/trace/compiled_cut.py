"""Compiled loops of the least cut through a picture, and of the dearest way along a band."""

from __future__ import annotations

import numpy as np
from numba import njit

STEP_UP, STEP_DOWN = np.float32(0.35), np.float32(0.35)
SIDEWAYS = 2


@njit(cache=True)
def least_cut(against: np.ndarray, across: np.ndarray, down: np.ndarray, rounds: int) -> np.ndarray:
    """Share 0..1 of the part in each pixel, which makes the sum of ``against`` over the part and of the weights along
    its border least.

    The convex relaxation of a binary cut (Chan, Esedoglu and Nikolova 2006), by a primal-dual method (Chambolle and
    Pock 2011).

    Args:
        against: (h, w) float32, positive where a pixel speaks against the part; across, down: what a border costs
            between a pixel and its
            right and lower neighbour; rounds: how many steps.
    """
    height, width = against.shape
    share = np.full((height, width), np.float32(0.5))
    ahead = share.copy()
    right, low = np.zeros((height, width), np.float32), np.zeros((height, width), np.float32)
    for _ in range(rounds):
        for y in range(height):
            for x in range(width):
                if x + 1 < width:
                    most = across[y, x]
                    right[y, x] = min(max(right[y, x] + STEP_UP * (ahead[y, x + 1] - ahead[y, x]), -most), most)
                if y + 1 < height:
                    most = down[y, x]
                    low[y, x] = min(max(low[y, x] + STEP_UP * (ahead[y + 1, x] - ahead[y, x]), -most), most)
        for y in range(height):
            for x in range(width):
                spread = right[y, x] + low[y, x]
                if x > 0:
                    spread -= right[y, x - 1]
                if y > 0:
                    spread -= low[y - 1, x]
                moved = min(max(share[y, x] + STEP_DOWN * (spread - against[y, x]), np.float32(0)), np.float32(1))
                ahead[y, x] = 2 * moved - share[y, x]
                share[y, x] = moved
    return share


@njit(cache=True)
def dearest_way(gains: np.ndarray, bend: float) -> np.ndarray:
    """Of each row of a closed band, the column of the way round that gathers most gain; a step sideways costs ``bend``
    times its square.

    The band is gone round twice, and the later half of each kept, so that the way closes (Viterbi 1967).

    Args:
        gains: (n, m).
    """
    count, columns = gains.shape
    most = gains[0].copy()
    came = np.zeros((2 * count, columns), np.int16)
    for row in range(1, 2 * count):
        before = most.copy()
        for column in range(columns):
            best, from_column = -1e18, column
            for other in range(max(0, column - SIDEWAYS), min(columns, column + SIDEWAYS + 1)):
                value = before[other] - bend * (other - column) ** 2
                if value > best:
                    best, from_column = value, other
            most[column] = best + gains[row % count, column]
            came[row, column] = from_column
    column = int(np.argmax(most))
    way = np.zeros(count, np.int64)
    half = count // 2
    for row in range(2 * count - 1, 0, -1):
        if half <= row < half + count:
            way[row % count] = column
        column = came[row, column]
    return way
