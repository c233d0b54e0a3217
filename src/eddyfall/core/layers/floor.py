"""Where on a floor two blended drawables lie before one another, and where the sort key says otherwise: cells that an eye may stand on.

Which of two is in front is asked by rays from the eye of each cell to points spread over the one, through the other: as each pair would be
seen alone. A key that is a depth along the view does not ask where the eye is: of it there is no map."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame
from eddyfall.core.frame.stage import make_camera
from eddyfall.core.passes.draw_order import Sorting, blended_in, keys_from, sorting
from eddyfall.core.rays.queries import RayScene, tree_of
from eddyfall.core.scene.build import Build
from eddyfall.core.shade.blend import VOLUME

CELL_M, AROUND_M, POINTS = 0.1, 2.0, 24
MOST_CELLS, MOST_DRAWABLES = 250_000, 16
NEARER = 1 - 1e-4  # of the way to a point, on which another has to be met
SEED = 5
NEITHER, FIRST, SECOND, BOTH = 0, 1, 2, 3
Rect = tuple[float, float, float, float]


@dataclass(frozen=True)
class FloorPair:
    """Two drawables over the cells (rows along z, columns along x): in_front: NEITHER, FIRST, SECOND or BOTH lies before the other; wrong:
    the nearer one is drawn first (BOTH: whichever is); first_drawn: the key draws the first one first, whether they overlap or not."""

    first: int
    second: int
    in_front: np.ndarray
    wrong: np.ndarray
    first_drawn: np.ndarray


@dataclass(frozen=True)
class Floor:
    """Cells of edge cell_m from x0, z0 on, eyes at a height (m); pairs that lie before one another anywhere; left_out: drawables beyond
    MOST_DRAWABLES that were not asked about."""

    x0: float
    z0: float
    cell_m: float
    height_m: float
    shape: tuple[int, int]
    pairs: tuple[FloorPair, ...]
    left_out: int


def floor_of(build: Build, frame: Frame) -> tuple[Rect, float]:
    """((x0, z0, x1, z1) m, height of the eye): where the viewpoints and the keys of moves stand, and AROUND_M around."""
    eyes = [make_camera(build, name, 1.0).eye for name in build.setup.viewpoints]
    eyes += [key.eye for move in build.setup.moves.values() for key in move.keys.values() if key.eye is not None]
    at = np.array(eyes or [frame.camera.eye], float)
    (x0, _, z0), (x1, _, z1) = at.min(axis=0) - AROUND_M, at.max(axis=0) + AROUND_M
    return (float(x0), float(z0), float(x1), float(z1)), float(at[:, 1].mean())


def floor_map(frame: Frame, rect: Rect, height_m: float, cell_m: float = CELL_M) -> Floor:
    """Every pair of blended drawables over a floor (x0, z0, x1, z1) m. RequestError for a floor of no or too many cells, and where
    things are sorted by depth along the view."""
    by = sorting(frame.stage)
    if by.method != "sorted":
        raise RequestError(f"blended things are not sorted (order.method is {by.method}): none is drawn before another")
    if by.key == "view_depth":
        raise RequestError("sorted by depth along the view, things change places by heading: there is no line on any floor")
    if not np.isfinite([*rect, height_m]).all():
        raise RequestError("a floor and the height of the eye are finite numbers of metres")
    x0, z0, x1, z1 = rect
    columns, rows = round((x1 - x0) / cell_m), round((z1 - z0) / cell_m)
    if columns < 1 or rows < 1 or rows * columns > MOST_CELLS:
        raise RequestError(f"a floor of {columns} x {rows} cells is not within 1 to {MOST_CELLS} of them")
    x, z = x0 + (np.arange(columns) + 0.5) * cell_m, z0 + (np.arange(rows) + 0.5) * cell_m
    eyes = np.stack([np.tile(x, rows), np.full(rows * columns, height_m), np.repeat(z, columns)], axis=1)
    state = frame.stage.state
    there = blended_in(state)
    there = there[state.blend[there] != VOLUME]  # a box of mist lies neither before nor behind what hangs in it
    chosen = there[:MOST_DRAWABLES]
    pairs = []
    for a, b in combinations(chosen.tolist(), 2):
        over = _before(frame, eyes, a, b), _before(frame, eyes, b, a)
        if not (over[0].any() or over[1].any()):
            continue
        in_front = (over[0] * FIRST + over[1] * SECOND).astype(np.int8)
        first_drawn = _drawn_first(frame, by, eyes, a, b)
        wrong = np.where(first_drawn, in_front == FIRST, in_front == SECOND) | (in_front == BOTH)
        pairs.append(FloorPair(a, b, *(cells.reshape(rows, columns) for cells in (in_front, wrong, first_drawn))))
    return Floor(x0, z0, cell_m, height_m, (rows, columns), tuple(pairs), len(there) - len(chosen))


def _before(frame: Frame, eyes: np.ndarray, near: int, far: int) -> np.ndarray:
    """(n,) bool: from an eye (n, 3), rays to some point of `far` meet `near` on the way."""
    geometry = frame.geometry
    only = np.zeros(len(geometry.drawables), bool)
    only[near] = True
    scene = RayScene(geometry, tree_of(geometry, only), frame.buffers["cutouts"], frame.buffers["textures"].alpha_uv).solid
    points = _points(frame, far)
    ways = points[None] - eyes[:, None]
    triangle, distance = scene.first_hit(np.repeat(eyes, len(points), axis=0), ways.reshape(-1, 3))
    return np.asarray(((triangle >= 0) & (distance < NEARER)).reshape(len(eyes), -1).any(axis=1))


def _points(frame: Frame, drawable: int) -> np.ndarray:
    """(p, 3) m spread over a drawable's faces by their area."""
    g, d = frame.geometry, frame.geometry.drawables[drawable]
    corners = g.positions[g.triangles[d.first : d.last]].astype(np.float64)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    rng = np.random.default_rng(SEED)
    of = rng.choice(len(corners), POINTS, p=area / area.sum()) if area.sum() > 0 else np.zeros(POINTS, int)
    u, v = rng.random((2, POINTS))
    u, v = np.where(u + v > 1, 1 - u, u)[:, None], np.where(u + v > 1, 1 - v, v)[:, None]
    return np.asarray(corners[of, 0] * (1 - u - v) + corners[of, 1] * u + corners[of, 2] * v)


def _drawn_first(frame: Frame, by: Sorting, eyes: np.ndarray, a: int, b: int) -> np.ndarray:
    """(n,) bool: a is drawn before b for an eye there."""
    ahead = np.broadcast_to(np.array([0.0, 0.0, -1.0]), eyes.shape)
    one, other = (keys_from(frame.geometry, np.full(len(eyes), d), eyes, ahead, by) for d in (a, b))
    if by.rank[a] != by.rank[b]:
        return np.full(len(eyes), bool(by.rank[a] < by.rank[b]))
    by_turn = (int(by.member[a]), a) < (int(by.member[b]), b)
    return np.where(one == other, by_turn, one > other)
