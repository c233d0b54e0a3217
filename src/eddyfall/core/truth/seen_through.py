"""What light goes through on its way to a surface: blended layers and glass, and how much of it each keeps."""

import math
from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.scene.setup.tables import SHADOWS_THROUGH
from eddyfall.core.shade.blend import KINDS, REFRACTING
from eddyfall.core.shade.tints import keeps
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
    geometry, s, surfaces = frame.buffers["caster_geometry"], frame.stage.state, frame.buffers["textures"].surfaces
    origin = (surface.place + surface.face * judge.shadow.ray_offset_m).astype(np.float64)
    found: list[Passed] = []

    def through(rays: np.ndarray, triangle: np.ndarray, u: np.ndarray, v: np.ndarray) -> np.ndarray:
        corners = geometry.positions[geometry.triangles[triangle]].astype(np.float64)
        place = corners[:, 0] + u[:, None] * (corners[:, 1] - corners[:, 0]) + v[:, None] * (corners[:, 2] - corners[:, 0])
        owner = geometry.owner[triangle]
        kept = keeps(
            geometry.triangles, geometry.uv0, geometry.uv1, triangle, u.astype(np.float64), v.astype(np.float64), s.material[owner],
            s.blend[owner], s.transmission[owner], surfaces.factors, surfaces.used, surfaces.slots, surfaces.levels, surfaces.tables,
            surfaces.texels,
        )  # fmt: skip
        for d, at, rgb in zip(owner, place, kept):
            away = float((at - origin[0]) @ towards)
            if away < distance:
                r, g, b = (float(c) for c in rgb)
                name, throws = frame.geometry.drawables[int(d)].name, SHADOWS_THROUGH[int(s.shadow_through[d])]
                found.append(Passed(name, away, (r, g, b), throws))
        return np.ones(len(rays), bool)

    judge.scene_without_holes(chosen).hits(origin, towards[None], through)
    return tuple(found)


def too_bright_stops(passed: tuple[Passed, ...], drawn: float, drawn_rgb: np.ndarray) -> float | None:
    """By how many stops of luminance a light's share as drawn is above what is left of it; None where nothing stands before it, or nothing
    is left."""
    luma = np.array([0.2126, 0.7152, 0.0722])
    due = float(np.prod([p.keeps for p in passed], axis=0) @ luma) if passed else 0.0
    now = drawn * float(drawn_rgb @ luma)
    return math.log2(now / due) if due > 0 and now > 0 else None
