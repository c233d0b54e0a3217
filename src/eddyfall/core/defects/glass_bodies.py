"""glass.tint, glass.no-thickness: bodies of glass whose way through is not the one that rays find.

What a body takes of light follows from the way through it, and so does where what lies behind is seen; a factor of another body, a map of
another layout or an input that nothing is wired to make both wrong. Held against rays bent by Snell's law through the body itself."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.glass_faults import shut_at
from eddyfall.core.defects.glass_symptoms import BENT, WRONGLY
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.frame.stage import material_states
from eddyfall.core.layers.bodies import Body, bodies_in
from eddyfall.core.layers.pairs import LEAST_PIXELS
from eddyfall.core.scene.changes import Change, set_leaf

TINT, UNWIRED = "glass.tint", "glass.no-thickness"
STOPS = 0.25  # too bright or too dark by (ours, changeable)
OFF_PX = 4.0  # from where what lies behind is due (ours, changeable)
WAYS = {"value": "by its factor", "map": "by its map", "back_faces": "by its back faces"}


@dataclass(frozen=True)
class Wrong:
    """A body at a viewpoint: its material and name; pixels off; how far off (stops, or px), the median of these; ways through
    it in mm, as drawn and by rays; where (h, w) bool."""

    material: str
    name: str
    pixels: int
    off: float
    drawn_mm: float
    true_mm: float
    where: np.ndarray


def observe(survey: Survey, viewpoint: str) -> dict[tuple[str, str], Wrong] | None:
    """By code and material, the body that is off most."""
    state = survey.stage(viewpoint).state
    if not (state.refracts & state.bends).any():
        return None
    shut, found = shut_at(survey, viewpoint), dict[tuple[str, str], Wrong]()
    for body in bodies_in(survey.frame(viewpoint)):
        told = _told(survey, body)
        if told is None or told[1].material in shut:
            continue
        code, wrong = told
        known = found.get((code, wrong.material))
        if known is None or wrong.pixels > known.pixels:
            found[code, wrong.material] = wrong
    return found


def _told(survey: Survey, body: Body) -> tuple[str, Wrong] | None:
    thing = survey.geometry.drawables[body.drawable]
    if thing.material < 0:
        return None
    code = UNWIRED if body.missing else TINT
    signed = body.off_px if body.missing else _furthest(body.stops)
    off = np.abs(signed)
    limit = OFF_PX if body.missing else STOPS
    bad = off > limit  # nan: nothing is known
    pixels = round(float(bad.sum()) * body.each)
    if pixels < LEAST_PIXELS or not bad.any() or np.nanmedian(off) <= limit:
        return None  # along its rim a body is never the slab that it is taken for
    key = survey.build.scene.material_keys[thing.material]
    drawn_mm, true_mm = (float(np.nanmedian(way)) * 1000 for way in (body.drawn_m[bad], body.true_m[bad]))
    return code, Wrong(key, thing.name, pixels, float(np.median(signed[bad])), drawn_mm, true_mm, body.where)


def _furthest(stops: np.ndarray) -> np.ndarray:
    """(n,) of each row (n, 3) the channel that is furthest from 0."""
    return np.asarray(np.take_along_axis(stops, np.abs(stops).argmax(axis=1)[:, None], axis=1)[:, 0])


def conclude(survey: Survey, seen: dict[str, dict[tuple[str, str], Wrong] | None]) -> list[Suspicion]:
    """One suspicion for each material."""
    result = []
    there = {v: found for v, found in seen.items() if found}
    for code, material in sorted({key for found in there.values() for key in found}):
        of = {v: found[code, material] for v, found in there.items() if (code, material) in found}
        view = max(of, key=lambda v: of[v].pixels)
        worst, tint = of[view], code == TINT
        way = Evidence(measure=f"way through {worst.name} as drawn", value=worst.drawn_mm, unit="mm",
                       source=f"{worst.true_mm:.3g} mm by rays bent at its faces")  # fmt: skip
        measure = Evidence(
            measure=f"too bright through it at {view}" if tint and worst.off > 0 else f"too dark through it at {view}" if tint
            else f"from where what is behind {worst.name} is due, at {view}",
            value=abs(worst.off), unit="stops" if tint else "px", limit=STOPS if tint else OFF_PX, source="median of what is off",
            picture=survey.painted(view, worst.where),
        )  # fmt: skip
        title = (
            f"{material} takes up too {'little' if worst.off > 0 else 'much'}: {abs(worst.off):.2f} stops too {_how(worst)}"
            if tint
            else f"nothing is wired to the thickness of {material}: what is behind is seen {worst.off:.0f} px away from where it is"
        )
        result.append(
            Suspicion(
                code=code, cause_kind="material", cause=material, title=title, subjects=(worst.name,), value=abs(worst.off),
                limit=STOPS if tint else OFF_PX, evidence=(measure, way),
                pixels={v: w.pixels for v, w in of.items()}, regions={v: region_of(w.where) for v, w in of.items()},
                candidates=tuple(Candidate(change=c, predicts="the way through it is another") for c in _ways(survey, material)),
                facts={"drawn_mm": worst.drawn_mm, "true_mm": worst.true_mm},
            )
        )  # fmt: skip
    return result


def _how(worst: Wrong) -> str:
    return "bright" if worst.off > 0 else "dark"


def _ways(survey: Survey, material: str) -> list[Change]:
    """Other places that the way through may come from."""
    number = survey.build.scene.material_keys.index(material)
    now, mapped = (
        material_states(survey.build)[number].thickness,
        survey.build.scene.materials[number].thickness_texture is not None,
    )
    kinds = [k for k in ("back_faces", "map" if mapped else "value") if k != now]
    titles = {kind: f"tell the way through {material} {WAYS[kind]}" for kind in kinds}
    path = ("materials", material, "thickness")
    return [set_leaf(survey.build, path, kind, scope="material", title=title) for kind, title in titles.items()]


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Other ways through the subject, if it is a body of glass."""
    material = survey.geometry.drawables[subject].material
    state = survey.stage(viewpoint).state
    if material < 0 or not (state.refracts & state.bends)[subject]:
        return []
    key = survey.build.scene.material_keys[material]
    return [
        Lever("refract", c, "what it takes up, and where what is behind is seen", "its way through") for c in _ways(survey, key)
    ]


FAMILY = register(
    Family(
        "glass bodies",
        (
            Code(code=TINT, words="A body of glass takes up more or less light than the way through it does", kind="Transparency",
                 symptom=WRONGLY.name, sheet="draw-order", limit=f"{STOPS:g} stops, the median of its pixels; {LEAST_PIXELS} px"),
            Code(code=UNWIRED, words="Nothing is wired to the thickness of a body of glass, and what is behind it is seen elsewhere",
                 kind="Transparency", symptom=BENT.name, sheet="draw-order",
                 limit=f"{OFF_PX:g} px away, the median of its pixels; {LEAST_PIXELS} px"),
        ),
        observe,
        conclude,
        levers,
        (BENT.name,),
    )
)  # fmt: skip
