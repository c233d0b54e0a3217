"""Why a shadow is not as it should be: the chain of tests that a missing one fails, and what a false one was written by.

A chain keeps every test, so that what would lose the shadow next is known too; the first that fails is the cause.
"""

from dataclasses import replace

import numpy as np

from eddyfall.core.truth.cutouts import keeps_at_texel
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.map_reading import Reading, own_tolerance_m, read_maps
from eddyfall.core.truth.pieces import unit_normals
from eddyfall.core.truth.shadow_classes import SAME, Chain, Lost, Wrote
from eddyfall.core.truth.surfaces import Surfaces, to_light

SMOOTH_COS = 0.87  # faces of one piece within 30 degrees are one surface
MOSTLY = 0.5  # of a light


def chain_of(judge: Judge, i: int, s: Surfaces) -> Chain:
    """Every test of the chain, in light i, for surfaces whose shadow is due."""
    n, state, owner = len(s), judge.state, judge.frame.geometry.owner
    towards, distance = to_light(s, i, judge.frame)
    passed = np.ones((n, len(Lost) - 1), bool)
    passed[:, Lost.SWITCHED_OFF] = judge.shadow.enabled
    passed[:, Lost.LIGHT] = judge.frame.stage.lights[i].casts
    passed[:, Lost.RECEIVER] = state.receives[s.drawable]
    # From what ought to cast to what was drawn: each step leaves out what one test leaves out.
    casting = judge.intended & state.casts
    in_pass = casting & state.shadow_pass
    steps = [
        judge.first(judge.scene(judge.intended), s, towards, distance),
        judge.first(judge.scene(casting), s, towards, distance),
        judge.first(judge.scene(in_pass), s, towards, distance),
        judge.first_drawn_face(in_pass, i, s, towards, distance),
        judge.first_drawn_face(judge.cast_in(i), i, s, towards, distance),
    ]
    triangle, away = steps[0]
    for number, test in enumerate((Lost.CASTS, Lost.PASS, Lost.FACE, Lost.CULLED), 1):
        before, after = steps[number - 1][0] >= 0, steps[number][0] >= 0
        passed[:, test] = after | ~before
        other = after & (owner[steps[number][0]] != owner[triangle])  # of the same caster, the face that is nearest
        triangle, away = np.where(other, steps[number][0], triangle), np.where(other, steps[number][1], away)
    caster = np.where(triangle >= 0, owner[triangle], -1)
    cast = steps[-1]
    chain = Chain(passed, caster, away, cast[0] >= 0, None, np.full(n, np.nan))
    dark = judge.drawn(i, s, towards, distance) <= SAME
    if judge.traced(i):
        passed[:, Lost.BIAS] = (cast[0] < 0) | dark
        return chain
    if not judge.table.maps[i]:
        return chain
    reading = read_maps(s, i, judge.table, judge.maps, moved=False)
    served = reading.k >= 0
    passed[:, Lost.REACH] = served
    clamped = judge.shadow.depth_range == "slice_clamped"
    passed[:, Lost.DEPTH_RANGE] = ~served | (cast[0] < 0) | (cast[1] <= reading.room_m) | clamped
    standing = reading.before_m > _tolerance(judge, reading, s, towards)[:, None]
    share = np.where(served, standing.mean(axis=1), np.nan)
    covered = ~served | (share > 1 - SAME)
    hit = s.start(towards) + towards * np.where(np.isfinite(cast[1]), cast[1], 0.0)[:, None]
    by_alpha = served & ~covered & (cast[0] >= 0) & ~keeps_at_texel(judge, cast[0], hit, towards, reading.texel_m)
    passed[:, Lost.ALPHA] = ~by_alpha
    passed[:, Lost.WIDTH] = covered | by_alpha
    passed[:, Lost.BIAS] = ~served | ~covered | dark
    return replace(chain, reading=reading, share=share)


def _tolerance(judge: Judge, reading: Reading, s: Surfaces, towards: np.ndarray) -> np.ndarray:
    facing = np.einsum("nk,nk->n", s.face, towards)
    return own_tolerance_m(reading, facing, judge.maps, judge.frame.geometry.diagonal_m)


def writers(judge: Judge, i: int, s: Surfaces) -> tuple[np.ndarray, np.ndarray]:
    """(kind (n,) of `Wrote`, drawable (n,), -1 if none is found) of what darkens surfaces in light i that are truly lit."""
    towards, distance = to_light(s, i, judge.frame)
    cast, owner = judge.cast_in(i), judge.frame.geometry.owner
    marches = judge.frame.stage.lights[i].contact_m > 0
    if judge.traced(i):
        triangle, _ = judge.scene(cast).first_hit(s.place + s.face * judge.shadow.ray_offset_m, towards)
        writer = np.where(triangle >= 0, owner[triangle], -1)
        kind = np.where(judge.intended[writer], Wrote.MOVED, Wrote.UNSEEN)
        kind = np.where(_one_surface(judge, s, triangle), Wrote.OWN_SURFACE, kind)
        return np.where(writer < 0, Wrote.MARCHED if marches else Wrote.UNEXPLAINED, kind), writer
    reading = read_maps(s, i, judge.table, judge.maps)
    tolerance = _tolerance(judge, reading, s, towards)
    standing = reading.blocks & (reading.before_m > tolerance[:, None])
    # Of the texels that block, the ray of the one that stands farthest before the surface says who wrote it.
    rows, texel = np.arange(len(s)), np.where(standing, reading.before_m, np.where(reading.blocks, -1e30, -np.inf)).argmax(axis=1)
    triangle, _ = judge.scene(cast).first_hit(reading.start[rows, texel], reading.along[rows, texel])
    writer = np.where(triangle >= 0, owner[triangle], -1)
    before = np.where(standing[rows, texel], reading.before_m[rows, texel], 0.0)
    facing = np.einsum("nk,nk->n", s.face, towards)
    slope = np.sqrt(np.maximum(1 - facing**2, 0)) / np.maximum(facing, 1e-3)
    near = before < reading.texel_m * (1 + slope) * judge.look_up(i).filter_px
    same_piece = (triangle >= 0) & (judge.pieces[s.triangle] == judge.pieces[triangle])
    own = (reading.blocks.any(axis=1) & ~standing.any(axis=1) & same_piece) | (_one_surface(judge, s, triangle) & near)
    lost_hole = np.zeros(len(s), bool)
    through = np.full(len(s), -1)
    holed = cast & (judge.frame.buffers["cutouts"].material >= 0)
    if holed.any():
        start, along = reading.start[rows, texel], reading.along[rows, texel]
        met, away = judge.scene_without_holes(holed).first_hit(start, along)
        hit = start + along * np.where(met >= 0, away, 0.0)[:, None]
        # The surface sees the light through a hole of the cutout that the texel holds.
        through_hole, _ = judge.scene_without_holes(holed).first_hit(s.start(towards), towards)
        same = (met >= 0) & (through_hole >= 0) & (owner[met] == owner[through_hole])
        lost_hole = same & ~own & keeps_at_texel(judge, met, hit, towards, reading.texel_m)
        through = np.where(lost_hole, owner[met], -1)
    still = read_maps(s, i, judge.table, judge.maps, moved=False)
    beside = ~(still.before_m > tolerance[:, None]).all(axis=1)
    known = np.where(beside, Wrote.MOVED, Wrote.UNEXPLAINED)
    kind = np.where(writer < 0, Wrote.UNEXPLAINED, np.where(judge.intended[writer], known, Wrote.UNSEEN))
    kind = np.where(lost_hole, Wrote.HOLE_LOST, kind)
    kind, writer = np.where(own, Wrote.OWN_SURFACE, kind), np.where(own, s.drawable, np.where(lost_hole, through, writer))
    if marches:  # what the maps let through
        alone = judge.drawn(i, s, towards, distance, marched=False) > MOSTLY
        kind, writer = np.where(alone, Wrote.MARCHED, kind), np.where(alone, -1, writer)
    return kind, writer


def _one_surface(judge: Judge, s: Surfaces, triangle: np.ndarray) -> np.ndarray:
    """(n,) bool: whether triangles belong to the surfaces' own connected piece and face about the same way."""
    g, there = judge.frame.geometry, triangle >= 0
    alike = np.einsum("nk,nk->n", unit_normals(g, s.triangle), unit_normals(g, triangle)) > SMOOTH_COS
    return np.asarray(there & alike & (judge.pieces[s.triangle] == judge.pieces[triangle]))
