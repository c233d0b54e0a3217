"""Bodies of glass: the way that light takes through them as the stand-in has it, against the one that rays find.

A ray of the eye is bent by Snell's law where it enters a closed body, and followed to where it leaves it again: so much of the body
absorbs, and from there, bent once more, it meets what is seen through it. Rays that are mirrored inside are left out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.layers.capture import panes_in
from eddyfall.core.passes import refract as refract_pass
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.refract import Met, glass_of
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.shade.columns import IOR, SIGMA
from eddyfall.core.shade.glass import MISSING, Through, see_through_plain
from eddyfall.core.shade.surface import soup_of

SAMPLES = 256  # pixels of a body that are followed
CLOSED = 0.9  # of its rays that leave it again: fewer, and it has no inside
STEP = 1e-5  # of its diagonal: how far within it a ray starts
LEAST_LEFT = 1e-4  # share of light: what a body takes beyond that is black either way


@dataclass(frozen=True)
class Body:
    """A closed body in a frame, at n of its pixels: px (n, 2) x, y; each stands for `each` px; drawn_m, true_m (n,) the way through it;
    stops (n, 3) by which what it leaves of light is too much (above 0) or too little; off_px (n,) how far from where rays arrive the copy
    is read, nan where they are mirrored inside or meet nothing; where (h, w) bool: all its pixels; missing: nothing is wired to its
    thickness."""

    drawable: int
    px: np.ndarray
    each: float
    drawn_m: np.ndarray
    true_m: np.ndarray
    stops: np.ndarray
    off_px: np.ndarray
    where: np.ndarray
    missing: bool


def bodies_in(frame: Frame) -> list[Body]:
    """Every closed body of glass that a frame draws from a copy. The frame: with all that "linear" needs."""
    met, state = panes_in(frame), frame.stage.state
    if met is None:
        return []
    found = (_body(frame, met, int(d)) for d in np.unique(met.drawable[met.open]) if state.bends[d])
    return [body for body in found if body is not None]


def _body(frame: Frame, met: Met, d: int) -> Body | None:
    mine = np.flatnonzero((met.drawable == d) & met.open)
    mine = mine[np.unique(met.pixel[mine], return_index=True)[1]]  # the face by which it is entered
    chosen = mine[np.unique(np.linspace(0, len(mine) - 1, min(SAMPLES, len(mine))).round().astype(int))]
    geometry, view, state = frame.geometry, View(frame.camera, frame.pixels), frame.stage.state
    width, (ox, oy) = frame.pixels.shape[1], frame.pixels.origin
    x, y = ox + met.pixel[chosen] % width + 0.5, oy + met.pixel[chosen] // width + 0.5
    rays = view.rays
    towards = rays.d0 + x[:, None] * rays.du + y[:, None] * rays.dv
    towards = towards / np.linalg.norm(towards, axis=1, keepdims=True)
    surfaces = frame.buffers["textures"].surfaces
    factors = surfaces.factors[state.material[d]]
    ior = max(float(factors[IOR]), 1.0)
    place = rays.eye + towards * met.far[chosen][:, None]
    bent, _ = _bent(towards, _normals(geometry, met.triangle[chosen], towards), 1.0 / ior)
    start = place + bent * (STEP * float(np.linalg.norm(np.ptp(geometry.bounds[d], axis=0))))
    number = np.arange(len(geometry.drawables))
    own = _scene(frame, number == d).hits(start, bent)
    inside = own.triangle >= 0
    if inside.mean() < CLOSED:
        return None
    true_m = np.where(inside, np.linalg.norm(start - place, axis=1) + own.distance, np.nan)
    told = _as_drawn(frame, met, chosen, x, y)
    drawn_m = np.array([t.way for t in told])
    sigma = np.asarray(factors[SIGMA : SIGMA + 3], float)
    drawn, due = (np.maximum(np.exp(-sigma * way[:, None]), LEAST_LEFT) for way in (drawn_m, np.where(inside, true_m, 0.0)))
    where = np.zeros(frame.pixels.shape, bool)
    where.flat[met.pixel[mine]] = True
    return Body(
        d, np.stack([x, y], axis=1), len(mine) / len(chosen), drawn_m, true_m, np.where(inside[:, None], np.log2(drawn / due), 0.0),
        _off(frame, d, told, own.triangle, place, bent, true_m, ior), where, bool(state.thickness[d] == MISSING),
    )  # fmt: skip


def _as_drawn(frame: Frame, met: Met, chosen: np.ndarray, x: np.ndarray, y: np.ndarray) -> list[Through]:
    section = refract_pass.section(frame.stage)
    glass, soup = glass_of(frame.buffers, section), soup_of(frame.geometry, section.material)
    rays, surfaces = View(frame.camera, frame.pixels).rays, frame.buffers["textures"].surfaces
    return [
        see_through_plain(float(x[i]), float(y[i]), int(met.triangle[f]), float(met.path[f]), glass, rays, soup, surfaces)
        for i, f in enumerate(chosen)
    ]


def _off(
    frame: Frame, d: int, told: list[Through], leaves_by: np.ndarray, place: np.ndarray, bent: np.ndarray, true_m: np.ndarray, ior: float,
) -> np.ndarray:  # fmt: skip
    """(n,) px from where the copy is read to where rays that leave the body arrive."""
    inside = leaves_by >= 0
    normal = _normals(frame.geometry, np.where(inside, leaves_by, 0), bent)
    out, whole = _bent(bent, normal, ior)
    leaves = place + bent * np.where(inside, true_m, 0.0)[:, None]
    others = np.arange(len(frame.geometry.drawables))
    solid = (frame.stage.state.solid == 1) & frame.stage.state.drawn & (others != d)
    solid[frame.geometry.plate] = False
    hits = _scene(frame, solid).hits(leaves, out)
    good = inside & ~whole & (hits.triangle >= 0)
    rays = View(frame.camera, frame.pixels).rays
    arrives = leaves + out * np.where(good, hits.distance, 1.0)[:, None] - rays.eye
    off = np.full(len(told), np.nan)
    solved = np.linalg.solve(np.column_stack([rays.d0, rays.du, rays.dv]), arrives.T).T
    for i in np.flatnonzero(good & (solved[:, 0] > 0)):
        s, a, b = solved[i]
        off[i] = np.hypot(told[i].at[0] - a / s, told[i].at[1] - b / s)
    return off


def _scene(frame: Frame, taking_part: np.ndarray) -> RayScene:
    textures = frame.buffers["textures"]
    return RayScene(frame.geometry, taking_part, frame.buffers["cutouts"], textures.alpha_uv)


def _normals(geometry: Geometry, triangles: np.ndarray, towards: np.ndarray) -> np.ndarray:
    """(n, 3) unit normals of triangles (n,), turned against rays (n, 3)."""
    corners = geometry.positions[geometry.triangles[triangles]].astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
    return np.asarray(np.where((normal * towards).sum(axis=1, keepdims=True) > 0, -normal, normal))


def _bent(towards: np.ndarray, normal: np.ndarray, ratio: float) -> tuple[np.ndarray, np.ndarray]:
    """((n, 3) rays on the other side of faces by Snell's law, (n,) bool: mirrored whole); ratio: index on this side over that beyond."""
    cosine = -(towards * normal).sum(axis=1, keepdims=True)
    square = 1 - ratio**2 * (1 - cosine**2)
    beyond = ratio * towards + (ratio * cosine - np.sqrt(np.maximum(square, 0.0))) * normal
    return beyond, square[:, 0] < 0
