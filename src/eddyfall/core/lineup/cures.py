"""Cures matrix: one caster's missing shadow, every technique against every remedy, each cell drawn from the same base.

What helps one technique does nothing for another: a longer reach is nothing to rays, no size limit nothing to cascades. The base is hashed
before and after each cell, so that no forgotten setting spoils the next.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, Literal, get_args

import numpy as np
from scipy.ndimage import binary_dilation

from eddyfall.core.defects.shadow_chain.remedies import SPARE
from eddyfall.core.defects.shadow_reach import needed_reach
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import DEFAULT_SIZE, Frame, Renderer, Request
from eddyfall.core.passes.frustum import ball_radius_m, padding_needed_m, range_m
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, apply_change, set_leaf, set_resolved
from eddyfall.core.scene.resolve import Resolved
from eddyfall.core.scene.setup.sections.shadow import Shadow, Technique, size_limit
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.disagreement import of_light
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.shadow_classes import Class, Lost
from eddyfall.core.truth.shadow_costs import ShadowCost, shadow_cost
from eddyfall.core.truth.surfaces import Surfaces, surfaces_of, to_light

LEAST_PIXELS = 3  # a test that loses no more pixels passes
DRAWN = 0.5  # of the darkness that is due: with it, a shadow is there
HELPED = 0.05  # more of it: the look improves
AROUND_PX = 8  # a filter and the bias may draw a shadow so far aside
SMALL = (480, 270)  # px of the frame on which other disagreement is counted
Remedy = Literal["padding", "dense", "no size limit", "far tier", "reach"]
CellVerdict = Literal["cures", "masks", "no effect", "nothing to cure"]
TECHNIQUES: tuple[Technique, ...] = get_args(Technique)
REMEDIES: tuple[Remedy, ...] = get_args(Remedy)


@dataclass(frozen=True)
class Cell:
    """One technique with one remedy. lost: pixels on which the technique's own tests lose the caster's shadow, with the technique alone and
    with the remedy; drawn: share of the darkness that is due which the picture has there, before and after; elsewhere: pixels of a small
    frame that the remedy makes disagree and that did not. leaf, critical: the setting and the value at which the tests would just pass,
    None where none would do it. cost: beside the technique alone.

    cures: the tests pass and the shadow is drawn; masks: more of it is drawn, but tests fail, or too little of it."""

    technique: Technique
    remedy: Remedy
    verdict: CellVerdict
    lost_before: int
    lost: int
    drawn_before: float
    drawn: float
    elsewhere: int
    leaf: str
    value: Any
    critical: float | None
    cost: ShadowCost
    change: Change


@dataclass(frozen=True)
class CuresMatrix:
    """All cells for a caster seen from a viewpoint; due: pixels that its shadow truly falls on; base: content hash of the build, the same
    after each cell."""

    viewpoint: str
    caster: str
    due: int
    base: str
    cells: tuple[Cell, ...]


def cures_matrix(
    renderer: Renderer, build: Build, viewpoint: str, caster: str, *, target: str | None = None, size: tuple[int, int] = DEFAULT_SIZE,
    progress: Callable[[str, float], None] = lambda what, share: None,
) -> CuresMatrix:  # fmt: skip
    """The matrix of one drawable's shadow of the first sun. RequestError if it does not exist, or throws no shadow that the viewpoint
    shows."""
    request = Request(viewpoint, size, None, target)
    frame = renderer.frame(build, request, "lit")
    names = frame.geometry.names
    if caster not in names:
        raise RequestError(f"drawable {caster!r} does not exist")
    suns = [i for i, light in enumerate(frame.stage.lights) if light.kind == DIRECTIONAL]
    if not suns:
        raise RequestError("no sun shines: the techniques differ for suns")
    due = due_to(renderer, frame, suns[0], names[caster])
    if not due.any():
        raise RequestError(f"{caster} throws no shadow on what {viewpoint} shows")
    base, cells, spot = build.content_hash, [], _Spot(request, suns[0], names[caster], due)
    for number, technique in enumerate(TECHNIQUES):
        alone = (
            build if frame.stage.resolved[Shadow].technique == technique else _with(build, frame, {"shadow.technique": technique})
        )
        before = _Look(renderer, alone, spot)
        for remedy in REMEDIES:
            progress(f"{technique}: {remedy}", (number * len(REMEDIES) + REMEDIES.index(remedy)) / 15)
            cells.append(_cell(renderer, alone, before, spot, technique, remedy))
            if build.content_hash != base:
                raise AssertionError("a cell changed the build that all start from")
    return CuresMatrix(viewpoint, caster, int(due.sum()), base, tuple(cells))


def due_to(renderer: Renderer, frame: Frame, light: int, caster: int) -> np.ndarray:
    """(h, w) bool: pixels on which a drawable is the first thing before a light."""
    judge = Judge(renderer, frame)
    everything = surfaces_of(frame)
    towards, distance = to_light(everything, light, frame)
    facing = (np.einsum("nk,nk->n", everything.normal, towards) > 0) & (np.einsum("nk,nk->n", everything.face, towards) > 0)
    s = everything.of(facing)
    triangle, _ = judge.first(judge.scene(judge.intended), s, towards[facing], distance[facing])
    mine = (triangle >= 0) & (frame.geometry.owner[triangle] == caster) & (s.drawable != caster)
    mask = np.zeros(frame.drawable.shape, bool)
    mask[s.pixels[mine, 1], s.pixels[mine, 0]] = True
    return mask


class _Spot:
    """Where a caster's shadow of a sun is due: the part of the frame that holds it, and its pixels there."""

    def __init__(self, request: Request, sun: int, caster: int, due: np.ndarray) -> None:
        height, width = due.shape
        rows, columns = np.flatnonzero(due.any(axis=1)), np.flatnonzero(due.any(axis=0))
        x0, y0 = max(int(columns[0]) - AROUND_PX, 0), max(int(rows[0]) - AROUND_PX, 0)
        x1, y1 = min(int(columns[-1]) + 1 + AROUND_PX, width), min(int(rows[-1]) + 1 + AROUND_PX, height)
        self.request, self.whole = replace(request, crop=(x0, y0, x1, y1)), replace(request, size=SMALL)
        self.sun, self.caster, self.due = sun, caster, due[y0:y1, x0:x1]
        self.around = binary_dilation(self.due, iterations=AROUND_PX)


class _Look:
    """One build as a viewpoint shows it: what is lost of the shadow at the spot, what disagrees over the frame, what it all costs."""

    def __init__(self, renderer: Renderer, build: Build, spot: _Spot) -> None:
        self.frame = renderer.frame(build, spot.request, "lit")
        near = surfaces_of(self.frame, mask=spot.around)
        found, due = of_light(Judge(renderer, self.frame), spot.sun, near), spot.due[near.pixels[:, 1], near.pixels[:, 0]]
        self.surfaces: Surfaces = near.of(due)
        self.lost = int((due & (found.lost >= 0) & (found.lost <= Lost.DEPTH_RANGE)).sum())
        # Of what is not in another thing's shadow.
        mine = (found.classes >= Class.AGREE) & (due | (found.true > 0))
        self.drawn = min(float((1 - found.drawn[mine]).sum()) / max(int(due.sum()), 1), 1.0)
        whole = renderer.frame(build, spot.whole, "lit")
        everything = surfaces_of(whole)
        classes = of_light(Judge(renderer, whole), spot.sun, everything).classes
        self.wrong = np.zeros(whole.drawable.shape, bool)
        bad = everything.pixels[(classes == Class.MISSING) | (classes == Class.FALSE)]
        self.wrong[bad[:, 1], bad[:, 0]] = True
        self.cost = shadow_cost(self.frame)


def _cell(renderer: Renderer, alone: Build, before: _Look, spot: _Spot, technique: Technique, remedy: Remedy) -> Cell:
    change, leaf, value, critical = _remedy(alone, before, technique, remedy, spot.caster)
    after = _Look(renderer, apply_change(alone, change), spot)
    if before.lost <= LEAST_PIXELS and before.drawn >= DRAWN:
        verdict: CellVerdict = "nothing to cure"
    elif after.lost <= LEAST_PIXELS and after.drawn >= DRAWN:
        verdict = "cures"
    else:
        verdict = "masks" if after.drawn > before.drawn + HELPED else "no effect"
    elsewhere, cost = int((after.wrong & ~before.wrong).sum()), after.cost.less(before.cost)
    return Cell(
        technique,
        remedy,
        verdict,
        before.lost,
        after.lost,
        before.drawn,
        after.drawn,
        elsewhere,
        leaf,
        value,
        critical,
        cost,
        change,
    )


def _remedy(
    build: Build, look: _Look, technique: Technique, remedy: Remedy, caster: int
) -> tuple[Change, str, Any, float | None]:
    """(change, leaf, its value, critical value where the technique has one) of a remedy for one caster."""
    frame, resolved = look.frame, look.frame.stage.resolved
    shadow, geometry = resolved[Shadow], look.frame.geometry
    thing = geometry.drawables[caster]
    padding = float(frame.stage.state.padding_m[caster])
    away = float(range_m(geometry, frame.camera)[caster])
    radius = float(ball_radius_m(geometry, frame.stage.state.padding_m)[caster]) - padding
    seen = look.surfaces
    deepest = float((seen.range_m if shadow.reach_by == "range" else seen.depth_m).max())
    match remedy:
        case "padding":
            _, limit = size_limit(shadow, technique)
            critical = max(float(padding_needed_m(radius, away, limit)), 0.0) if limit > 0 else None
            pad = float(f"{max((critical or 0.0) * SPARE, padding + 0.25):.3g}")
            leaf = ("nodes", thing.node, "bounds_padding_m")
            return set_leaf(build, leaf, pad, scope="node", title=f"pad {thing.node} by {pad:g} m"), ".".join(leaf), pad, critical
        case "dense":
            leaf = ("meshes", thing.mesh, "dense")
            return set_leaf(build, leaf, True, scope="mesh", title=f"{thing.mesh} as a dense mesh"), ".".join(leaf), True, None
        case "no size limit":
            ratio = (radius + padding) / max(away, 1e-9)
            critical = math.degrees(2 * math.atan(ratio)) if technique == "rays" else None
            change = set_resolved(build, resolved, {"shadow.ray_limit_deg": 0.0}, title="no size limit for rays")
            return change, "shadow.ray_limit_deg", 0.0, critical
        case "far tier":
            reach = needed_reach(deepest)
            values = {"shadow.reach_m": shadow.reach_m, "shadow.far_reach_m": max(reach, shadow.far_reach_m)}
            change = set_resolved(build, resolved, values, title=f"far tier to {values['shadow.far_reach_m']:g} m")
            return change, "shadow.far_reach_m", values["shadow.far_reach_m"], deepest if technique == "cascades" else None
        case "reach":
            reach = max(needed_reach(deepest), shadow.reach_m)
            change = set_resolved(build, resolved, {"shadow.reach_m": reach}, title=f"shadow reach {reach:g} m")
            return change, "shadow.reach_m", reach, deepest if technique == "cascades" else None


def _with(build: Build, frame: Frame, values: dict[str, Any]) -> Build:
    resolved: Resolved = frame.stage.resolved
    return apply_change(build, set_resolved(build, resolved, values, title=", ".join(f"{k} = {v}" for k, v in values.items())))


__all__ = ["REMEDIES", "TECHNIQUES", "Cell", "CuresMatrix", "cures_matrix", "due_to"]
