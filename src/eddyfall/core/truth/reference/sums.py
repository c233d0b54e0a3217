"""The kernel that a tally grows by."""

import numpy as np
from numba import njit

from eddyfall.core.shade.srgb import REC709_LUMA

BINS, BIN_STOPS, LOWEST = 640, 0.125, -40.0  # of the tally's histogram of samples: eighths of a stop from 2^-40 nit on
FROM_OTHERS = (2, 6)  # parts that come from other surfaces and the sky; those before shine themselves
R, G, B = (float(v) for v in REC709_LUMA)


@njit(cache=True)
def add(found, clear, fades, samples, seen, sums, squares, shining, clears, faded, bins):
    """Add samples to a tally's arrays (see `Tally`), pixel by pixel in the order of the samples."""
    n, columns = sums.shape[0], sums.shape[1]
    for m in range(n):
        for s in range(samples):
            i = m * samples + s
            total, from_others, shines = 0.0, 0.0, 0.0
            for p in range(columns):
                y = R * found[i, p, 0] + G * found[i, p, 1] + B * found[i, p, 2]
                for c in range(3):
                    sums[m, p, c] += found[i, p, c]
                if p < seen:
                    total += y
                if p < FROM_OTHERS[0]:
                    shines += y
                elif p < FROM_OTHERS[1]:
                    from_others += y
            squares[m] += total * total
            shining[m, 0] += shines
            shining[m, 1] += shines * shines
            for c in range(3):
                clears[m, c] += clear[i, c]
                faded[m, c] += fades[i, c]
            place = 0
            if from_others > 0.0:
                place = min(max(int((np.log2(from_others) - LOWEST) / BIN_STOPS), 0), BINS - 1)
            bins[place] += 1
