"""How wide the edges of a light's shadows are drawn, and how wide its size makes them.

Along an edge the light climbs from none to all; its 10-90 % width is the area where between a tenth and nine tenths of it arrive, over the
edge's length. Truth is the share of many rays over the light's disc. Edges are told apart by how far what throws them stands in front, in
octaves, since one width cannot be right for all: near the foot a penumbra is narrow, far behind it is wide."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from eddyfall.core.frame.render import Frame
from eddyfall.core.rays.disc import disc, towards_disc, turns
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.judge import Judge, reflects
from eddyfall.core.truth.surfaces import Surfaces, pixel_m, to_light

SEARCHED, TRACED = 12, 48  # rays over the disc: to find where it is partly hidden, and to measure there
LEAST_EDGE_PX = 40.0  # of an octave's edges, or its width says nothing
NARROWEST_PX = 1.0  # narrower is seen as no wider than this
NEAR_PX = 6.0  # beyond what a look-up takes from, still an edge's own: penumbrae and what a bias moves
NO_EDGE = -(2**30)
MOST = 2.0  # times too wide or too narrow


@dataclass(frozen=True)
class SoftEdge:
    """Edges thrown from `gap_m` m in front, the middle of an octave: rows (n,) of the surfaces where picture or truth have a share of the
    light; 10-90 % widths in px and, square to the eye, in mm; length_px of all these edges."""

    gap_m: float
    rows: np.ndarray
    drawn_px: float
    true_px: float
    drawn_mm: float
    true_mm: float
    length_px: float

    @property
    def times(self) -> float:
        """Drawn over true, neither taken for narrower than a pixel."""
        return max(self.drawn_px, NARROWEST_PX) / max(self.true_px, NARROWEST_PX)

    @property
    def off(self) -> float:
        """How many times it is too wide or too narrow."""
        return max(self.times, 1 / self.times)


def size_of(frame: Frame, i: int) -> float:
    """A light's size: a sun's in m for each m of distance, a lamp's in m; 0 where its diameter is not said."""
    return frame.stage.lights[i].look_up.size


def soft_edges(judge: Judge, i: int, s: Surfaces, every: int) -> list[SoftEdge]:
    """The edges of light i's shadows on surfaces on a grid of every `every`-th pixel, nearest casters first; none without a size."""
    size = size_of(judge.frame, i)
    if size <= 0:
        return []
    towards, distance = to_light(s, i, judge.frame)
    state = judge.state
    lit = (np.einsum("nk,nk->n", s.normal, towards) > 0) & (np.einsum("nk,nk->n", s.face, towards) > 0)
    lit &= judge.arrives(i, s, distance) & state.receives[s.drawable] & reflects(judge.frame, s)
    lit &= ~(state.mapped[s.drawable] & bool(judge.table.baked[i]))
    rows = np.flatnonzero(lit)
    if not len(rows):
        return []
    s, towards, distance = s.of(rows), towards[rows], distance[rows]
    drawn = judge.drawn(i, s, towards, distance)
    met, front = judge.first(judge.scene(judge.intended), s, towards, distance)
    true, gap, own = disc_share(judge, i, s, SEARCHED)
    partly = np.flatnonzero(((true > 0) & (true < 1)) | ((drawn > 0) & (drawn < 1)))
    true[partly], gap[partly], own[partly] = disc_share(judge, i, s.of(partly), TRACED)
    border = _border(s, met < 0, every)
    hit = met >= 0
    gap[hit & ~np.isfinite(gap)] = front[hit & ~np.isfinite(gap)]
    # What a thing throws on itself ends at its own turn from the light: a bias decides there, no size.
    edge = np.flatnonzero(np.isfinite(gap) & ~own & (((true > 0) & (true < 1)) | ((border > 0) & hit)))
    if not len(edge):
        return []
    of, near = _edges_of(judge, i, s, towards, distance, edge)
    octave = np.where(of, np.floor(np.log2(np.maximum(gap[edge[near]], 1e-3))).astype(int), NO_EDGE)
    mixed_drawn, mixed_true = (drawn > 0.1) & (drawn < 0.9), (true > 0.1) & (true < 0.9)
    found = []
    for k in np.unique(octave[of & (mixed_drawn | mixed_true)]):
        here = octave == k
        length = float(border[here].sum()) * every
        if length < LEAST_EDGE_PX:
            continue
        middle = here & (mixed_drawn | mixed_true)
        a_pixel = float(np.median(s.depth_m[middle])) * pixel_m(judge.frame) * 1000
        wide = [float((mixed & here).sum()) * every**2 / length for mixed in (mixed_drawn, mixed_true)]
        found.append(
            SoftEdge(
                float(np.median(gap[edge[near[middle]]])), rows[np.flatnonzero(middle)], wide[0], wide[1], wide[0] * a_pixel,
                wide[1] * a_pixel, length,
            )
        )  # fmt: skip
    return found


def _edges_of(
    judge: Judge, i: int, s: Surfaces, towards: np.ndarray, distance: np.ndarray, edge: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """(whether a surface belongs to an edge (n,) bool, which of `edge` lies nearest to it on its drawable (n,)): as far from it as what
    its look-up takes from, or its penumbra, may be wide."""
    look_up, apart = judge.look_up(i), float(max(judge.frame.pixels.size)) * 2
    texel = judge.texel_m(i, s, distance)
    reach = judge.looks_around_m(i, s, towards, distance) + (look_up.search_texels / 2 * texel if look_up.soft else 0.0)
    reach_px = reach / (s.depth_m * pixel_m(judge.frame)) + NEAR_PX
    at = np.column_stack([s.pixels, s.drawable * apart])
    away, near = cKDTree(at[edge]).query(at)
    of = away <= reach_px
    of[edge] = True
    return of, near


def disc_share(judge: Judge, i: int, s: Surfaces, count: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(share of light i's disc that surfaces see (n,); how far in front of them what hides the rest stands in m, infinity where nothing
    does; whether all that hides it is their own drawable (n,) bool), by `count` rays to what is meant to cast."""
    towards, distance = to_light(s, i, judge.frame)
    sun, size, scene = judge.table.kind[i] == DIRECTIONAL, size_of(judge.frame, i), judge.scene(judge.intended)
    (ox, oy), (x, y) = judge.frame.pixels.origin, s.pixels.T
    turn = turns(x + ox, y + oy)
    seen, total, hidden, others = np.zeros(len(s)), np.zeros(len(s)), np.zeros(len(s)), np.zeros(len(s), bool)
    for aside in disc(count):
        aim, far = towards_disc(towards, distance, size, aside, turn, sun)
        triangle, away = judge.first(scene, s, aim, far)
        blocked = triangle >= 0
        seen += ~blocked
        hidden += blocked
        total[blocked] += away[blocked]
        others[blocked] |= judge.frame.geometry.owner[triangle[blocked]] != s.drawable[blocked]
    gap = np.divide(total, hidden, out=np.full(len(s), np.inf), where=hidden > 0)
    return seen / count, gap, (hidden > 0) & ~others


def _border(s: Surfaces, hard: np.ndarray, every: int) -> np.ndarray:
    """(n,) length in samples that each surface adds to the edges of the hard shadow: 1 where its neighbour on the grid to the right or
    below, of the same drawable, lies on the other side, the diagonal where both do (true along rows, columns and diagonals, at most 8 % too
    long between)."""
    x, y = s.pixels.T // every
    grid = np.full((int(y.max()) + 2, int(x.max()) + 2), -1)
    grid[y, x] = np.arange(len(s))
    crossed = np.zeros(len(s))
    for dy, dx in ((0, 1), (1, 0)):
        other = grid[y + dy, x + dx]
        crossed += (other >= 0) & (s.drawable[other] == s.drawable) & (hard[other] != hard)
    return np.sqrt(crossed)
