"""Anchors: fixed places of the world that a move is judged at, and the rays that bring them light from elsewhere, followed once."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame, Request
from eddyfall.core.passes.contract import Pixels, View
from eddyfall.core.passes.sections import sky_colours, with_picture
from eddyfall.core.shade.columns import EMITTED_RGB
from eddyfall.core.shade.sky import sky_colours_along
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.answers import MARCHED, Vertices
from eddyfall.core.truth.reference.classes import SAME, depth_around, projected
from eddyfall.core.truth.reference.of_frame import Wanted
from eddyfall.core.truth.reference.path_scene import PathScene
from eddyfall.core.truth.reference.places import Place, onto
from eddyfall.core.truth.reference.secondary import Secondary
from eddyfall.core.truth.reference.tally import EMISSION, PARTS
from eddyfall.core.truth.reference.trace import Seen, follow, keys_of, seen_by
from eddyfall.core.truth.reference.walks import numbers_of

SHINY = 0.5  # roughness up to which what a coat mirrors is followed anew from each pose


@dataclass(frozen=True)
class Anchors:
    """n fixed places (n, 3) in m, facing (n, 3) unit normals of the face on the side that is looked at, drawable (n,), shiny (n,) bool,
    pixel (n, 2) x y at which they were chosen; seen: what the eye met there."""

    place: np.ndarray
    facing: np.ndarray
    drawable: np.ndarray
    shiny: np.ndarray
    pixel: np.ndarray
    seen: Seen

    def __len__(self) -> int:
        return len(self.place)

    def visible(self, frame: Frame) -> np.ndarray:
        """(n,) bool: which of them a whole frame shows in front."""
        camera, (width, height) = frame.camera, frame.pixels.size
        depth, x, y = projected(camera, frame.pixels.size, self.place)
        inside = (depth > 0) & (x >= 0) & (x < width) & (y >= 0) & (y < height)
        turned = np.einsum("nk,nk->n", self.facing, self.place - np.array(camera.eye)) < 0
        column, row = np.clip(x, 0, width - 1).astype(int), np.clip(y, 0, height - 1).astype(int)
        shown = np.zeros(len(self), bool)
        for dy in (-1, 0, 1):
            for dx in (-1, 0, 1):
                shown |= frame.drawable[np.clip(row + dy, 0, height - 1), np.clip(column + dx, 0, width - 1)] == self.drawable
        _, most = depth_around(frame.view_depth, row, column)
        return np.asarray(inside & turned & shown & (depth <= most * (1 + SAME)))


def anchors_of(
    scene: PathScene, frame: Frame, request: Request, most: int, at: Place | None = None, subject: int | None = None
) -> Anchors:
    """Anchors spread over what a request's window shows (of a subject drawable alone), or the surface at a place of the world. RequestError
    if there is none."""
    rays = View(frame.camera, Pixels(frame.pixels.size, (0, 0, *frame.pixels.size))).rays
    pixel = Wanted(request=request, points=most).pixels() if at is None else np.zeros((1, 2), np.int64)
    key = keys_of(pixel, frame.pixels.size[0], 1, 1)
    if at is None:
        seen = seen_by(scene, rays, pixel[:, 0] + 0.5, pixel[:, 1] + 0.5, key)
    else:
        ray, _ = onto(scene, np.array(at, float), rays.eye)
        seen = seen_by(scene, ray, np.zeros(1), np.zeros(1), key)
    mine = seen.drawable >= 0 if subject is None else seen.drawable == subject
    there = np.flatnonzero(mine & ~seen.arrived.turned)  # what is seen around a bend is not where it seems to be
    if not len(there):
        raise RequestError("there is no surface in the region")
    walk = seen.walk._replace(**{name: value[there] for name, value in seen.walk._asdict().items()})
    seen = Seen(seen.drawable[there], seen.rows[there], walk, seen.arrived.of(there))
    return Anchors(walk.place, walk.facing, seen.drawable, walk.rough <= SHINY, pixel[there], seen)


@dataclass(frozen=True)
class Ends:
    """m places that bring anchors light: of which anchor (m,), place, facing (m, 3), drawable (m,), light (m, 2) in nits of luminance by
    the layer under the coat and by the coat, weight (m, 2, 3): what of each nit along the same way; sky (m, 2) in nits of luminance: what
    the sky would bring along it; vertices where the rays start."""

    anchor: np.ndarray
    place: np.ndarray
    facing: np.ndarray
    drawable: np.ndarray
    light: np.ndarray
    weight: np.ndarray
    sky: np.ndarray
    vertices: Vertices

    def __len__(self) -> int:
        return len(self.anchor)

    def of(self, which: np.ndarray) -> Ends:
        """Some of them."""
        named = {f.name: getattr(self, f.name) for f in fields(self) if f.name != "vertices"}
        return Ends(**{name: value[which] for name, value in named.items()}, vertices=self.vertices.of(which))


@dataclass(frozen=True)
class Followed:
    """Rays of anchors: where they end, and of each anchor (n,) what is due there in nits of luminance, of it straight from
    lights, of it from the sky."""

    ends: Ends
    due: np.ndarray
    direct: np.ndarray
    sky: np.ndarray


def followed(
    scene: PathScene, frame: Frame, anchors: Anchors, which: np.ndarray, eye: np.ndarray, samples: int, bounces: int
) -> Followed:
    """Rays of anchors `which` (k,), samples each, as seen from eye (3,)."""
    seen, n = anchors.seen, len(which) * samples
    index = np.repeat(which, samples)
    key = keys_of(anchors.pixel[which] + which[:, None] * 8191, frame.pixels.size[0], 1, samples)
    walk = seen.walk._replace(**{name: value[index].copy() for name, value in seen.walk._asdict().items()})
    out = eye - walk.place
    out /= np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12)
    walk = walk._replace(out=np.ascontiguousarray(out), key=key)
    mapped = np.asarray(frame.stage.state.mapped)[seen.drawable[index]]
    vertices = Vertices(
        walk.place.copy(), walk.normal.copy(), walk.rough.copy(), mapped, seen.drawable[index], 1.0 - numbers_of(key, MARCHED)
    )
    found, secondary = np.zeros((n, len(PARTS) + 2 * len(scene.light_names), 3)), Secondary.empty(n)
    rows = Seen(seen.drawable[index], seen.rows[index], walk, seen.arrived.of(index))
    follow(scene, walk, rows.reflecting, bounces, found, secondary)
    found[:, EMISSION] = rows.rows[:, EMITTED_RGB]
    arrives = found[:, : len(PARTS) + len(scene.light_names)] @ REC709_LUMA
    sky = (secondary.sky_light @ REC709_LUMA).sum(axis=1)
    told = (arrives.sum(axis=1), arrives[:, len(PARTS) :].sum(axis=1), sky)
    due, direct, from_sky = (np.bincount(index, values, len(anchors))[which] / samples for values in told)
    return Followed(_ends(scene, frame, secondary, index, vertices), due, direct, from_sky)


def _ends(scene: PathScene, frame: Frame, s: Secondary, index: np.ndarray, vertices: Vertices) -> Ends:
    """Of rays that went on, and of those that shining places were asked by, which are met."""
    went, asked = np.flatnonzero(s.triangle >= 0), np.flatnonzero(s.asked_triangle >= 0)
    both = np.concatenate([went, asked])
    place = np.concatenate([s.place[went], s.asked_place[asked]])
    light = np.concatenate([s.went_light[went], s.asked_light[asked]]) @ REC709_LUMA
    weight, sky = np.zeros((len(both), 2, 3)), np.zeros_like(light)
    weight[: len(went)] = s.went_weight[went]
    if scene.sky_lights:
        way = s.place[went] - vertices.place[went]
        way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)
        above = sky_colours_along(way, with_picture(sky_colours(frame.stage), frame.buffers["sky_maps"]))
        sky[: len(went)] = (s.went_weight[went] * above[:, None]) @ REC709_LUMA
    return Ends(
        anchor=index[both], place=place, facing=np.concatenate([s.facing[went], s.asked_facing[asked]]),
        drawable=scene.soup.owner[np.concatenate([s.triangle[went], s.asked_triangle[asked]])], light=light, weight=weight, sky=sky,
        vertices=vertices.of(both),
    )  # fmt: skip
