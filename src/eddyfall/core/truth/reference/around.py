"""What arrives at places along directions: what a camera without a lens would see there. By the reference's own paths."""

from __future__ import annotations

import numpy as np

from eddyfall.core.rays.queries import Hits
from eddyfall.core.truth.reference.arriving import arrive
from eddyfall.core.truth.reference.panes import CERTAIN
from eddyfall.core.truth.reference.path_scene import PathScene
from eddyfall.core.truth.reference.tally import PARTS
from eddyfall.core.truth.reference.trace import follow
from eddyfall.core.truth.reference.walks import COVERED, Walk, meet, no_coats


def around(scene: PathScene, place: np.ndarray, direction: np.ndarray, key: np.ndarray, bounces: int) -> tuple[np.ndarray, Hits]:
    """((n, 3) nits that arrive at places (n, 3) m along unit directions (n, 3) away from them, one path each; what they meet). key (n,) of
    their random numbers; bounces as bakes count them."""
    n = len(place)
    way = arrive(scene, place, direction, key, COVERED, culled=True)
    hits, direction, weight = way.hits, way.direction, np.zeros((n, 6))
    weight[:, :3] = way.weight
    where, facing, normal, out, albedo, f0 = np.zeros((6, n, 3))
    walk = Walk(where, facing, normal, out, albedo, f0, np.zeros(n), np.zeros(n), weight, np.full(n, CERTAIN), key, *no_coats(n))
    light, unused, goes_on = way.glow.copy(), np.zeros((n, 3)), np.zeros(n, bool)
    meet(
        np.arange(n), hits.triangle, hits.u, hits.v, hits.distance, direction, scene.soup, scene.double_sided, scene.surfaces, scene.sky,
        scene.cells, scene.emitters, walk, light, unused, light, unused, goes_on, way.left,
        way.gloss, scene.coats.means,
    )  # fmt: skip
    found = np.zeros((n, len(PARTS) + 2 * len(scene.light_names), 3))
    follow(scene, walk, np.flatnonzero(goes_on), bounces, found, first=1)
    return np.asarray(light + found[:, : len(PARTS)].sum(axis=1)), hits
