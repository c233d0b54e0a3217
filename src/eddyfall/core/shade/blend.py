"""The blended layer: what translucent fragments do to its colour C and transmittance T (Porter & Duff 1984, table 1).

At the end of the layer, frame = C + T * opaque.
"""

import numpy as np

from eddyfall.core.kernel import light_helper

KINDS = {"opaque": 0, "cutout": 1, "blended": 2, "premultiplied": 3, "additive": 4, "multiply": 5, "destination_out": 6}
REFRACTING = 7  # what lets light through, drawn from a copy of the opaque picture
VOLUME = 8  # what a box is filled with, laid over the opaque picture as far as a ray goes through it
FIRST_BLENDED = KINDS["blended"]  # kinds from here on are drawn over the opaque picture
KIND_NAMES = {code: name for name, code in KINDS.items()} | {REFRACTING: "refracting", VOLUME: "volume"}


def blends(kind: np.ndarray) -> np.ndarray:
    """bool: kinds that pass 10 lays over the opaque picture."""
    return np.asarray((kind >= FIRST_BLENDED) & (kind != REFRACTING))


@light_helper
def blend_channel(kind, c, t, colour, alpha):
    """New (C, T) of one channel. multiply fades to no effect at alpha 0: m = 1 + alpha (colour - 1)."""
    if kind == 2 or kind == 8:
        return c * (1.0 - alpha) + alpha * colour, t * (1.0 - alpha)
    if kind == 3:
        return c * (1.0 - alpha) + colour, t * (1.0 - alpha)
    if kind == 4:
        return c + alpha * colour, t
    if kind == 5:
        m = 1.0 + alpha * (colour - 1.0)
        return c * m, t * m
    if kind == 6:
        return c * (1.0 - alpha), 1.0 - (1.0 - t) * (1.0 - alpha)
    return c, t


@light_helper
def kept_and_laid(kind, colour, alpha):
    """(k, p, q) of one channel: what a fragment makes of what lies there, f -> k f + p + q O, O being the opaque picture."""
    if kind == 2 or kind == 8:
        return 1.0 - alpha, alpha * colour, 0.0
    if kind == 3:
        return 1.0 - alpha, colour, 0.0
    if kind == 4:
        return 1.0, alpha * colour, 0.0
    if kind == 5:
        return 1.0 + alpha * (colour - 1.0), 0.0, 0.0
    if kind == 6:
        return 1.0 - alpha, 0.0, alpha
    return 1.0, 0.0, 0.0


def blend_plain(kind: str, c: np.ndarray, t: np.ndarray, colour: np.ndarray, alpha: float) -> tuple[np.ndarray, np.ndarray]:
    """Plain twin, for all channels at once. Raises KeyError for kinds that do not blend."""
    m = 1 + alpha * (np.asarray(colour) - 1)
    return {
        "blended": lambda: (c * (1 - alpha) + alpha * colour, t * (1 - alpha)),
        "volume": lambda: (c * (1 - alpha) + alpha * colour, t * (1 - alpha)),
        "premultiplied": lambda: (c * (1 - alpha) + colour, t * (1 - alpha)),
        "additive": lambda: (c + alpha * colour, t),
        "multiply": lambda: (c * m, t * m),
        "destination_out": lambda: (c * (1 - alpha), 1 - (1 - t) * (1 - alpha)),
    }[kind]()
