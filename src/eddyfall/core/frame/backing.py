"""A flat card behind what is looked at, square to the view, wide enough to fill a window."""

import numpy as np

from eddyfall.core.passes.contract import Camera, Pixels, View

MARGIN_PX = 2


def backing(camera: Camera, pixels: Pixels, depth_m: float) -> np.ndarray:
    """(4, 3) world corners of a card at a view depth, a little larger than the window."""
    (x0, y0, x1, y1), m, r = pixels.window, MARGIN_PX, View(camera, pixels).rays
    corners = [(x0 - m, y0 - m), (x0 - m, y1 + m), (x1 + m, y1 + m), (x1 + m, y0 - m)]
    return np.array([r.eye + (r.d0 + x * r.du + y * r.dv) * depth_m for x, y in corners])
