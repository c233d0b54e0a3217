"""Skies made for tests: even ones, and one with a disc of known light, with the sums that are known of it by hand."""

import math

import numpy as np

from eddyfall.core.shade.sky_maps import directions_of

SUN_RAD = math.radians(0.2665)  # half of 0.533 degrees, a handbook value
TOWARDS = np.array([-0.5, 0.55, 0.67]) / np.linalg.norm([-0.5, 0.55, 0.67])
SUN_LUX, SKY_LUX = 37_374.0, 14_661.0  # on level ground, of the disc (68 000 lx x .5496) and of the rest


def made(height=1024, towards=TOWARDS, lux=68_000.0, radius=SUN_RAD, fine=4):
    """(h, 2h, 3): 6000 - 2000 sin(elevation) nit above, 1200 below, and a disc drawn at `fine` x `fine` places of each pixel."""
    towards = np.asarray(towards, float) / np.linalg.norm(towards)
    directions = directions_of(height, 2 * height)
    up = directions[..., 1]
    light = np.where(up > 0, 6000 - 2000 * up, 1200.0)
    rows, columns = np.nonzero(directions @ towards > math.cos(radius + 3 * math.pi / height))
    covered = np.zeros(len(rows))
    for i in range(fine):
        for j in range(fine):
            elevation = math.pi / 2 - (rows + (i + 0.5) / fine) / height * math.pi
            azimuth = (columns + (j + 0.5) / fine) / (2 * height) * 2 * math.pi - math.pi
            at = np.stack([np.cos(elevation) * np.sin(azimuth), np.sin(elevation), -np.cos(elevation) * np.cos(azimuth)], axis=-1)
            covered += (at @ towards > math.cos(radius)) / fine**2
    light[rows, columns] += covered * lux / (math.pi * math.sin(radius) ** 2)
    return np.repeat(light[..., None], 3, axis=2).astype(np.float32)
