"""What reflection probes and planar mirrors make of the rays that bring light to coats: whether they show what the ray truly ends at."""

from __future__ import annotations

import math

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.shade.probes import Probes, shares_at, ways_into
from eddyfall.core.truth.reference.answers import FELL_BACK, FOUND, MISSED, WRONG, Vertices

TEXELS = 2.0  # of a probe's map, that what it shows may be off, besides the width of what the coat mirrors
SURFACE_M = 1e-3  # how far off its surface a place starts that a probe is looked up for


class Shown:
    """The probes and mirrors of a whole frame, and rays' view of what they may show."""

    def __init__(self, frame: Frame, met: RayScene) -> None:
        self.frame, self.met = frame, met
        self.probes: Probes = frame.buffers["probes"]
        self.owner = frame.buffers["caster_geometry"].owner

    @property
    def names(self) -> tuple[str, ...]:
        """Which of the two there are."""
        there = (("probes", len(self.probes.maps) > 0), ("mirrors", len(self.frame.buffers["mirrors"]) > 0))
        return tuple(name for name, is_there in there if is_there)

    def in_mirrors(self, v: Vertices) -> np.ndarray:
        """(n,) bool: vertices that a planar mirror stands in for."""
        found = np.zeros(len(v.place), bool)
        for mirror in self.frame.buffers["mirrors"]:
            near = np.abs(v.place @ mirror.normal + mirror.offset) <= mirror.slack_m + SURFACE_M
            found |= near & np.isin(v.drawable, mirror.drawables)
        return found

    def by_mirrors(self, drawable: np.ndarray) -> np.ndarray:
        """(n,) outcome of rays that end on drawables (n,): mirrors miss what has no mirror pass."""
        return np.where(self.frame.stage.state.in_mirrors[drawable], FOUND, MISSED)

    def takes(self, v: Vertices) -> np.ndarray:
        """(n,) bool: vertices whose coats answer light from around at all."""
        answers = self.frame.stage.state.answers_ambient
        return np.asarray(answers[v.drawable] | (v.drawable < 0))

    def by_probes(
        self, v: Vertices, direction: np.ndarray, end: np.ndarray, drawable: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """((n,) outcome of rays along unit directions (n, 3) that end at places (n, 3) of drawables (n,), by the probe that has the largest
        share; (n,) share that all of them have)."""
        outcome = np.full(len(v.place), FELL_BACK)
        if not len(self.probes.maps):
            return outcome, np.zeros(len(v.place))
        shares = shares_at(self.probes, v.place + v.normal * SURFACE_M)
        heaviest = shares.argmax(axis=1)
        for p in range(len(self.probes.maps)):
            mine = np.flatnonzero((heaviest == p) & (shares[:, p] > 0))
            if not len(mine):
                continue
            place, _, met = self.shown(p, v.place[mine], direction[mine])
            off = angle_between(place - v.place[mine], end[mine] - v.place[mine])
            right = (met == drawable[mine]) & (off <= self.slack(p, v.rough[mine]))
            outcome[mine] = np.where(right, FOUND, WRONG)
        return outcome, shares.sum(axis=1)

    def shown(self, p: int, place: np.ndarray, direction: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """(place (n, 3) of what probe p shows for places (n, 3) along unit directions (n, 3), very far away for the sky; unit direction
        (n, 3) it is looked up in; drawable (n,), -1: the sky)."""
        way = ways_into(self.probes, p, place, direction)
        hits = self.met.hits(np.tile(self.probes.place[p], (len(way), 1)), way)
        there = hits.triangle >= 0
        seen = self.probes.place[p] + way * np.where(there, hits.distance, 1e7)[:, None]
        return seen, way, np.where(there, self.owner[hits.triangle], -1)

    def slack(self, p: int, rough: np.ndarray) -> np.ndarray:
        """(n,) radians that what probe p shows may be off: some texels of its map, and as much as coats of roughness (n,) blur it."""
        edge = self.probes.levels[self.probes.maps[p, 0], 1]
        return np.asarray(TEXELS * (math.pi / 2) / edge + np.asarray(rough) ** 2)


def angle_between(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """(n,) radians between vectors (n, 3)."""
    cross = np.linalg.norm(np.cross(a, b), axis=1)
    return np.asarray(np.arctan2(cross, np.einsum("nk,nk->n", a, b)))
