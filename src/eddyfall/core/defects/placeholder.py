"""material.placeholder: things that show their base shader's default picture in the stead of one that is bound, or of none."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.scene.changes import Change, set_leaf, set_leaves
from eddyfall.core.scene.maps import DrawnMap, drawn_maps

CODE = "material.placeholder"
LIMIT_PX = 0.0


@dataclass(frozen=True)
class Placeheld:
    """A material at a viewpoint that shows it: drawables, pixels, region and picture of them."""

    material: int
    drawables: tuple[int, ...]
    pixels: int
    region: tuple[int, int, int, int]
    picture: np.ndarray | None


def defaults_of(survey: Survey) -> dict[int, list[DrawnMap]]:
    """By material: the roles for which a default picture shows."""
    if not any(slot.default for shader in survey.build.setup.shaders.values() for slot in shader.slots.values()):
        return {}
    found = {}
    for index in range(len(survey.build.scene.materials)):
        shown = [m for m in drawn_maps(survey.build, index).values() if m.shows == "default"]
        if shown:
            found[index] = shown
    return found


def observe(survey: Survey, viewpoint: str) -> list[Placeheld]:
    """Materials with a default picture that the frame shows."""
    defaults = defaults_of(survey)
    if not defaults:
        return []
    frame = survey.frame(viewpoint)
    material = np.array([d.material for d in frame.geometry.drawables])
    seen = []
    for index in defaults:
        mask = (frame.drawable >= 0) & (material[frame.drawable] == index)
        if mask.any():
            front = tuple(int(d) for d in np.unique(frame.drawable[mask]))
            seen.append(Placeheld(index, front, int(mask.sum()), region_of(mask), survey.painted(viewpoint, mask)))
    return seen


def conclude(survey: Survey, seen: dict[str, list[Placeheld]]) -> list[Suspicion]:
    """One suspicion for each material."""
    defaults = defaults_of(survey)
    found = []
    for index in sorted({p.material for there in seen.values() for p in there}):
        where = {
            v: next(p for p in there if p.material == index)
            for v, there in seen.items()
            if any(p.material == index for p in there)
        }
        found.append(_suspicion(survey, index, defaults[index], where))
    return found


def _suspicion(survey: Survey, index: int, shown: list[DrawnMap], where: dict[str, Placeheld]) -> Suspicion:
    name, drawables = survey.build.scene.material_keys[index], survey.geometry.drawables
    worst = max(where, key=lambda v: where[v].pixels)
    first = next((m for m in shown if m.bound is not None), shown[0])
    role = first.role.replace("_", " ")
    why = f"{first.bound} is bound but not {'on' if first.has_slot else 'of use there'}" if first.bound else "none is bound"
    evidence = (
        Evidence(
            measure=f"pixels of {name} with a default picture at {worst}", value=float(where[worst].pixels), unit="px", limit=LIMIT_PX,
            picture=where[worst].picture,
        ),
        *(Evidence(measure=f"pixels at {v}", value=float(p.pixels), unit="px", limit=LIMIT_PX) for v, p in where.items() if v != worst),
    )  # fmt: skip
    return Suspicion(
        code=CODE, cause_kind="material", cause=name, title=f"{name} shows its base shader's default for {role}: {why}",
        subjects=tuple(dict.fromkeys(drawables[d].name for p in where.values() for d in p.drawables)), value=float(where[worst].pixels),
        limit=LIMIT_PX, evidence=evidence, pixels={v: p.pixels for v, p in where.items()}, regions={v: p.region for v, p in where.items()},
        candidates=tuple(_candidates(survey, name, index, shown)) if survey.pictures else (), facts={"roles": [m.role for m in shown]},
    )  # fmt: skip


def _candidates(survey: Survey, name: str, index: int, shown: list[DrawnMap]) -> Iterator[Candidate]:
    off = [m for m in shown if m.bound is not None and m.has_slot and not m.on]
    if off:
        values: dict[tuple[str, ...], object] = {("materials", name, "maps", m.role, "on"): True for m in off}
        change = set_leaves(survey.build, values, scope="material", title=f"pictures of {name} switched on")
        yield Candidate(change=change, predicts="what is bound is drawn")
    for change in _without_defaults(survey, index, shown):
        yield Candidate(
            change=change, predicts="the material's factor is drawn in the stead of a picture that is none of its own"
        )


def _without_defaults(survey: Survey, index: int, shown: list[DrawnMap]) -> Iterator[Change]:
    """The defaults taken out of the base shader: for all that have it."""
    entry = survey.build.setup.materials.get(survey.build.scene.material_keys[index])
    if entry is None or entry.shader is None:
        return
    for m in shown:
        path = ("shaders", entry.shader, "slots", m.role, "default")
        yield set_leaf(survey.build, path, None, scope="shader", title=f"{entry.shader} without a default for {m.role}")


FAMILY = register(
    Family(
        "placeholder",
        (
            Code(
                code=CODE, words="Things show the default picture of their base shader", kind="Surface", symptom="wrong picture",
                limit="no pixel of a default picture",
            ),
        ),
        observe,
        conclude,
    )
)  # fmt: skip
