"""Where the light that paths bring comes from: of each path, the place its first ray met, the shining place it was asked for, and what came
from each of the two."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np


@dataclass
class Secondary:
    """n paths. Of the ray that went on from the first vertex, and of the one that was asked for: place (n, 3) in m, facing (n, 3) unit
    normal of the face on the side it was met from, triangle (n,), -1: none. asked_light, went_light (n, 2, 3): nits brought along each, by
    the layer under the coat and by the coat; sky_light (n, 2, 3): from the sky. went (n,) bool: whether a ray went on at all."""

    place: np.ndarray
    facing: np.ndarray
    triangle: np.ndarray
    went: np.ndarray
    asked_place: np.ndarray
    asked_facing: np.ndarray
    asked_triangle: np.ndarray
    asked_light: np.ndarray
    went_light: np.ndarray
    sky_light: np.ndarray
    went_weight: np.ndarray

    @staticmethod
    def empty(n: int) -> Secondary:
        """Of n paths that brought nothing."""
        return Secondary(
            np.zeros((n, 3)), np.zeros((n, 3)), np.full(n, -1, np.int64), np.zeros(n, bool), np.zeros((n, 3)), np.zeros((n, 3)),
            np.full(n, -1, np.int64), np.zeros((n, 2, 3)), np.zeros((n, 2, 3)), np.zeros((n, 2, 3)),
            np.zeros((n, 2, 3)),
        )  # fmt: skip

    def was_asked(
        self, which: np.ndarray, value: np.ndarray, place: np.ndarray, facing: np.ndarray, triangle: np.ndarray
    ) -> None:
        """Note light (m, 6) that came from shining places (m, 3), to paths `which`."""
        self.asked_light[which] = value.reshape(-1, 2, 3)
        self.asked_place[which], self.asked_facing[which], self.asked_triangle[which] = place, facing, triangle

    def went_on(self, which: np.ndarray, weight: np.ndarray, place: np.ndarray, facing: np.ndarray, triangle: np.ndarray) -> None:
        """Note where the rays of paths `which` went, with their weights (m, 6)."""
        self.went[which] = True
        self.went_weight[which] = weight.reshape(-1, 2, 3)
        self.place[which], self.facing[which], self.triangle[which] = place, facing, triangle

    def settle(self, under: np.ndarray, coat: np.ndarray, sky_under: np.ndarray, sky_coat: np.ndarray) -> None:
        """What all of it came to, (n, 3) each: what was not asked for came along the rays that went on."""
        self.went_light = np.stack([under, coat], axis=1) - self.asked_light
        self.sky_light = np.stack([sky_under, sky_coat], axis=1)
