"""Procedural textures: tileable, from a seed, uint8 RGBA. Colours are sRGB codes."""

import numpy as np


def noise(rng: np.random.Generator, size: int, cells: int, octaves: int = 4) -> np.ndarray:
    """Tileable value noise (size, size) in 0..1."""
    total, weight, amount = np.zeros((size, size)), 0.0, 1.0
    for _ in range(octaves):
        if cells > size:
            break
        grid = rng.random((cells, cells))
        x = np.arange(size) * cells / size
        i, f = x.astype(int), x - x.astype(int)
        f = f * f * (3 - 2 * f)
        a, b = grid[i % cells], grid[(i + 1) % cells]
        rows = a + (b - a) * f[:, None]
        c, d = rows[:, i % cells], rows[:, (i + 1) % cells]
        total += amount * (c + (d - c) * f[None])
        weight += amount
        amount *= 0.5
        cells *= 2
    return total / weight


def _rgba(rgb: np.ndarray, alpha: np.ndarray | None = None) -> np.ndarray:
    a = np.full(rgb.shape[:2], 255.0) if alpha is None else alpha * 255
    return np.dstack([np.clip(rgb, 0, 255), a]).astype(np.uint8)


def tinted(
    rng: np.random.Generator, size: int, base: tuple[int, int, int], cells: int, strength: float, grain: float = 0.06
) -> np.ndarray:
    """A mottled colour with fine grain."""
    value = 1 + strength * (noise(rng, size, cells) - 0.5) * 2 + grain * rng.standard_normal((size, size))
    return _rgba(np.array(base) * value[..., None])


def brick(rng: np.random.Generator, size: int = 512) -> np.ndarray:
    """8 courses of 4 bricks: one tile is about 0.9 m."""
    y, x = np.mgrid[0:size, 0:size]
    course = y * 8 // size
    shifted = (x + (course % 2) * size // 8) % size
    number = shifted * 4 // size
    tone = rng.random((8, 4))[course, number]
    fx, fy = (shifted * 4 / size) % 1, (y * 8 / size) % 1
    mortar = (np.minimum(fx, 1 - fx) < 0.025) | (np.minimum(fy, 1 - fy) < 0.06)
    stain = noise(rng, size, 4)
    rgb = np.array([158, 84, 62]) * (0.78 + 0.4 * tone[..., None]) * (0.86 + 0.28 * stain[..., None])
    rgb = np.where(mortar[..., None], np.array([168, 158, 146]) * (0.85 + 0.2 * stain[..., None]), rgb)
    return _rgba(rgb * (1 + 0.05 * rng.standard_normal((size, size, 1))))


def ashlar(rng: np.random.Generator, base: tuple[int, int, int], rows: int = 4, size: int = 512) -> np.ndarray:
    """Squared stone blocks or slabs."""
    y, x = np.mgrid[0:size, 0:size]
    row = y * rows // size
    shifted = (x + (row % 2) * size // (2 * rows)) % size
    column = shifted * (rows // 2) // size
    tone = rng.random((rows, rows // 2))[row, column]
    fx, fy = (shifted * (rows // 2) / size) % 1, (y * rows / size) % 1
    joint = (np.minimum(fx, 1 - fx) < 0.008) | (np.minimum(fy, 1 - fy) < 0.016)
    rgb = np.array(base) * (0.86 + 0.2 * tone[..., None]) * (0.85 + 0.3 * noise(rng, size, 6)[..., None])
    return _rgba(np.where(joint[..., None], rgb * 0.55, rgb) * (1 + 0.05 * rng.standard_normal((size, size, 1))))


def planks(rng: np.random.Generator, base: tuple[int, int, int], boards: int = 6, size: int = 512) -> np.ndarray:
    """Boards side by side, running along u."""
    y, _ = np.mgrid[0:size, 0:size]
    board = y * boards // size
    tone = rng.random(boards)[board]
    fibre = noise(rng, size, 4)[:, :1] + 0.3 * np.repeat(rng.random((size, size // 16)), 16, axis=1)
    gap = np.minimum((y * boards / size) % 1, 1 - (y * boards / size) % 1) < 0.03
    rgb = np.array(base) * (0.78 + 0.3 * tone + 0.18 * fibre)[..., None]
    return _rgba(np.where(gap[..., None], rgb * 0.35, rgb) * (1 + 0.04 * rng.standard_normal((size, size, 1))))


def slates(rng: np.random.Generator, size: int = 512) -> np.ndarray:
    """Roof slates, lapped."""
    y, x = np.mgrid[0:size, 0:size]
    row = y * 10 // size
    shifted = (x + (row % 2) * size // 16) % size
    tone = rng.random((10, 8))[row, shifted * 8 // size]
    edge = ((y * 10 / size) % 1 > 0.9) | ((shifted * 8 / size) % 1 < 0.03)
    rgb = np.array([92, 100, 108]) * (0.8 + 0.35 * tone[..., None])
    return _rgba(np.where(edge[..., None], rgb * 0.6, rgb) * (1 + 0.05 * rng.standard_normal((size, size, 1))))


def netting(rng: np.random.Generator, base: tuple[int, int, int], size: int = 256) -> np.ndarray:
    """Knotted rope in a diamond mesh, 4 x 4 meshes a tile; alpha cuts the meshes out."""
    y, x = np.mgrid[0:size, 0:size] / size * 4
    a, b = (x + y) % 1, (x - y) % 1
    da, db = np.minimum(a, 1 - a), np.minimum(b, 1 - b)
    near = np.minimum(da, db)
    alpha = np.clip((0.125 - near) * 24 + 0.5, 0, 1)
    alpha = np.maximum(alpha, np.clip((0.19 - np.hypot(da, db)) * 24 + 0.5, 0, 1))
    along = np.where(da < db, x - y, x + y)
    twist = 0.78 + 0.3 * np.abs(np.sin(along * 22 + near * 30))
    rgb = np.array(base) * (twist * (1 - 1.6 * near))[..., None]
    return _rgba(rgb * (1 + 0.06 * rng.standard_normal((size, size, 1))), alpha)


def ripples(rng: np.random.Generator, size: int = 512) -> np.ndarray:
    """Tangent-space normal map of small waves."""
    height = noise(rng, size, 8, 4) * 1.0 + 0.6 * noise(rng, size, 20, 3)
    dx = np.roll(height, -1, 1) - np.roll(height, 1, 1)
    dy = np.roll(height, -1, 0) - np.roll(height, 1, 0)
    n = np.dstack([-dx * 2.0, dy * 2.0, np.ones_like(dx) * 0.35])
    n /= np.linalg.norm(n, axis=2, keepdims=True)
    return _rgba(n * 127.5 + 127.5)


def grating(base: tuple[int, int, int], periods: int = 4, covered: int = 4, size: int = 64) -> np.ndarray:
    """Crossed flat bars with square holes between them, in alpha: `covered` of each period's pixels, across and down."""
    period = size // periods
    bar = np.arange(size) % period < covered
    rgba = np.empty((size, size, 4), np.uint8)
    rgba[..., :3] = base
    rgba[..., 3] = np.where(bar[:, None] | bar[None, :], 255, 0)
    return rgba
