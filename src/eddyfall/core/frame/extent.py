"""Where in a frame boxes of the world may lie."""

import numpy as np

from eddyfall.core.passes.contract import Camera

Window = tuple[int, int, int, int]
BEFORE_M = 1e-3  # nearer to the eye's plane than that a box may lie anywhere in the frame


def window_of_boxes(camera: Camera, boxes: np.ndarray, size: tuple[int, int], window: Window) -> Window:
    """(x0, y0, x1, y1) px of the part of a window of a frame of a size (width, height) that boxes (n, 2, 3) m may lie in, a pixel to spare;
    empty where none does."""
    low, high = np.array(size, float), np.zeros(2)
    half_h = np.tan(camera.fov_y_rad / 2)
    half = np.array([half_h * camera.aspect, half_h])
    for box in np.asarray(boxes, np.float64).reshape(-1, 2, 3):
        corners = np.array([[box[i, 0], box[j, 1], box[k, 2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)])
        seen = (corners - np.array(camera.eye)) @ camera.axes.T
        depth = -seen[:, 2]
        if (depth < BEFORE_M).all():
            continue
        if (depth < BEFORE_M).any():
            return window
        at = (seen[:, :2] / depth[:, None] / half * (1, -1) + 1) / 2 * size
        low, high = np.minimum(low, at.min(axis=0)), np.maximum(high, at.max(axis=0))
    x0, y0 = (max(int(np.floor(v)) - 1, w) for v, w in zip(low, window[:2]))
    x1, y1 = (min(int(np.ceil(v)) + 1, w) for v, w in zip(high, window[2:]))
    return (x0, y0, x1, y1) if x1 > x0 and y1 > y0 else (window[0], window[1], window[0], window[1])
