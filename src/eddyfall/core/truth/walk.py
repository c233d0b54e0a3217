"""A short walk from a viewpoint: which fixed places of the world flip between light and shadow while nothing but the eye moves.

A shadow map's texels stand still in the world, or they swim: then places at a shadow's edge flip with every step. Flips where another map
takes over are a join passing by; where none serves any more, the shadow drops out. These are told apart.
"""

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.frame.stage import make_camera
from eddyfall.core.passes.contract import Camera
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.tables import LightSetup
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.shade.shadow_maps import PAGED, TEXEL_M
from eddyfall.core.truth.judge import SHADOWED, Judge
from eddyfall.core.truth.map_reading import serving_map
from eddyfall.core.truth.surfaces import Surfaces, surfaces_of, to_light

Move = Literal["retreat", "aside", "turn"]
UNITS: dict[Move, str] = {"retreat": "m", "aside": "m", "turn": "deg"}
MOST_STEPS = 64
LEAST_PLACES = 8  # of a shadow, before it is said to drop out
DARK = 0.5  # of the light: less is shadow


@dataclass(frozen=True)
class Step:
    """One step: how far it is from the viewpoint in m (or degrees), and the places that flip since the last one while the same map serves
    them, while another takes over, and because none serves any more."""

    at: float
    swims: int
    joined: int
    dropped: int


@dataclass(frozen=True)
class CasterWalk:
    """One caster: places that its shadow falls on and that are drawn dark at the viewpoint, how many of them swim, how far its middle then
    is from the eye when less than half of them are drawn dark any more (None: never on this
    walk, or too few to say)."""

    name: str
    dark: int
    swims: int
    drops_out_m: float | None


@dataclass(frozen=True)
class Walk:
    """A walk in one light. points: fixed places asked, each standing for `each` pixels of the first frame; dark: those drawn dark at some
    step; swims, joined, dropped: those that flip so at some step; share: swims of dark. swimming (n,) bool and pixels (n, 2) x y of the
    first frame, of all that was asked."""

    viewpoint: str
    light: str
    technique: str
    move: Move
    step: float
    points: int
    each: int
    dark: int
    swims: int
    joined: int
    dropped: int
    share: float
    steps: tuple[Step, ...]
    casters: tuple[CasterWalk, ...]
    swimming: np.ndarray
    pixels: np.ndarray


def shadow_walk(
    renderer: Renderer,
    build: Build,
    request: Request,
    move: Move = "aside",
    step: float = 0.025,
    steps: int = 8,
    light: str | None = None,
    every: int = 2,
    mask: np.ndarray | None = None,
) -> Walk:
    """Walk `steps` steps of `step` m (degrees of a turn) from the request's viewpoint. RequestError for a light that does not shine, draws
    no map, or is traced anew at every pixel. mask (h, w): only the surfaces at those pixels of the first frame."""
    if not 1 <= steps <= MOST_STEPS or not np.isfinite(step) or step == 0:
        raise RequestError(f"a walk has 1 to {MOST_STEPS} steps of a finite length that is not 0")
    start = make_camera(build, request.viewpoint, request.size[0] / request.size[1])
    first = renderer.frame(moved(build, request.viewpoint, start, move, 0.0), request, SHADOWED)
    i = light_of(first, light)
    s, judge = surfaces_of(first, every, mask), Judge(renderer, first)
    towards, distance = to_light(s, i, first)
    lit = (np.einsum("nk,nk->n", s.normal, towards) > 0) & judge.state.receives[s.drawable]
    s = s.of(np.flatnonzero(lit & ~(judge.state.mapped[s.drawable] & bool(judge.table.baked[i]))))
    towards, distance = to_light(s, i, first)
    drawn, served, seen = [], [], []
    alone = _alone(build, first, i)
    for n in range(steps + 1):
        frame = renderer.frame(moved(alone, request.viewpoint, start, move, n * step), request, "shadow_maps")
        there, now = Judge(renderer, frame), _from(s, frame.camera)
        k = serving_map(now, i, there.table, there.maps)
        drawn.append(there.drawn(i, now, towards, distance) < DARK)
        served.append(np.where(k >= 0, _which(k, i, there), -1))
        seen.append(now.depth_m > 0)
    always = np.asarray(np.stack(seen).all(axis=0))
    return _told(judge, i, s, np.stack(drawn), np.stack(served), always, move, step, request, every)


def light_of(frame: Frame, light: str | None) -> int:
    """The number of a light that is walked in: the first sun with maps if none is named."""
    names = [v.name for v in frame.stage.lights]
    able = [n for n, v in enumerate(frame.stage.lights) if v.technique != "rays" and frame.buffers["lights"].maps[n]]
    if light is None:
        suns = [n for n in able if frame.stage.lights[n].kind == DIRECTIONAL] or able
        if not suns:
            raise RequestError("no light here draws a shadow map")
        return suns[0]
    if light not in names:
        raise RequestError(f"light {light!r} does not shine here; there are: {', '.join(names) or 'none'}")
    if names.index(light) not in able:
        raise RequestError(f"light {light!r} draws no shadow map: nothing of it can swim")
    return names.index(light)


def _alone(build: Build, frame: Frame, i: int) -> Build:
    """The build in which no other light draws a shadow, so that none is drawn for nothing."""
    silent = {"casts": False, "technique": None}
    others = {v.name: build.setup.lights.get(v.name, LightSetup()) for n, v in enumerate(frame.stage.lights) if n != i}
    lights = {**build.setup.lights, **{name: entry.model_copy(update=silent) for name, entry in others.items()}}
    return build.with_setup(build.setup.model_copy(update={"lights": lights}))


def moved(build: Build, viewpoint: str, start: Camera, move: Move, by: float) -> Build:
    """The build with the eye of a viewpoint moved, its direction level with the world."""
    eye, forward, right = np.array(start.eye), start.forward, start.axes[0]
    if move == "turn":
        a = np.radians(by)
        forward = np.array([
            forward[0] * np.cos(a) - forward[2] * np.sin(a), forward[1], forward[0] * np.sin(a) + forward[2] * np.cos(a),
        ])  # fmt: skip
    else:
        eye = eye + (right * by if move == "aside" else -forward * by)
    entry = build.setup.viewpoints[viewpoint].model_copy(
        update={
            "camera": None,
            "eye": tuple(map(float, eye)),
            "target": tuple(map(float, eye + forward)),
            "fov_y_deg": float(np.degrees(start.fov_y_rad)),
        }
    )
    setup = build.setup.model_copy(update={"viewpoints": {**build.setup.viewpoints, viewpoint: entry}})
    return build.with_setup(setup)


def _which(k: np.ndarray, i: int, judge: Judge) -> np.ndarray:
    """(n,) what tells maps k of light i apart from one frame to the next: their order; of a paged map, whose levels come and go, their
    texel in halvings of a metre."""
    if judge.table.technique[i] == PAGED:
        return np.asarray(64 - np.round(np.log2(judge.maps.info[np.maximum(k, 0), TEXEL_M])).astype(int))
    return np.asarray(k - int(judge.table.first_map[i]))


def _from(s: Surfaces, camera: Camera) -> Surfaces:
    """The same places, as far off as a camera has them."""
    away = np.linalg.norm(s.place - np.array(camera.eye), axis=1)
    return replace(s, depth_m=camera.view_depth(s.place), range_m=away)


def _told(
    judge: Judge,
    i: int,
    s: Surfaces,
    dark: np.ndarray,
    served: np.ndarray,
    seen: np.ndarray,
    move: Move,
    step: float,
    request: Request,
    every: int,
) -> Walk:
    """dark, served (steps + 1, n): whether a place is drawn dark at each step, and which map serves it (-1: none)."""
    flips = (dark[1:] != dark[:-1]) & seen
    gone = flips & (served[1:] < 0)
    other = flips & ~gone & (served[1:] != served[:-1])
    swims = flips & ~gone & ~other
    some = (dark.any(axis=0) & seen).sum()
    own = swims.any(axis=0)
    told = tuple(Step((n + 1) * step, int(swims[n].sum()), int(other[n].sum()), int(gone[n].sum())) for n in range(len(flips)))
    light = judge.frame.stage.lights[i]
    return Walk(
        request.viewpoint, light.name, light.technique, move, step, int(seen.sum()), every * every, int(some), int(own.sum()),
        int(other.any(axis=0).sum()), int(gone.any(axis=0).sum()), float(own.sum() / max(some, 1)), told,
        _casters(judge, i, s, dark, own, seen, move, step), own, s.pixels,
    )  # fmt: skip


def _casters(
    judge: Judge, i: int, s: Surfaces, dark: np.ndarray, swims: np.ndarray, seen: np.ndarray, move: Move, step: float
) -> tuple[CasterWalk, ...]:
    """Casters by how much of their shadow is drawn at the viewpoint."""
    asked = np.flatnonzero((dark[0] | swims) & seen)
    if not len(asked):
        return ()
    geometry, part = judge.frame.geometry, s.of(asked)
    triangle, _ = judge.first(judge.scene(judge.intended), part, *to_light(part, i, judge.frame))
    owner = np.where(triangle >= 0, geometry.owner[triangle], -1)
    start, forward, right = np.array(judge.frame.camera.eye), judge.frame.camera.forward, judge.frame.camera.axes[0]
    found = []
    for d in np.unique(owner[owner >= 0]):
        mine = asked[owner == d]
        begun = mine[dark[0][mine]]
        kept = dark[:, begun].mean(axis=1) if len(begun) else np.ones(len(dark))
        out = np.flatnonzero(kept < DARK)
        drops = None
        if len(out) and len(begun) >= LEAST_PLACES:
            way = np.zeros(3) if move == "turn" else (right if move == "aside" else -forward)
            drops = float(np.linalg.norm(geometry.bounds[d].mean(axis=0) - start - way * (step * out[0])))
        found.append(CasterWalk(geometry.drawables[d].name, len(begun), int(swims[mine].sum()), drops))
    return tuple(sorted(found, key=lambda c: (-c.swims, -c.dark, c.name)))
