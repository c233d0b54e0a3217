"""A picture of the user's as the reference: its exposure fitted by one scale, how far it lies off, and what then is left."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import OpenEXR

from eddyfall.core.errors import RequestError
from eddyfall.core.shade.srgb import REC709_LUMA

GRID = 12  # regions along the longer edge
FARTHEST = 0.25  # of an edge, that pictures may lie off each other


@dataclass(frozen=True)
class Against:
    """scale_stops: by how much the picture has to be made brighter to meet the frame, as the median of both has it; misaligned_px (right,
    down) by which the picture lies off; median_off_stops: median of how far pixels are off after both; worst region (x0, y0, x1, y1) of a
    grid, and how many stops brighter the frame is there; pixels compared."""

    scale_stops: float
    misaligned_px: tuple[int, int]
    median_off_stops: float
    worst_stops: float
    worst_region: tuple[int, int, int, int]
    pixels: int


def read_picture(path: Path, size: tuple[int, int]) -> np.ndarray:
    """(h, w, 3) float64, linear, of an OpenEXR picture as large as the frame. RequestError if it is cut, not linear RGB, of another
    size."""
    try:
        with OpenEXR.File(str(path)) as file:
            channels = file.channels() if file.parts else {}
            found = {name: np.asarray(channel.pixels, np.float64) for name, channel in channels.items()}
    except (RuntimeError, OSError, ValueError) as error:
        raise RequestError(f"{path.name}: cannot be read as OpenEXR ({error})") from error
    names = [n for n in ("RGB", "RGBA") if n in found]
    if not names:
        raise RequestError(f"{path.name}: has no R, G and B; it has {', '.join(found) or 'nothing that can be read'}")
    picture = found[names[0]][..., :3]
    height, width = picture.shape[:2]
    if (width, height) != tuple(size):
        raise RequestError(f"{path.name}: {width} x {height} px; the frame is {size[0]} x {size[1]}")
    if not np.isfinite(picture).any() or not (picture > 0).any():
        raise RequestError(f"{path.name}: holds no light")
    return np.where(np.isfinite(picture), picture, 0.0)


def against(frame: np.ndarray, picture: np.ndarray) -> Against:
    """A frame (h, w, 3) held against a picture (h, w, 3), both linear."""
    a, b = (np.maximum(p, 0.0) @ REC709_LUMA for p in (frame, picture))
    right, down = misalignment(a, b)
    height, width = a.shape
    x0, x1, y0, y1 = max(0, -right), width - max(0, right), max(0, -down), height - max(0, down)
    mine, theirs = a[y0:y1, x0:x1], b[y0 + down : y1 + down, x0 + right : x1 + right]
    lit = (mine > 0) & (theirs > 0)
    if not lit.any():
        raise RequestError("frame and picture are lit nowhere alike")
    off = np.full(mine.shape, np.nan)
    off[lit] = np.log2(mine[lit] / theirs[lit])
    scale = float(np.median(off[lit]))
    worst, region = 0.0, (x0, y0, x1, y1)
    step = max(1, -(-max(mine.shape) // GRID))
    for top in range(0, mine.shape[0], step):
        for left in range(0, mine.shape[1], step):
            cell = slice(top, top + step), slice(left, left + step)
            m, t = mine[cell].mean(), theirs[cell].mean()
            if m > 0 and t > 0 and abs(stops := float(np.log2(m / t)) - scale) > abs(worst):
                worst = stops
                region = (left + x0, top + y0, min(left + step, mine.shape[1]) + x0, min(top + step, mine.shape[0]) + y0)
    return Against(scale, (right, down), float(np.median(np.abs(off[lit] - scale))), worst, region, int(lit.sum()))


def misalignment(a: np.ndarray, b: np.ndarray) -> tuple[int, int]:
    """(px right, px down) by which b lies off a, by phase correlation (Kuglin and Hines 1975, from memory) of their log luminance."""

    def prepared(p: np.ndarray) -> np.ndarray:
        floor = max(float(p.max()) * 1e-6, 1e-12)
        log = np.log2(np.maximum(p, floor))
        window = np.hanning(p.shape[0] + 2)[1:-1, None] * np.hanning(p.shape[1] + 2)[None, 1:-1]
        return np.asarray((log - log.mean()) * window)

    cross = np.fft.rfft2(prepared(b)) * np.conj(np.fft.rfft2(prepared(a)))
    peak = np.fft.irfft2(cross / np.maximum(np.abs(cross), 1e-12), s=a.shape)
    height, width = a.shape
    allowed = np.zeros(a.shape, bool)
    far_y, far_x = int(height * FARTHEST), int(width * FARTHEST)
    rows, columns = (
        np.minimum(np.arange(height), height - np.arange(height)),
        np.minimum(np.arange(width), width - np.arange(width)),
    )
    allowed[np.ix_(np.flatnonzero(rows <= far_y), np.flatnonzero(columns <= far_x))] = True
    y, x = np.unravel_index(np.argmax(np.where(allowed, peak, -np.inf)), a.shape)
    return int(x if x <= width // 2 else x - width), int(y if y <= height // 2 else y - height)
