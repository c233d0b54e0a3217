"""What light goes through on its way to a surface: blended layers and glass, and how much of it each keeps."""

import math
from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.scene.setup.tables import SHADOWS_THROUGH
from eddyfall.core.shade.blend import KINDS, REFRACTING
from eddyfall.core.shade.through import SeenThrough, go_through
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.surfaces import Surfaces

KINDS_THROUGH = tuple(KINDS[k] for k in ("blended", "premultiplied", "multiply"))  # that cover or darken what lies behind them


@dataclass(frozen=True)
class Passed:
    """A thing before a light, away_m from the surface: keeps (r, g, b) of what is seen through it; throws: the shadow that it is set to
    throw (none, whole, dithered, tinted)."""

    name: str
    away_m: float
    keeps: tuple[float, float, float]
    throws: str


def may_tint(frame: Frame) -> np.ndarray:
    """(d,) bool: what is drawn, not told not to cast, and seen through."""
    s = frame.stage.state
    chosen = s.drawn & s.colour_pass & s.casts & np.isin(s.blend, (*KINDS_THROUGH, REFRACTING))
    chosen[frame.geometry.plate] = False
    return np.asarray(chosen)


def passed_on_the_way(judge: Judge, surface: Surfaces, towards: np.ndarray, distance: float) -> tuple[Passed, ...]:
    """What light from a direction (3,), so many metres away, goes through to the one surface; nearest first."""
    frame, chosen = judge.frame, may_tint(judge.frame)
    if not chosen.any():
        return ()
    s, surfaces = frame.stage.state, frame.buffers["textures"].surfaces
    origin = (surface.place + surface.face * judge.shadow.ray_offset_m).astype(np.float64)
    found: list[Passed] = []

    def take(_: np.ndarray, drawables: np.ndarray, away: np.ndarray, kept: np.ndarray) -> None:
        for d, m, (r, g, b) in zip(drawables.tolist(), away.tolist(), kept.tolist()):
            if min(r, g, b) == 1.0:
                continue  # a face that it does not count by
            throws = SHADOWS_THROUGH[int(s.shadow_through[d])]
            found.append(Passed(frame.geometry.drawables[d].name, m, (r, g, b), throws))

    scene, far = judge.scene_without_holes(chosen), np.array([distance])
    go_through(scene, origin, np.asarray(towards)[None], far, SeenThrough.of(s), surfaces, take, seen_from_end=True)
    return tuple(found)


def too_bright_stops(passed: tuple[Passed, ...], drawn: float, drawn_rgb: np.ndarray) -> float | None:
    """By how many stops of luminance a light's share as drawn is above what is left of it; None where nothing stands before it, or nothing
    is left."""
    luma = np.array([0.2126, 0.7152, 0.0722])
    due = float(np.prod([p.keeps for p in passed], axis=0) @ luma) if passed else 0.0
    now = drawn * float(drawn_rgb @ luma)
    return math.log2(now / due) if due > 0 and now > 0 else None
