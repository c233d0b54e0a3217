"""What reflection probes and planar mirrors make of the rays that bring light to coats: whether they show what the ray truly ends at."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from eddyfall.core.errors import SetupError
from eddyfall.core.frame.mirrors import planes_of
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.shade.probes import NO_PROBES, Probes, shares_at, ways_into
from eddyfall.core.truth.reference.answers import FELL_BACK, FOUND, MISSED, WRONG, Vertices
from eddyfall.core.truth.reflections.rooms import best_place, fitted_box
from eddyfall.core.truth.visibility import rays_of

TEXELS = 2.0  # of a probe's map, that what it shows may be off, besides the width of what the coat mirrors
TRIAL_EDGE = 128  # texels of a probe that is not there
SMOOTH = 0.15  # roughness up to which a sharp mirror image is as good as what the coat mirrors (ours, changeable)
SURFACE_M = 1e-3  # how far off its surface a place starts that a probe is looked up for


class Shown:
    """The probes and mirrors of a whole frame, and rays' view of what stands still: probes hold nothing else."""

    def __init__(self, frame: Frame, still: RayScene) -> None:
        self.frame, self.still = frame, still
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
        hits = self.still.hits(np.tile(self.probes.place[p], (len(way), 1)), way)
        there = hits.triangle >= 0
        seen = self.probes.place[p] + way * np.where(there, hits.distance, 1e7)[:, None]
        return seen, way, np.where(there, self.owner[hits.triangle], -1)

    def slack(self, p: int, rough: np.ndarray) -> np.ndarray:
        """(n,) radians that what probe p shows may be off: some texels of its map, and as much as coats of roughness (n,) blur it."""
        edge = self.probes.levels[self.probes.maps[p, 0], 1]
        return np.asarray(TEXELS * (math.pi / 2) / edge + np.asarray(rough) ** 2)


@dataclass(frozen=True)
class Trial:
    """A probe that is not there: in the middle of the room that the surfaces of a frame are in, in a box fitted to it."""

    shown: Shown
    flat_of: np.ndarray

    @staticmethod
    def around(shown: Shown, v: Vertices) -> Trial:
        """One for surfaces that vertices lie on."""
        there = np.flatnonzero(v.drawable >= 0)
        some = there[np.unique(np.linspace(0, max(len(there) - 1, 0), 256).astype(int))] if len(there) else there
        names = shown.frame.geometry.drawables
        flat = np.zeros(len(names) + 1, bool)
        for d in np.unique(v.drawable[there]):
            flat[d] = is_flat(shown.frame.geometry, int(d))
        place = best_place(shown.still, v.place[some], v.normal[some]) if len(some) else np.zeros(3)
        low, high = fitted_box(shown.still, place)
        one, none = np.ones(1, np.uint8), np.zeros(1, np.uint8)
        probes = NO_PROBES._replace(
            levels=np.array([[0, TRIAL_EDGE]]), maps=np.array([[0, 1]]), place=place[None], low=low[None], high=high[None],
            blend=np.zeros(1), boxed=one, sees=none, depths=np.zeros((1, *NO_PROBES.depths.shape[1:])),
        )  # fmt: skip
        return Trial(replace_probes(shown, probes), flat)

    def flat(self, v: Vertices) -> np.ndarray:
        """(n,) bool: vertices on flat things that are smooth enough for a mirror."""
        return np.asarray(self.flat_of[v.drawable] & (v.drawable >= 0) & (v.rough <= SMOOTH))

    def shows(self, v: Vertices, end: np.ndarray, drawable: np.ndarray) -> np.ndarray:
        """(n,) bool: whether the probe shows what rays from vertices end at, (n, 3) on drawables (n,), where it is."""
        way = end - v.place
        way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)
        outcome, share = self.shown.by_probes(v, way, end, drawable)
        return np.asarray((outcome == FOUND) & (share > 0))


def shown_of(renderer: Renderer, frame: Frame) -> Shown:
    """Those of a whole frame; the tree of what stands still is kept in the memo."""
    return Shown(frame, still_of(renderer, frame))


def still_of(renderer: Renderer, frame: Frame) -> RayScene:
    """Rays' view of all that a frame draws and that stands still."""
    s = frame.stage.state
    return rays_of(renderer, frame, np.asarray(s.drawn & s.colour_pass & ~s.camera_hidden & ~s.moves))


def replace_probes(shown: Shown, probes: Probes) -> Shown:
    """The same frame with other probes."""
    other = Shown(shown.frame, shown.still)
    other.probes = probes
    return other


def is_flat(geometry: Geometry, drawable: int) -> bool:
    """Whether a quarter of a drawable's area, or more, lies in one plane."""
    try:
        return bool(planes_of("", geometry.drawables[drawable].node, 1, geometry))
    except SetupError:
        return False


def angle_between(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """(n,) radians between vectors (n, 3)."""
    cross = np.linalg.norm(np.cross(a, b), axis=1)
    return np.asarray(np.arctan2(cross, np.einsum("nk,nk->n", a, b)))
