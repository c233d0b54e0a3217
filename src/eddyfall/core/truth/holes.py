"""Shadows of cutouts by the light that comes through their holes: the share that is drawn against the share that truly comes.

A grille's shadow is all edge, so that no single pixel of it can be called wrong. What a map loses is the share of light: at a coarse mip
level the alpha that it tests is an average, and passes everywhere or nowhere. Shares are taken over the inside of the shadow that the
cutout would throw with its holes filled.
"""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.truth.judge import Judge, around
from eddyfall.core.truth.map_reading import serving_map
from eddyfall.core.truth.surfaces import Surfaces, to_light

RINGS = (0.3, 0.6)  # of how far the look-up takes from


@dataclass(frozen=True)
class HoleShare:
    """The holes of one material in one light. rows (n,): the surfaces asked, all inside the shadow of the filled cutout; drawn, true: mean
    share of the light there; drawables, receivers: numbers of what throws it and what it falls on."""

    material: int
    light: int
    rows: np.ndarray
    drawn: float
    true: float
    drawables: tuple[int, ...]
    receivers: tuple[int, ...]

    @property
    def off(self) -> float:
        """Open share drawn less the true one: below 0 it is too solid."""
        return self.drawn - self.true


def hole_shares(judge: Judge, i: int, s: Surfaces, least: int) -> list[HoleShare]:
    """The cutouts whose shadow in light i falls on at least so many of the surfaces; the worst first.

    Left out is what no map serves, what the technique's cull leaves out, and what something else shades."""
    cutouts = judge.frame.buffers["cutouts"]
    holed = judge.intended & judge.cast_in(i) & (cutouts.material >= 0)
    if not holed.any() or not judge.shadow.enabled or not judge.frame.stage.lights[i].casts:
        return []
    towards, distance = to_light(s, i, judge.frame)
    asked = (np.einsum("nk,nk->n", s.normal, towards) > 0) & (np.einsum("nk,nk->n", s.face, towards) > 0)
    asked &= judge.arrives(i, s, distance) & judge.state.receives[s.drawable]
    asked &= ~(judge.state.mapped[s.drawable] & bool(judge.table.baked[i]))
    if not judge.traced(i):
        asked &= serving_map(s, i, judge.table, judge.maps) >= 0
    rows = np.flatnonzero(asked)
    filled = judge.scene_without_holes(holed)
    triangle, _ = judge.first(filled, s.of(rows), towards[rows], distance[rows])
    rows, triangle = rows[triangle >= 0], triangle[triangle >= 0]
    if len(rows) < least:
        return []
    part, way, far = s.of(rows), towards[rows], distance[rows]
    reach = judge.looks_around_m(i, part, way, far)
    inside = ~judge.lit_around(i, part, way, far, reach * (1 + RINGS[-1]), filled).any(axis=0)
    inside &= ~judge.blocked(judge.scene(judge.intended & ~holed), part, way, far)
    rows, part, way, far = rows[inside], part.of(inside), way[inside], far[inside]
    owner = judge.frame.geometry.owner[triangle[inside]]
    true, drawn = averaged_shares(judge, i, part, way, far, reach[inside])
    found = []
    for m in np.unique(cutouts.material[owner]):
        mine = cutouts.material[owner] == m
        if mine.sum() >= least:
            found.append(
                HoleShare(
                    int(m), i, rows[mine], float(drawn[mine].mean()), float(true[mine].mean()),
                    tuple(int(d) for d in np.unique(owner[mine])), tuple(int(d) for d in np.unique(part.drawable[mine])),
                )
            )  # fmt: skip
    return sorted(found, key=lambda h: -abs(h.off))


def averaged_shares(
    judge: Judge, i: int, s: Surfaces, towards: np.ndarray, distance: np.ndarray, reach_m: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """(true, drawn) share (n,) of light i over what the look-up takes from around each surface, reach_m (n,) across its rays. A mesh seen
    at the centres of pixels alone makes a pattern with them that is no share of anything. True: by rays to what the judge holds due."""
    scene = judge.scene(judge.intended)
    places = [s, *(p for part in RINGS for p in around(s, towards, reach_m * part))]
    true = np.mean([~judge.blocked(scene, p, towards, distance) for p in places], axis=0)
    if judge.traced(i):
        return true, judge.drawn(i, s, towards, distance)
    return true, np.mean([judge.drawn(i, p, towards, distance) for p in places], axis=0)
