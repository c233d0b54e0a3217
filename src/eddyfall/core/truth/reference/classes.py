"""Where places of surfaces are, seen from a frame: on it, or in one of the ways in which what has the frame alone cannot find them."""

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.passes.contract import Camera

CLASSES = ("sky", "behind the camera", "off the frame", "hidden", "other side of a sheet", "not in the copy", "on the frame")
SKY, BEHIND, OFF, HIDDEN, OTHER_SIDE, NOT_COPIED, ON = range(len(CLASSES))
SAME = 0.005  # share of its depth within which a place is the one that a pixel shows


def classified(
    frame: Frame, place: np.ndarray, facing: np.ndarray, blended: np.ndarray, copied: np.ndarray | None = None
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(class (n,), px of margin that would hold it (n,), drawable that hides it (n,), -1 none) of places (n, 3) of surfaces with facing
    (n, 3) unit normals on the side that is asked about, blended (n,) bool, in a whole frame; copied (h, w): what the depth copy holds of
    it, if anything reads that."""
    camera, (width, height), n = frame.camera, frame.pixels.size, len(place)
    away = place - np.array(camera.eye)
    depth, x, y = projected(camera, frame.pixels.size, place)
    behind = depth <= 0
    off_px = np.maximum(np.maximum(-x, x - width), np.maximum(np.maximum(-y, y - height), 0.0))
    off = ~behind & (off_px > 0)
    classes = np.full(n, ON)
    before = np.full(n, -1)
    shown = np.flatnonzero(~behind & ~off)
    column, row = np.minimum(x[shown].astype(int), width - 1), np.minimum(y[shown].astype(int), height - 1)
    least, most = depth_around(frame.view_depth, row, column)
    d = depth[shown]
    hidden = d > most * (1 + SAME)
    same = (d >= least * (1 - SAME)) & ~hidden
    turned_away = np.einsum("nk,nk->n", facing[shown], away[shown]) >= 0
    found = np.where(hidden, HIDDEN, np.where(same & turned_away, OTHER_SIDE, np.where(same, ON, NOT_COPIED)))
    found = np.where(blended[shown], NOT_COPIED, found)
    if copied is not None:
        least_copied, _ = depth_around(copied, row, column)
        found = np.where((found == ON) & (least_copied > d * (1 + SAME)), NOT_COPIED, found)
    classes[shown] = found
    before[shown] = np.where(found == HIDDEN, frame.drawable[row, column], -1)
    classes[behind], classes[off] = BEHIND, OFF
    return classes, np.where(off, off_px, 0.0), before


def projected(camera: Camera, size: tuple[int, int], place: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(view depth (n,) in m, x, y (n,) px of a frame of a size) of places (n, 3); x and y mean nothing where depth is not positive."""
    away = place - np.array(camera.eye)
    depth = away @ camera.forward
    half = np.tan(camera.fov_y_rad / 2)
    safe = np.where(depth > 0, depth, 1.0)
    x = ((away @ camera.axes[0]) / (safe * half * camera.aspect) + 1) / 2 * size[0]
    y = (1 - (away @ camera.axes[1]) / (safe * half)) / 2 * size[1]
    return depth, x, y


def depth_around(depth: np.ndarray, row: np.ndarray, column: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(least, most) depth (n,) of a pixel and its neighbours."""
    height, width = depth.shape
    around = np.stack([
        depth[np.clip(row + dy, 0, height - 1), np.clip(column + dx, 0, width - 1)] for dy in (-1, 0, 1) for dx in (-1, 0, 1)
    ])  # fmt: skip
    return around.min(axis=0), around.max(axis=0)
