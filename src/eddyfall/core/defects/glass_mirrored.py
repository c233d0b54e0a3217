"""glass.absent-from-reflection: what lets light through is in no reflection, since rays through the frame read a picture of before it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.reflection_ways import planar_mirror
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, by_cause, region_of
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.layers.lost import OFF
from eddyfall.core.layers.pairs import LEAST_PIXELS, apart
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, apply_change, set_resolved
from eddyfall.core.scene.setup.sections.refract import Refract
from eddyfall.core.scene.setup.sections.screen import Reflect
from eddyfall.core.truth.reflections.glassy import Absent, absent_from

CODE = "glass.absent-from-reflection"


def observe(survey: Survey, viewpoint: str) -> dict[int, tuple[Absent, np.ndarray]]:
    """By material: what is absent, and where (h, w) bool that is off by more than a share of the pixel's light, or visibly."""
    if not survey.resolved(viewpoint)[Reflect].enabled or not survey.stage(viewpoint).state.refracts.any():
        return {}
    frame, found = survey.frame(viewpoint, "linear"), {}
    for absent in absent_from(survey.renderer, frame):
        seen = off(frame, absent)
        if seen.sum() >= LEAST_PIXELS:
            found[absent.material] = (absent, seen)
    return found


def off(frame: Frame, absent: Absent) -> np.ndarray:
    """(h, w) bool: pixels that differ by more than OFF of their light, or visibly, once the glass is mirrored [prediction]."""
    now = frame.linear.astype(np.float64)
    due = np.maximum(now - absent.too_much, 0.0)
    much = absent.too_much.mean(axis=2) > OFF * due.mean(axis=2)
    return np.asarray(absent.where & (much | (apart(frame, now, due) > VISIBLE_DIFFERENCE)))


def conclude(survey: Survey, seen: dict[str, dict[int, tuple[Absent, np.ndarray]]]) -> list[Suspicion]:
    """One suspicion for each material."""
    result, names = [], [d.name for d in survey.geometry.drawables]
    for material, there in by_cause(seen).items():
        key = survey.build.scene.material_keys[material]
        masks = {v: mask for v, (_, mask) in there.items()}
        view = max(masks, key=lambda v: int(masks[v].sum()))
        things = tuple(dict.fromkeys(names[d] for a, _ in there.values() for d in a.things))
        mirrors = tuple(dict.fromkeys(names[d] for a, _ in there.values() for d in a.mirrors))
        absent, n = there[view][0], int(masks[view].sum())
        nits = float(absent.too_much[masks[view]].mean())
        result.append(
            Suspicion(
                code=CODE, cause_kind="material", cause=key, subjects=(*mirrors, *things), value=float(n), limit=LEAST_PIXELS,
                title=f"{things[0]} is not mirrored in {mirrors[0]}: reflections read a picture of before it is drawn",
                evidence=(
                    Evidence(measure=f"pixels at {view} that ought to mirror it", value=float(n), unit="px", limit=LEAST_PIXELS,
                             source=f"rays along the mirrored ways, off by more than {OFF:.0%} of the light or CIEDE2000 above 2",
                             predicted=True, picture=survey.painted(view, masks[view])),
                    Evidence(measure="light mirrored there that it would keep, on the mean", value=nits, unit="nit", predicted=True),
                ),
                pixels={v: int(m.sum()) for v, m in masks.items()}, regions={v: region_of(m) for v, m in masks.items()},
                candidates=tuple(
                    Candidate(change=c, predicts=p, costs=costs) for c, p, costs in _ways(survey, view, absent)
                ),
                facts={"mirrors": list(mirrors)},
            )
        )  # fmt: skip
    return result


def _ways(survey: Survey, viewpoint: str, absent: Absent) -> Iterator[tuple[Change, str, tuple[Cost, ...]]]:
    yield from planar_mirror(survey, viewpoint, list(absent.mirrors))
    resolved = survey.resolved(viewpoint)
    if resolved[Refract].reflect_copy == "before":
        change = set_resolved(
            survey.build, resolved, {"refract.reflect_copy": "after"}, title="reflect a picture with what lets light through"
        )
        costs = (Cost("copies of the picture for each frame", 1, "copies"),)
        yield change, "it is mirrored where the eye sees what is mirrored through it", costs


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """The same, where the subject is a mirror or what it leaves out."""
    if not survey.resolved(viewpoint)[Reflect].enabled or not survey.stage(viewpoint).state.refracts.any():
        return []
    found = []
    for absent in absent_from(survey.renderer, survey.frame(viewpoint, "linear")):
        if subject in (*absent.mirrors, *absent.things):
            because = f"{survey.geometry.drawables[absent.things[0]].name} is in no reflection"
            found += [Lever("reflect", change, predicts, because) for change, predicts, _ in _ways(survey, viewpoint, absent)]
    return found


def not_mirrored(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Mean nits over the spot that are mirrored though glass that is in no reflection would keep them [prediction]; with reflections off,
    of what they would mirror: without a mirror image nothing is missing from it, and nothing is cured."""
    resolved = Survey(build, renderer, spot.request.target, spot.request.role, pictures=False).resolved(spot.request.viewpoint)
    if not resolved[Reflect].enabled:
        build = apply_change(build, set_resolved(build, resolved, {"reflect.enabled": True}, title="reflections on"))
    whole = renderer.frame(build, replace(spot.request, crop=None), "linear")
    x0, y0, x1, y1 = spot.request.window
    return float(sum(a.too_much[y0:y1, x0:x1].mean() for a in absent_from(renderer, whole)))


def mirrors_it(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels elsewhere that mirror, by rays or by a plane, before or after."""
    found = np.zeros(before.drawable.shape, bool)
    for frame in (before, after):
        found |= np.broadcast_to((frame.buffers["reflected"] != 0).any(axis=2) | frame.buffers["in_mirror"], found.shape)
    return found


SYMPTOM = register_symptom(
    Symptom(
        name="glass not mirrored", unit="nit", means="what lets light through is missing from reflections", score=not_mirrored,
        clear_share=0.05, shares=mirrors_it,
    )
)  # fmt: skip
FAMILY = register(
    Family(
        "glass in reflections",
        (
            Code(code=CODE, words="Glass is missing from reflections", kind="Reflection", symptom=SYMPTOM.name, sheet="light",
                 limit=f"{LEAST_PIXELS} px off by more than {OFF:.0%} of their light, or visibly"),
        ),
        observe,
        conclude,
        levers,
        (SYMPTOM.name,),
    )
)  # fmt: skip
