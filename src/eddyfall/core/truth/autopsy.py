"""Autopsy of a pixel's shadows: for each light whether a shadow is due there, whether one is drawn, and which test lost it.

A shadow is *due* where something solid that is drawn stands before the light, whatever node, shader, face side and map say of it. Whether
it is drawn hangs on a chain of tests; all of them are evaluated, each with what it measures, its limit and, where a setting decides, the
value at which it would just pass. That value is a prediction until a frame on either side of it proves it.
"""

import math
from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.passes.contract import View
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import apply_change, set_resolved
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.shade.columns import DISTANCE, NORMAL_XYZ
from eddyfall.core.shade.lights import DIRECTIONAL, ShadowMaps, incoming_plain, light_visibility
from eddyfall.core.truth.visibility import casters, off_surface, ray_scene_of, would_cast

MOST_HITS = 16  # along one ray
MISS_RINGS = 50
MISS_DEG = 5.0
BIAS_STEPS = 96
PAST = 1.002  # of a critical reach: what lies at the very end is not served


@dataclass(frozen=True)
class ShadowTest:
    """One test of the chain. value against limit in `unit`; margin: how far inside it is (negative: outside). leaf: the setting that
    decides, if one does, and the level it is set at; critical: the leaf's value at which the test would just pass (a prediction)."""

    name: str
    passed: bool
    value: float | None = None
    limit: float | None = None
    margin: float | None = None
    unit: str = "-"
    leaf: str = ""
    level: str = ""
    critical: float | None = None


@dataclass(frozen=True)
class Retried:
    """The same pixel drawn with a failed test's leaf at its critical value: what the maps then let through, and what would lose it next."""

    leaf: str
    value: float
    drawn: float
    lost_at: str | None


@dataclass(frozen=True)
class LightAutopsy:
    """One light at the pixel. due: a shadow ought to be there; as_flagged: what casts by its flags stands before the light; drawn: share
    of the light that the maps let through (0..1). verdict: agrees, missing, false, edge, terminator, turned away,
    baked (the surface takes this light from its lightmap).

    caster: what the shadow is due to, caster_m away; lost_at: the first test that fails; wrote: drawables whose depth stands in the map's
    texels that block; behind: what else stands before the light. Where none is due: by how many degrees the light clears what. retried: a
    frame drawn with the lost test's leaf at its critical value."""

    light: str
    due: bool
    as_flagged: bool
    drawn: float
    verdict: str
    caster: str | None
    caster_m: float
    tests: tuple[ShadowTest, ...]
    lost_at: str | None
    wrote: tuple[str, ...]
    behind: tuple[str, ...]
    clears: str | None
    clears_deg: float | None
    retried: Retried | None = None


@dataclass(frozen=True)
class Autopsy:
    """The shadows of pixel (x, y): the drawable seen there, its place in m, and every light that shines."""

    viewpoint: str
    x: int
    y: int
    drawable: str
    place_m: np.ndarray
    lights: tuple[LightAutopsy, ...]


def shadow_autopsy(renderer: Renderer, build: Build, request: Request, x: int, y: int, follow: bool = True) -> Autopsy:
    """The autopsy of pixel (x, y) of the request's full frame. RequestError if it lies outside, or shows nothing solid. follow: also draw
    what a failed test's critical value would give."""
    width, height = request.size
    if not (0 <= x < width and 0 <= y < height):
        raise RequestError(f"pixel {x},{y} is outside the {width} x {height} frame")
    frame = renderer.frame(build, replace(request, crop=(x, y, x + 1, y + 1), jitter=(0.0, 0.0)), "linear")
    front = int(frame.drawable[0, 0])
    if front < 0:
        raise RequestError(f"pixel {x},{y} shows only sky: no shadow falls on it")
    pixel = _Pixel(renderer, frame, front, x, y)
    lights = [_OfLight(pixel, i).autopsy() for i in range(len(frame.stage.lights))]
    if follow:
        lights = [replace(v, retried=_retried(renderer, build, request, (x, y), frame, v)) for v in lights]
    return Autopsy(request.viewpoint, x, y, frame.geometry.drawables[front].name, pixel.place, tuple(lights))


def _retried(
    renderer: Renderer, build: Build, request: Request, at: tuple[int, int], frame: Frame, found: LightAutopsy
) -> Retried | None:
    test = next((t for t in found.tests if t.name == found.lost_at and t.critical is not None), None)
    if test is None or test.critical is None:
        return None
    value = test.critical * PAST if test.leaf.endswith("reach_m") else test.critical
    change = set_resolved(build, frame.stage.resolved, {test.leaf: value}, title=f"{test.leaf} at its critical value")
    again = shadow_autopsy(renderer, apply_change(build, change), request, *at, follow=False)
    same = next(v for v in again.lights if v.light == found.light)
    return Retried(test.leaf, value, same.drawn, same.lost_at)


class _Pixel:
    """The surface at one pixel and the ray scenes that stand around it."""

    def __init__(self, renderer: Renderer, frame: Frame, front: int, x: int, y: int) -> None:
        self.frame, self.front, self.geometry = frame, front, frame.geometry
        view = View(frame.camera, frame.pixels)
        rays = view.rays
        d = rays.d0 + (x + 0.5) * rays.du + (y + 0.5) * rays.dv
        self.to_eye = -d / np.linalg.norm(d)
        self.row = frame.buffers["surface"][0, 0].astype(np.float64)
        self.distance = float(self.row[DISTANCE])
        self.place = rays.eye - self.to_eye * self.distance
        self.depth = self.distance / float(view.ray_lengths[0, 0])
        corners = self.geometry.positions[self.geometry.triangles[int(frame.buffers["triangle"][0, 0])]].astype(np.float64)
        face = np.cross(corners[1] - corners[0], corners[2] - corners[0])
        face /= max(float(np.linalg.norm(face)), 1e-30)
        self.face = face if face @ self.to_eye >= 0 else -face
        self.intended = self._scene(renderer, would_cast(frame))
        self.flagged = self._scene(renderer, casters(frame))

    def _scene(self, renderer: Renderer, chosen: np.ndarray) -> RayScene:
        f = self.frame
        given = (f.known("caster_geometry"), chosen, f.known("cutouts"), f.known("textures"))
        scene: RayScene = renderer.derive(ray_scene_of, *given).value
        return scene

    def start(self, towards: np.ndarray) -> np.ndarray:
        """Where a ray to a light starts: off the face by more than float32 loses, so that it does not meet its own surface."""
        return np.asarray(off_surface(self.place[None], self.face[None], towards, np.array([[self.distance]]))[0])


class _OfLight:
    def __init__(self, pixel: _Pixel, number: int) -> None:
        self.p, self.i = pixel, number
        self.light = pixel.frame.stage.lights[number]
        self.shadow = pixel.frame.stage.resolved[Shadow]
        self.leaves = pixel.frame.stage.resolved.leaves
        self.table = pixel.frame.buffers["lights"]
        maps: ShadowMaps = pixel.frame.buffers["shadow_maps"]
        self.maps = maps._replace(bias_texels=self.shadow.bias_texels, filter_px=self.shadow.filter_px)
        self.towards, self.share, distance = incoming_plain(number, pixel.place, self.table)
        self.far = math.inf if self.light.kind == DIRECTIONAL else distance
        self.distance = distance

    def autopsy(self) -> LightAutopsy:
        p = self.p
        turned = float(p.face @ self.towards)
        lit_normal = float(p.row[NORMAL_XYZ] @ self.towards)
        hits = self._hits(p.intended) if turned > 0 else []
        flagged = self._hits(p.flagged) if turned > 0 else []
        due, drawn = bool(hits), self._drawn(self.shadow.bias_texels)
        caster = flagged[0] if flagged else hits[0] if hits else None
        tests = self._chain(caster, flagged or hits) if caster is not None else ()
        names = [p.geometry.drawables[self._owner(h)].name for h in (flagged or hits)]
        verdict = self._verdict(turned, lit_normal, due, drawn)
        clears, angle = (None, None) if due or turned <= 0 else self._nearest_miss()
        return LightAutopsy(
            self.light.name, due, bool(flagged), drawn, verdict, names[0] if names else None, caster[1] if caster else math.inf, tests,
            next((t.name for t in tests if not t.passed), None) if due and drawn >= 0.5 and verdict != "baked" else None, self._wrote(),
            tuple(dict.fromkeys(n for n in names[1:] if n != names[0])), clears, angle,
        )  # fmt: skip

    # What rays say

    def _owner(self, hit: tuple[int, float]) -> int:
        return int(self.p.geometry.owner[hit[0]])

    def _hits(self, scene: RayScene) -> list[tuple[int, float]]:
        """(triangle, metres) of what stands between the surface and the light, nearest first."""
        origin, gone = self.p.start(self.towards), 0.0
        found: list[tuple[int, float]] = []
        while len(found) < MOST_HITS:
            triangle, away = scene.first_hit((origin + self.towards * gone)[None], self.towards[None])
            if triangle[0] < 0 or gone + away[0] >= self.far:
                break
            gone += float(away[0])
            found.append((int(triangle[0]), gone))
            gone += 1e-5 + 1e-6 * gone
        return found

    def _nearest_miss(self) -> tuple[str | None, float | None]:
        """(what a ray closest to the light's direction meets, degrees off it), within 5 degrees."""
        side = np.cross(self.towards, [0.0, 1.0, 0.0] if abs(self.towards[1]) < 0.9 else [1.0, 0.0, 0.0])
        side /= np.linalg.norm(side)
        up = np.cross(self.towards, side)
        angles = np.radians(np.linspace(MISS_DEG / MISS_RINGS, MISS_DEG, MISS_RINGS))
        around = np.linspace(0, 2 * np.pi, 48, endpoint=False)
        a, t = (g.ravel() for g in np.meshgrid(angles, around, indexing="ij"))
        ring = np.cos(t)[:, None] * side + np.sin(t)[:, None] * up
        rays = self.towards * np.cos(a)[:, None] + ring * np.sin(a)[:, None]
        rays, a = rays[rays @ self.p.face > 0], a[rays @ self.p.face > 0]
        triangle, away = self.p.intended.first_hit(np.tile(self.p.start(self.towards), (len(rays), 1)), rays)
        met = np.flatnonzero((triangle >= 0) & (away < self.far))
        if not len(met):
            return None, None
        first = met[np.argmin(a[met])]
        return self.p.geometry.drawables[int(self.p.geometry.owner[triangle[first]])].name, float(np.degrees(a[first]))

    # What the maps say

    def _drawn(self, bias_texels: float) -> float:
        """Share of the light that the maps let through, with some bias."""
        p = self.p
        lit = float(p.row[NORMAL_XYZ] @ self.towards)
        if not p.frame.stage.state.receives[p.front] or lit <= 0:
            return 1.0
        maps = self.maps._replace(bias_texels=bias_texels)
        return float(light_visibility(self.i, *p.place, *p.row[NORMAL_XYZ], lit, p.depth, self.distance, self.table, maps))

    def _map(self) -> int | None:
        """The map that serves the surface; None if none does."""
        first, count = int(self.table.first_map[self.i]), int(self.table.maps[self.i])
        if self.light.kind == DIRECTIONAL:
            served = (k for k in range(first, first + count) if self.maps.info[k, 1] <= self.p.depth < self.maps.info[k, 2])
            return next(served, None)
        if not count:
            return None
        if count == 1:
            return first
        away = self.p.place - self.table.place[self.i]
        axis = int(np.argmax(np.abs(away)))
        return first + 2 * axis + (0 if away[axis] > 0 else 1)

    def _shift_m(self, bias_texels: float) -> float:
        """How far the look-up moves the surface along its normal, as the light pass does."""
        k = self._map()
        if k is None:
            return 0.0
        lit = float(self.p.row[NORMAL_XYZ] @ self.towards)
        slant = math.sqrt(max(1 - lit * lit, 0.0)) + 0.1
        texels = (bias_texels + 0.5 * (self.maps.filter_px - 1)) * slant
        return float(self.maps.info[k, 3] * texels * (1.0 if self.light.kind == DIRECTIONAL else self.distance))

    def _texels(self, bias_texels: float) -> list[tuple[np.ndarray, np.ndarray, float, bool]]:
        """For each texel of the filter: start and direction (unit) of the ray of its centre, away from the light; the depth that the map
        holds; whether that blocks the surface."""
        k = self._map()
        if k is None:
            return []
        m, info = self.maps.matrix[k], self.maps.info[k]
        edge, start, half = int(info[0]), int(info[4]), self.maps.filter_px // 2
        moved = self.p.place + self.p.row[NORMAL_XYZ] * self._shift_m(bias_texels)
        clip = m @ np.append(moved, 1.0)
        u, v, d = (clip[0] / clip[3] * 0.5 + 0.5) * edge, (0.5 - clip[1] / clip[3] * 0.5) * edge, clip[2] / clip[3]
        inverse = np.linalg.inv(m)
        found = []
        for row in range(math.floor(v) - half, math.floor(v) - half + self.maps.filter_px):
            for column in range(math.floor(u) - half, math.floor(u) - half + self.maps.filter_px):
                if not (0 <= row < edge and 0 <= column < edge):
                    continue
                cx, cy = (column + 0.5) / edge * 2 - 1, 1 - (row + 0.5) / edge * 2
                near, beyond = (inverse @ np.array([cx, cy, z, 1.0]) for z in (0.0, 0.5))
                near, beyond = near[:3] / near[3], beyond[:3] / beyond[3]
                along = (beyond - near) / np.linalg.norm(beyond - near)
                held = float(self.maps.depth[start + row * edge + column])
                found.append((near, along, held, bool(d > held)))
        return found

    def _wrote(self) -> tuple[str, ...]:
        """Drawables whose depth stands in the texels that block: what casts and is met first from the light along a texel's centre."""
        blocking = [(near, along) for near, along, _, blocks in self._texels(self.shadow.bias_texels) if blocks]
        if not blocking:
            return ()
        triangle, _ = self.p.flagged.first_hit(np.array([b[0] for b in blocking]), np.array([b[1] for b in blocking]))
        owners = [int(self.p.geometry.owner[t]) for t in triangle if t >= 0]
        return tuple(dict.fromkeys(self.p.geometry.drawables[o].name for o in owners))

    def _verdict(self, turned: float, lit_normal: float, due: bool, drawn: float) -> str:
        if self._in_lightmap():
            return "baked"
        if turned <= 0:
            return "terminator" if lit_normal > 0 else "turned away"
        dark = drawn < 0.5
        if due == dark:
            return "agrees"
        return "edge" if self._at_an_edge() else "missing" if due else "false"

    def _in_lightmap(self) -> bool:
        """Whether the surface takes this light, and so its shadows, from a lightmap."""
        return bool(self.p.frame.stage.state.mapped[self.p.front] and self.table.baked[self.i])

    def _at_an_edge(self) -> bool:
        """Whether rays to the light from as far around as the filter looks disagree: there the filter may be right."""
        k = self._map()
        if k is None:
            return False
        scale = 1.0 if self.light.kind == DIRECTIONAL else self.distance
        reach = float(self.maps.info[k, 3]) * scale * self.maps.filter_px / 2
        side = np.cross(self.p.face, [0.0, 1.0, 0.0] if abs(self.p.face[1]) < 0.9 else [1.0, 0.0, 0.0])
        side /= np.linalg.norm(side)
        up = np.cross(self.p.face, side)
        places = self.p.start(self.towards) + reach * np.array([side, -side, up, -up, (side + up) / 1.42, -(side + up) / 1.42])
        triangle, away = self.p.intended.first_hit(places, np.tile(self.towards, (len(places), 1)))
        blocked = (triangle >= 0) & (away < self.far)
        return bool(blocked.any() and not blocked.all())

    # The chain

    def _chain(self, caster: tuple[int, float], hits: list[tuple[int, float]]) -> tuple[ShadowTest, ...]:
        p, state = self.p, self.p.frame.stage.state
        d = self._owner(caster)
        thing, surface = p.geometry.drawables[d], p.geometry.drawables[p.front]
        mine = [h for h in hits if self._owner(h) == d]
        faces = [self._facing(h[0]) > 0 or bool(state.double_sided[d]) for h in mine]
        tests = [
            self._switch("shadows are on", self.shadow.enabled, "shadow.enabled"),
            ShadowTest("the light casts", self.light.casts, leaf=f"lights.{self.light.name}.casts", level="light"),
            ShadowTest("the surface receives", bool(state.receives[p.front]), leaf=f"nodes.{surface.node}.receives", level="node"),
            ShadowTest("the caster casts", bool(state.casts[d]), leaf=f"nodes.{thing.node}.casts", level="node"),
            ShadowTest(
                "its shader is in the shadow pass", bool(state.shadow_pass[d]), leaf=f"shaders.{state.shader[d]}.passes.shadow",
                level="shader",
            ),
            ShadowTest("a face of it turned to the light is drawn", any(faces), leaf="materials.double_sided", level="material"),
            *self._served(),
        ]  # fmt: skip
        if self._map() is not None:
            tests += [self._met(d), self._biased()]
        return tuple(tests)

    def _facing(self, triangle: int) -> float:
        c = self.p.geometry.positions[self.p.geometry.triangles[triangle]].astype(np.float64)
        return float(np.cross(c[1] - c[0], c[2] - c[0]) @ self.towards)

    def _switch(self, name: str, on: bool, leaf: str) -> ShadowTest:
        return ShadowTest(name, on, leaf=leaf, level=self.leaves[leaf].winner)

    def _served(self) -> list[ShadowTest]:
        """A sun's maps end at a view depth."""
        if self.light.kind != DIRECTIONAL:
            return []
        end = max(self.shadow.reach_m, self.shadow.far_reach_m)
        leaf = "shadow.far_reach_m" if self.shadow.far_reach_m > self.shadow.reach_m else "shadow.reach_m"
        return [
            ShadowTest(
                "a map serves this depth", self.p.depth < end, self.p.depth, end, end - self.p.depth, "m", leaf, self.leaves[leaf].winner,
                self.p.depth,
            )
        ]  # fmt: skip

    def _met(self, caster: int) -> ShadowTest:
        """A texel holds what stands at its centre: a caster thinner than a texel stands between the centres. Looked up without bias, which
        is a test of its own."""
        texels = self._texels(0.0)
        share = sum(self._meets(near, along, caster) for near, along, _, _ in texels) / max(len(texels), 1)
        leaf = "shadow.resolution" if self.light.kind == DIRECTIONAL else "shadow.light_resolution"
        return ShadowTest(
            "texels' centres meet a caster", share >= 0.5, share, 0.5, share - 0.5, "share", leaf, self.leaves[leaf].winner
        )

    def _meets(self, near: np.ndarray, along: np.ndarray, caster: int) -> bool:
        """Whether the ray of a texel's centre meets the caster before the surface, or another that darkens as well; the surface's own slope
        before it is none."""
        gone = 0.0
        for _ in range(MOST_HITS):
            triangle, away = self.p.flagged.first_hit((near + along * gone)[None], along[None])
            gone += float(away[0])
            if triangle[0] < 0 or float((near + along * gone - self.p.place) @ self.towards) <= self._shift_m(0.0):
                return False
            owner = int(self.p.geometry.owner[triangle[0]])
            if owner == caster or owner != self.p.front:
                return True
            gone += 1e-5 + 1e-6 * gone
        return False

    def _biased(self) -> ShadowTest:
        """The look-up moves the surface along its normal: beyond the gap to the caster it passes the shadow by."""
        bias = self.shadow.bias_texels
        dark = [b for b in np.linspace(0, bias, BIAS_STEPS) if self._drawn(float(b)) < 0.5]
        passed = self._drawn(bias) < 0.5 or not dark  # without any bias it is no better: something else lost it
        shift = self._shift_m(bias) * 1000
        return ShadowTest(
            "the bias is below the gap", passed, bias, float(max(dark)) if dark else None, None if not dark else float(max(dark)) - bias,
            "texel", "shadow.bias_texels", self.leaves["shadow.bias_texels"].winner, float(max(dark)) if dark and shift > 0 else None,
        )  # fmt: skip
