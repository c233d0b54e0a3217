"""shadow.over-budget: the shadows of a frame take more than the target allows: memory, draws, triangles or rays.

A budget belongs to a target (section `budget`); where none is set nothing is found. What is offered is counted on the frame that spends
most, with what it makes worse there by rays."""

import math
from collections.abc import Iterator
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.shadow_added import added
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Frame
from eddyfall.core.scene.changes import Change, Scope, apply_change, set_leaf, set_leaves
from eddyfall.core.scene.setup.sections.budget import Budget
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.judge import SHADOWED
from eddyfall.core.truth.shadow_budget import COUNTED, EVERY, FrameBudget, frame_budget, spent
from eddyfall.core.truth.shadow_classes import Class
from eddyfall.core.truth.shadow_costs import shadow_cost

CODE = "shadow.over-budget"
UNITS = {"shadow_mib": "MiB", "shadow_draws": "draws", "shadow_triangles": "triangles", "shadow_rays": "rays"}
LEAST_EDGE = 256
LEAST_POOL = 64

Values = dict[tuple[str, ...], Any]


def observe(survey: Survey, viewpoint: str) -> FrameBudget | None:
    """What the frame spends, if its target sets a limit."""
    budget = survey.resolved(viewpoint)[Budget]
    if not any(getattr(budget, leaf) > 0 for leaf in COUNTED):
        return None
    return frame_budget(survey.renderer, survey.build, survey.request(viewpoint))


def conclude(survey: Survey, seen: dict[str, FrameBudget | None]) -> list[Suspicion]:
    """One suspicion for each limit that is passed at some viewpoint."""
    frames = {viewpoint: found for viewpoint, found in seen.items() if found is not None}
    passed = [leaf for leaf in COUNTED if any(leaf in found.over for found in frames.values())]
    return [_suspicion(survey, leaf, frames) for leaf in passed]


def _suspicion(survey: Survey, leaf: str, frames: dict[str, FrameBudget]) -> Suspicion:
    worst = max(frames, key=lambda v: frames[v].spent(leaf))
    most = frames[worst]
    value, limit = most.spent(leaf), most.limits[leaf]
    evidence = [
        Evidence(measure=f"what all shadows take at {worst}", value=value, unit=UNITS[leaf], limit=limit, source=f"budget.{leaf}")
    ]
    evidence += [
        Evidence(
            measure=f"of it {light.light}, for {light.due_px} px on which its shadow is due", value=spent(light.cost, leaf),
            unit=UNITS[leaf],
        )
        for light in sorted(most.lights, key=lambda v: -spent(v.cost, leaf))
        if spent(light.cost, leaf) > 0
    ]  # fmt: skip
    over = {v: found for v, found in frames.items() if leaf in found.over}
    return Suspicion(
        code=CODE,
        cause_kind="setting",
        cause=f"budget.{leaf}",
        title=f"Shadows take {value:.4g} {UNITS[leaf]} of {limit:.4g}",
        subjects=(),
        value=value,
        limit=limit,
        evidence=tuple(evidence),
        pixels={v: sum(light.due_px for light in found.lights) for v, found in over.items()},
        candidates=tuple(_candidates(survey, worst, leaf, frames)) if survey.pictures else (),
        facts={"target": survey.target or ""},
    )


def _candidates(survey: Survey, worst: str, leaf: str, frames: dict[str, FrameBudget]) -> Iterator[Candidate]:
    """Single settings that bring every frame inside, counted; where none does, the least of them together that do."""
    before = survey.frame(worst, SHADOWED)
    ways = list(_ways(survey, before, frames))
    enough: list[tuple[Change, str]] = []
    done: set[tuple[str, ...]] = set()
    for change, values, why in ways:  # of each setting the least step that does
        if not set(values) & done and inside(survey, change, leaf, frames):
            enough.append((change, why))
            done |= set(values)
    if not enough:
        together: Values = {}
        for _, values, _ in ways:  # a later step of the same setting takes the place of the one before
            together |= values
            change = _together(survey, together)
            if inside(survey, change, leaf, frames):
                enough = [(change, "each of these by itself is too little")]
                break
    for change, why in enough:
        after = survey.on(apply_change(survey.build, change)).frame(worst, SHADOWED)
        costs = added(survey, worst, change)
        yield Candidate(change=change, predicts=why, costs=costs, side_effects=_worse(survey, worst, before, after))


def _ways(survey: Survey, frame: Frame, frames: dict[str, FrameBudget]) -> Iterator[tuple[Change, Values, str]]:
    """(change, its values by path, why) of what spends less, least harm first; for the target alone if the survey is of one."""
    build, resolved = survey.build, frame.stage.resolved
    shadow = resolved[Shadow]

    def setting(name: str, value: Any, title: str, why: str) -> tuple[Change, Values, str]:
        place = ("targets", survey.target, "set") if survey.target else resolved.leaves[f"shadow.{name}"].place
        values = {(*place, "shadow", name): value}
        return set_leaves(build, values, scope=scope_of(survey), title=title), values, why

    for light in {light.light: None for found in frames.values() for light in found.lights}:
        if not any(v.due_px for found in frames.values() for v in found.lights if v.light == light):
            path = ("lights", light, "casts")
            change = set_leaf(build, path, False, scope="project", title=f"{light} casts no shadow")
            yield change, {path: False}, "no viewpoint shows a shadow of it"
    if shadow.map_format != "unorm16":
        yield setting(
            "map_format", "unorm16", "shadow maps of 16 bits", "half the bytes of a sun's maps, steps of depth 256 times coarser"
        )
    due = math.ceil(_farthest(survey, frames) * 1.02 / 10) * 10
    if shadow.near_m < due < shadow.reach_m:
        yield setting("reach_m", float(due), f"shadow reach {due} m", "as far as any viewpoint has a shadow due")
    if shadow.casters_from != "frame":
        yield setting(
            "casters_from", "frame", "cascades from the frame", "what the frame does not show is not drawn into cascades"
        )
    for halves in (1, 2):
        edge = shadow.resolution >> halves
        if edge >= LEAST_EDGE:
            yield setting("resolution", edge, f"shadow maps of {edge} texels", "a sun's texels larger")
        edge = shadow.light_resolution >> halves
        if edge >= LEAST_EDGE:
            yield setting("light_resolution", edge, f"lamps' maps of {edge} texels", "lamps' texels larger")
        pool = shadow.page_pool >> halves
        if pool >= LEAST_POOL:
            yield setting(
                "page_pool", pool, f"pool of {pool} pages", "fewer pages; where they do not do, all levels become coarser"
            )
        if shadow.cascades - halves >= 1:
            fewer = shadow.cascades - halves
            yield setting("cascades", fewer, f"{fewer} cascade{'s' if fewer > 1 else ''}", "fewer slices, each wider")


def _farthest(survey: Survey, frames: dict[str, FrameBudget]) -> float:
    """The farthest depth at which any viewpoint has a sun's shadow due, in m; 0 if none has."""
    farthest = 0.0
    for viewpoint in frames:
        frame = survey.frame(viewpoint, SHADOWED)
        whole = disagreement(survey.renderer, frame, EVERY)
        depth = whole.surfaces.range_m if frame.stage.resolved[Shadow].reach_by == "range" else whole.surfaces.depth_m
        for light, state in zip(whole.lights, frame.stage.lights):
            due = (state.kind == DIRECTIONAL) & (light.classes >= Class.AGREE) & (light.true == 0)
            farthest = max(farthest, float(depth[due].max(initial=0.0)))
    return farthest


def _together(survey: Survey, values: Values) -> Change:
    title = ", ".join(f"{path[-1]} {value}" for path, value in values.items())
    return set_leaves(survey.build, values, scope=scope_of(survey), title=title)


def scope_of(survey: Survey) -> Scope:
    """A budget is a target's: what keeps it is set there."""
    return "target" if survey.target else "project"


def inside(survey: Survey, change: Change, leaf: str, frames: dict[str, FrameBudget]) -> bool:
    """Whether every frame keeps a limit with a change, by what its passes draw."""
    changed = survey.on(apply_change(survey.build, change))
    dearest = dict(sorted(frames.items(), key=lambda f: -f[1].spent(leaf)))
    return all(spent(shadow_cost(changed.frame(v, "shadow_maps")), leaf) <= found.limits[leaf] for v, found in dearest.items())


def _worse(survey: Survey, viewpoint: str, before: Frame, after: Frame) -> tuple[str, ...]:
    """What disagrees with rays more than it did, in pixels of all lights."""
    told = []
    wholes = [disagreement(survey.renderer, frame, EVERY) for frame in (before, after)]
    for kind, words in ((Class.MISSING, "missing shadow"), (Class.FALSE, "false shadow")):
        a, b = (sum(int(np.count_nonzero(v.classes == kind)) for v in whole.lights) * EVERY**2 for whole in wholes)
        if b > a:
            told.append(f"{words}: {a} -> {b} px at {viewpoint}")
    return tuple(told)


FAMILY = register(
    Family(
        "shadow budget",
        (
            Code(
                code=CODE,
                words="Shadows take more than the target allows",
                kind="Shadow",
                symptom="over budget",
                limit="the target's own: MiB, draws, triangles, rays",
                sheet="shadow-reach",
            ),
        ),
        observe,
        conclude,
    )
)
