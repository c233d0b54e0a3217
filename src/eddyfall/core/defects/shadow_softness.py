"""shadow.softness: a light has a size, and its shadows' edges are drawn much wider or much narrower than that makes them.

Judged only for lights whose diameter is said. A filter of one width is right at one distance behind what throws the shadow: too wide at its
foot, too narrow far behind it."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.shadow_added import added
from eddyfall.core.defects.survey import Survey, by_cause, mask_of, region_of
from eddyfall.core.scene.changes import Change, set_leaves
from eddyfall.core.truth.judge import SHADOWED, Judge
from eddyfall.core.truth.softness import MOST, TRACED, SoftEdge, size_of, soft_edges
from eddyfall.core.truth.surfaces import surfaces_of

CODE = "shadow.softness"
EVERY = 2
LEAST_PX = 128  # of edges that are off
ENOUGH_RAYS = 64
WIDEST_SEARCH = 64  # texels


@dataclass(frozen=True)
class Soft:
    """A light's edges at a viewpoint that are off, by octave of what throws them; all of their pixels, where, and a picture; technique."""

    wrong: tuple[SoftEdge, ...]
    pixels: int
    region: tuple[int, int, int, int]
    picture: np.ndarray | None
    subjects: tuple[str, ...]
    traced: bool

    @property
    def worst(self) -> SoftEdge:
        return max(self.wrong, key=lambda e: e.off)


def observe(survey: Survey, viewpoint: str) -> dict[str, Soft]:
    """By light: edges that are drawn too wide or too narrow."""
    if not any(light.look_up.size > 0 for light in survey.stage(viewpoint).lights):
        return {}
    frame = survey.frame(viewpoint, SHADOWED)
    judge, s, found = Judge(survey.renderer, frame), surfaces_of(frame, EVERY), {}
    for i, light in enumerate(frame.stage.lights):
        if size_of(frame, i) <= 0 or not light.casts:
            continue
        wrong = tuple(e for e in soft_edges(judge, i, s, EVERY) if e.off > MOST)
        rows = np.concatenate([e.rows for e in wrong]) if wrong else np.zeros(0, int)
        mask = mask_of(frame.pixels.shape, s.pixels[rows], EVERY)
        if mask.sum() < LEAST_PX:
            continue
        names = tuple(frame.geometry.drawables[d].name for d in np.unique(s.drawable[rows]))
        found[light.name] = Soft(
            wrong, int(mask.sum()), region_of(mask), survey.painted(viewpoint, mask), names, judge.traced(i)
        )  # fmt: skip
    return found


def conclude(survey: Survey, seen: dict[str, dict[str, Soft]]) -> list[Suspicion]:
    """One suspicion for each light."""
    return [_suspicion(survey, light, where) for light, where in sorted(by_cause(seen).items())]


def _suspicion(survey: Survey, light: str, where: dict[str, Soft]) -> Suspicion:
    worst = max(where, key=lambda v: where[v].worst.off)
    soft = where[worst]
    e = soft.worst
    how = "wide" if e.times > 1 else "narrow"
    evidence = [
        Evidence(
            measure=f"times too {'wide' if edge.times > 1 else 'narrow'}, edges thrown from {edge.gap_m:.3g} m in front at {worst}",
            value=edge.off, unit="x", limit=MOST, source=_source(edge), picture=soft.picture if edge is e else None,
        )
        for edge in sorted(soft.wrong, key=lambda v: -v.off)
    ]  # fmt: skip
    return Suspicion(
        code=CODE,
        cause_kind="light",
        cause=light,
        title=f"Shadow edges of {light} are {e.off:.2g} times too {how}, {e.gap_m:.2g} m behind what throws them",
        subjects=tuple(dict.fromkeys(name for v in where.values() for name in v.subjects)),
        value=e.off,
        limit=MOST,
        evidence=tuple(evidence),
        pixels={v: found.pixels for v, found in where.items()},
        regions={v: found.region for v, found in where.items()},
        candidates=tuple(_candidates(survey, light, worst, soft)) if survey.pictures else (),
        facts={"light": light},
    )


def _source(edge: SoftEdge) -> str:
    drawn, true = f"drawn {edge.drawn_mm:.3g} mm", f"by {TRACED} rays over its disc {edge.true_mm:.3g} mm"
    return f"10-90 %: {drawn}, {true}; {edge.length_px:.0f} px of edge"


def _candidates(survey: Survey, light: str, viewpoint: str, soft: Soft) -> Iterator[Candidate]:
    for leaves, title, predicts in _ways(light, soft):
        change: Change = set_leaves(
            survey.build, {("lights", light, leaf): value for leaf, value in leaves.items()}, scope="node", title=title
        )
        yield Candidate(change=change, predicts=predicts, costs=added(survey, viewpoint, change))


def _ways(light: str, soft: Soft) -> Iterator[tuple[dict[str, object], str, str]]:
    """(leaves, title, what it does)."""
    if not soft.traced:
        for texels in (32, WIDEST_SEARCH):
            yield (
                {"softness": "search", "search_texels": texels, "bias_along_plane": True},
                f"{light}: softened by a search of {texels} texels",
                "the filter is as wide as the mean of what stands in the way makes the penumbra",
            )
    yield (
        {"technique": "rays", "softness": "rays", "soft_rays": ENOUGH_RAYS},
        f"{light}: by {ENOUGH_RAYS} rays over its disc",
        f"shares of the disc, with a noise of {50 / ENOUGH_RAYS**0.5:.1f} % at half shadow",
    )


FAMILY = register(
    Family(
        "shadow softness",
        (
            Code(
                code=CODE,
                words="Shadow edges are much wider or narrower than the light's size makes them",
                kind="Shadow",
                symptom="shadow edges",
                limit="times that the 10-90 % width of edges is off, by octaves of what throws them: 2",
                sheet="shadow-reach",
            ),
        ),
        observe,
        conclude,
    )
)
