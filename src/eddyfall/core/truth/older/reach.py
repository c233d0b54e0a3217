"""How far a lamp has to reach: the least range that keeps nearly all that it lights within a quarter of a stop.

A lamp of range R gives [1 - (d/R)^4] / d^2 (glTF, KHR_lights_punctual). Cut from R0 to R, a place at distance d whose light is a share s of
this lamp's keeps log2 within `stops` if 1 - (d/R)^4 >= [1 - (d/R0)^4] k, k = 1 - (1 - 2^-stops) / s: the range follows in closed form."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.passes.contract import LightState
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reflections.probed import surface_places

SIZE = (480, 270)
KEPT, STOPS = 0.95, 0.25  # share of lit places that stay within so many stops (ours, changeable)
LIT = 0.01  # of a place's light, that a lamp gives at the least, for the place to be lit by it


@dataclass(frozen=True)
class Reach:
    """A lamp: its range in m (0: endless), pixels that it is worked out for, of them lit by it; least_m: the least range that keeps them,
    by the closed form; kept: share of them that then are within the limit, rendered; its pixels with that range."""

    light: str
    range_m: float
    pixels: int
    lit: int
    least_m: float
    kept: float
    pixels_then: int


def window(distance: np.ndarray | float, range_m: float) -> np.ndarray:
    """What a range leaves of a lamp's light at distances (n,) m; range 0: all."""
    if range_m <= 0:
        return np.ones_like(np.asarray(distance, float))
    return np.clip(1 - (np.asarray(distance, float) / range_m) ** 4, 0, 1)


def least_range(distance: np.ndarray, share: np.ndarray, range_m: float, kept: float = KEPT, stops: float = STOPS) -> float:
    """The least range in m of a lamp that keeps a share of places (n,) within so many stops: at distances (n,) m, with shares (n,) of their
    light that are this lamp's, cut from range_m (0: endless)."""
    if not len(distance):
        return 0.0
    needed = window(distance, range_m) * (1 - (1 - 2.0**-stops) / np.maximum(share, 1e-9))
    ranges = np.where(needed > 0, distance / np.maximum(1 - needed, 1e-12) ** 0.25, 0.0)
    return float(np.quantile(ranges, kept, method="higher"))


def reaches(renderer: Renderer, build: Build, viewpoints: list[str], target: str | None = None) -> list[Reach]:
    """Every lamp of a build that shines at any of the viewpoints, by name."""
    found: dict[str, list[tuple[str, Frame, LightState]]] = {}
    for view in viewpoints:
        frame = renderer.frame(build, Request(view, SIZE, None, target), "linear")
        for light in frame.stage.lights:
            if light.kind != DIRECTIONAL:
                found.setdefault(light.name, []).append((view, frame, light))
    return [_reach(renderer, build, name, seen, target) for name, seen in sorted(found.items())]


def _reach(renderer: Renderer, build: Build, name: str, seen: list[tuple[str, Frame, LightState]], target: str | None) -> Reach:
    off = apply_change(build, set_leaf(build, ("lights", name, "on"), False, scope="project", title=f"{name} off"))
    range_m = seen[0][2].range_m
    distance, share, drawn, at = [], [], [], []
    pixels = 0
    for view, frame, light in seen:
        y, x = np.nonzero(frame.drawable >= 0)
        place, _ = surface_places(frame, x, y)
        away = np.linalg.norm(place - np.array(light.place), axis=1)
        pixels += int((away < (range_m or np.inf)).sum())
        without = renderer.frame(off, Request(view, SIZE, None, target), "linear").linear
        with_it, rest = (of[y, x].astype(np.float64) @ REC709_LUMA for of in (frame.linear, without))
        part = np.divide(with_it - rest, with_it, out=np.zeros(len(with_it)), where=with_it > 0)
        lit = part >= LIT
        distance.append(away[lit])
        share.append(part[lit])
        drawn.append(with_it[lit])
        at.append((y[lit], x[lit]))
    far, part = np.concatenate(distance), np.concatenate(share)
    least = least_range(far, part, range_m)
    if not len(far) or least <= 0:
        return Reach(name, range_m, pixels, len(far), 0.0, 1.0, 0)
    cut = apply_change(build, set_leaf(build, ("lights", name, "range_m"), least, scope="project", title=f"range of {name}"))
    within = pixels_then = 0
    for (view, frame, light), before, (y, x) in zip(seen, drawn, at):
        after = renderer.frame(cut, Request(view, SIZE, None, target), "linear").linear[y, x].astype(np.float64) @ REC709_LUMA
        within += int((np.log2(np.maximum(after, 1e-12) / before) >= -STOPS - 1e-3).sum())
        row, column = np.nonzero(frame.drawable >= 0)
        place, _ = surface_places(frame, column, row)
        pixels_then += int((np.linalg.norm(place - np.array(light.place), axis=1) < least).sum())
    return Reach(name, range_m, pixels, len(far), least, within / len(far), pixels_then)


def lamps_at(frame: Frame) -> np.ndarray:
    """(h, w) how many lamps reach each pixel of a frame."""
    total = np.zeros(frame.drawable.shape, int)
    y, x = np.nonzero(frame.drawable >= 0)
    place, _ = surface_places(frame, x, y)
    for light in frame.stage.lights:
        if light.kind != DIRECTIONAL:
            total[y, x] += np.linalg.norm(place - np.array(light.place), axis=1) < (light.range_m or np.inf)
    return total
