"""What one light's bias is judged on at one viewpoint: surfaces that it must not darken, and the feet and tips of its true shadows."""

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.passes.contract import LookUp
from eddyfall.core.scene.build import Build
from eddyfall.core.shade.lights import gaps_at
from eddyfall.core.truth.bias.contact import Lines, contact_lines
from eddyfall.core.truth.bias.steps import Loss, Steps
from eddyfall.core.truth.judge import SHADOWED, Judge, asked_of
from eddyfall.core.truth.shadow_classes import Class
from eddyfall.core.truth.surfaces import Surfaces, surfaces_of, to_light

LEAST_SPAN_M, MOST_SPAN_M = 0.1, 3.0
SQUARE_ON = 0.05  # cosine: what a light only grazes is lit too little to show acne
SPARE = 1.05  # over what a plane needs: corners of the map's triangles are snapped
DEPTH_STEP = 4e-7  # of the scene's depth: what float32 holds of it in a map
ROWS = 1 << 15  # surfaces whose filters are gathered at once


@dataclass(frozen=True)
class Ground:
    """light: its number; lit: surfaces that truth lights, clear of every true edge by more than any look-up tried reaches, turned to the
    light, and darkened without any bias by no more than their own plane can; each: pixels that one stands for; texel_m (n,): of the map
    that serves each; lines: feet and tips."""

    viewpoint: str
    judge: Judge
    light: int
    lit: Surfaces
    each: int
    texel_m: np.ndarray
    lines: Lines

    @property
    def name(self) -> str:
        """The light's name."""
        return self.judge.frame.stage.lights[self.light].name

    def steps(self, look_up: LookUp) -> Steps:
        """The thresholds of a look-up; its constant and slope factor are left open."""
        gap, slope, _ = gathered(self.judge, self.light, self.lit, look_up)
        at, slopes, _ = gathered(self.judge, self.light, self.lines.points, look_up, highest=False)
        return laid_out(self.lines, np.where(self.lines.held, at, np.nan), slopes, (gap, slope), self.each)

    def without_texels(self, look_up: LookUp) -> Steps:
        """The same, each point's gap by rays to the face that the maps draw: what texels of any size would do to shadows at most."""
        judge, i, points = self.judge, self.light, self.lines.points
        _, slopes, _ = gathered(judge, i, points, look_up, highest=False)
        towards, distance = to_light(points, i, judge.frame)
        moved = replace(points, place=points.place + points.normal * judge.shift_m(i, points, look_up)[:, None])
        _, away = judge.first_drawn_face(judge.cast_in(i), i, moved, towards, distance)
        none = np.zeros(0)
        return laid_out(self.lines, np.where(np.isfinite(away), away, -np.inf), slopes, (none, none), self.each)

    def drawn_in(self, judge: Judge) -> tuple[int, int]:
        """(pixels that their own surface darkens, points of the lines that count and are lost) in another frame of the same viewpoint, as
        its own look-up has them."""
        lit, lost = (
            judge.drawn(self.light, s, *to_light(s, self.light, judge.frame))
            for s in (self.lit, self.lines.points.of(self.lines.held))
        )
        return int((lit < 1).sum()) * self.each, int((lost >= 0.5).sum())


def laid_out(lines: Lines, gap: np.ndarray, slope: np.ndarray, own: tuple[np.ndarray, np.ndarray], each: int) -> Steps:
    """Thresholds of surfaces (gap, slope) and of points of lines, these in rows by line."""
    shape = (len(lines.caster), lines.k)
    at, by = np.full(shape, np.nan), np.zeros(shape)
    at[lines.line, lines.place], by[lines.line, lines.place] = gap, slope
    return Steps(
        own_m=own[0], own_slope_m=own[1], each=each, gap_m=at, slope_m=by, caster=lines.caster, tip=lines.tip, step_m=lines.step_m,
        limit_m=lines.limit_m,
    )  # fmt: skip


def lift_m(judge: Judge, i: int, s: Surfaces, look_up: LookUp, slope_m: np.ndarray | None = None) -> np.ndarray:
    """(n,) by how many metres a look-up lifts surfaces towards light i, all its biases together. slope_m (n,): what a slope factor of 1 is
    worth there, if it is known."""
    if slope_m is None:
        _, slope_m, _ = gathered(judge, i, s, look_up)
    towards, _ = to_light(s, i, judge.frame)
    facing = np.maximum(np.abs(np.einsum("nk,nk->n", s.face, towards)), SQUARE_ON)
    return np.asarray(look_up.constant_m + look_up.slope * slope_m + judge.shift_m(i, s, look_up) / facing)


def span_of(judge: Judge, i: int, dark: Surfaces, least_m: float = 0.0) -> float:
    """How long lines must be, in m, to show what light i's bias as it is (or a lift of least_m) loses of a shadow."""
    lift = float(np.quantile(lift_m(judge, i, dark, judge.look_up(i)), 0.9)) if len(dark) else 0.0
    return float(np.clip(1.5 * max(lift, least_m), LEAST_SPAN_M, MOST_SPAN_M))


def contact_as_set(judge: Judge, i: int, dark: Surfaces) -> list[Loss]:
    """What each caster's shadow loses at its foot with light i's bias as it is; `dark` surfaces are truly dark."""
    look_up = judge.look_up(i)
    lines = contact_lines(judge, i, dark, span_of(judge, i, dark), tips=False)
    gap, slope, _ = gathered(judge, i, lines.points, look_up, highest=False)
    none = np.zeros(0)
    return laid_out(lines, np.where(lines.held, gap, np.nan), slope, (none, none), 1).losses(
        look_up.constant_m, look_up.slope, tips=False
    )


def gathered(
    judge: Judge, i: int, s: Surfaces, look_up: LookUp, highest: bool = True
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(gap (n,), slope (n,), served (n,)) of surfaces in light i: the largest gap of each filter, or that of the texel by which it is more
    lit than dark."""
    towards, distance = to_light(s, i, judge.frame)
    maps = judge.maps_by(i, look_up)
    found = []
    for start in range(0, max(len(s), 1), ROWS):
        part = np.arange(start, min(start + ROWS, len(s)))
        gaps, slopes, served = gaps_at(i, asked_of(s.of(part), towards[part], distance[part]), judge.table, maps)
        middle = (gaps.shape[1] - 1) // 2
        found.append((gaps.max(axis=1) if highest else np.partition(gaps, middle, axis=1)[:, middle], slopes, served))
    gap, slope, served = (np.concatenate(parts) for parts in zip(*found))
    return gap, slope, served


def ground_of(renderer: Renderer, build: Build, request: Request, light: str, every: int = 2) -> Ground:
    """The ground of a light at the request's viewpoint, each `every`-th pixel across and down asked. RequestError if the light does not
    shine there, casts no shadow, or draws it by rays."""
    frame = renderer.frame(build, request, SHADOWED)
    names = [v.name for v in frame.stage.lights]
    if light not in names:
        raise RequestError(f"light {light!r} does not shine at {request.viewpoint}; there are: {', '.join(names) or 'none'}")
    i = names.index(light)
    judge = Judge(renderer, frame)
    if judge.traced(i):
        raise RequestError(f"light {light!r} draws its shadow by rays: it has no map to bias")
    if judge.look_up(i).soft:
        raise RequestError(f"light {light!r} searches for the width of its filter: a bias is solved for one width")
    if not judge.table.maps[i]:
        raise RequestError(f"light {light!r} casts no shadow at {request.viewpoint}")
    return on_ground(judge, i, surfaces_of(frame, every), every * every, request.viewpoint)


def on_ground(judge: Judge, i: int, s: Surfaces, each: int, viewpoint: str) -> Ground:
    """The ground of light i among surfaces of a viewpoint's frame."""
    classes, true, _ = judge.classes(i, s)
    asked = np.asarray((classes > Class.BAKED) & (classes != Class.TERMINATOR) & judge.state.receives[s.drawable])
    unbiased = judge.look_up(i).unbiased
    lit = _clear(judge, i, s.of(asked & (true > 0)), unbiased)
    dark = s.of(asked & (true == 0))
    _, distance = to_light(lit, i, judge.frame)
    gap, _, _ = gathered(judge, i, lit, unbiased)
    highest = float(np.quantile(gap[gap > 0], 0.999)) if (gap > 0).any() else 0.0
    lines = contact_lines(judge, i, dark, span_of(judge, i, dark, highest))
    return Ground(viewpoint, judge, i, lit, each, judge.texel_m(i, lit, distance), lines)


def _clear(judge: Judge, i: int, s: Surfaces, unbiased: LookUp) -> Surfaces:
    """Those that one map serves, that face the light, lie clear of every true edge, and that nothing but their own plane darkens when
    nothing is biased: what stands farther behind what a texel holds is not acne (it may be a fold, a hole that the map lost, something
    unseen)."""
    towards, distance = to_light(s, i, judge.frame)
    gap, slope, served = gathered(judge, i, s, unbiased)
    widest = 2 * (unbiased.filter_px // 2) + 1  # texels from the place to the farthest texel's far side, to both sides
    own = gap <= widest * slope * SPARE + judge.frame.geometry.diagonal_m * DEPTH_STEP
    s = s.of(np.flatnonzero((served >= 0) & own & (np.einsum("nk,nk->n", s.face, towards) > SQUARE_ON)))
    towards, distance = to_light(s, i, judge.frame)
    # Half the filter and half a texel, and what a shift of up to so many texels as the filter is wide moves the look-up sideways.
    reach = judge.texel_m(i, s, distance) * (unbiased.filter_px + 0.5)
    return s.of(np.flatnonzero(judge.lit_around(i, s, towards, distance, reach).all(axis=0)))
