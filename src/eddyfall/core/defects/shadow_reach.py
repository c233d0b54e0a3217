"""shadow.out-of-reach: the sun's shadow is missing because its receiver lies beyond the view depth that any shadow map serves."""

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.passes.contract import Camera, View
from eddyfall.core.scene.changes import Change, set_leaf, set_resolved
from eddyfall.core.scene.resolve import Resolved
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.shade.cascades import Slice, cascade_slices, lambda_for_first_texel
from eddyfall.core.shade.columns import DISTANCE
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.judge import SHADOWED, Judge
from eddyfall.core.truth.surfaces import surfaces_of, to_light
from eddyfall.core.truth.visibility import sun_visibility, sunlit_candidates, would_cast

CODE = "shadow.out-of-reach"
LEAST_PIXELS = 4
MOST_RAYS = 60_000
TEXEL_GROWTH_LIMIT = 0.10
MOST_SWITCHES = 4


@dataclass(frozen=True)
class Lost:
    """Shadows missing beyond the reach at one viewpoint: pixels, view depths (m), drawables that cast or should receive them."""

    pixels: int
    region: tuple[int, int, int, int]
    nearest_m: float
    farthest_m: float
    drawables: frozenset[int]
    picture: np.ndarray | None
    resolved: Resolved
    camera: Camera

    @property
    def shadow(self) -> Shadow:
        return self.resolved[Shadow]


def reach_end(shadow: Shadow) -> float:
    """View depth in metres beyond which no shadow map serves."""
    return max(shadow.reach_m, shadow.far_reach_m)


def slices_of(shadow: Shadow, camera: Camera, **changed: Any) -> list[Slice]:
    """Cascades and far tier for a camera, with some shadow settings changed."""
    s = shadow.model_copy(update=changed)
    return cascade_slices(s.near_m, s.reach_m, s.cascades, s.split_lambda, s.resolution, camera.fov_y_rad, camera.aspect,
                          s.far_reach_m, s.far_resolution)  # fmt: skip


def observe(survey: Survey, viewpoint: str) -> Lost | None:
    """Trace to the sun from pixels that lie beyond the reach and are turned to it."""
    whole = survey.frame(viewpoint, "drawable")
    shadow = whole.stage.resolved[Shadow]
    suns = [light for light in whole.stage.lights if light.kind == DIRECTIONAL]
    if not suns or not suns[0].casts or not shadow.enabled or suns[0].technique != "cascades":
        return None
    depth = whole.view_depth
    if shadow.reach_by == "range":
        depth = depth * View(whole.camera, whole.pixels).ray_lengths
    farther = (whole.drawable >= 0) & (depth >= reach_end(shadow))
    if not farther.any():
        return None
    x0, y0, wide, high = region_of(farther)
    frame = survey.frame(viewpoint, "surface", (x0, y0, x0 + wide, y0 + high))
    beyond = sunlit_candidates(frame) & farther[y0 : y0 + high, x0 : x0 + wide]
    pixels = np.argwhere(beyond)[:, ::-1]
    if not len(pixels):
        return None
    stride = max(1, math.ceil(len(pixels) / MOST_RAYS))
    truth = sun_visibility(frame, survey.rays(frame), pixels[::stride])
    dark = truth.pixels[~truth.lit]
    if len(dark) * stride < LEAST_PIXELS:
        return None
    mask = np.zeros(whole.pixels.shape, bool)
    mask[dark[:, 1] + y0, dark[:, 0] + x0] = True
    # By the surface itself: at an infinite far plane the last depth code stands for any distance.
    own = frame.buffers["surface"][..., DISTANCE] / View(frame.camera, frame.pixels).ray_lengths
    depths = whole.view_depth[mask]
    depths = np.where(np.isfinite(depths), depths, own[dark[:, 1], dark[:, 0]])
    involved = {int(b) for b in truth.blocker[~truth.lit]} | {int(d) for d in np.unique(whole.drawable[mask])}
    return Lost(
        len(dark) * stride,
        region_of(mask),
        float(depths.min()),
        float(depths.max()),
        frozenset(involved),
        survey.painted(viewpoint, mask),
        frame.stage.resolved,
        frame.camera,
    )


def conclude(survey: Survey, seen: dict[str, Lost | None]) -> list[Suspicion]:
    """At most one suspicion: the reach, with every receiver and caster whose shadow is lost beyond it."""
    lost = {v: o for v, o in seen.items() if o is not None}
    if not lost:
        return []
    drawables = survey.geometry.drawables
    worst_view = max(lost, key=lambda v: lost[v].pixels)
    worst = lost[worst_view]
    reach = reach_end(worst.shadow)
    farthest, nearest = max(o.farthest_m for o in lost.values()), min(o.nearest_m for o in lost.values())
    subjects = tuple(sorted({drawables[d].name for o in lost.values() for d in o.drawables}))
    slices = slices_of(worst.shadow, worst.camera)
    evidence = (
        Evidence(
            measure="pixels where the sun's shadow is missing",
            value=float(worst.pixels),
            unit="px",
            limit=float(LEAST_PIXELS - 1),
            source="rays to the sun against the shadow maps",
            picture=worst.picture,
        ),
        Evidence(
            measure="nearest lost shadow lies beyond the reach by",
            value=nearest - reach,
            unit="m",
            limit=0.0,
            source=f"shadow.reach_m = {reach:g} m",
        ),
        Evidence(
            measure="farthest lost shadow lies beyond the reach by",
            value=farthest - reach,
            unit="m",
            limit=0.0,
            source=f"shadow.reach_m = {reach:g} m",
        ),
        Evidence(
            measure=f"first cascade's texel at {worst_view}",
            value=slices[0].texel_m * 1000,
            unit="mm",
            limit=None,
            source="slice sphere / resolution",
        ),
        Evidence(
            measure=f"last cascade's texel at {worst_view}",
            value=slices[-1].texel_m * 1000,
            unit="mm",
            limit=None,
            source="slice sphere / resolution",
        ),
    )
    return [
        Suspicion(
            code=CODE,
            cause_kind="setting",
            cause="shadow.reach_m",
            title=f"Shadows stop at {reach:g} m, short of {', '.join(subjects[:3])}",
            subjects=subjects,
            value=float(worst.pixels),
            limit=float(LEAST_PIXELS - 1),
            evidence=evidence,
            pixels={v: o.pixels for v, o in lost.items()},
            regions={v: o.region for v, o in lost.items()},
            candidates=tuple(_candidates(survey, worst, farthest)),
            facts={"needed_reach_m": farthest, "chain": _chain(survey, worst, farthest)},
        )
    ]


def needed_reach(farthest_m: float) -> float:
    """Reach that serves a depth, with 2 % to spare, in steps of 10 m, finer ones for what is less than 100 m off."""
    needed = farthest_m * 1.02
    step = min(10.0, 10.0 ** (math.floor(math.log10(max(needed, 1e-9))) - 1))
    return float(f"{math.ceil(needed / step) * step:.6g}")


def _candidates(survey: Survey, worst: Lost, farthest: float) -> list[Candidate]:
    reach, shadow = needed_reach(farthest), worst.shadow
    far = add_far_tier(survey, worst.resolved, reach)
    last, tier = slices_of(shadow, worst.camera, far_reach_m=0.0)[-1], slices_of(shadow, worst.camera, far_reach_m=reach)[-1]
    new_bytes = 0 if shadow.far_reach_m > shadow.reach_m else shadow.far_resolution**2 * 4
    join = f"a join at {shadow.reach_m:g} m, where the texel goes from {last.texel_m * 1000:.0f} to {tier.texel_m * 1000:.0f} mm"
    costs = (Cost("memory", float(new_bytes), "bytes"), Cost("far tier texel", tier.texel_m * 1000, "mm"))
    return [
        Candidate(change=far, predicts="one more map serves what lies beyond the cascades", costs=costs, side_effects=(join,)),
        _raise(survey, worst, reach, 1),
        _raise(survey, worst, reach, 2),
        *_reach_at_same_texel(survey, worst, reach),
    ]


def _reach_at_same_texel(survey: Survey, worst: Lost, reach: float) -> list[Candidate]:
    """The reach with splits spaced so that the first cascade stays as fine as it is: it takes no memory and no draws."""
    shadow, camera = worst.shadow, worst.camera
    before = slices_of(shadow, camera, far_reach_m=0.0)
    blend = lambda_for_first_texel(
        shadow.near_m, reach, shadow.cascades, shadow.resolution, camera.fov_y_rad, camera.aspect, before[0].texel_m, shadow.split_lambda
    )  # fmt: skip
    if blend is None or blend == shadow.split_lambda or shadow.cascades < 2:
        return []
    after = slices_of(shadow, camera, far_reach_m=0.0, reach_m=reach, split_lambda=blend)
    change = set_resolved(
        survey.build, worst.resolved, {"shadow.reach_m": reach, "shadow.split_lambda": blend},
        title=f"shadow reach {reach:g} m with split lambda {blend:g}", reason="the first cascade stays as fine as it is",
    )  # fmt: skip
    joins = "; ".join(f"{b.texel_m * 1000:.0f} -> {a.texel_m * 1000:.0f} mm" for b, a in zip(before, after))
    costs = (Cost("memory", 0.0, "bytes"), Cost("first cascade texel", after[0].texel_m * 1000, "mm"))
    return [
        Candidate(change=change, predicts="the last cascade serves the receivers", costs=costs, side_effects=(f"texels {joins}",))
    ]


def add_far_tier(survey: Survey, resolved: Resolved, reach: float) -> Change:
    """The change that carries shadows on beyond the cascades, set where the reach itself is set."""
    level = {"shadow.reach_m": resolved[Shadow].reach_m, "shadow.far_reach_m": reach}
    return set_resolved(
        survey.build, resolved, level, title=f"far tier to {reach:g} m", reason="the cascades stay as fine as they are"
    )


def raise_reach(survey: Survey, resolved: Resolved, reach: float, factor: int) -> Change:
    """The change that sets the reach, with the maps' resolution multiplied."""
    values: dict[str, Any] = {"shadow.reach_m": reach}
    title = f"shadow reach {reach:g} m"
    if factor > 1:
        values["shadow.resolution"] = resolved[Shadow].resolution * factor
        title += f" with {values['shadow.resolution']} texel maps"
    return set_resolved(survey.build, resolved, values, title=title, reason="shadow maps then serve the receivers")


def _raise(survey: Survey, worst: Lost, reach: float, factor: int) -> Candidate:
    shadow = worst.shadow
    before = slices_of(shadow, worst.camera)[0]
    after = slices_of(shadow, worst.camera, reach_m=reach, resolution=shadow.resolution * factor)[0]
    growth = after.texel_m / before.texel_m - 1
    sizes = f"{before.texel_m * 1000:.1f} -> {after.texel_m * 1000:.1f} mm"
    warnings = (
        (f"the first texel grows {sizes} ({growth * 100:+.0f} %; limit 10 % unless accepted)",)
        if growth > TEXEL_GROWTH_LIMIT
        else ()
    )
    extra = (factor**2 - 1) * shadow.cascades * shadow.resolution**2 * 4
    costs = (Cost("memory", float(extra), "bytes"), Cost("first cascade texel", after.texel_m * 1000, "mm"))
    return Candidate(
        change=raise_reach(survey, worst.resolved, reach, factor),
        predicts="the last cascade serves the receivers",
        costs=costs,
        side_effects=(),
        warnings=warnings,
    )


def _chain(survey: Survey, worst: Lost, depth_m: float) -> list[dict[str, Any]]:
    """The shadow test chain for the farthest lost shadow: each test, whether it passes, by how much."""
    s, shadow = survey.stage().state, worst.shadow
    casters = [d for d in worst.drawables if s.casts[d]]
    margin = reach_end(shadow) - depth_m
    return [
        {"test": "shadows enabled", "passes": shadow.enabled, "margin": None, "unit": ""},
        {"test": "caster casts", "passes": bool(casters), "margin": None, "unit": ""},
        {"test": "shader has a shadow pass", "passes": all(bool(s.shadow_pass[d]) for d in casters), "margin": None, "unit": ""},
        {"test": "receiver within the reach", "passes": margin >= 0, "margin": margin, "unit": "m"},
    ]


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Reach further, add a far tier, let everything cast, take less bias."""
    frame = survey.frame(viewpoint)
    resolved = frame.stage.resolved
    shadow = resolved[Shadow]
    depths = frame.view_depth[frame.drawable == subject]
    farthest = float(np.max(depths)) if len(depths) else shadow.reach_m
    # The subject's shadow falls beyond it: a reach that serves the subject alone would leave the finding.
    lost = observe(replace(survey, pictures=False), viewpoint)
    beyond = max(farthest, lost.farthest_m) if lost is not None else farthest
    result = []
    if farthest > reach_end(shadow):
        reach = needed_reach(beyond)
        because = f"the subject lies {farthest - reach_end(shadow):.0f} m beyond the reach"
        change = add_far_tier(survey, resolved, reach)
        result.append(Lever("shadow", raise_reach(survey, resolved, reach, 1), "the last cascade serves it", because))
        result.append(Lever("shadow", change, "one more map serves it", because))
        finer = {"shadow.resolution": min(shadow.resolution * 2, 8192)}
        further = set_resolved(survey.build, resolved, finer, title="finer shadow maps")
        result.append(
            Lever("shadow", further, "finer texels alone change nothing", "rival cause: the caster is thinner than a texel")
        )
    result += _switches(survey, subject, viewpoint) + _lamps(survey, subject, viewpoint)
    if shadow.bias_texels > 0.5:
        change = set_resolved(survey.build, resolved, {"shadow.bias_texels": 0.5}, title="less shadow bias")
        result.append(Lever("direct", change, "shadows that bias ate come back", f"the bias is {shadow.bias_texels:g} texels"))
    return result


def _lamps(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Lights that cast nothing and that rays say something hides from the subject, most pixels first."""
    frame = survey.frame(viewpoint, SHADOWED)
    silent = [i for i, light in enumerate(frame.stage.lights) if not light.casts]
    if not silent:
        return []
    judge, s = Judge(survey.renderer, frame, would_cast(frame)), surfaces_of(frame, mask=frame.drawable == subject)
    s = s.of(np.arange(0, len(s), max(1, math.ceil(len(s) / MOST_RAYS))))
    hidden: dict[int, float] = {}
    for i in silent:
        towards, distance = to_light(s, i, frame)
        lit = judge.arrives(i, s, distance) & (np.einsum("nk,nk->n", s.face, towards) > 0)
        if lit.any():
            blocked = judge.blocked(judge.scene(judge.intended), s.of(lit), towards[lit], distance[lit])
            hidden[i] = float(blocked.sum()) / len(s)
    result = []
    for i in sorted(hidden, key=lambda i: -hidden[i])[:MOST_SWITCHES]:
        if hidden[i] > 0:
            name = frame.stage.lights[i].name
            change = set_leaf(survey.build, ("lights", name, "casts"), True, scope="project", title=f"let {name} cast")
            why = f"something stands between it and {hidden[i] * 100:.0f} % of the subject; it casts nothing"
            result.append(Lever("shadow", change, "its light ends where something stands before it", why))
    return result


def _switches(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Switches that keep the sun's shadow off the subject: of what stands between it and the sun and does not cast, most pixels first."""
    frame = survey.frame(viewpoint, "surface")
    state, drawables = frame.stage.state, frame.geometry.drawables
    result = []
    if not state.receives[subject]:
        node = drawables[subject].node
        change = set_leaf(survey.build, ("nodes", node, "receives"), True, scope="node", title=f"let {node} receive shadows")
        result.append(Lever("direct", change, "shadows fall on it", f"{node} does not receive shadows"))
    pixels = np.argwhere((frame.drawable == subject) & sunlit_candidates(frame, True))[:, ::-1]
    if not len(pixels):
        return result
    truth = sun_visibility(frame, survey.rays(frame, would_cast(frame)), pixels[:: max(1, math.ceil(len(pixels) / MOST_RAYS))])
    blockers, counts = np.unique(truth.blocker[~truth.lit], return_counts=True)
    share = dict(zip(blockers.tolist(), (counts / len(truth.lit)).tolist()))
    for d in sorted(share, key=lambda d: -share[d]):
        name, node, shader = drawables[d].name, drawables[d].node, state.shader[d]
        between = f"{name} stands between {share[d] * 100:.0f} % of it and the sun"
        if not state.casts[d] and len(result) < MOST_SWITCHES:
            change = set_leaf(survey.build, ("nodes", node, "casts"), True, scope="node", title=f"let {node} cast")
            result.append(Lever("shadow", change, "its shadow appears", f"{between} and does not cast"))
        if not state.shadow_pass[d] and len(result) < MOST_SWITCHES:
            path = ("shaders", shader, "passes", "shadow")
            change = set_leaf(survey.build, path, True, scope="shader", title=f"give {shader} a shadow pass")
            result.append(Lever("shadow", change, "what it draws casts", f"{between}; its shader {shader} has no shadow pass"))
    return result


FAMILY = register(
    Family(
        "shadow reach",
        (
            Code(
                code=CODE,
                words="The sun's shadow is missing beyond the reach of the shadow maps",
                kind="Shadow",
                symptom="missing shadow",
                sheet="shadow-reach",
                limit="a sunlit pixel beyond the reach must be lit as rays say",
            ),
        ),
        observe,
        conclude,
        levers,
        ("missing shadow", "too bright"),
    )
)
