"""Things that lie at one depth, as all of a flat picture do: depth does not say which is in front, a direction has to.

Common practice: what stands lower in a flat picture is in front, so what has the higher foot is drawn first. A cutout is drawn with what is
solid, before everything blended, whatever the order says of the two."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import cast

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.layers.capture import UNDECIDED_STEPS, Layers, layers_of
from eddyfall.core.layers.kernels import fold
from eddyfall.core.layers.pairs import apart
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.draw_order import Sorting, sort_keys, sorting
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.order import Key, Point
from eddyfall.core.shade.blend import KINDS

MOST_SOLID = 16  # drawables at one depth that are drawn each by itself
Up = tuple[float, float, float]
FEET: dict[str, object] = {"key": "direction", "direction": (0.0, 1.0, 0.0), "point": "nearest"}


@dataclass(frozen=True)
class Level:
    """Two drawables at one depth whose order shows: first is drawn before second (stages: because first is a cutout); pixels that would be
    visibly different the other way round, where (pixels,) of the frame, row by row."""

    first: int
    second: int
    stages: bool
    pixels: int
    where: np.ndarray


def by_feet(by: Sorting) -> Sorting:
    """The same, sorted by where things stand: along its direction if it has one, else up the world, what is higher first."""
    if by.key == "direction":
        return by
    return replace(by, key=cast(Key, FEET["key"]), direction=cast(Up, FEET["direction"]), point=cast(Point, FEET["point"]))


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
    """(n,) bool: fragments shown over a cutout at their depth that stands before them, by the direction that the build sorts by, or by
    their feet."""
    frame, s = layers.frame, layers.shown
    front = frame.front.ravel()[layers.pixel]
    cutout = np.append(frame.stage.state.blend == KINDS["cutout"], False)[front]
    solid = frame.depth_format.view_depth(frame.buffers["over_depth"]) * View(frame.camera, frame.pixels).ray_lengths
    level = cutout & (np.abs(solid.ravel()[layers.pixel] - s.far) <= layers.step_m) & (s.long == 0)
    keys = np.full(len(frame.geometry.drawables) + 1, np.nan)
    used = np.unique(np.concatenate([front[level], s.drawable[level]]))
    if not len(used):
        return np.zeros(len(s.far), bool)
    keys[used] = sort_keys(frame.geometry, used, frame.camera, by_feet(layers.by))
    return np.asarray(level & (keys[s.drawable] > keys[front]), bool)


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
    """Solid drawables at one depth of which the wrong one shows: which of two that is depends on what is drawn last. Asked where things are
    sorted by a direction; each is drawn without the others. Up to MOST_SOLID of them."""
    state, geometry, by = frame.stage.state, frame.geometry, sorting(frame.stage)
    solid = [int(d) for d in frame.buffers["in_view"] if state.solid[d] and d != geometry.plate]
    flat = [d for d in solid if any(o != d and _one_plane(geometry, frame, d, o) for o in solid)][:MOST_SOLID]
    if by.key != "direction" or len(flat) < 2:
        return []
    everything, found = frozenset(range(len(geometry.drawables))), []
    alone = {
        d: renderer.frame(build, replace(request, hidden=request.hidden | (everything - {d, geometry.plate})), "linear")
        for d in flat
    }
    keys = dict(zip(flat, sort_keys(geometry, np.array(flat), frame.camera, by)))
    step = UNDECIDED_STEPS * frame.depth_format.step_m(frame.view_depth)
    for back, front in ((a, b) for a in flat for b in flat if keys[a] > keys[b]):
        both = (alone[back].drawable == back) & (alone[front].drawable == front)
        with np.errstate(invalid="ignore"):
            level = both & (np.abs(alone[back].view_depth - alone[front].view_depth) <= step)
        where = np.flatnonzero(level & (frame.drawable == back))
        if len(where) and 2 * level.sum() > both.sum():  # not only along a line in which they meet
            shown, due = (nits.reshape(-1, 3)[where].astype(float) for nits in (alone[back].linear, alone[front].linear))
            found.append(Covers(back, front, where, due, apart(frame, shown, due) > VISIBLE_DIFFERENCE))
    return sorted(found, key=lambda one: -int(one.visible.sum()))


def _one_plane(geometry: Geometry, frame: Frame, a: int, b: int) -> bool:
    """Whether the boxes of two drawables may touch at one depth of a frame."""
    low, high = geometry.bounds[[a, b]].transpose(1, 0, 2)
    overlap = np.minimum(*high) - np.maximum(*low)
    return bool((overlap >= -float(frame.depth_format.step_m(np.asarray(np.abs(high).max())))).all())


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
    """(h, w, 3) nits with things at one depth in the order that they stand in: by the direction the build sorts by, or by their feet;
    nothing shows over a cutout that stands before it."""
    s, out = layers.shown, np.empty_like(layers.opaque)
    over = over_cutouts(layers)
    keys = np.zeros(len(layers.frame.geometry.drawables))
    used = np.unique(s.drawable)
    if len(used):
        keys[used] = sort_keys(layers.frame.geometry, used, layers.frame.camera, by_feet(layers.by))
    order = layers.truly_ordered.copy()
    levels = np.zeros(len(order), np.int64)  # of the fragments in this order: a number more wherever the depth is another
    far, pixel = s.far[order], layers.pixel[order]
    levels[1:] = np.cumsum((np.diff(pixel) != 0) | (np.abs(np.diff(far)) > layers.step_m[order[1:]]))
    order = order[np.lexsort((-keys[s.drawable[order]], levels))]
    k, p = np.where(over[:, None], 1.0, s.k), np.where(over[:, None], 0.0, s.p)
    fold(s.starts, order, k, p, np.where(over, 0.0, s.q), layers.opaque, out)
    return out.reshape(*layers.frame.pixels.shape, 3)
