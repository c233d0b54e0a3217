"""The joins between a sun's maps: how far apart the picture is on the two sides of each, with nothing but the map changed.

Where one map takes over from the next, texels, filter and bias grow at once. A shadow that both draw alike passes the join unseen."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.compare.ciede2000 import delta_e_2000
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.display import encode_display, exposure_scale
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.sections.exposure import Exposure
from eddyfall.core.scene.setup.tables import LightSetup
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.shade.shadow_maps import FAR_M, NEAR_M
from eddyfall.core.truth.judge import SHADOWED, Judge
from eddyfall.core.truth.shadow_classes import SAME
from eddyfall.core.truth.surfaces import surfaces_of, to_light

ONE_SURFACE = 0.05  # of its depth: pixels side by side that differ by less show one surface
APART = 0.1  # of the light: less between two maps is not drawn to see what colour it makes


@dataclass(frozen=True)
class JoinGap:
    """One join. at_m: depth or range at which it lies; nearer, farther: numbers of the maps among the light's own; shaded: pixels along it
    that either map shades; delta_e: mean CIEDE2000 between the two maps' pictures there; wide_px: pixels over which one is
    blended into the other, on average along it; mask (h, w) of those pixels."""

    light: str
    at_m: float
    nearer: int
    farther: int
    shaded: int
    delta_e: float
    wide_px: float
    mask: np.ndarray

    @property
    def step(self) -> float:
        """CIEDE2000 from one pixel to the next across the join."""
        return self.delta_e / max(self.wide_px, 1.0)


def join_gaps(renderer: Renderer, build: Build, request: Request, least_px: int = 1) -> list[JoinGap]:
    """The joins of each sun's cascades that cross at least so many shaded pixels of a frame, largest step first.
    RequestError for a viewpoint, target or role that does not exist."""
    frame = renderer.frame(build, request, SHADOWED)
    table, gaps = frame.buffers["lights"], []
    judge = Judge(renderer, frame)
    for i, light in enumerate(frame.stage.lights):
        if light.kind == DIRECTIONAL and light.technique == "cascades" and table.maps[i] > 1:
            gaps += _of_light(renderer, build, request, judge, i, least_px)
    return sorted(gaps, key=lambda g: -g.step)


def _of_light(renderer: Renderer, build: Build, request: Request, judge: Judge, i: int, least_px: int) -> list[JoinGap]:
    frame, gaps = judge.frame, []
    first, count = int(judge.table.first_map[i]), int(judge.table.maps[i])
    info, colours = judge.maps.info, None
    depth = _told_apart_by(frame, bool(judge.maps.by_range))
    for k in range(first, first + count - 1):
        at = float(info[k, FAR_M])
        if float(info[k + 1, NEAR_M]) > at:
            continue
        mask = _beyond(depth, at) & (frame.drawable >= 0)
        if mask.sum() < least_px:
            continue
        s = surfaces_of(frame, mask=mask)
        towards, distance = to_light(s, i, frame)
        lit = np.einsum("nk,nk->n", s.normal, towards) > 0
        lit &= ~(judge.state.mapped[s.drawable] & bool(judge.table.baked[i]))
        s, towards, distance = s.of(lit), towards[lit], distance[lit]
        shares = [_judge_with(judge, info, k, serves).drawn(i, s, towards, distance) for serves in (k, k + 1)]
        shaded = np.minimum(*shares) < 1 - SAME
        if shaded.sum() < least_px or (np.abs(shares[0] - shares[1]) > APART).sum() < least_px:
            continue
        if colours is None:
            colours = _with_and_without(renderer, build, request, frame.stage.lights[i].name)
        x, y = s.pixels[shaded].T
        without, unshadowed = (c.linear[y, x] for c in colours)
        seen = [_display(frame, without + share[shaded, None] * (unshadowed - without)) for share in shares]
        there = np.zeros(mask.shape, bool)
        there[y, x] = True
        gaps.append(
            JoinGap(
                frame.stage.lights[i].name, at, k - first, k - first + 1, int(shaded.sum()),
                float(delta_e_2000(seen[0][None], seen[1][None]).mean()),
                _blended_px(depth, float(info[k, NEAR_M]), at, judge.shadow.join_blend) / int(mask.sum()), there,
            )
        )  # fmt: skip
    return gaps


def _told_apart_by(frame: Frame, by_range: bool) -> np.ndarray:
    """(h, w) what the maps are told apart by: metres along the view, or to the eye; 0 where nothing is shown."""
    depth = np.where(frame.drawable >= 0, frame.view_depth, 0.0)
    if by_range:
        depth = depth * View(frame.camera, frame.pixels).ray_lengths
    return np.asarray(depth)


def _blended_px(depth: np.ndarray, near_m: float, far_m: float, blend: float) -> int:
    """Pixels in the stretch at the far end of a map where the next one is mixed in."""
    return int(((depth >= far_m - blend * (far_m - near_m)) & (depth < far_m)).sum()) if blend > 0 else 0


def _beyond(depth: np.ndarray, at_m: float) -> np.ndarray:
    """(h, w) bool: pixels just beyond a depth whose neighbour across or down shows the same surface before it."""
    found = np.zeros(depth.shape, bool)
    for axis in (0, 1):
        for step in (1, -1):
            beside = np.roll(depth, step, axis=axis)
            edge = [slice(None)] * 2
            edge[axis] = slice(0, 1) if step == 1 else slice(-1, None)
            beside[tuple(edge)] = 0.0
            found |= (depth >= at_m) & (beside < at_m) & (beside > 0) & (depth - beside < ONE_SURFACE * depth)
    return found


def _judge_with(judge: Judge, info: np.ndarray, k: int, serves: int) -> Judge:
    """A judge whose maps are as they are, but that one of the two at a join serves both of their stretches."""
    changed = np.array(info)
    low, high = info[k, NEAR_M], info[k + 1, FAR_M]
    for number in (k, k + 1):
        changed[number, NEAR_M], changed[number, FAR_M] = (low, high) if number == serves else (high, high)
    other = Judge(judge.renderer, judge.frame, judge.intended)
    other.maps = judge.maps._replace(info=changed, join=0.0)
    return other


def _with_and_without(renderer: Renderer, build: Build, request: Request, light: str) -> tuple[Frame, Frame]:
    """The frame without a light, and with it shining through everything."""
    entry, frames = build.setup.lights.get(light, LightSetup()), []
    for update in ({"on": False}, {"casts": False, "technique": None}):
        lights = {**build.setup.lights, light: entry.model_copy(update=update)}
        # A light set that names the light overrules what it says itself.
        shines = update.get("on", True)
        sets = {
            name: s.model_copy(update={"on": {**s.on, light: shines}})
            for name, s in build.setup.light_sets.items()
            if light in s.on
        }
        tables = {"lights": lights, "light_sets": {**build.setup.light_sets, **sets}}
        changed = build.with_setup(build.setup.model_copy(update=tables))
        frames.append(renderer.frame(changed, request, "linear"))
    return frames[0], frames[1]


def _display(frame: Frame, linear: np.ndarray) -> np.ndarray:
    exposure = frame.stage.resolved[Exposure]
    return encode_display(linear * np.float32(exposure_scale(exposure.mode, exposure.ev100)))
