"""Where a shadow meets what throws it, and where it ends: rows of points along the light on the surface that it falls on.

A bias that is too large passes the shadow by at its foot, and a shift along the normal eats its tip. Neither can be counted in pixels:
those at the shadow's edges swamp it, and rows of pixels quantise it. So points are set every 5 mm from the foot, and from the tip inwards.
"""

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.shade.lights import DIRECTIONAL, gaps_at
from eddyfall.core.truth.judge import Judge, asked_of
from eddyfall.core.truth.map_reading import own_tolerance_m, read_maps
from eddyfall.core.truth.pieces import unit_normals
from eddyfall.core.truth.surfaces import Surfaces, to_light

STEP_M = 0.005
LIMIT_M = 0.020
LIMIT_PX = 2.0
STANDS_UP_COS = 0.87  # a face that meets the surface at more than 30 degrees stands on it
LEAST_SLANT = 0.05  # sine: where the light falls straighter there is no way along it
MOST_SEEDS = 4096
MOST_LINES = 16  # of a caster, at its foot and at its tip
MOST_POINTS = 600  # of a line
MARCH = 16  # steps in which a tip is looked for, then halvings
HALVINGS = 12


@dataclass(frozen=True)
class Lines:
    """Rows of points, k each, along the light on what a shadow falls on: from its foot away from the light, or from its tip towards it.

    points: n of them that the eye sees and that are truly dark by the line's caster, as surfaces; line, place (n,): row and number along
    it; held (n,) bool: those that count, see `contact_lines`. caster (l,): drawable that throws the shadow; tip (l,) bool; step_m,
    limit_m (l,): distance of points, and how much may be lost: 20 mm, or what two pixels cover there."""

    points: Surfaces
    line: np.ndarray
    place: np.ndarray
    held: np.ndarray
    caster: np.ndarray
    tip: np.ndarray
    step_m: np.ndarray
    limit_m: np.ndarray
    k: int


def contact_lines(judge: Judge, i: int, dark: Surfaces, span_m: float, tips: bool = True) -> Lines:
    """Lines at feet and tips of the true shadows of light i that surfaces `dark` (all truly dark) lie in, as long as `span_m`.

    Points count whose own texel holds the line's caster and whose filter, looked up where they are, is mostly dark: what a bias loses of
    them, it alone loses."""
    rng = np.random.default_rng(len(dark))
    if len(dark) > MOST_SEEDS:
        dark = dark.of(np.sort(rng.choice(len(dark), MOST_SEEDS, replace=False)))
    along, slant = _along(judge, i, dark)
    dark, along = dark.of(slant > LEAST_SLANT), along[slant > LEAST_SLANT]
    ends = [_feet(judge, i, dark, along), *([_tips(judge, i, dark, along, span_m)] if tips else [])]
    chosen = [_spread(judge, dark.of(rows), end, caster, rng) for rows, end, caster in ends]
    rows, end, caster = (np.concatenate([found[part][c] for found, c in zip(ends, chosen)]) for part in range(3))
    tip = np.repeat([False, True][: len(chosen)], [len(c) for c in chosen])
    way = along[rows] * np.where(tip, 1.0, -1.0)[:, None]
    limit = np.maximum(LIMIT_M, LIMIT_PX * _metres_a_pixel(judge, end, way))
    step = np.maximum(STEP_M, limit / 8)
    k = int(np.clip(np.ceil(span_m / STEP_M), 8, MOST_POINTS))
    return _counted(
        judge, i, dark.of(rows), Lines(dark.of(np.zeros(0, int)), rows, rows, rows, caster, tip, step, limit, k), end, way
    )


def _along(judge: Judge, i: int, s: Surfaces) -> tuple[np.ndarray, np.ndarray]:
    """(unit way (n, 3) on each surface's plane to where the light stands over it, sine (n,) of the light's angle to its face)."""
    towards, _ = to_light(s, i, judge.frame)
    flat = towards - s.face * np.einsum("nk,nk->n", towards, s.face)[:, None]
    slant = np.linalg.norm(flat, axis=1)
    return flat / np.maximum(slant, 1e-12)[:, None], slant


def _feet(judge: Judge, i: int, s: Surfaces, along: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(row, foot (n, 3), caster (n,)) where the way to the light along a surface meets something that stands on it."""
    scene = judge.scene(judge.intended & judge.cast_in(i))
    lift = np.minimum(2e-3, 2e-4 * s.range_m) + 4e-6 * s.range_m
    triangle, away = scene.first_hit(s.place + s.face * lift[:, None], along)
    geometry: Geometry = judge.frame.geometry
    stands = np.abs(np.einsum("nk,nk->n", unit_normals(geometry, triangle), s.face)) < STANDS_UP_COS
    met = np.flatnonzero((triangle >= 0) & stands & (away < _to_lamp(judge, i, s)))
    return met, s.place[met] + along[met] * away[met, None], geometry.owner[triangle[met]]


def _to_lamp(judge: Judge, i: int, s: Surfaces) -> np.ndarray:
    """(n,) how far along the surface a lamp stands over it; a sun never does."""
    if judge.table.kind[i] == DIRECTIONAL:
        return np.full(len(s), np.inf)
    to_lamp = judge.table.place[i] - s.place
    return np.asarray(np.linalg.norm(to_lamp - s.face * np.einsum("nk,nk->n", to_lamp, s.face)[:, None], axis=1))


def _tips(judge: Judge, i: int, s: Surfaces, along: np.ndarray, span_m: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(row, tip (n, 3), caster (n,)) where truth becomes lit on the way away from the light, within twice the span."""
    step = 2 * span_m / MARCH
    lit = np.stack([_lit(judge, i, s, -along * (n * step)) for n in range(1, MARCH + 1)])
    found = np.flatnonzero(lit.any(axis=0))
    low, high = lit.argmax(axis=0)[found] * step, (lit.argmax(axis=0)[found] + 1) * step
    s, along = s.of(found), along[found]
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        beyond = _lit(judge, i, s, -along * middle[:, None])
        low, high = np.where(beyond, low, middle), np.where(beyond, middle, high)
    triangle, _ = _first(judge, i, _moved(s, -along * np.maximum(low - STEP_M, 0)[:, None]))
    kept = triangle >= 0
    owner = judge.frame.geometry.owner[triangle]
    return found[kept], (s.place - along * low[:, None])[kept], owner[kept]


def _moved(s: Surfaces, by: np.ndarray) -> Surfaces:
    """The same surfaces, at other places of their planes."""
    return Surfaces(s.pixels, s.drawable, s.triangle, s.place + by, s.normal, s.face, s.depth_m, s.range_m)


def _first(judge: Judge, i: int, s: Surfaces) -> tuple[np.ndarray, np.ndarray]:
    towards, distance = to_light(s, i, judge.frame)
    return judge.first(judge.scene(judge.intended), s, towards, distance)


def _lit(judge: Judge, i: int, s: Surfaces, by: np.ndarray) -> np.ndarray:
    return np.asarray(_first(judge, i, _moved(s, by))[0] < 0)


def _spread(judge: Judge, s: Surfaces, end: np.ndarray, caster: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Some of the ends, apart from each other, no more than MOST_LINES of a caster."""
    if not len(end):
        return np.zeros(0, int)
    cell = np.exp2(np.ceil(np.log2(np.maximum(0.1, 8 * _pixel_m(judge, s.range_m)))))
    keys = np.concatenate([caster[:, None], np.floor(end / cell[:, None])], axis=1).astype(np.int64)
    _, first = np.unique(keys, axis=0, return_index=True)
    order = rng.permutation(first)
    rank = np.zeros(len(order), int)
    for d in np.unique(caster[order]):
        mine = caster[order] == d
        rank[mine] = np.arange(mine.sum())
    return np.sort(order[rank < MOST_LINES])


def _pixel_m(judge: Judge, range_m: np.ndarray) -> np.ndarray:
    camera, (_, height) = judge.frame.camera, judge.frame.pixels.size
    return np.asarray(2 * np.tan(camera.fov_y_rad / 2) / height * range_m)


def _metres_a_pixel(judge: Judge, at: np.ndarray, way: np.ndarray) -> np.ndarray:
    """(n,) metres along a way that cover one pixel of the frame."""
    a, _ = _on_screen(judge, at)
    b, _ = _on_screen(judge, at + way * STEP_M)
    return np.asarray(STEP_M / np.maximum(np.linalg.norm(b - a, axis=1), 1e-6))


def _on_screen(judge: Judge, places: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((n, 2) pixel position in the full frame, view depth (n,))."""
    camera, (width, height) = judge.frame.camera, judge.frame.pixels.size
    p = (places - np.array(camera.eye)) @ camera.axes.T
    depth = np.maximum(-p[:, 2], 1e-9)
    half = np.tan(camera.fov_y_rad / 2)
    x, y = p[:, 0] / depth / (half * camera.aspect), p[:, 1] / depth / half
    return np.stack([(x * 0.5 + 0.5) * width, (0.5 - y * 0.5) * height], axis=1), -p[:, 2]


def _counted(judge: Judge, i: int, seed: Surfaces, lines: Lines, end: np.ndarray, way: np.ndarray) -> Lines:
    """The lines with their points."""
    line, place = (g.ravel() for g in np.meshgrid(np.arange(len(end)), np.arange(lines.k), indexing="ij"))
    at = end[line] + way[line] * ((place + 0.5) * lines.step_m[line])[:, None]
    s = seed.of(line)
    eye = np.array(judge.frame.camera.eye)
    away = np.linalg.norm(at - eye, axis=1)
    _, depth = _on_screen(judge, at)
    points = Surfaces(s.pixels, s.drawable, s.triangle, at, s.normal, s.face, depth, away)
    for test in (_seen, _truly_dark):
        kept = test(judge, i, points, lines.caster[line])
        points, line, place = points.of(kept), line[kept], place[kept]
    held = _held(judge, i, points, lines.caster[line])
    return replace(lines, points=points, line=line, place=place, held=held)


def _seen(judge: Judge, i: int, s: Surfaces, caster: np.ndarray) -> np.ndarray:
    """Whether the eye sees a point: in the frame's window, and on the drawable that it was taken from."""
    frame, state = judge.frame, judge.state
    screen, depth = _on_screen(judge, s.place)
    x0, y0, x1, y1 = frame.pixels.window
    inside = (depth > 0) & (screen >= (x0, y0)).all(axis=1) & (screen < (x1, y1)).all(axis=1)
    eye = np.array(frame.camera.eye)
    shown = state.drawn & state.colour_pass & ~state.blended & ~state.camera_hidden
    triangle, away = judge.scene(shown).first_hit(np.tile(eye, (len(s), 1)), (s.place - eye) / s.range_m[:, None])
    near = np.abs(away - s.range_m) < 1e-3 + 1e-3 * s.range_m
    return np.asarray(inside & near & (triangle >= 0) & (frame.geometry.owner[triangle] == s.drawable))


def _truly_dark(judge: Judge, i: int, s: Surfaces, caster: np.ndarray) -> np.ndarray:
    triangle, _ = _first(judge, i, s)
    return np.asarray((triangle >= 0) & (judge.frame.geometry.owner[triangle] == caster))


def _held(judge: Judge, i: int, s: Surfaces, caster: np.ndarray) -> np.ndarray:
    """Whether a point's own texel holds the caster, and most of its filter something before it, without any bias or shift."""
    maps = judge.maps_by(i, judge.look_up(i).unbiased)
    towards, distance = to_light(s, i, judge.frame)
    gaps, _, served = gaps_at(i, asked_of(s, towards, distance), judge.table, maps)
    middle = np.sort(gaps, axis=1)[:, (gaps.shape[1] - 1) // 2]
    held = (middle > 0) & (served >= 0)
    rows = np.flatnonzero(held)
    if not len(rows):
        return held
    reading = read_maps(s.of(rows), i, judge.table, maps, moved=False)
    side = judge.look_up(i).filter_px
    own = side // 2 * (side + 1)
    facing = np.einsum("nk,nk->n", s.face[rows], towards[rows])
    tolerance = own_tolerance_m(reading, facing, maps, judge.frame.geometry.diagonal_m)
    triangle, _ = judge.scene(judge.cast_in(i)).first_hit(reading.start[:, own], reading.along[:, own])
    mine = (triangle >= 0) & (judge.frame.geometry.owner[triangle] == caster[rows])
    held[rows] = mine & (reading.before_m[:, own] > tolerance)
    return held
