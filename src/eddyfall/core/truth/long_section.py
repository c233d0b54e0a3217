"""The long section of a light's shadows along the view: tiers with their texels, and how far each caster's shadow is drawn and by what it
ends."""

import math
from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.passes.frustum import ball_radius_m, limit_range_m, range_m
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.sections.shadow import Shadow, size_limit
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.shade.shadow_maps import EDGE, FAR_M, NEAR_M, PAGE, TEXEL_M
from eddyfall.core.truth.disagreement import of_light
from eddyfall.core.truth.judge import SHADOWED, Judge
from eddyfall.core.truth.shadow_classes import LOST_WORDS, WROTE_WORDS, Class, Lost, OfLight, Wrote
from eddyfall.core.truth.shadow_costs import ShadowCost, shadow_cost
from eddyfall.core.truth.surfaces import Surfaces, surfaces_of, to_light

EVERY = 2  # pixels across and down that one ray stands for
MOST_CASTERS = 40
HALF_LOST = 0.5  # of what is due
LEAVES = {
    Lost.RECEIVER: "nodes.receives", Lost.FACE: "materials.casts_both_sides", Lost.WIDTH: "shadow.resolution",
    Lost.BIAS: "shadow.bias_texels", Lost.DEPTH_RANGE: "shadow.depth_range",
}  # fmt: skip


@dataclass(frozen=True)
class Tier:
    """One bed of the section: depths it serves in m (far None: endless), size of its texel, texels along its edge, bytes."""

    name: str
    near_m: float
    far_m: float | None
    texel_m: float
    resolution: int
    bytes: int


@dataclass(frozen=True)
class CasterBar:
    """One caster: due and missing pixels of its shadow; range_m it stands at; the depths at which its shadow falls; ends_m: how far off it
    would still be drawn (None: at any distance), and the test that ends it there with its leaf; margin_m: how far inside that it is
    (negative: outside); lost_at: the test that loses most of what is missing."""

    name: str
    node: str
    mesh: str
    range_m: float
    near_m: float
    far_m: float
    due_px: int
    missing_px: int
    ends_m: float | None
    ended_by: str
    leaf: str
    margin_m: float | None
    lost_at: str | None
    at: tuple[int, int]


@dataclass(frozen=True)
class Share:
    """Pixels that one test lost, or one kind of writer darkened, of one drawable."""

    what: str
    drawable: str
    pixels: int


@dataclass(frozen=True)
class LongSection:
    """A light's shadows from one viewpoint. pixel_m: size of a pixel at 1 m; classes: pixels by class, which sum to the frame's surfaces;
    lost, wrote: missing and false pixels by cause."""

    viewpoint: str
    light: str
    lights: tuple[str, ...]
    technique: str
    reach_by: str
    size: tuple[int, int]
    pixel_m: float
    tiers: tuple[Tier, ...]
    casters: tuple[CasterBar, ...]
    classes: dict[str, int]
    lost: tuple[Share, ...]
    wrote: tuple[Share, ...]
    pages: int
    coarser: int
    cost: ShadowCost


def long_section(renderer: Renderer, build: Build, request: Request, light: str | None = None) -> LongSection:
    """The long section of a light (the first that shines if none is named). RequestError if no light shines, or not that one."""
    frame = renderer.frame(build, request, SHADOWED)
    number = light_number(frame, light)
    judge, s = Judge(renderer, frame), surfaces_of(frame, EVERY)
    found = _with_every_caster(judge, number, s, of_light(judge, number, s))
    state, shadow = frame.stage.lights[number], frame.stage.resolved[Shadow]
    pages, coarser = next(((p, c) for i, p, c in frame.buffers["shadow_pages"] if i == number), (0, 0))
    return LongSection(
        request.viewpoint, state.name, tuple(v.name for v in frame.stage.lights), state.technique, shadow.reach_by, request.size,
        2 * math.tan(frame.camera.fov_y_rad / 2) / request.size[1], tuple(_tiers(frame, number)), tuple(_bars(judge, number, s, found)),
        found.counts(EVERY**2), _shares(frame, LOST_WORDS, Lost, found.lost, found.caster),
        _shares(frame, WROTE_WORDS, Wrote, found.wrote, found.writer),
        pages, coarser, shadow_cost(frame),
    )  # fmt: skip


def _with_every_caster(judge: Judge, number: int, s: Surfaces, found: OfLight) -> OfLight:
    """The same with the caster of shadows that are drawn too: what rays to the light meet first."""
    due = np.flatnonzero(
        (found.true == 0) & (found.caster < 0) & (found.classes >= Class.AGREE) & (found.classes != Class.TERMINATOR)
    )
    if not len(due):
        return found
    towards, distance = to_light(s.of(due), number, judge.frame)
    first, _ = judge.first(judge.scene(judge.intended), s.of(due), towards, distance)
    caster = found.caster.copy()
    caster[due] = np.where(first >= 0, judge.frame.geometry.owner[first], -1)
    return replace(found, caster=caster)


def light_number(frame: Frame, light: str | None) -> int:
    """Number of a light of a frame, the first if none is named. RequestError if there is none."""
    names = [v.name for v in frame.stage.lights]
    if not names:
        raise RequestError("no light shines here: nothing casts a shadow")
    if light is not None and light not in names:
        raise RequestError(f"light {light!r} does not shine here; there are: {', '.join(names)}")
    return names.index(light) if light is not None else 0


def _tiers(frame: Frame, number: int) -> list[Tier]:
    table, maps, light = frame.buffers["lights"], frame.buffers["shadow_maps"], frame.stage.lights[number]
    shadow, first = frame.stage.resolved[Shadow], int(table.first_map[number])
    size, tiers = 2 if shadow.map_format == "unorm16" else 4, []
    for i, k in enumerate(range(first, first + int(table.maps[number]))):
        edge, texel = int(maps.info[k, EDGE]), float(maps.info[k, TEXEL_M])
        if light.technique == "paged":
            # A level serves the ranges at which its texel is nearest to what is wanted, in equal ratios.
            middle = texel / float(maps.pixel_m)
            held = int((maps.table[maps.pages[k, 2] : maps.pages[k, 2] + maps.pages[k, 0] * maps.pages[k, 1]] >= 0).sum())
            tiers.append(Tier(f"level {i + 1}", middle / 2**0.5, middle * 2**0.5, texel, PAGE, held * PAGE * PAGE * 4))
        elif light.kind == DIRECTIONAL:
            name = "far tier" if i >= shadow.cascades else f"cascade {i + 1}"
            tiers.append(Tier(name, float(maps.info[k, NEAR_M]), float(maps.info[k, FAR_M]), texel, edge, edge * edge * size))
        else:
            tiers.append(Tier(f"face {i + 1}", 0.0, None, texel, edge, edge * edge * 4))
    return tiers


def _bars(judge: Judge, number: int, s: Surfaces, found: OfLight) -> list[CasterBar]:
    frame, geometry, light = judge.frame, judge.frame.geometry, judge.frame.stage.lights[number]
    depth = s.range_m if judge.shadow.reach_by == "range" else s.depth_m
    away = range_m(geometry, frame.camera)
    bars = []
    for d in np.unique(found.caster[found.caster >= 0]):
        mine = found.caster == d
        gone = mine & (found.classes == Class.MISSING)
        ends, by, leaf = _end(judge, number, int(d))
        reach = float(depth[mine].max()) if light.technique == "cascades" else float(away[d])
        due, lost = int(mine.sum()), int(gone.sum())
        tests, counts = np.unique(found.lost[gone], return_counts=True)
        most = Lost(int(tests[counts.argmax()])) if lost > HALF_LOST * due else None
        if most is not None and LOST_WORDS[most] != by:
            # Another test ends it: at any distance, or from where it first loses some of it.
            ends = 0.0 if most < Lost.CULLED else float(depth[gone].min())
            by, leaf = LOST_WORDS[most], LEAVES.get(most, "")
        show = np.flatnonzero(gone if lost > HALF_LOST * due else mine)
        pixel = s.pixels[show[len(show) // 2]]
        thing = geometry.drawables[d]
        bars.append(
            CasterBar(
                thing.name, thing.node, thing.mesh, float(away[d]), float(depth[mine].min()), float(depth[mine].max()), due * EVERY**2,
                lost * EVERY**2, ends, by, leaf, None if ends is None else ends - reach,
                None if most is None else LOST_WORDS[most], (int(pixel[0]), int(pixel[1])),
            )
        )  # fmt: skip
    bars.sort(key=lambda b: (b.lost_at is None, -b.missing_px, -b.due_px))
    return bars[:MOST_CASTERS]


def _end(judge: Judge, number: int, d: int) -> tuple[float | None, str, str]:
    """(how far off a caster's shadow is drawn, the test that ends it, its leaf)."""
    light, shadow, state = judge.frame.stage.lights[number], judge.shadow, judge.state

    for passes, test, leaf in (
        (shadow.enabled, Lost.SWITCHED_OFF, "shadow.enabled"),
        (light.casts, Lost.LIGHT, f"lights.{light.name}.casts"),
        (bool(state.shadow_pass[d]), Lost.PASS, f"shaders.{state.shader[d]}.passes.shadow"),
    ):
        if not passes:
            return 0.0, LOST_WORDS[test], leaf
    if light.technique in ("paged", "rays"):
        leaf, limit_deg = size_limit(shadow, light.technique)
        radius = float(ball_radius_m(judge.frame.geometry, state.padding_m)[d])
        end = float(limit_range_m(radius, limit_deg))
        if math.isinf(end) or (light.technique == "paged" and state.dense[d]):
            return None, "", ""
        return end, LOST_WORDS[Lost.CULLED], leaf
    if light.kind != DIRECTIONAL:
        return None, "", ""
    if not judge.cast_in(number)[d]:
        return 0.0, LOST_WORDS[Lost.CULLED], "shadow.casters_from"
    far = shadow.far_reach_m > shadow.reach_m
    end = shadow.far_reach_m if far else shadow.reach_m
    return end, LOST_WORDS[Lost.REACH], "shadow.far_reach_m" if far else "shadow.reach_m"


def _shares(frame: Frame, words: dict, kinds: type, what: np.ndarray, who: np.ndarray) -> tuple[Share, ...]:  # type: ignore[type-arg]
    """Pixels by cause and drawable, most first."""
    rows = np.flatnonzero(what >= 0)
    pairs, counts = np.unique(np.stack([what[rows], who[rows]], axis=1), axis=0, return_counts=True)
    drawables = frame.geometry.drawables
    found = [
        Share(words[kinds(int(k))], drawables[int(d)].name if d >= 0 else "", int(n) * EVERY**2)
        for (k, d), n in zip(pairs, counts)
    ]
    return tuple(sorted(found, key=lambda v: -v.pixels))
