"""Pairs of drawables that a frame draws in the wrong order, each with what that alone adds to the picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE, delta_e_of_light
from eddyfall.core.frame.render import Frame
from eddyfall.core.layers.capture import Layers
from eddyfall.core.passes.display import encode_display, exposure_scale
from eddyfall.core.scene.setup.sections.exposure import Exposure

LEAST_PIXELS = 16  # that differ visibly, from which a wrong order counts (ours, changeable)


@dataclass(frozen=True)
class Pair:
    """Drawable `early` is drawn before `late` though it lies nearer (the same: faces of one drawable). pixels: that differ visibly
    (CIEDE2000 above 2) with this pair alone put right; nit_px: sum over pixels of what it adds either way, mean of
    the channels; worst: the largest CIEDE2000; where: (pixels,) of the frame, row by row."""

    early: int
    late: int
    pixels: int
    nit_px: float
    worst: float
    where: np.ndarray


def shown_as(frame: Frame, nits: np.ndarray) -> np.ndarray:
    """(..., 3) uint8 of nits (..., 3), as the frame is exposed and encoded."""
    e = frame.stage.resolved[Exposure]
    return encode_display((nits * exposure_scale(e.mode, e.ev100)).astype(np.float32))


def apart(frame: Frame, first: np.ndarray, second: np.ndarray) -> np.ndarray:
    """(...) CIEDE2000 of nits (..., 3) and (..., 3) as the frame exposes them."""
    e = frame.stage.resolved[Exposure]
    scale = exposure_scale(e.mode, e.ev100)
    found = np.zeros(first.shape[:-1], np.float32)
    differ = (first != second).any(axis=-1)
    found[differ] = delta_e_of_light(first[differ] * scale, second[differ] * scale)
    return found


def wrong_pairs(layers: Layers) -> list[Pair]:
    """All pairs that sorting swaps, most visible pixels first."""
    swaps, drawn = layers.swaps, layers.drawn.reshape(-1, 3)
    of = layers.shown.drawable
    total = len(layers.frame.geometry.drawables)
    code = of[swaps.early].astype(np.int64) * total + of[swaps.late]
    found = []
    for pair in np.unique(code):
        mine = np.flatnonzero(code == pair)
        where, at = np.unique(swaps.pixel[mine], return_inverse=True)
        wrong = np.zeros((len(where), 3))
        np.add.at(wrong, at, swaps.wrong[mine])
        delta = apart(layers.frame, drawn[where], drawn[where] - wrong)
        seen = delta > VISIBLE_DIFFERENCE
        found.append(
            Pair(
                int(pair // total), int(pair % total), int(seen.sum()), float(np.abs(wrong).mean(axis=1).sum()),
                float(delta.max(initial=0.0)), where[seen],
            )
        )  # fmt: skip
    return sorted(found, key=lambda p: (-p.pixels, -p.nit_px))
