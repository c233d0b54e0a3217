"""A small picture of a chart page: charts in grey, what collides in signal colour, hatched."""

import numpy as np
from PIL import Image, ImageDraw

GREY, INK, SIGNAL, PAPER = (176, 182, 180), (70, 84, 90), (200, 86, 31), (248, 247, 243)


def overlap_picture(
    uv: np.ndarray, collided: np.ndarray, *, as_is: bool = False, edge_px: int = 320, most: int = 20_000
) -> np.ndarray:
    """uint8 (h, w, 3): triangles uv (t, 3, 2) in tiles, v down; `collided` (t,) bool ones are drawn in signal colour with hatching."""
    if as_is:
        uv = uv - np.floor(uv.min(axis=1, keepdims=True) + 1e-9)
    low = np.minimum(np.floor(uv.min(axis=(0, 1))), 0)
    high = np.maximum(np.ceil(uv.max(axis=(0, 1)) - 1e-9), 1)
    scale = edge_px / float(min(max((high - low).max(), 1), 64))
    size = np.minimum(np.ceil((high - low) * scale).astype(int) + 1, 4 * edge_px)
    picture = Image.new("RGB", (int(size[0]), int(size[1])), PAPER)
    draw = ImageDraw.Draw(picture)
    step = max(1, len(uv) // most)
    points = (uv[::step] - low) * scale
    for wanted, fill in ((False, GREY), (True, SIGNAL)):
        for tri in points[collided[::step] == wanted]:
            draw.polygon([tuple(p) for p in tri], fill=fill, outline=INK)
    columns, rows = (int(min(tiles, room / scale)) + 1 for tiles, room in zip(high - low, size))
    for tile in range(columns):
        draw.line([(tile * scale, 0), (tile * scale, size[1])], fill=INK)
    for tile in range(rows):
        draw.line([(0, tile * scale), (size[0], tile * scale)], fill=INK)
    pixels = np.asarray(picture).copy()
    y, x = np.mgrid[0 : pixels.shape[0], 0 : pixels.shape[1]]
    hatch = (pixels == SIGNAL).all(axis=2) & ((x + y) % 8 < 2)
    pixels[hatch] = INK
    return pixels
