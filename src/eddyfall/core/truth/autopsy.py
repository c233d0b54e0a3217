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
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import apply_change, set_leaf, set_resolved
from eddyfall.core.shade.direct import direct_plain
from eddyfall.core.truth.judge import Judge, past_m
from eddyfall.core.truth.map_reading import read_maps
from eddyfall.core.truth.seen_through import Passed, passed_on_the_way, too_bright_stops
from eddyfall.core.truth.shadow_causes import chain_of, writers
from eddyfall.core.truth.shadow_classes import WROTE_WORDS, Class, Wrote
from eddyfall.core.truth.shadow_tests import ShadowTest, ShadowTests
from eddyfall.core.truth.surfaces import Surfaces, surfaces_of, to_light
from eddyfall.core.truth.visibility import intended, would_cast

MOST_HITS = 16  # along one ray
MISS_RINGS = 50
MISS_DEG = 5.0
PAST = 1.002  # of a critical reach or padding: what lies at the very end is not served
OUT_OF_REACH, LIT_THROUGH = "out of reach", "lit through"
SEEN_STOPS = 0.25  # that a light which goes through something may be off
VERDICTS = {
    Class.UNLIT: "turned away", Class.BAKED: "baked", Class.AGREE: "agrees", Class.MISSING: "missing", Class.FALSE: "false",
    Class.EDGE: "edge", Class.TERMINATOR: "terminator",
}  # fmt: skip


@dataclass(frozen=True)
class Retried:
    """The same pixel drawn with a failed test's leaf at its critical value: what is then let through, and what would lose it next."""

    leaf: str
    value: float
    drawn: float
    lost_at: str | None


@dataclass(frozen=True)
class LightAutopsy:
    """One light at the pixel. due: a shadow ought to be there; as_flagged: what casts by its flags stands before the light; drawn: share
    of the light that the picture has (0..1); technique: how its shadow is drawn. verdict: agrees, missing, false, edge, terminator,
    turned away, out of reach (of a lamp's range or cone; nothing else is asked then), baked (the surface takes this light from its
    lightmap), lit through (what is blended before it is meant to throw a shadow, and it is .25 stops too bright or too dark for that).
    stops: by how much the pixel is brighter with this light unblocked than without it, all else as drawn.

    caster: what the shadow is due to, caster_m away; lost_at: the first test that fails; wrote: drawables whose depth stands in the map's
    texels that block, or that a ray meets; written_as: what a false shadow is of; behind: what else stands before the light. Where none
    is due: by how many degrees the light clears what. passed: blended things and glass that it goes through; too_bright_stops: how far what
    is drawn of it is above what they leave. retried: a frame drawn with the lost test's leaf at its critical value."""

    light: str
    technique: str
    due: bool
    as_flagged: bool
    drawn: float
    verdict: str
    stops: float | None
    caster: str | None
    caster_m: float
    tests: tuple[ShadowTest, ...]
    lost_at: str | None
    wrote: tuple[str, ...]
    written_as: str | None
    behind: tuple[str, ...]
    clears: str | None
    clears_deg: float | None
    retried: Retried | None = None
    passed: tuple[Passed, ...] = ()
    too_bright_stops: float | None = None


@dataclass(frozen=True)
class ElsewhereLight:
    """One light at the same pixel under another target or role: its verdict, share drawn, the test that lost it."""

    light: str
    verdict: str
    drawn: float
    lost_at: str | None


@dataclass(frozen=True)
class Elsewhere:
    """The same pixel for another target or in another role (None: none, and the viewpoint's own)."""

    target: str | None
    role: str | None
    lights: tuple[ElsewhereLight, ...]


@dataclass(frozen=True)
class Autopsy:
    """The shadows of pixel (x, y): the drawable seen there, its place in m, every light that shines, and how they fare for other targets
    and in other roles."""

    viewpoint: str
    x: int
    y: int
    drawable: str
    place_m: np.ndarray
    lights: tuple[LightAutopsy, ...]
    elsewhere: tuple[Elsewhere, ...] = ()


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
    judge, surface = Judge(renderer, frame, would_cast(frame)), surfaces_of(frame)
    lights = [_OfLight(judge, surface, i).autopsy() for i in range(len(frame.stage.lights))]
    elsewhere: tuple[Elsewhere, ...] = ()
    if follow:
        lights = [replace(v, retried=_retried(renderer, build, request, (x, y), frame, v)) for v in lights]
        elsewhere = _elsewhere(renderer, build, request, (x, y))
    return Autopsy(request.viewpoint, x, y, frame.geometry.drawables[front].name, surface.place[0], tuple(lights), elsewhere)


def _elsewhere(renderer: Renderer, build: Build, request: Request, at: tuple[int, int]) -> tuple[Elsewhere, ...]:
    """The same pixel for every target and role that sets anything, but the ones asked about."""
    own = build.setup.viewpoints[request.viewpoint].role
    targets = [None, *(name for name, entry in build.setup.targets.items() if entry.set)]
    roles = [None, *(name for name, entry in build.setup.roles.items() if entry.set and name != own)]
    found = []
    for target in targets:
        for role in roles:
            if (target, role) == (request.target, request.role):
                continue
            there = shadow_autopsy(renderer, build, replace(request, target=target, role=role), *at, follow=False)
            found.append(
                Elsewhere(target, role, tuple(ElsewhereLight(v.light, v.verdict, v.drawn, v.lost_at) for v in there.lights))
            )
    return tuple(found)


def _retried(
    renderer: Renderer, build: Build, request: Request, at: tuple[int, int], frame: Frame, found: LightAutopsy
) -> Retried | None:
    test = next((t for t in found.tests if t.name == found.lost_at and t.critical is not None), None)
    if test is None or test.critical is None:
        return None
    table, _, rest = test.leaf.partition(".")
    key, _, leaf = rest.rpartition(".")
    value = test.critical * PAST if leaf.endswith(("reach_m", "padding_m")) else test.critical
    title = f"{test.leaf} at its critical value"
    exact = int(value) if leaf in ("resolution", "light_resolution") else value
    if table in ("nodes", "lights"):
        change = set_leaf(build, (table, key, leaf), exact, scope="node", title=title)
    else:
        change = set_resolved(build, frame.stage.resolved, {test.leaf: exact}, title=title)
    again = shadow_autopsy(renderer, apply_change(build, change), request, *at, follow=False)
    same = next(v for v in again.lights if v.light == found.light)
    return Retried(test.leaf, value, same.drawn, same.lost_at)


class _OfLight:
    """One light at one surface."""

    def __init__(self, judge: Judge, surface: Surfaces, number: int) -> None:
        self.j, self.s, self.i = judge, surface, number
        self.geometry, self.shadow = judge.frame.geometry, judge.shadow
        self.light = judge.frame.stage.lights[number]
        self.leaves = judge.frame.stage.resolved.leaves
        self.towards, self.distance = to_light(surface, number, judge.frame)
        self.front = int(surface.drawable[0])

    def autopsy(self) -> LightAutopsy:
        j = self.j
        if not j.arrives(self.i, self.s, self.distance)[0]:
            return LightAutopsy(
                self.light.name, self.light.technique, False, False, 1.0, OUT_OF_REACH, None, None, math.inf, (), None, (), None, (), None,
                None,
            )  # fmt: skip
        classes, _, drawn = j.classes(self.i, self.s)
        klass = Class(int(classes[0]))
        if klass is Class.MISSING and drawn[0] < 0.5:
            klass = Class.AGREE  # thinned, not lost
        turned = float(self.s.face[0] @ self.towards[0])
        hits = self._hits(j.scene(j.intended)) if turned > 0 else []
        flagged = self._hits(j.scene(j.intended & j.state.casts & j.state.shadow_pass)) if turned > 0 else []
        due = bool(hits)
        chain = chain_of(j, self.i, self.s) if due else None
        tests = ShadowTests(j, self.s, self.i, chain, float(drawn[0])).all() if chain is not None else ()
        names = [self._name(t) for t, _ in (flagged or hits)]
        known = int(chain.caster[0]) if chain is not None else -1
        caster = self.geometry.drawables[known].name if known >= 0 else None
        passed: tuple[Passed, ...] = ()
        tint = self._tint()
        if turned > 0 and klass is not Class.BAKED and not due:
            passed = passed_on_the_way(j, self.s, self.towards[0], float(self.distance[0]))
        too_bright = too_bright_stops(passed, float(drawn[0]), tint)
        off = (
            klass is Class.AGREE and too_bright is not None and abs(too_bright) > SEEN_STOPS and self.shadow.of_blended == "meant"
        )
        missing = klass in (Class.MISSING, Class.EDGE) and drawn[0] >= 0.5 and due
        clears, angle = (None, None) if due or turned <= 0 else self._nearest_miss()
        wrote, written_as = self._wrote(klass)
        return LightAutopsy(
            self.light.name, self.light.technique, due, bool(flagged), float(drawn[0]), LIT_THROUGH if off else VERDICTS[klass],
            self._stops(float(drawn[0]) * tint), caster,
            float(chain.caster_m[0]) if chain is not None else math.inf, tests,
            next((t.name for t in tests if not t.passed), None) if missing else None, wrote, written_as,
            tuple(dict.fromkeys(n for n in names if n != caster)), clears, angle, None, passed, too_bright,
        )  # fmt: skip

    def _tint(self) -> np.ndarray:
        """(3,) what tinting things leave of the light, as drawn."""
        tints = self.j.frame.buffers["tints"]
        return np.array(tints[0, 0, self.i], float) if tints.size and self.j.state.receives[self.front] else np.ones(3)

    def _name(self, triangle: int) -> str:
        return self.geometry.drawables[int(self.geometry.owner[triangle])].name

    def _stops(self, drawn: np.ndarray) -> float | None:
        """log2 of the pixel's light with this light unblocked over that without it; drawn (3,): share of it that the pixel has. None for a
        pixel that is black without it."""
        j, s = self.j, self.s
        values = j.frame.buffers
        row = values["surface"][0, 0].astype(np.float64)
        state = j.state
        shines = direct_plain(
            row, s.place[0], -(s.place[0] - np.array(j.frame.camera.eye)) / s.range_m[0], float(s.depth_m[0]), False,
            bool(state.mapped[self.front]), j.table, j.maps,
        )[self.i][0]  # fmt: skip
        luminance = np.array([0.2126, 0.7152, 0.0722])
        light, total = float(shines @ luminance), float(values["linear"][0, 0] @ luminance)
        without = total - float((shines * drawn) @ luminance)
        return math.log2((without + light) / without) if without > 1e-9 * max(light, 1e-30) and without > 0 else None

    # What rays say

    def _hits(self, scene: RayScene) -> list[tuple[int, float]]:
        """(triangle, metres) of what stands between the surface and the light, nearest first."""
        origin, gone = self.s.start(self.towards)[0], 0.0
        found: list[tuple[int, float]] = []
        while len(found) < MOST_HITS:
            triangle, away = scene.first_hit((origin + self.towards[0] * gone)[None], self.towards)
            if triangle[0] < 0 or gone + away[0] >= self.distance[0]:
                break
            gone += float(away[0])
            found.append((int(triangle[0]), gone))
            again = len(found) > 1 and found[-1][0] == found[-2][0]
            gone += float(past_m(self.geometry, np.array(gone), np.array(again)))
        return found

    def _nearest_miss(self) -> tuple[str | None, float | None]:
        """(what a ray closest to the light's direction meets, degrees off it), within 5 degrees."""
        towards, face = self.towards[0], self.s.face[0]
        side = np.cross(towards, [0.0, 1.0, 0.0] if abs(towards[1]) < 0.9 else [1.0, 0.0, 0.0])
        side /= np.linalg.norm(side)
        up = np.cross(towards, side)
        angles = np.radians(np.linspace(MISS_DEG / MISS_RINGS, MISS_DEG, MISS_RINGS))
        around = np.linspace(0, 2 * np.pi, 48, endpoint=False)
        a, t = (g.ravel() for g in np.meshgrid(angles, around, indexing="ij"))
        ring = np.cos(t)[:, None] * side + np.sin(t)[:, None] * up
        rays = towards * np.cos(a)[:, None] + ring * np.sin(a)[:, None]
        above = rays @ face > 0
        rays, a = rays[above], a[above]
        triangle, away = self.j.scene(self.j.intended).first_hit(np.tile(self.s.start(self.towards), (len(rays), 1)), rays)
        met = np.flatnonzero((triangle >= 0) & (away < self.distance[0]))
        if not len(met):
            return None, None
        first = met[np.argmin(a[met])]
        return self._name(int(triangle[first])), float(np.degrees(a[first]))

    def _wrote(self, klass: Class) -> tuple[tuple[str, ...], str | None]:
        """(drawables whose depth stands in the texels that block, or that a ray meets; what a false shadow is of)."""
        j = self.j
        found: list[int] = []
        if j.traced(self.i):
            triangle, away = j.scene(j.cast_in(self.i)).first_hit(
                self.s.place + self.s.face * self.shadow.ray_offset_m, self.towards
            )
            found = [int(t) for t in triangle[away < self.distance]]
        elif j.table.maps[self.i]:
            reading = read_maps(self.s, self.i, j.table, j.maps)
            blocks = reading.blocks[0]
            if blocks.any() and j.state.receives[self.front]:
                triangle, _ = j.scene(j.cast_in(self.i)).first_hit(reading.start[0][blocks], reading.along[0][blocks])
                found = [int(t) for t in triangle if t >= 0]
        as_what = None
        if klass is Class.FALSE:
            as_what = WROTE_WORDS[Wrote(int(writers(Judge(j.renderer, j.frame, intended(j.frame)), self.i, self.s)[0][0]))]
        return tuple(dict.fromkeys(self._name(t) for t in found)), as_what


__all__ = ["Autopsy", "Elsewhere", "ElsewhereLight", "LightAutopsy", "Retried", "ShadowTest", "shadow_autopsy"]
