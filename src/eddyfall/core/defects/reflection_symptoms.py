"""The symptoms "missing reflection" and "wrong reflection": of the light that the subject is due to mirror, the share that rays through the
frame do not find, and the share that they take something else for."""

from __future__ import annotations

from collections.abc import Callable

from eddyfall.core.defects.light_symptoms import same_light
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.reference.answers import FELL_BACK, MISSED, NOT_ASKED, WRONG
from eddyfall.core.truth.reference.where import where_light

PLACES, SAMPLES, BOUNCES = 128, 16, 2
MIRRORING = ("reflect", "probes", "mirrors")  # what coats may get what they mirror from


def shares_of_mirrored(renderer: Renderer, build: Build, spot: Spot) -> tuple[float, float]:
    """(not found, met wrongly): shares of the light that the subject is due to mirror, of what passes, probes and mirrors are asked for; a
    ray into the world is found. (1, 0) where nothing asks for it, (0, 0) where there is none."""
    where = where_light(renderer, build, spot.request, samples=SAMPLES, places=PLACES, bounces=BOUNCES)
    answers = [a for a in where.answers if a.name in MIRRORING]
    if not answers:
        return (1.0, 0.0) if sum(row.reflection for row in where.rows) > 0 else (0.0, 0.0)
    asked = missed = wrong = 0.0
    for answer in answers:
        by_outcome = answer.by_surface[spot.subject].sum(axis=0)
        asked += float(by_outcome.sum() - by_outcome[NOT_ASKED])
        missed += float(by_outcome[[MISSED] if answer.fallback == "world" else [MISSED, FELL_BACK]].sum())
        wrong += float(by_outcome[WRONG])
    return (missed / asked, wrong / asked) if asked > 0 else (0.0, 0.0)


def missing(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Share that is not found."""
    return shares_of_mirrored(renderer, build, spot)[0]


def wrong(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Share that something else is taken for."""
    return shares_of_mirrored(renderer, build, spot)[1]


MISSING = register_symptom(
    Symptom(
        name="missing reflection",
        unit="share",
        means="what it is due to mirror is not found on the frame",
        score=missing,
        clear_share=0.25,
        shares=same_light,
    )
)
WRONG_HIT = register_symptom(
    Symptom(
        name="wrong reflection",
        unit="share",
        means="it mirrors something else than it is due to",
        score=wrong,
        clear_share=0.25,
        shares=same_light,
    )
)
