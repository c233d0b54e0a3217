"""shadow.swims: shadows' edges that crawl while the eye moves, measured on fixed places of the world along a walk aside and a turn."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, apply_change, set_resolved
from eddyfall.core.scene.resolve import Resolved
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.shadow_costs import shadow_cost
from eddyfall.core.truth.walk import Move, Walk, shadow_walk

CODE = "shadow.swims"
SYMPTOM = "shadow swims"
MOST = 0.01  # of the places that are dark at some step
LEAST_PX = 16  # pixels that swim
EVERY = 4
WALKS: tuple[tuple[Move, float, int], ...] = (("aside", 0.025, 3), ("turn", 0.3, 3))


@dataclass(frozen=True)
class Swimming:
    """What swims at a viewpoint: the walk that shows most of it, where, a picture, and the settings that decide."""

    walk: Walk
    pixels: int
    region: tuple[int, int, int, int]
    picture: np.ndarray | None
    resolved: Resolved


def stands_still(shadow: Shadow) -> bool:
    """Whether cascades stand still by how they are laid: spheres of one size, moved by whole texels."""
    return shadow.snap and shadow.fit == "sphere"


def observe(survey: Survey, viewpoint: str) -> Swimming | None:
    """Walk in each sun whose cascades may swim."""
    resolved = survey.resolved(viewpoint)
    shadow = resolved[Shadow]
    if stands_still(shadow) or not shadow.enabled:
        return None
    suns = [v for v in survey.stage(viewpoint).lights if v.kind == DIRECTIONAL and v.technique == "cascades" and v.casts]
    walks = [
        shadow_walk(survey.renderer, survey.build, survey.request(viewpoint), move, step, steps, sun.name, EVERY)
        for sun in suns
        for move, step, steps in WALKS
    ]
    worst = max(walks, key=lambda w: w.share, default=None)
    if worst is None or worst.share <= MOST or worst.swims * worst.each < LEAST_PX:
        return None
    mask = np.zeros((survey.size[1], survey.size[0]), bool)
    x, y = worst.pixels[worst.swimming].T
    for dx in range(-EVERY // 2, EVERY // 2):
        for dy in range(-EVERY // 2, EVERY // 2):
            mask[np.clip(y + dy, 0, mask.shape[0] - 1), np.clip(x + dx, 0, mask.shape[1] - 1)] = True
    return Swimming(worst, worst.swims * worst.each, region_of(mask), survey.painted(viewpoint, mask), resolved)


def conclude(survey: Survey, seen: dict[str, Swimming | None]) -> list[Suspicion]:
    """One suspicion for each light, with all viewpoints at which it swims."""
    by_light: dict[str, dict[str, Swimming]] = {}
    for viewpoint, found in seen.items():
        if found is not None:
            by_light.setdefault(found.walk.light, {})[viewpoint] = found
    return [_suspicion(survey, light, where) for light, where in sorted(by_light.items())]


def _suspicion(survey: Survey, light: str, where: dict[str, Swimming]) -> Suspicion:
    worst = max(where, key=lambda v: where[v].walk.share)
    most = where[worst]
    walk = most.walk
    unit = "deg a step" if walk.move == "turn" else "m a step"
    evidence = (
        Evidence(
            measure=f"places that flip of those in shadow, {len(walk.steps)} steps {walk.move} at {worst}", value=walk.share, unit="share",
            limit=MOST, source=f"{walk.points} fixed places, {walk.step:g} {unit}", picture=most.picture,
        ),
        Evidence(measure="flips where another map takes over", value=float(walk.joined), unit="places"),
    )  # fmt: skip
    casters = tuple(dict.fromkeys(c.name for w in where.values() for c in w.walk.casters if c.swims))
    return Suspicion(
        code=CODE,
        cause_kind="setting",
        cause=f"{light}: {'shadow.fit' if most.resolved[Shadow].snap else 'shadow.snap'}",
        title=f"Shadows of {light} swim while the eye moves",
        subjects=casters,
        value=walk.share,
        limit=MOST,
        evidence=evidence,
        pixels={v: s.pixels for v, s in where.items()},
        regions={v: s.region for v, s in where.items()},
        candidates=tuple(_candidates(survey, worst, most.resolved)) if survey.pictures else (),
        facts={"light": light, "technique": walk.technique, "move": walk.move},
    )


def _changes(build: Build, resolved: Resolved) -> list[tuple[Change, str]]:
    shadow = resolved[Shadow]
    values = {**({} if shadow.snap else {"shadow.snap": True}), **({} if shadow.fit == "sphere" else {"shadow.fit": "sphere"})}
    title = ", ".join(
        {"shadow.snap": "cascades snap to whole texels", "shadow.fit": "cascades laid around spheres"}[k] for k in values
    )
    return [(set_resolved(build, resolved, values, title=title), "texels stand still in the world")] if values else []


def _candidates(survey: Survey, viewpoint: str, resolved: Resolved) -> list[Candidate]:
    before = shadow_cost(survey.frame(viewpoint, "shadow_maps"))
    made = []
    for change, predicts in _changes(survey.build, resolved):
        more = shadow_cost(survey.on(apply_change(survey.build, change)).frame(viewpoint, "shadow_maps")).less(before)
        costs = (Cost("memory", float(more.bytes), "bytes"), Cost("draws", float(more.draws), "draws"))
        made.append(Candidate(change=change, predicts=predicts, costs=costs))
    return made


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Snap and fit, where they are not as they stand still."""
    resolved = survey.resolved(viewpoint)
    return [
        Lever("shadow", change, predicts, "cascades may swim as they are")
        for change, predicts in _changes(survey.build, resolved)
    ]


def score(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Share of the subject's places in shadow that flip along the walks, in the light with most; 0 where no map is drawn."""
    shares = [0.0]
    for move, step, steps in WALKS:
        try:
            shares.append(shadow_walk(renderer, build, spot.request, move, step, steps, None, 1, spot.pixels).share)
        except RequestError:
            continue  # rays, or nothing that casts
    return max(shares)


def same_cause(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels whose light changed on the same surface: edges that come to rest elsewhere."""
    return np.asarray((before.linear != after.linear).any(axis=2) & (before.drawable == after.drawable))


SWIMS = register_symptom(
    Symptom(
        name=SYMPTOM,
        unit="share",
        means="places in shadow that flip to light while the eye moves",
        score=score,
        clear_share=0.25,
        shares=same_cause,
    )
)
FAMILY = register(
    Family(
        "shadow swims",
        (
            Code(
                code=CODE,
                words="Shadows' edges crawl while the eye moves",
                kind="Shadow",
                symptom=SYMPTOM,
                limit="no more than 1 % of the places in shadow may flip along a short walk",
                sheet="shadow-reach",
            ),
        ),
        observe,
        conclude,
        levers,
        (SYMPTOM,),
    )
)
