"""Mips of a cutout that keep its coverage: averaging alpha makes thin parts fail the test, or holes pass it, ever more with each level.

The remedy scales the alpha of each level until as large a share of it passes as of the finest (I. Castano, "Computing Alpha Mipmaps",
2010; from memory). The share is taken between texels too, as a linear look-up does. Where a level is all of one alpha no scale helps: it
passes as a whole or not at all.
"""

import numpy as np

from eddyfall.core.raster.rasterise import Cutouts

HALVINGS = 14  # of the scale looked for
SAMPLES = 4  # between texels, across and down
MOST_TEXELS = 1 << 20  # of a level that is sampled so densely; a larger one at its texels


def with_coverage_kept(cutouts: Cutouts, materials: list[int]) -> Cutouts:
    """Alpha tests with the mips of some materials scaled; each gets levels of its own, since others may share the texture."""
    table, levels, alpha = np.array(cutouts.table), list(cutouts.levels), [np.asarray(cutouts.alpha)]
    end = len(cutouts.alpha)
    for m in materials:
        first, count = (int(v) for v in cutouts.table[m, :2])
        least = float(cutouts.cutoff[m]) / max(float(cutouts.factor[m]), 1e-9) * 255.0
        table[m, 0] = len(levels)
        share = None
        for offset, width, height in (tuple(int(v) for v in row) for row in cutouts.levels[first : first + count]):
            texels = np.asarray(cutouts.alpha[offset : offset + width * height]).reshape(height, width)
            alpha.append((texels if share is None else scaled_to(texels, least, share)).ravel())
            share = coverage(texels, least) if share is None else share
            levels.append(np.array([end, width, height]))
            end += width * height
    return cutouts._replace(table=table, levels=np.array(levels, np.int64), alpha=np.concatenate(alpha))


def coverage(alpha: np.ndarray, least: float) -> float:
    """Share of a level (h, w) uint8 that is at or above `least` (0..255) when it is looked up linearly."""
    return float((between(alpha) >= least).mean())


def scaled_to(alpha: np.ndarray, least: float, share: float) -> np.ndarray:
    """Alpha (h, w) uint8 scaled so that the share of it at or above `least` comes as near to `share` as a scale can bring it."""
    if least <= 0 or not alpha.any():
        return alpha
    low, high = 0.0, 255.0  # scales that let nothing pass, and all that is above 0
    for _ in range(HALVINGS):
        middle = (low + high) / 2 if low > 0 else high / 4
        low, high = (middle, high) if coverage(_scaled(alpha, middle), least) < share else (low, middle)
    return min((_scaled(alpha, scale) for scale in (low, high)), key=lambda v: abs(coverage(v, least) - share))


def _scaled(alpha: np.ndarray, scale: float) -> np.ndarray:
    return np.clip(np.rint(alpha * scale), 0, 255).astype(np.uint8)


def between(alpha: np.ndarray) -> np.ndarray:
    """Alpha as float32 at the texels' centres and between them, by linear look-ups that wrap around."""
    dense = alpha.astype(np.float32)
    if alpha.size > MOST_TEXELS:
        return dense
    for axis in (0, 1):
        after = np.roll(dense, -1, axis=axis)
        dense = np.concatenate([dense + (after - dense) * np.float32(k / SAMPLES) for k in range(SAMPLES)], axis=axis)
    return dense
