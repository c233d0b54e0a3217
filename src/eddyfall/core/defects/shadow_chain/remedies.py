"""What mends a shadow by its cause, with its cost counted on the frame that shows most of it."""

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Lever
from eddyfall.core.defects.shadow_added import added
from eddyfall.core.defects.shadow_chain.seen import ACNE, DARKER, DETACHED, EVERY, LEAST, Seen
from eddyfall.core.defects.shadow_chain.thin import finer_texels
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame
from eddyfall.core.passes.frustum import ball_radius_m, padding_needed_m, range_m
from eddyfall.core.scene.changes import Change, apply_change, set_leaf, set_leaves, set_resolved
from eddyfall.core.scene.setup.sections.shadow import Shadow, size_limit
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.bias import ground_of, solve_bias
from eddyfall.core.truth.bias.proving import change_to, finer
from eddyfall.core.truth.bias.solve import Outcome
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.judge import SHADOWED, Judge
from eddyfall.core.truth.shadow_classes import Lost, Wrote
from eddyfall.core.truth.shadow_tests import with_bias
from eddyfall.core.truth.surfaces import to_light

SPARE = 1.02  # padding beyond the critical one
BIAS_STEP = 0.25  # texels
MOST_BIAS = 8.0
MOST_FILTER = 7
LEAST_MARCH_M, MOST_MARCH_M = 0.1, 5.0
MOST_EDGE = 4096  # of maps that a sweep draws to see whether they would do


def candidates_of(survey: Survey, code: str, cause: str, worst: str, where: Mapping[str, Seen]) -> list[Candidate]:
    """The remedies of one cause, narrowest first."""
    frame = survey.frame(worst, SHADOWED)
    seen = where[worst]
    made = list(_changes(survey, frame, code, cause, seen, where))
    return [
        Candidate(
            change=change,
            predicts=predicts,
            costs=added(survey, worst, change),
            side_effects=_aside(survey, worst, frame, code, change),
        )
        for change, predicts in made
    ]


def levers_of(survey: Survey, viewpoint: str, found: Mapping[tuple[str, str], Seen]) -> list[Lever]:
    """The same as single changes worth a trial."""
    result = []
    for (code, cause), seen in found.items():
        frame = survey.frame(viewpoint, SHADOWED)
        why = f"{seen.pixels} px by rays: {cause}"
        result += [
            Lever("direct" if code in (ACNE, DETACHED) else "shadow", change, predicts, why)
            for change, predicts in _changes(survey, frame, code, cause, seen, {viewpoint: seen})
        ]
    return result


def _changes(
    survey: Survey, frame: Frame, code: str, cause: str, seen: Seen, where: Mapping[str, Seen]
) -> list[tuple[Change, str]]:
    build, resolved = survey.build, frame.stage.resolved
    match code:
        case "shadow.culled":
            return _keep_it_in(survey, frame, cause, seen, where)
        case "shadow.missing-pass":
            change = set_leaf(
                build, ("shaders", cause, "passes", "shadow"), True, scope="shader", title=f"give {cause} a shadow pass"
            )
            return [(change, "what it draws casts")]
        case "shadow.one-sided":
            path = ("materials", cause)
            both = set_leaf(build, (*path, "casts_both_sides"), True, scope="material", title=f"{cause} casts from both sides")
            shown = set_leaf(build, (*path, "double_sided"), True, scope="material", title=f"{cause} drawn from both sides")
            return [(both, "its back casts"), (shown, "its back casts, and is drawn")]
        case "shadow.unasked":
            change = set_leaf(build, ("nodes", cause, "casts"), False, scope="node", title=f"let {cause} not cast")
            return [(change, "its shadow goes")]
        case "shadow.thin":
            return finer_texels(build, frame, seen.light, [s.thin for s in where.values() if s.thin is not None])
        case "shadow.detached":
            return [*_solved(survey, frame, seen.light, where), _marched(survey, frame, seen.light)]
        case _:
            shadow, made = resolved[Shadow], _solved(survey, frame, seen.light, where)
            enough = _bias_that_ends_it(survey, where) if cause == "shadow.bias_texels" else None
            if enough is not None:
                change = set_resolved(build, resolved, {"shadow.bias_texels": enough}, title=f"shadow bias {enough:g} texels")
                made.append((change, "surfaces are looked up before their own depth"))
            wider = shadow.filter_px + 2
            if wider <= MOST_FILTER and cause == "shadow.bias_texels":
                change = set_resolved(build, resolved, {"shadow.filter_px": wider}, title=f"shadow filter {wider} x {wider}")
                made.append((change, "specks are blurred, and the look-up moves on"))
            return made


def _marched(survey: Survey, frame: Frame, light: str) -> tuple[Change, str]:
    """What many would do: a march in screen space towards the light, twice as far as its bias moves the look-up."""
    state = next(v for v in frame.stage.lights if v.name == light)
    reach = min(max(2 * state.look_up.constant_m, LEAST_MARCH_M), MOST_MARCH_M)
    leaves: dict[tuple[str, ...], Any] = {("lights", light, "contact_m"): float(f"{reach:.2g}")}
    change = set_leaves(survey.build, leaves, scope="node", title=f"{light}: contact shadows by a march of {reach:.2g} m")
    return change, "what the frame shows near the foot darkens it; what it does not show does not"


def _solved(survey: Survey, frame: Frame, light: str, where: Mapping[str, Seen]) -> list[tuple[Change, str]]:
    """The smallest bias of each way that keeps both limits, at every viewpoint (of a lamp: where its shadows are wrong), the one that is
    chosen first; where no way does, finer maps with the bias that then does."""
    kind = next(v.kind for v in frame.stage.lights if v.name == light)
    requests, grounds = [], []
    for viewpoint in survey.viewpoints if kind == DIRECTIONAL else where:
        try:
            grounds.append(ground_of(survey.renderer, survey.build, survey.request(viewpoint), light, EVERY))
            requests.append(survey.request(viewpoint))
        except RequestError:
            continue  # it does not shine there, or casts nothing
    if not grounds:
        return []
    front = solve_bias(grounds)
    if front.chosen is None:
        found = finer(survey.renderer, survey.build, requests, front, EVERY, most_edge=MOST_EDGE)
        if found is None or found.change is None:
            return []
        return [(found.change, f"maps of {found.resolution} texels, and the bias that then keeps both limits")]
    best = sorted((w.best for w in front.ways if w.best is not None), key=lambda v: v != front.chosen)
    return [(change_to(survey.build, light, v.bias), _predicted(v)) for v in best]


def _predicted(outcome: Outcome) -> str:
    foot, tip = outcome.foot, outcome.tip
    lost = f"{foot.lost_mm:.0f} mm of contact lost" if foot.caster else "no contact lost"
    short = f", tips {tip.lost_mm:.0f} mm short" if tip.lost_mm >= 1 else ""
    return f"{outcome.false_px} px shade themselves, {lost}{short}"


def _keep_it_in(survey: Survey, frame: Frame, node: str, seen: Seen, where: Mapping[str, Seen]) -> list[tuple[Change, str]]:
    """What keeps a caster in its technique: padding, and what else that technique has."""
    build, resolved, shadow = survey.build, frame.stage.resolved, frame.stage.resolved[Shadow]
    light = next(v for v in frame.stage.lights if v.name == seen.light)
    if light.technique == "cascades":
        swept = set_resolved(build, resolved, {"shadow.casters_from": "swept"}, title="cascades from the swept frame")
        scene = set_resolved(build, resolved, {"shadow.casters_from": "scene"}, title="cascades from the whole scene")
        return [(swept, "what may throw a shadow into the frame is drawn"), (scene, "all that casts is drawn")]
    _, limit_deg = size_limit(shadow, light.technique)
    needed = max(_padding_needed(survey, v, s, limit_deg) for v, s in where.items())
    pad = float(f"{max(needed * SPARE, 0.01):.3g}")
    pad = math.ceil(pad * 100) / 100
    change = set_leaf(build, ("nodes", node, "bounds_padding_m"), pad, scope="node", title=f"pad {node} by {pad:g} m")
    made = [(change, "its padded bounds look larger than the limit")]
    if light.technique == "paged":
        mesh = next(d.mesh for d in frame.geometry.drawables if d.node == node)
        made.append(
            (
                set_leaf(build, ("meshes", mesh, "dense"), True, scope="mesh", title=f"{mesh} as a dense mesh"),
                "no limit drops its clusters",
            )
        )
    else:
        made.append(
            (set_resolved(build, resolved, {"shadow.ray_limit_deg": 0.0}, title="no size limit for rays"), "nothing is left out")
        )
    return made


def _padding_needed(survey: Survey, viewpoint: str, seen: Seen, limit_deg: float) -> float:
    frame = survey.frame(viewpoint, SHADOWED)
    padding = frame.stage.state.padding_m
    away, radius = range_m(frame.geometry, frame.camera), ball_radius_m(frame.geometry, padding) - padding
    return float(max(padding_needed_m(radius, away, limit_deg)[d] for d in seen.casters))


def _bias_that_ends_it(survey: Survey, where: Mapping[str, Seen]) -> float | None:
    """The smallest bias, in quarters of a texel, at which no viewpoint has more than its limit of pixels darkened by themselves. No map is
    drawn anew: the same maps are looked up with another bias."""
    asked = []
    for viewpoint in where:
        frame = survey.frame(viewpoint, SHADOWED)
        judge, whole = Judge(survey.renderer, frame), disagreement(survey.renderer, frame, EVERY)
        for i, light in enumerate(whole.lights):
            s = whole.surfaces.of((light.wrote == Wrote.OWN_SURFACE) & (light.drawn < DARKER))
            asked.append((judge, i, s, *to_light(s, i, frame)))
    start = max(judge.shadow.bias_texels for judge, *_ in asked)
    for bias in np.arange(math.floor(start / BIAS_STEP + 1) * BIAS_STEP, MOST_BIAS + BIAS_STEP, BIAS_STEP):
        left = [
            int((j.drawn(i, s, t, d, with_bias(j.look_up(i), "bias_texels", float(bias))) < DARKER).sum()) * EVERY**2
            for j, i, s, t, d in asked
        ]
        if max(left, default=0) <= LEAST[ACNE]:
            return float(bias)
    return None


def _aside(survey: Survey, viewpoint: str, before: Frame, code: str, change: Change) -> tuple[str, ...]:
    """What a change of bias or filter makes worse in the lights that it changes, measured: true shadow passed by, surfaces that shade
    themselves."""
    if code not in (ACNE, DETACHED):
        return ()
    after = survey.on(apply_change(survey.build, change)).frame(viewpoint, SHADOWED)
    told = {"true shadow lost to the bias": [0, 0], "surfaces shading themselves": [0, 0]}
    for lights in zip(*(disagreement(survey.renderer, f, EVERY).lights for f in (before, after))):
        lost = [int((v.lost == Lost.BIAS).sum()) * EVERY**2 for v in lights]
        own = [int(((v.wrote == Wrote.OWN_SURFACE) & (v.drawn < DARKER)).sum()) * EVERY**2 for v in lights]
        for counts, (a, b) in zip(told.values(), (lost, own)):
            if a != b:
                counts[0], counts[1] = counts[0] + a, counts[1] + b
    return tuple(f"{what}: {a} -> {b} px at {viewpoint}" for what, (a, b) in told.items() if b > a)
