"""Rays to a light that has a size: directions to places evenly spread over its disc."""

from collections.abc import Iterator

import numpy as np

GOLDEN_RAD = np.pi * (3 - np.sqrt(5))  # the golden angle: each next place falls between all before (Vogel 1979, from memory)


def disc(count: int) -> Iterator[tuple[float, float]]:
    """`count` places of a unit disc, of equal area each: (radius 0..1, angle in rad)."""
    for k in range(count):
        yield float(np.sqrt((k + 0.5) / count)), float(k * GOLDEN_RAD)


def turns(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """(n,) angle in rad by which each pixel of the whole frame turns the disc, so that a few rays leave noise and no bands."""
    h = (x.astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15)) ^ (y.astype(np.uint64) * np.uint64(0xC2B2AE3D27D4EB4F))
    h ^= h >> np.uint64(29)
    h *= np.uint64(0xBF58476D1CE4E5B9)
    h ^= h >> np.uint64(32)
    return np.asarray((h >> np.uint64(11)).astype(np.float64) * (2 * np.pi / 2.0**53))


def towards_disc(
    towards: np.ndarray, distance: np.ndarray, size: float, aside: tuple[float, float], turn: np.ndarray, sun: bool
) -> tuple[np.ndarray, np.ndarray]:
    """(unit directions (n, 3), how far (n,) m) to one place of a light's disc, which faces whoever looks at it; size: its diameter in m, a
    sun's for each metre of distance; aside: radius and angle as `disc` gives them."""
    side = np.cross(towards, np.where(np.abs(towards[:, 1:2]) < 0.9, [[0.0, 1.0, 0.0]], [[1.0, 0.0, 0.0]]))
    side /= np.linalg.norm(side, axis=1, keepdims=True)
    up = np.cross(towards, side)
    radius, angle = aside[0] * size / 2, aside[1] + turn
    off = radius * (np.cos(angle)[:, None] * side + np.sin(angle)[:, None] * up)
    aim = towards + off if sun else towards * distance[:, None] + off
    far = np.linalg.norm(aim, axis=1)
    return aim / far[:, None], distance if sun else far
