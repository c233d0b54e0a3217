"""What is blended and hidden by the depth that something blended wrote before it: it lies behind, and would be seen through."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.layers.capture import Layers, farthest_first
from eddyfall.core.layers.kernels import fold
from eddyfall.core.layers.pairs import apart
from eddyfall.core.passes.blended import HIDDEN, SHOWN, WRITTEN_OVER, Fragments, only


@dataclass(frozen=True)
class Covered:
    """Things behind a drawable that writes its depth, other than its own faces. pixels: that differ visibly (CIEDE2000 above 2) without
    them; nit_px: sum over pixels of what that is, mean of the channels; where (h, w) bool."""

    writer: int
    hidden: tuple[int, ...]
    pixels: int
    nit_px: float
    where: np.ndarray


def covered_in(layers: Layers) -> list[Covered]:
    """What each writer hides in a frame, most visible pixels first."""
    every, frame, writes = layers.every, layers.frame, layers.writes
    if not (every.open == WRITTEN_OVER).any():
        return []
    pixel = np.repeat(np.arange(len(every.starts) - 1), np.diff(every.starts))
    nits = np.abs(missing(every, layers.opaque)).mean(axis=1)
    there = apart(frame, layers.due.reshape(-1, 3), _true(only(every, every.open == SHOWN), layers.opaque))
    found = []
    for writer in np.unique(every.drawable[writes[every.drawable] & (every.open == SHOWN)]):
        nearest = np.full(len(nits), np.inf)
        mine = (every.drawable == writer) & (every.open == SHOWN)
        np.minimum.at(nearest, pixel[mine], every.far[mine])
        behind = (every.open == WRITTEN_OVER) & (every.far > nearest[pixel]) & (every.drawable != writer)
        at = np.zeros(len(nits), bool)
        at[pixel[behind]] = True
        seen = at & (there > VISIBLE_DIFFERENCE)
        if at.any():
            found.append(
                Covered(
                    int(writer), tuple(int(d) for d in np.unique(every.drawable[behind])), int(seen.sum()), float(nits[at].sum()),
                    seen.reshape(frame.pixels.shape),
                )
            )  # fmt: skip
    return sorted(found, key=lambda one: (-one.pixels, -one.nit_px))


def missing(every: Fragments, opaque: np.ndarray) -> np.ndarray:
    """(pixels, 3) nits that fragments which only something blended hides would add, all in their true order."""
    return np.asarray(_true(only(every, every.open != HIDDEN), opaque) - _true(only(every, every.open == SHOWN), opaque))


def _true(f: Fragments, opaque: np.ndarray) -> np.ndarray:
    out = np.empty_like(opaque)
    fold(f.starts, farthest_first(f), f.k, f.p, f.q, opaque, out)
    return out
