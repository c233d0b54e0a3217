"""Judges the shadows of a frame's surfaces: true visibility by rays against what the picture has, and the class that follows."""

from collections.abc import Iterator
from dataclasses import replace
from functools import cached_property

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.passes.contract import LookUp
from eddyfall.core.passes.look_ups import look_ups, looked_up
from eddyfall.core.rays.disc import towards_disc
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.shade.columns import REFLECTING
from eddyfall.core.shade.lights import DIRECTIONAL, SPOT, Places, visibility_at
from eddyfall.core.shade.shadow_maps import TEXEL_M, TRACED, ShadowMaps
from eddyfall.core.truth.map_reading import serving_map
from eddyfall.core.truth.pieces import pieces_of
from eddyfall.core.truth.shadow_classes import SAME, Class
from eddyfall.core.truth.surfaces import Surfaces, to_light
from eddyfall.core.truth.visibility import intended, rays_of

OVER_THE_RIM = 1.1  # of a soft light's disc: eight rays past its rim leave nothing of the disc out between them
SHADOWED = "traced"  # what a frame has to be drawn up to to be judged: all of its shadows, no light yet
MOST_FACES = 16  # along one ray
AROUND = ((1, 0), (1, 1), (0, 1), (-1, 1), (-1, 0), (-1, -1), (0, -1), (1, -1))  # opposite ones four apart


class Judge:
    """Truth and picture of one frame, drawn up to its shadows.

    due_to (d,) bool: what ought to cast; None: what is intended to (drawn, not blended, not told not to cast)."""

    def __init__(self, renderer: Renderer, frame: Frame, due_to: np.ndarray | None = None) -> None:
        self.renderer, self.frame = renderer, frame
        self.state, self.shadow = frame.stage.state, frame.stage.resolved[Shadow]
        self.table = frame.buffers["lights"]
        maps: ShadowMaps = frame.buffers["shadow_maps"]
        self.maps = looked_up(maps, look_ups(frame.stage))
        self.intended = intended(frame) if due_to is None else due_to

    # Scenes that rays meet

    def scene(self, taking_part: np.ndarray) -> RayScene:
        """Whole drawables, with their holes."""
        return rays_of(self.renderer, self.frame, taking_part)

    def scene_without_holes(self, taking_part: np.ndarray) -> RayScene:
        """Drawables whose alpha is not tested."""
        return rays_of(self.renderer, self.frame, taking_part).solid

    @cached_property
    def pieces(self) -> np.ndarray:
        """(t,) connected piece of each triangle."""
        found: np.ndarray = self.renderer.derive(pieces_of, self.frame.known("caster_geometry")).value
        return found

    def cast_in(self, light: int) -> np.ndarray:
        """(d,) bool: what the light's technique draws, after its cull."""
        return np.asarray(self.frame.buffers["shadow_casters"][light])

    def look_up(self, light: int) -> LookUp:
        """How a light's maps are looked up."""
        return self.frame.stage.lights[light].look_up

    def traced(self, light: int) -> bool:
        """Whether a light's shadow is drawn by rays."""
        return bool(self.table.technique[light] == TRACED)

    # Truth and picture

    def classes(self, i: int, s: Surfaces) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """(class, true share, drawn share) (n,) each, of surfaces in light i."""
        n = len(s)
        if not self._near(i, s).any():
            return np.full(n, Class.UNLIT), np.ones(n), np.ones(n)
        towards, distance = to_light(s, i, self.frame)
        lit, turned = np.einsum("nk,nk->n", s.normal, towards), np.einsum("nk,nk->n", s.face, towards)
        baked = self.state.mapped[s.drawable] & bool(self.table.baked[i])
        classes = np.full(n, Class.UNLIT)
        classes[baked] = Class.BAKED
        asked = np.flatnonzero((lit > 0) & self.arrives(i, s, distance) & ~baked & reflects(self.frame, s))
        drawn, true = np.ones(n), np.ones(n)
        drawn[asked] = self.drawn(i, s.of(asked), towards[asked], distance[asked])
        classes[asked] = np.where(turned[asked] > 0, Class.AGREE, Class.TERMINATOR)
        facing = asked[turned[asked] > 0]
        true[facing] = ~self.blocked(self.scene(self.intended), s.of(facing), towards[facing], distance[facing])
        off = facing[np.abs(drawn[facing] - true[facing]) > SAME]
        edge = self._at_an_edge(i, s.of(off), towards[off], distance[off], true[off])
        classes[off] = np.where(edge, Class.EDGE, np.where(true[off] > 0, Class.FALSE, Class.MISSING))
        return classes, true, drawn

    def _near(self, i: int, s: Surfaces) -> np.ndarray:
        """Which surfaces lie within a lamp's range at all."""
        table = self.table
        if table.kind[i] == DIRECTIONAL or table.range_m[i] <= 0:
            return np.ones(len(s), bool)
        away = s.place - table.place[i]
        return np.asarray(np.einsum("nk,nk->n", away, away) < table.range_m[i] ** 2)

    def arrives(self, i: int, s: Surfaces, distance: np.ndarray) -> np.ndarray:
        """Whether any of a lamp's light could reach: its range and its cone."""
        reaches = np.ones(len(s), bool)
        if self.table.kind[i] != DIRECTIONAL and self.table.range_m[i] > 0:
            reaches &= distance < self.table.range_m[i]
        if self.table.kind[i] == SPOT:
            away = s.place - self.table.place[i]
            away /= np.maximum(np.linalg.norm(away, axis=1, keepdims=True), 1e-12)
            scale, offset = self.table.cone[i]
            reaches &= away @ self.table.towards[i] * scale + offset > 0
        return reaches

    def drawn(
        self, i: int, s: Surfaces, towards: np.ndarray, distance: np.ndarray, look_up: LookUp | None = None, marched: bool = True
    ) -> np.ndarray:
        """(n,) share of light i that the picture has, looked up as set or in another way; marched False: by its maps alone."""
        if self.traced(i):
            seen = self.frame.buffers["traced"][s.pixels[:, 1], s.pixels[:, 0], i].astype(float)
        else:
            seen = visibility_at(i, asked_of(s, towards, distance), self.table, self.maps_by(i, look_up))
            if marched and self.frame.stage.lights[i].contact_m > 0:
                seen = seen * self.frame.buffers["traced"][s.pixels[:, 1], s.pixels[:, 0], i]
        return np.asarray(np.where(self.state.receives[s.drawable], seen, 1.0))

    def maps_by(self, i: int, look_up: LookUp | None) -> ShadowMaps:
        """The frame's maps, looked up for light i in another way than as set (None: as set)."""
        if look_up is None:
            return self.maps
        lights = self.frame.stage.lights
        return looked_up(self.maps, [look_up if n == i else light.look_up for n, light in enumerate(lights)])

    def shift_m(self, i: int, s: Surfaces, look_up: LookUp) -> np.ndarray:
        """(n,) how far a look-up of light i moves surfaces along their normal."""
        towards, distance = to_light(s, i, self.frame)
        lit = np.einsum("nk,nk->n", s.normal, towards)
        texels = look_up.normal_texels * (np.sqrt(np.maximum(1 - lit * lit, 0)) + look_up.over)
        return np.asarray(self.texel_m(i, s, distance) * texels)

    def blocked(self, scene: RayScene, s: Surfaces, towards: np.ndarray, distance: np.ndarray) -> np.ndarray:
        """(n,) bool: whether something of a scene stands between surfaces and the light."""
        return self.first(scene, s, towards, distance)[0] >= 0

    def first(self, scene: RayScene, s: Surfaces, towards: np.ndarray, distance: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(triangle, metres) of what rays to the light meet first; -1 and infinity where they meet nothing before it."""
        triangle, away = scene.first_hit(s.start(towards), towards)
        triangle = np.where(away < distance, triangle, -1)
        return triangle, np.where(triangle >= 0, away, np.inf)

    def first_drawn_face(
        self, taking_part: np.ndarray, i: int, s: Surfaces, towards: np.ndarray, distance: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """The same of faces that the light's maps draw: on the side that they draw, or of what casts from both. Rays meet both sides."""
        scene, n = self.scene(taking_part), len(s)
        if self.traced(i):
            return self.first(scene, s, towards, distance)
        triangle, away = np.full(n, -1), np.full(n, np.inf)
        start, gone, active, before = s.start(towards), np.zeros(n), np.arange(n), np.full(n, -1)
        for _ in range(MOST_FACES):
            hit, far = scene.first_hit(start[active] + towards[active] * gone[active, None], towards[active])
            gone[active] += np.where(hit >= 0, far, 0.0)
            there = (hit >= 0) & (gone[active] < distance[active])
            drawn = there & (self._on_drawn_side(i, hit, towards[active]) | self.state.casts_both[self.frame.geometry.owner[hit]])
            triangle[active[drawn]], away[active[drawn]] = hit[drawn], gone[active[drawn]]
            active = active[there & ~drawn]
            if not len(active):
                break
            gone[active] += past_m(self.frame.geometry, gone[active], hit[there & ~drawn] == before[active])
            before[active] = hit[there & ~drawn]
        return triangle, away

    def _on_drawn_side(self, i: int, triangle: np.ndarray, towards: np.ndarray) -> np.ndarray:
        """(n,) bool: whether triangles turn the side to light i that its maps draw."""
        side = self.frame.stage.lights[i].faces
        turned = self._faces_light(triangle, towards)
        return turned if side == "front" else np.asarray(~turned | (side == "both"))

    def _faces_light(self, triangle: np.ndarray, towards: np.ndarray) -> np.ndarray:
        g = self.frame.geometry
        c = g.positions[g.triangles[triangle]].astype(np.float64)
        return np.asarray(np.einsum("nk,nk->n", np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0]), towards) > 0)

    # Edges

    def _at_an_edge(self, i: int, s: Surfaces, towards: np.ndarray, distance: np.ndarray, true: np.ndarray) -> np.ndarray:
        """(n,) bool: whether truth changes as far around as the look-up takes from, so that it may be right. A shadow narrower than that,
        with light on both sides of it, is not an edge: it is missing."""
        edge = np.zeros(len(s), bool)
        reach = self.looks_around_m(i, s, towards, distance)
        served = np.flatnonzero(reach > 0)
        if not len(served):
            return edge
        lit = self.lit_around(i, s.of(served), towards[served], distance[served], reach[served])
        between = (lit[:4] & lit[4:]).any(axis=0)
        same = (lit == (true[served] > 0)).all(axis=0)
        edge[served] = ~same & ((true[served] > 0) | ~between)
        return np.asarray(edge | self._in_penumbra(i, s, towards, distance, true))

    def _in_penumbra(self, i: int, s: Surfaces, towards: np.ndarray, distance: np.ndarray, true: np.ndarray) -> np.ndarray:
        """(n,) bool: whether a light that is drawn soft, by its size, is hidden in part there, or as far around as a look-up takes from."""
        light = self.frame.stage.lights[i]
        mixed = np.zeros(len(s), bool)
        if light.look_up.size <= 0 or light.look_up.softness == "box" or not len(s):
            return mixed
        sun, scene, reach = (
            self.table.kind[i] == DIRECTIONAL,
            self.scene(self.intended),
            self.looks_around_m(i, s, towards, distance),
        )
        for (x, y), moved in zip(AROUND, around(s, towards, reach)):
            aside = OVER_THE_RIM, float(np.arctan2(y, x))
            aim, far = towards_disc(towards, distance, light.look_up.size, aside, np.zeros(len(s)), sun)
            mixed |= self.blocked(scene, moved, aim, far) == (true > 0)
        return mixed

    def lit_around(
        self, i: int, s: Surfaces, towards: np.ndarray, distance: np.ndarray, reach_m: np.ndarray, scene: RayScene | None = None
    ) -> np.ndarray:
        """(8, n) bool: whether light i truly arrives (or passes a scene) on the surfaces' own planes, in eight directions `reach_m` (n,)
        across its rays."""
        scene = scene or self.scene(self.intended)
        return np.stack([~self.blocked(scene, moved, towards, distance) for moved in around(s, towards, reach_m)])

    def looks_around_m(self, i: int, s: Surfaces, towards: np.ndarray, distance: np.ndarray) -> np.ndarray:
        """(n,) how far across the light's rays a look-up takes from: half the filter and half a texel, or what its start moves a ray."""
        if self.traced(i):
            facing = np.abs(np.einsum("nk,nk->n", s.face, towards))
            return np.asarray(self.shadow.ray_offset_m * np.sqrt(np.maximum(1 - facing**2, 0)) + 1e-3)
        return self.texel_m(i, s, distance) * (self.look_up(i).filter_px / 2 + 0.5)

    def texel_m(self, i: int, s: Surfaces, distance: np.ndarray) -> np.ndarray:
        """(n,) size of the texel that serves each surface; 0 where none does."""
        k = serving_map(s, i, self.table, self.maps)
        if not len(self.maps.info):
            return np.zeros(len(s))
        scale = np.ones(len(s)) if self.table.kind[i] == DIRECTIONAL else distance
        return np.where(k >= 0, self.maps.info[np.maximum(k, 0), TEXEL_M] * scale, 0.0)


def reflects(frame: Frame, s: Surfaces) -> np.ndarray:
    """(n,) bool: surfaces that reflect any light: on an unlit one no shadow shows."""
    row = frame.buffers["surface"][s.pixels[:, 1], s.pixels[:, 0]]
    return np.asarray(row[:, REFLECTING].sum(axis=1) > 0)


def around(s: Surfaces, towards: np.ndarray, reach_m: np.ndarray) -> Iterator[Surfaces]:
    """Surfaces moved on their own planes, in eight directions `reach_m` (n,) across the rays to a light."""
    side = np.cross(towards, np.where(np.abs(towards[:, 1:2]) < 0.9, [[0.0, 1.0, 0.0]], [[1.0, 0.0, 0.0]]))
    side /= np.linalg.norm(side, axis=1, keepdims=True)
    up, falls = np.cross(towards, side), np.einsum("nk,nk->n", s.face, towards)
    for x, y in AROUND:
        aside = (x * side + y * up) * reach_m[:, None]
        on_plane = aside - towards * (np.einsum("nk,nk->n", aside, s.face) / np.maximum(falls, 0.05))[:, None]
        yield replace(s, place=s.place + on_plane)


def asked_of(s: Surfaces, towards: np.ndarray, distance: np.ndarray) -> Places:
    """Surfaces as a light's maps are asked for them; towards (n, 3) and distance (n,) m as `to_light` gives them."""
    away = np.where(np.isfinite(distance), distance, 1.0)
    return Places(s.place, s.normal, s.face, np.einsum("nk,nk->n", s.normal, towards), s.depth_m, away)


def past_m(geometry: Geometry, gone_m: np.ndarray, again: np.ndarray) -> np.ndarray:
    """How far past a face the next ray starts: as little as can be, since another may lie close behind; where float32 met the same face
    again (far from the origin its steps are coarse), by more than such a step."""
    return np.asarray(1e-5 + 1e-6 * np.asarray(gone_m) + np.where(again, 4 * geometry.coordinate_step_m, 0.0))
