"""Rays of paths on their way to what they end on: through blended surfaces as their alpha says, through glass and through mist."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.rays.queries import Hits
from eddyfall.core.shade.fog import transmittance
from eddyfall.core.truth.reference.panes import Way, cross, through_mist
from eddyfall.core.truth.reference.path_scene import PathScene
from eddyfall.core.truth.reference.walks import lets_through

MOST_FACES = 32  # of glass that a ray is followed through; what is left then is lost
GLASS = 1  # beside the dimension of a ray's other numbers, those of the faces that it crosses


@dataclass(frozen=True)
class Arrived:
    """n rays. hits: what they end on, by the last straight piece of each; start, direction (n, 3) of that piece; length (n,) m of the way
    up to its start, weight (n, 3) of what comes along it; glow (n, 3) nits of what the mist before it shines, haze (n, 3) of what fog
    adds on the first `hazed` (n,) m of the way, as far as the last face of glass; turned (n,) bool: it is not the straight line on which
    it set out; left (n,), gloss (n, 3) as `Way` has them."""

    hits: Hits
    start: np.ndarray
    direction: np.ndarray
    length: np.ndarray
    weight: np.ndarray
    glow: np.ndarray
    haze: np.ndarray
    hazed: np.ndarray
    turned: np.ndarray
    left: np.ndarray
    gloss: np.ndarray

    def of(self, which: np.ndarray) -> Arrived:
        """Some of them."""
        rest = {name: value[which] for name, value in vars(self).items() if name != "hits"}
        return Arrived(hits=Hits(*(v[which] for v in self.hits)), **rest)

    @property
    def whole(self) -> np.ndarray:
        """(n,) m of the way, infinite where it ends on nothing."""
        return np.asarray(self.length + self.hits.distance)


def arrive(
    scene: PathScene, start: np.ndarray, direction: np.ndarray, key: np.ndarray, dimension: int, *, culled: bool, fogged: bool = False
) -> Arrived:  # fmt: skip
    """What rays from starts (n, 3) m along unit directions (n, 3) end on. key (n,) of their random numbers, from a dimension on; culled:
    faces that are seen from behind and not drawn are passed; fogged: whether fog lies on the way."""
    n = len(start)
    glow, haze, hazed, length = np.zeros((n, 3)), np.zeros((n, 3)), np.zeros(n), np.zeros(n)
    way = Way(
        np.array(start, float), np.array(direction, float), np.ones((n, 3)), np.zeros(n, np.uint8), np.ones(n),
        np.ones((n, 3)),
    )  # fmt: skip
    hits = _met_by(scene, way.start, way.direction, key, dimension, culled)
    if not scene.has_glass and not len(scene.mist.per_m):
        return Arrived(hits, way.start, way.direction, length, way.weight, glow, haze, hazed, way.turned > 0, way.left, way.gloss)
    active, found = np.arange(n), hits
    for turn in range(MOST_FACES):
        if turn:
            found = _met_by(scene, way.start[active], way.direction[active], key[active], dimension + turn, culled)
            for to, what in zip(hits, found):
                to[active] = what
        far = np.where(found.triangle >= 0, found.distance, np.inf)
        if len(scene.mist.per_m):
            ahead = np.where(np.isfinite(far), far, scene.far_m)
            mist = scene.mist
            through_mist(
                active,
                way.start[active],
                way.direction[active],
                ahead,
                mist.low,
                mist.high,
                mist.per_m,
                mist.rgb,
                way.weight,
                glow,
            )
        at = np.flatnonzero((found.triangle >= 0) & (scene.panes.kind[scene.soup.owner[found.triangle]] > 0))
        if not len(at):
            break
        if turn == MOST_FACES - 1:
            way.weight[active[at]] = 0.0
            break
        rays, stays, piece = active[at], np.zeros(len(at), bool), found.distance[at]
        hazed[rays] = length[rays] + piece
        if fogged and scene.fog is not None:  # whether it goes on or stays there
            passed, then = (transmittance(v[rays], scene.fog.fog_per_m)[:, None] for v in (length, hazed))
            haze[rays] += way.weight[rays] * (passed - then) * np.array(scene.fog.rgb)
        cross(
            rays, found.triangle[at], found.u[at], found.v[at], found.distance[at], key, dimension + GLASS, turn, scene.soup,
            scene.surfaces, scene.panes, scene.step_m, way, stays,
        )  # fmt: skip
        active = rays[~stays]
        length[active] = hazed[active]
        if not len(active):
            break
    return Arrived(hits, way.start, way.direction, length, way.weight, glow, haze, hazed, way.turned > 0, way.left, way.gloss)


def _met_by(scene: PathScene, start: np.ndarray, direction: np.ndarray, key: np.ndarray, dimension: int, culled: bool) -> Hits:
    """What rays meet first; blended surfaces let by as much as their alpha leaves."""

    def passes(rays: np.ndarray, prim: np.ndarray, u: np.ndarray, v: np.ndarray) -> np.ndarray:
        through = lets_through(
            prim, u, v, direction[rays], key[rays], dimension, culled, scene.soup, scene.sides, scene.covers, scene.surfaces
        )
        return np.asarray(through)

    return scene.met.hits(start, direction, passes if culled or scene.covers.any() else None)
