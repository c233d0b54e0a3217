"""material.unsupported: things in the error colour, since their base shader has no version for the target; and "flat colour" for a line-up.

Those that all convert alike are one cause, their base shader; each special one is a cause by itself: a conversion of many leaves it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, by_cause, region_of
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.materials.convert import Conversion, change_of, conversion
from eddyfall.core.materials.shown import unsupported, works
from eddyfall.core.passes.display import encode_display
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.sections.textures import Textures
from eddyfall.core.shade.srgb import decode
from eddyfall.core.truth.response.conversions import of_materials

CODE = "material.unsupported"
LIMIT_PX = 0.0
Cause = tuple[str, str]  # "shader" or "material", and which


@dataclass(frozen=True)
class InError:
    """Of one cause at a viewpoint: materials, drawables, where they show (h, w) bool, of those pixels that have exactly the colour."""

    materials: tuple[int, ...]
    drawables: tuple[int, ...]
    where: np.ndarray
    exact: int


def observe(survey: Survey, viewpoint: str) -> dict[Cause, InError] | None:
    """What a viewpoint's frame shows in the error colour, by cause."""
    lost = unsupported(survey.build, survey.target)
    if not lost:
        return None
    frame = survey.frame(viewpoint, "display")
    colour = encode_display(decode(np.array(survey.resolved(viewpoint)[Textures].error_rgb)).astype(np.float32))
    exact = (frame.display == colour).all(axis=2)
    causes: dict[Cause, list[int]] = {}
    for index, shader in lost.items():
        found = conversion(survey.build, survey.build.scene.material_keys[index])
        cause = ("shader", shader) if found.kind == "converts" else ("material", found.material)
        causes.setdefault(cause, []).append(index)
    seen = {}
    for cause, materials in causes.items():
        where = of_materials(frame, materials)
        if where.any():
            front = tuple(int(d) for d in np.unique(frame.front[where]))
            seen[cause] = InError(tuple(materials), front, where, int((where & exact).sum()))
    return seen


def conclude(survey: Survey, seen: dict[str, dict[Cause, InError] | None]) -> list[Suspicion]:
    """One suspicion for each base shader whose materials convert, and for each special material."""
    result = []
    for (kind, cause), found in by_cause({v: s for v, s in seen.items() if s is not None}).items():
        worst = max(found, key=lambda v: int(found[v].where.sum()))
        told, pixels = found[worst], {v: int(f.where.sum()) for v, f in found.items()}
        keys = [survey.build.scene.material_keys[m] for m in told.materials]
        ways = [conversion(survey.build, key) for key in keys]
        shader, whose = ways[0].before, f"{len(keys)} materials" if len(keys) > 1 else keys[0]
        special = f", and {whose} is a special one: {'; '.join(ways[0].why)}" if kind == "material" else ""
        result.append(
            Suspicion(
                code=CODE, cause_kind=kind, cause=cause,
                title=f"{shader} has no version for {survey.target or 'any target'}{special}",
                subjects=tuple(dict.fromkeys(survey.geometry.drawables[d].name for f in found.values() for d in f.drawables)),
                value=float(pixels[worst]), limit=LIMIT_PX,
                evidence=(
                    Evidence(measure=f"pixels of {whose} in the error colour at {worst}", value=pixels[worst], unit="px", limit=LIMIT_PX,
                             picture=survey.painted(worst, told.where)),
                    Evidence(measure="of them exactly that colour", value=told.exact, unit="px"),
                    *(Evidence(measure=f"pixels at {v}", value=n, unit="px", limit=LIMIT_PX) for v, n in pixels.items() if v != worst),
                ),
                pixels=pixels, regions={v: region_of(f.where) for v, f in found.items()},
                candidates=tuple(_ways(survey, ways)) if survey.pictures else (),
                facts={"materials": keys, "why": list(ways[0].why)}, content_lost=True,
            )
        )  # fmt: skip
    return result


def _ways(survey: Survey, ways: list[Conversion]) -> Iterator[Candidate]:
    """To the stock base shader; to each other that has a version for the target and parameters of its own."""
    build, keys = survey.build, [w.material for w in ways]
    if all(w.becomes is not None for w in ways):
        yield Candidate(
            change=change_of(ways), predicts="drawn by the stock base shader, with all that has a role",
            side_effects=tuple(_lost(ways)), warnings=tuple(w for way in ways for w in way.why),
        )  # fmt: skip
        for name, shader in build.setup.shaders.items():
            if shader.parameters and name != ways[0].before and works(build.setup, name, survey.target):
                other = [conversion(build, key, name) for key in keys]
                yield Candidate(change=change_of(other, name), predicts=f"drawn by {name}", side_effects=tuple(_lost(other)))


def _lost(ways: list[Conversion]) -> Iterator[str]:
    for way in ways:
        gone = [m.name for m in way.values if m.fate == "no place"] + [t.role for t in way.pictures if t.fate == "no place"]
        if gone:
            yield f"{way.material} loses {', '.join(gone)}: no place for it"


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """All that convert of the subject's base shader, which is the cause; a special material alone."""
    material = survey.geometry.drawables[subject].material
    lost = unsupported(survey.build, survey.target)
    if material not in lost:
        return []
    keys = survey.build.scene.material_keys
    found = conversion(survey.build, keys[material])
    if found.becomes is None:
        return []
    because = f"{lost[material]} has no version for {survey.target or 'any target'}"
    alike = [one for m in lost if lost[m] == lost[material] and (one := conversion(survey.build, keys[m])).kind == "converts"]
    group = alike if found.kind == "converts" else [found]
    return [Lever("surface", change_of(group), f"drawn by {found.after}", because)]


def flat_pixels(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Pixels of the spot that show the error colour."""
    lost = unsupported(build, spot.request.target)
    return float((of_materials(renderer.frame(build, spot.request, "linear"), lost) & spot.pixels).sum()) if lost else 0.0


def in_error_before(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels elsewhere whose front thing was in the error colour, too."""
    return np.isin(before.front, [d for d, _ in before.stage.paint])


FLAT = register_symptom(
    Symptom(
        name="flat colour", unit="px", means="a thing is drawn in the one colour that says it cannot be drawn", score=flat_pixels,
        clear_share=0.0, shares=in_error_before,
    )
)  # fmt: skip
FAMILY = register(
    Family(
        "unsupported",
        (
            Code(code=CODE, words="Things are drawn in the error colour", kind="Surface", symptom=FLAT.name, limit="no pixel in it"),
        ),
        observe,
        conclude,
        levers,
        (FLAT.name,),
    )
)  # fmt: skip
