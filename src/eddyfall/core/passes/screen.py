"""What passes have in common that work from the frame alone: what they see of it, the pixels they do it for, what a ray brings."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Camera, Pixels, Stage, Target, Values, View
from eddyfall.core.passes.world_light import World, world_light, world_of
from eddyfall.core.scene.resolve import Resolved
from eddyfall.core.scene.setup.sections.depth import Depth
from eddyfall.core.scene.setup.sections.screen import FROM_FRAME, FromFrame, Marched, Occlusion
from eddyfall.core.screen.a_trous import Guide, coarser, middles, smoothed, spread
from eddyfall.core.screen.bundles import faded
from eddyfall.core.screen.march import OFF_SHARE, Screen, marched
from eddyfall.core.shade.columns import DISTANCE, NORMAL_XYZ
from eddyfall.core.shade.facing import ray_directions
from eddyfall.core.shade.probes import shown_by

Section = Occlusion | Marched
CONVERGED, CONVERGED_RAYS = 2048, 128  # pixels at once, and rays of each, by which a mean is taken to have converged


def margin_of(kind: FromFrame) -> Callable[[Resolved], int | None]:
    """What a pass of that section needs beyond the frame: see `Pass.beyond_px`."""

    def beyond(resolved: Resolved) -> int | None:
        section = resolved[kind]
        return section.margin_px if section.enabled else None

    return beyond


def frame_margin_px(resolved: Resolved) -> int:
    """Px beyond the frame that are drawn for any of them."""
    return max((resolved[kind].margin_px for kind in FROM_FRAME.values() if resolved[kind].enabled), default=0)


def held_buffers(section: Section, *buffers: tuple[str, int]) -> tuple[Target, ...]:
    """The targets (name, bytes a texel) that a pass keeps while it is on, at its divisor."""
    if not section.enabled:
        return ()
    margin = section.margin_px
    return tuple(Target(name=name, texel_bytes=size, divisor=section.divisor, margin_px=margin) for name, size in buffers)


def screen_of(camera: Camera, pixels: Pixels, depth: np.ndarray, surface: np.ndarray, near_m: float, margin_px: int) -> Screen:
    """What a march is held against: the depth copy (h, w) in m of view depth and the surfaces (h, w, row) of a window of a frame, no
    further than a margin around the frame."""
    half = math.tan(camera.fov_y_rad / 2)
    width, height = pixels.size
    at = np.array(pixels.origin, np.float64) + np.array(pixels.jitter)
    depth = np.ascontiguousarray(depth, np.float64)
    right, up, back = (np.ascontiguousarray(axis, np.float64) for axis in camera.axes)
    return Screen(
        depth, (1.0 / depth).astype(np.float32), surface.reshape(-1, surface.shape[-1]), np.array(camera.eye, np.float64), right, up, back,
        np.array([half * camera.aspect, half]), np.array([width, height], np.float64), at, near_m,
        np.full(2, -margin_px, np.float64), np.array([width + margin_px, height + margin_px], np.float64),
    )  # fmt: skip


def copied_depth(inputs: Values) -> np.ndarray:
    """(h, w) view depth in m that the depth copy holds of what is drawn; nothing, if none is taken."""
    copied: np.ndarray = inputs["copied_depth"]
    shape = inputs["visible"].shape
    return copied if copied.shape == shape else np.full(shape, np.inf)


def screen_here(inputs: Values, near_m: float, margin_px: int) -> Screen:
    """What a pass is given to march through: its depth copy, no further than its own margin."""
    return screen_of(inputs["camera"], inputs["pixels"], copied_depth(inputs), inputs["surface"], near_m, margin_px)


@dataclass(frozen=True, kw_only=True)
class Bundle:
    """The pixels that a pass sends rays from: index in the coarse window; x, y (n,) of the frame; pixel (n,) of the window, row by row;
    rows (n, row) of their surface, place (n, 3) in m, off it by what a depth copy can tell, to_eye (n, 3); fine and coarse guides of the
    window; ways (h, w, 3): unit directions of all its eye rays."""

    index: np.ndarray
    x: np.ndarray
    y: np.ndarray
    pixel: np.ndarray
    rows: np.ndarray
    place: np.ndarray
    to_eye: np.ndarray
    fine: Guide
    coarse: Guide
    divisor: int
    ways: np.ndarray

    def repeated(self, times: int) -> "Bundle":
        """The same pixels so many times over, each time with seeds of their own, in the order of times, then pixels; it cannot be made
        whole."""
        y = np.concatenate([self.y + k * 65_536 for k in range(times)])
        names = ("index", "x", "pixel", "rows", "place", "to_eye")
        index, x, pixel, rows, place, to_eye = (np.concatenate([getattr(self, name)] * times) for name in names)
        return replace(self, index=index, x=x, y=y, pixel=pixel, rows=rows, place=place, to_eye=to_eye)

    def all_of(self, surface: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """(y, x (m,), rows (m, row), to_eye (m, 3)) of all pixels of the window that take part."""
        y, x = np.nonzero(self.fine.valid)
        return y, x, surface[y, x], -self.ways[y, x]

    def whole(self, values: np.ndarray, rounds: int) -> np.ndarray:
        """(h, w, c) of values (n, c) of the bundle's pixels, smoothed and spread over all pixels that take part."""
        coarse = np.zeros((*self.coarse.valid.shape, values.shape[1]))
        coarse.reshape(-1, values.shape[1])[self.index] = values
        return spread(smoothed(coarse, self.coarse, rounds), self.coarse, self.fine, self.divisor)


def converged_at(at: np.ndarray, gathered: Callable[[Bundle, int], np.ndarray], b: Bundle) -> np.ndarray:
    """(h, w, 3) mean of what many rays of a bundle's pixels bring, as `gathered` gives it for so many rays (n, 3); 0 at the other pixels
    of at (h, w). Fewer of each where there are many pixels."""
    times = int(np.clip(CONVERGED // max(len(b.pixel), 1), 1, 32))
    light = np.zeros((at.size, 3))
    if len(b.pixel):
        light[b.pixel] = gathered(b.repeated(times), CONVERGED_RAYS).reshape(times, -1, 3).mean(axis=0)
    return light.reshape(*at.shape, 3)


def bundle_of(inputs: Values, taking_part: np.ndarray, divisor: int) -> Bundle:
    """The pixels (h, w) bool that take part, one of so many by so many."""
    pixels, surface = inputs["pixels"], inputs["surface"]
    rays = View(inputs["camera"], pixels).rays
    (height, width), (ox, oy), (jx, jy) = pixels.shape, pixels.origin, pixels.jitter
    y, x = np.mgrid[oy : oy + height, ox : ox + width]
    way = ray_directions(rays.d0, rays.du, rays.dv, x.ravel() + 0.5 + jx, y.ravel() + 0.5 + jy)
    distance = np.where(taking_part, surface[..., DISTANCE], 1.0).astype(np.float64)
    place = rays.eye + way * distance.reshape(-1, 1)
    normal = surface[..., NORMAL_XYZ].astype(np.float64)
    fine = Guide(place.reshape(height, width, 3), normal, distance, np.ascontiguousarray(taking_part))
    coarse = coarser(fine, divisor)
    index = np.flatnonzero(coarse.valid)
    pixel = middles(np.arange(height * width).reshape(height, width), divisor).ravel()[index]
    rows = surface.reshape(-1, surface.shape[-1])[pixel]
    off = rows[:, NORMAL_XYZ].astype(np.float64) * (rows[:, DISTANCE : DISTANCE + 1] * OFF_SHARE)
    return Bundle(
        index=index, x=x.ravel()[pixel], y=y.ravel()[pixel], pixel=pixel, rows=rows, place=place[pixel] + off, to_eye=-way[pixel],
        fine=fine, coarse=coarse, divisor=divisor, ways=way.reshape(height, width, 3),
    )  # fmt: skip


def found_on(
    screen: Screen, place: np.ndarray, direction: np.ndarray, jitter: np.ndarray, section: Marched
) -> tuple[np.ndarray, np.ndarray]:
    """((n,) pixel of the screen's window that each ray meets as a pass is set, -1: none; (n,) how much of that counts, 0 to 1)."""
    found = marched(place, direction, jitter, screen, section.reach_m, section.thickness_m, section.steps)
    fade = faded(found, screen.depth.shape[1], screen.at, screen.low, screen.high, section.edge_fade_px)
    return found, np.where(found >= 0, fade, 0.0)


def brought(
    inputs: Values, colour: np.ndarray, screen: Screen, place: np.ndarray, direction: np.ndarray, jitter: np.ndarray,
    section: Marched, world: World | None,
) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
    """((n,) how much of each ray is known, 0 to 1, (n, 3) nits of that part): from the frame's colour (h, w, 3), faded towards its edges,
    else from the world or from probes, if the pass falls back on them."""
    found, known = found_on(screen, place, direction, jitter, section)
    light = colour.reshape(-1, 3)[np.maximum(found, 0)] * known[:, None]
    if world is not None:
        rest = np.flatnonzero(known < 1)
        met, radiance = world_light(inputs, world, place[rest], direction[rest])
        share = np.where(met, 1 - known[rest], 0.0)
        light[rest] += radiance * share[:, None]
        known[rest] += share
    if section.fallback == "probe":
        rest = np.flatnonzero(known < 1)
        radiance, shown = shown_by(inputs["probes"], place[rest], direction[rest], np.zeros(len(rest)))
        light[rest] += radiance * (1 - known[rest])[:, None]
        known[rest] += shown * (1 - known[rest])
    return known, light


def world_if_asked(stage: Stage, section: Marched) -> World | None:
    """The world of rays, if a pass falls back on it."""
    world = world_of(stage)
    return world if section.enabled and section.fallback == "world" else None


def near_plane(stage: Stage) -> float:
    """Nothing nearer than this is met, in m."""
    return float(stage.resolved[Depth].near_m)


def laid(value: Any) -> np.ndarray:
    """One pixel's value of a buffer (1, 1, 3), as a stratum has it."""
    return np.asarray(np.asarray(value, np.float64).reshape(-1, 3)[0])
