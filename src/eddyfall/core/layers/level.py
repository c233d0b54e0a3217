"""Things that lie at one depth, as all of a flat picture do: depth does not say which is in front, a direction has to.

Common practice: what stands lower in a flat picture is in front, so what has the higher foot is drawn first. A cutout is drawn with what is
solid, before everything blended, whatever the order says of the two."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import permutations

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.layers.capture import Layers, layers_of
from eddyfall.core.layers.kernels import fold
from eddyfall.core.layers.pairs import apart
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.draw_order import sort_keys, sorting
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.splits import Plane, plane_through
from eddyfall.core.shade.blend import KINDS

MOST_SOLID = 48  # drawables in one plane that are drawn each by itself
SAME_M = 1e-4  # keys and planes that differ by less are the same
UP = (0.0, 1.0, 0.0)  # the direction of a flat picture: what stands higher is drawn first, by the lowest point of each


@dataclass(frozen=True)
class Level:
    """Two drawables at one depth whose order shows: first is drawn before second (stages: because first is solid, though it stands before
    second); pixels that would be visibly different the other way round, where (pixels,) of the frame, row by row."""

    first: int
    second: int
    stages: bool
    pixels: int
    where: np.ndarray


@dataclass(frozen=True)
class Standing:
    """How drawables (d,) of a frame stand, whatever they are drawn as: draw rank, key in m (the higher, the earlier), turn at a point that
    several share. By the direction that the build sorts by; where it sorts by another key, by their feet."""

    rank: np.ndarray
    key: np.ndarray
    member: np.ndarray

    @classmethod
    def of(cls, frame: Frame) -> Standing:
        by = sorting(frame.stage)
        if by.key != "direction":
            by = replace(by, key="direction", direction=UP, point="nearest")
        return cls(by.rank, sort_keys(frame.geometry, np.arange(len(by.rank)), frame.camera, by), by.member)

    def behind(self, a: np.ndarray, b: np.ndarray) -> np.ndarray:
        """(n,) bool: drawables a (n,) are to be drawn before b (n,) for their rank, or for a key that differs."""
        return np.asarray((self.rank[a] < self.rank[b]) | (self.rank[a] == self.rank[b]) & (self.key[a] > self.key[b] + SAME_M))


def level_pairs(layers: Layers) -> list[Level]:
    """Pairs of blended drawables at one depth, next to one another in a pixel, whose order shows: most pixels first."""
    s, pixel = layers.shown, layers.pixel
    if len(s.far) < 2 or layers.orderless:
        return []
    i, j = np.arange(len(s.far) - 1), np.arange(1, len(s.far))
    level = (pixel[i] == pixel[j]) & (s.drawable[i] != s.drawable[j])
    level &= (np.abs(s.far[i] - s.far[j]) <= np.maximum(layers.step_m[i], layers.step_m[j])) & (s.long[i] == 0) & (s.long[j] == 0)
    i, j = i[level], j[level]
    if not len(i):
        return []
    first, second, found = s.drawable[i], s.drawable[j], []
    for a, b in np.unique(np.stack([first, second], axis=1).astype(np.int64), axis=0):
        mine = (first == a) & (second == b)
        order = np.arange(len(s.far))
        order[i[mine]], order[j[mine]] = j[mine], i[mine]
        where = np.unique(pixel[i[mine]])
        drawn, other = (nits.reshape(-1, 3)[where] for nits in (layers.drawn, layers.replayed(order)))
        where = where[apart(layers.frame, drawn, other) > VISIBLE_DIFFERENCE]
        found.append(Level(int(a), int(b), False, len(where), where))
    return sorted(found, key=lambda one: -one.pixels)


def level_with_others(frame: Frame, drawables: Sequence[int]) -> bool:
    """Whether any of some blended drawables lies at one depth with another one, and their order shows."""
    return any({pair.first, pair.second} & set(drawables) for pair in level_pairs(layers_of(frame, least=2)))


def over_cutouts(layers: Layers) -> np.ndarray:
    """(n,) bool: fragments shown over a cutout at their depth that stands before them."""
    frame, s = layers.frame, layers.shown
    front = frame.front.ravel()[layers.pixel]
    cutout = np.append(frame.stage.state.blend == KINDS["cutout"], False)[front]
    solid = frame.depth_format.view_depth(frame.buffers["over_depth"]) * View(frame.camera, frame.pixels).ray_lengths
    level = cutout & (np.abs(solid.ravel()[layers.pixel] - s.far) <= layers.step_m) & (s.long == 0)
    level[level] = Standing.of(frame).behind(s.drawable[level], front[level])
    return np.asarray(level)


def stage_pairs(layers: Layers) -> list[Level]:
    """Cutouts with the blended drawables that show over them though they stand behind: most pixels first."""
    over = over_cutouts(layers)
    if not over.any():
        return []
    s, pixel = layers.shown, layers.pixel
    drawn, due = layers.drawn.reshape(-1, 3), in_turn(layers).reshape(-1, 3)
    shows = apart(layers.frame, drawn[pixel[over]], due[pixel[over]]) > VISIBLE_DIFFERENCE
    first, second = layers.frame.front.ravel()[pixel[over]][shows], s.drawable[over][shows]
    found = []
    for a, b in np.unique(np.stack([first, second], axis=1).astype(np.int64), axis=0):
        where = np.unique(pixel[over][shows][(first == a) & (second == b)])
        found.append(Level(int(a), int(b), True, len(where), where))
    return sorted(found, key=lambda one: -one.pixels)


@dataclass(frozen=True)
class Covers:
    """A solid drawable that shows where another one at its depth stands before it: where (pixels,) of the frame, row by row, with the nits
    (pixels, 3) that the other one shows there; visible (pixels,) bool: the two differ visibly."""

    shows: int
    stands_before: int
    where: np.ndarray
    nits: np.ndarray
    visible: np.ndarray


def solid_pairs(renderer: Renderer, build: Build, frame: Frame, request: Request) -> list[Covers]:
    """Solid drawables in one plane of which the wrong one shows: which of two that is hangs on the depth test alone. Asked where things are
    sorted by a direction; each is drawn without the others. Up to MOST_SOLID of them."""
    geometry, planes = frame.geometry, dict[int, Plane]()
    for d in frame.buffers["in_view"][frame.stage.state.solid[frame.buffers["in_view"]] == 1].tolist():
        thing = geometry.drawables[d]
        plane = plane_through(geometry.positions[np.unique(geometry.triangles[thing.first : thing.last])])
        if plane is not None and d != geometry.plate:
            planes[d] = plane
    flat = [
        d for d in planes if any(o != d and _touch(geometry, d, o) and planes[d].is_one_with(planes[o], SAME_M) for o in planes)
    ]
    flat = flat[:MOST_SOLID]
    if sorting(frame.stage).key != "direction" or len(flat) < 2:
        return []
    stands = Standing.of(frame)
    everything, found = frozenset(range(len(geometry.drawables))), []
    alone = {
        d: renderer.frame(build, replace(request, hidden=request.hidden | (everything - {d, geometry.plate})), "linear")
        for d in flat
    }
    for back, front in permutations(flat, 2):
        if not (planes[back].is_one_with(planes[front], SAME_M) and stands.behind(np.array([back]), np.array([front]))[0]):
            continue
        where = np.flatnonzero((alone[back].drawable == back) & (alone[front].drawable == front) & (frame.drawable == back))
        if len(where):
            shown, due = (nits.reshape(-1, 3)[where].astype(float) for nits in (alone[back].linear, alone[front].linear))
            found.append(Covers(back, front, where, due, apart(frame, shown, due) > VISIBLE_DIFFERENCE))
    return sorted(found, key=lambda one: -int(one.visible.sum()))


def _touch(geometry: Geometry, a: int, b: int) -> bool:
    """Whether the boxes of two drawables overlap or touch."""
    low, high = geometry.bounds[[a, b]].transpose(1, 0, 2)
    return bool((np.minimum(*high) + SAME_M >= np.maximum(*low)).all())


def levels_in(renderer: Renderer, build: Build, request: Request, layers: Layers) -> list[Level]:
    """All pairs at one depth whose order shows in a frame: blended ones; where things are sorted by a direction, also what is solid and
    something that stands behind it and shows over it."""
    found = level_pairs(layers)
    if layers.by.key == "direction":
        found += stage_pairs(layers)
        for one in solid_pairs(renderer, build, layers.frame, request):
            found.append(Level(one.stands_before, one.shows, True, int(one.visible.sum()), one.where[one.visible]))
    return found


def in_turn(layers: Layers) -> np.ndarray:
    """(h, w, 3) nits with things at one depth in the order that they stand in; nothing shows over a cutout that stands before it."""
    s, out = layers.shown, np.empty_like(layers.opaque)
    over, stands = over_cutouts(layers), Standing.of(layers.frame)
    order = layers.truly_ordered.copy()
    levels = np.zeros(len(order), np.int64)  # of the fragments in this order: a number more wherever the depth is another
    far, pixel, of = s.far[order], layers.pixel[order], s.drawable[order]
    levels[1:] = np.cumsum((np.diff(pixel) != 0) | (np.abs(np.diff(far)) > layers.step_m[order[1:]]))
    order = order[np.lexsort((stands.member[of], -stands.key[of], stands.rank[of], levels))]
    k, p = np.where(over[:, None], 1.0, s.k), np.where(over[:, None], 0.0, s.p)
    fold(s.starts, order, k, p, np.where(over, 0.0, s.q), layers.opaque, out)
    return out.reshape(*layers.frame.pixels.shape, 3)
