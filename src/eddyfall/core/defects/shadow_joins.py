"""shadow.tier-gap: the picture changes where one shadow map takes over from the next, along a line that moves with the eye."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.shadow_added import added
from eddyfall.core.defects.survey import Survey, by_cause, region_of
from eddyfall.core.scene.changes import Change, apply_change, set_resolved
from eddyfall.core.scene.resolve import Resolved
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.truth.joins import JoinGap, join_gaps

CODE = "shadow.tier-gap"
MOST = 2.0  # CIEDE2000 from one side to the other
LEAST_PX = 64  # along a join, or nobody sees a line
MOST_EDGE = 8192
BLENDS = (0.1, 0.2, 0.4)
WIDE_PX = 4  # lines painted either side of a join, so that it is seen in the evidence


@dataclass(frozen=True)
class Gap:
    """The widest gap of a light at a viewpoint, where, a picture, what it crosses, and the settings it was drawn by."""

    join: JoinGap
    region: tuple[int, int, int, int]
    picture: np.ndarray | None
    subjects: tuple[str, ...]
    resolved: Resolved


def observe(survey: Survey, viewpoint: str) -> dict[str, Gap]:
    """By light: the widest gap that is more than may be."""
    found: dict[str, Gap] = {}
    for join in join_gaps(survey.renderer, survey.build, survey.request(viewpoint), LEAST_PX):
        if join.step > MOST and join.light not in found:
            frame = survey.frame(viewpoint, "drawable")
            names = tuple(frame.geometry.drawables[d].name for d in np.unique(frame.drawable[join.mask]))
            mask = np.array(join.mask)
            for dy in range(1, WIDE_PX):
                mask[:-dy] |= join.mask[dy:]
            resolved = survey.resolved(viewpoint)
            found[join.light] = Gap(join, region_of(join.mask), survey.painted(viewpoint, mask), names, resolved)
    return found


def conclude(survey: Survey, seen: dict[str, dict[str, Gap]]) -> list[Suspicion]:
    """One suspicion for each light."""
    return [_suspicion(survey, light, where) for light, where in sorted(by_cause(seen).items())]


def _suspicion(survey: Survey, light: str, where: dict[str, Gap]) -> Suspicion:
    worst = max(where, key=lambda v: where[v].join.step)
    most = where[worst].join
    evidence = Evidence(
        measure=f"CIEDE2000 between the two maps along the join at {most.at_m:.3g} m, the mean at {worst}", value=most.step, unit="dE00",
        limit=MOST, source=f"{most.shaded} px that either map shades", picture=where[worst].picture,
    )  # fmt: skip
    return Suspicion(
        code=CODE,
        cause_kind="setting",
        cause=f"{light}: join",
        title=f"Shadows of {light} change along a line at {most.at_m:.3g} m, where map {most.farther + 1} takes over",
        subjects=tuple(dict.fromkeys(name for gap in where.values() for name in gap.subjects)),
        value=most.step,
        limit=MOST,
        evidence=(evidence,),
        pixels={v: gap.join.shaded for v, gap in where.items()},
        regions={v: gap.region for v, gap in where.items()},
        candidates=tuple(_candidates(survey, worst, where[worst])) if survey.pictures else (),
        facts={"light": light, "at_m": most.at_m},
    )


def _candidates(survey: Survey, viewpoint: str, gap: Gap) -> Iterator[Candidate]:
    for ways, predicts in _ways(gap.resolved[Shadow], gap.join):
        # Of each way the least that does, by the maps that it draws.
        for values, title in ways:
            change = set_resolved(survey.build, gap.resolved, values, title=title)
            left = step_with(survey, viewpoint, change, gap.join.light)
            if left <= MOST:
                costs = added(survey, viewpoint, change)
                yield Candidate(change=change, predicts=f"{predicts}: {left:.2g} is left", costs=costs)
                break


def _ways(shadow: Shadow, join: JoinGap) -> Iterator[tuple[list[tuple[dict[str, Any], str]], str]]:
    """Settings to try, least first, by what they do: a stretch over which the maps are mixed, finer maps beyond the join."""
    blends = [blend for blend in BLENDS if blend > shadow.join_blend]
    yield (
        [({"shadow.join_blend": b}, f"joins mixed over {b * 100:.0f} % of a map") for b in blends],
        "one map fades into the next",
    )
    tier = join.farther >= shadow.cascades
    leaf, edge, what = (
        ("shadow.far_resolution", shadow.far_resolution, "far tier of")
        if tier
        else ("shadow.resolution", shadow.resolution, "shadow maps of")
    )
    edges = [edge << n for n in range(1, 8) if edge << n <= MOST_EDGE]
    yield [({leaf: e}, f"{what} {e} texels") for e in edges], "the map beyond comes nearer to the one before it"


def step_with(survey: Survey, viewpoint: str, change: Change, light: str) -> float:
    """The largest step at a join of a light with a change, in CIEDE2000."""
    changed = apply_change(survey.build, change)
    gaps = join_gaps(survey.renderer, changed, survey.request(viewpoint), LEAST_PX)
    return max((gap.step for gap in gaps if gap.light == light), default=0.0)


FAMILY = register(
    Family(
        "shadow joins",
        (
            Code(
                code=CODE,
                words="A shadow changes along a line where one map takes over from the next",
                kind="Shadow",
                symptom="a line across shadows",
                limit="CIEDE2000 of 2 on average between the two maps, over 64 px or more along their join",
                sheet="shadow-reach",
            ),
        ),
        observe,
        conclude,
    )
)
