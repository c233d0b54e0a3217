"""blend.unjustified: things that are blended though their alpha is that of something opaque, or of a cutout.

What is blended is sorted, writes no depth, throws no shadow and takes no bounced light: too much for a picture whose alpha is one almost
everywhere, or nothing but holes with sharp edges. Judged by the texels that the triangles cover, not by the file's alpha mode. In a flat
picture that is sorted by a direction only what is blended is sorted at all: there it is what it has to be."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.layers.capture import covered_by
from eddyfall.core.layers.census import CLEAR_SHARE, COHERENT, EDGE_TEXELS, FOLLOWS, OPEN, Census, census
from eddyfall.core.layers.level import level_with_others
from eddyfall.core.layers.pairs import LEAST_PIXELS
from eddyfall.core.materials.shown import shown_on
from eddyfall.core.scene.changes import Change, set_leaf
from eddyfall.core.scene.setup.sections.order import Order
from eddyfall.core.shade.blend import KINDS

UNJUSTIFIED = "blend.unjustified"
ASKED = (KINDS["blended"], KINDS["premultiplied"])


@dataclass(frozen=True)
class Shown:
    """A material that is blended for nothing, at a viewpoint: its census, its drawables by name, where they lie (h, w) bool."""

    census: Census
    things: tuple[str, ...]
    where: np.ndarray


def blended_materials(survey: Survey, viewpoint: str | None = None) -> dict[int, list[int]]:
    """By material number, its drawables that are blended plainly (alpha over what is behind) and drawn."""
    s = survey.stage(viewpoint).state
    found: dict[int, list[int]] = {}
    for d in np.flatnonzero(np.isin(s.blend, ASKED) & s.drawn & s.colour_pass & ~s.camera_hidden):
        material = survey.geometry.drawables[d].material
        if material >= 0:
            found.setdefault(material, []).append(int(d))
    return found


def census_of(survey: Survey, material: int) -> Census:
    """A material's census, remembered with all that it was made from."""
    build = shown_on(survey.build, survey.target).build
    known: Census = survey.renderer.derive(census, build, survey.renderer.packed(build), material).value
    return known


def observe(survey: Survey, viewpoint: str) -> dict[int, Shown]:
    """Materials that ask for another kind and are in sight."""
    found, sorted_by_direction = {}, survey.resolved(viewpoint)[Order].key == "direction"
    for material, drawables in blended_materials(survey, viewpoint).items():
        told = census_of(survey, material)
        if told.advice not in ("opaque", "cutout"):
            continue
        frame = survey.frame(viewpoint)
        where = covered_by(frame, drawables)
        if sorted_by_direction and level_with_others(frame, drawables):
            continue
        if where.sum() >= LEAST_PIXELS:
            found[material] = Shown(told, tuple(survey.geometry.drawables[d].name for d in drawables), where)
    return found


def conclude(survey: Survey, seen: dict[str, dict[int, Shown]]) -> list[Suspicion]:
    """One suspicion for each material."""
    result = []
    for material in sorted({m for of in seen.values() for m in of}):
        there = {v: of[material] for v, of in seen.items() if material in of}
        view = max(there, key=lambda v: int(there[v].where.sum()))
        told, things = there[view].census, tuple(dict.fromkeys(t for s in there.values() for t in s.things))
        change, costs = _change(survey, told.material, told.advice), (Cost("sorted draws", -len(things), "draws"),)
        what = "a cutout" if told.advice == "cutout" else "something opaque"
        what = "its colour's brightness: it was wired to its opacity" if told.wired else f"that of {what}"
        pixels = {v: int(s.where.sum()) for v, s in there.items()}
        result.append(
            Suspicion(
                code=UNJUSTIFIED, cause_kind="material", cause=told.material,
                title=f"{told.material} is blended, its alpha is {what}",
                subjects=things, value=float(pixels[view]), limit=LEAST_PIXELS,
                evidence=(
                    Evidence(measure=f"pixels that are blended for nothing at {view}", value=pixels[view], unit="px", limit=LEAST_PIXELS,
                             picture=survey.painted(view, there[view].where)),
                    Evidence(measure=f"mean share that lets through, over {told.texels} covered texels", value=told.open, unit="share",
                             source=f"opaque below {OPEN:g} without a hole of {COHERENT} texels"),
                    Evidence(measure="of them the one that lets through most", value=told.most, unit="share"),
                    Evidence(measure="share of them that is all there or not at all", value=told.clear, unit="share",
                             source=f"a cutout from {CLEAR_SHARE:g} on, edges up to {EDGE_TEXELS:g} texels"),
                    Evidence(measure="how closely its alpha goes with the brightness of its colour", value=told.follows, unit="r",
                             source=f"wired from {FOLLOWS:g} on, where nothing of it is not there at all"),
                ),
                pixels=pixels, regions={v: region_of(s.where) for v, s in there.items()},
                candidates=(Candidate(change=change, predicts="depth, shadows and light from around as for what is solid", costs=costs),),
                facts={"advice": told.advice, "hole": told.hole, "edge_texels": told.edge_texels},
            )
        )  # fmt: skip
    return result


def _change(survey: Survey, material: str, kind: str) -> Change:
    path = ("materials", material, "blend")
    return set_leaf(
        survey.build, path, kind, scope="material", title=f"draw {material} as {'a cutout' if kind == 'cutout' else kind}"
    )


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Another kind for the subject's material, where its alpha asks for one."""
    material = survey.geometry.drawables[subject].material
    if material not in blended_materials(survey, viewpoint):
        return []
    told = census_of(survey, material)
    if told.advice not in ("opaque", "cutout"):
        return []
    because = f"{told.open:.1%} of it lets through on the mean"
    return [Lever("blended", _change(survey, told.material, told.advice), "it is drawn with what is solid", because)]


FAMILY = register(
    Family(
        "blend kinds",
        (
            Code(code=UNJUSTIFIED, words="A thing is blended though its alpha is that of something opaque or of a cutout",
                 kind="Transparency", symptom="see-through wrongly",
                 limit=f"mean open share below {OPEN:g}, or holes with edges up to {EDGE_TEXELS:g} texels; pixels: {LEAST_PIXELS}"),
        ),
        observe,
        conclude,
        levers,
    )
)  # fmt: skip
