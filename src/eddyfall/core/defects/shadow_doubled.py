"""shadow.doubled: a light's drawn shadow is laid over a lightmap that lies in its shade already: the shade is there twice."""

from collections.abc import Iterator

import numpy as np

from eddyfall.core.bake.questions.doubled import LIMIT_STOPS, DoubledShade, doubled_shade
from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.shadow_added import added
from eddyfall.core.defects.survey import Survey, by_cause, mask_of, region_of
from eddyfall.core.scene.changes import Change, set_leaf
from eddyfall.core.truth.judge import SHADOWED

CODE = "shadow.doubled"
LEAST_PX = 3


def observe(survey: Survey, viewpoint: str) -> dict[str, DoubledShade]:
    """What each light's shadow takes away twice."""
    if all(light.lightmap_shade is None for light in survey.stage(viewpoint).lights):
        return {}
    frame = survey.frame(viewpoint, SHADOWED)
    return {d.light: d for d in doubled_shade(survey.renderer, survey.build, frame) if len(d.pixels) or d.right_px}


def conclude(survey: Survey, seen: dict[str, dict[str, DoubledShade]]) -> list[Suspicion]:
    """One suspicion for each light."""
    return [
        _suspicion(survey, light, views)
        for light, views in by_cause(seen).items()
        if max(len(d.pixels) for d in views.values()) >= LEAST_PX
    ]


def _suspicion(survey: Survey, light: str, views: dict[str, DoubledShade]) -> Suspicion:
    worst = max(views, key=lambda v: len(views[v].pixels))
    d = views[worst]
    names = [survey.geometry.drawables[i].name for i in dict.fromkeys((*d.casters, *d.receivers))]
    mask = _mask(survey, worst, d)
    evidence = [
        Evidence(
            measure=f"shade that is drawn too dark at {worst}, median", value=d.median_stops, unit="stops", limit=LIMIT_STOPS,
            source=f"{len(d.pixels)} px: the lightmap times what the shadow leaves, against the lightmap without {light}",
            picture=survey.painted(worst, mask),
        ),
        Evidence(measure="its lightmap holds there, median", value=float(np.median(d.due_lux)), unit="lx"),
        Evidence(measure="and is drawn as, median", value=float(np.median(d.drawn_lux)), unit="lx"),
        Evidence(measure="pixels that the same shadow darkens as it should", value=float(d.right_px), unit="px"),
    ]  # fmt: skip
    return Suspicion(
        code=CODE,
        cause_kind="light",
        cause=light,
        title=f"The shadow of {light} is laid over a lightmap that holds it already: {d.median_stops:.2g} stops too dark",
        subjects=tuple(names),
        value=d.median_stops,
        limit=LIMIT_STOPS,
        evidence=tuple(evidence),
        pixels={v: len(found.pixels) for v, found in views.items() if len(found.pixels)},
        regions={v: region_of(_mask(survey, v, found)) for v, found in views.items() if len(found.pixels)},
        candidates=tuple(_candidates(survey, light, worst, views)) if survey.pictures else (),
    )


def _mask(survey: Survey, viewpoint: str, found: DoubledShade) -> np.ndarray:
    return mask_of(survey.frame(viewpoint, "drawable").drawable.shape, found.pixels, 1)


def _candidates(survey: Survey, light: str, worst: str, views: dict[str, DoubledShade]) -> Iterator[Candidate]:
    """The shadow off the lightmaps."""
    change = _alone(survey, light)
    lost = {v: d.right_px for v, d in views.items() if d.right_px}
    yield Candidate(
        change=change,
        predicts="lightmaps are drawn as they were baked",
        costs=added(survey, worst, change),
        side_effects=tuple(f"{px} px at {v} that it darkened as it should stay bright" for v, px in lost.items()),
    )


def _alone(survey: Survey, light: str) -> Change:
    title = f"{light}: its shadow leaves lightmaps alone"
    return set_leaf(survey.build, ("lights", light, "lightmap_shade"), None, scope="project", title=title)


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """The same as single changes, where the subject is one of those that are too dark."""
    return [
        Lever(
            "indirect",
            _alone(survey, light),
            "lightmaps are drawn as they were baked",
            f"{d.median_stops:.2g} stops too dark here",
        )
        for light, d in observe(survey, viewpoint).items()
        if subject in d.receivers
    ]


FAMILY = register(
    Family(
        "shadow doubled",
        (
            Code(
                code=CODE,
                words="A shadow is laid over a lightmap that holds it already",
                kind="Shadow",
                symptom="false shadow",
                limit="stops that shade on a lightmap is too dark by, median: 0.25",
                sheet="bench",
            ),
        ),
        observe,
        conclude,
        levers,
        ("false shadow",),
    )
)
