"""shadow.translucent: what is blended throws no shadow, or another than it ought to, and what lies in it is too bright or too dark.

Held against the same frame with the thing's light coloured by what it keeps of what is seen through it, both averaged over a few pixels,
since a pattern is meant to be right on the mean. Asked where the project means
blended things to cast (`shadow.of_blended`), of plain layers that cover or darken (blended, premultiplied, multiply), not of what adds
light, cuts, or is a box of mist, nor of nodes that are told not to cast."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, by_cause, region_of
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.layers.pairs import LEAST_PIXELS
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, apply_change, set_leaf, set_resolved
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.scene.setup.tables import SHADOWS_THROUGH, MaterialSetup, ShadowThrough
from eddyfall.core.shade.srgb import luminance
from eddyfall.core.truth.seen_through import KINDS_THROUGH

CODE = "shadow.translucent"
STOPS, AVERAGED_PX, LEAST_NITS = 0.25, 5, 1e-4
WORDS: dict[ShadowThrough, str] = {
    "tinted": "let {} colour the light that goes through it", "dithered": "block light by a pattern of as much as {} covers",
    "whole": "block all light behind {}",
}  # fmt: skip


@dataclass(frozen=True)
class Bright:
    """A material at a viewpoint: things that it is on, the shadow that they throw; by how many stops pixels (h, w) are too bright for it,
    below 0 too dark; lit: names of what these are of, beyond the limit."""

    things: tuple[str, ...]
    through: ShadowThrough
    stops: np.ndarray
    lit: tuple[str, ...]

    @property
    def off(self) -> np.ndarray:
        """(h, w) bool: beyond the limit."""
        return np.asarray(np.abs(self.stops) > STOPS)

    @property
    def most(self) -> float:
        """Stops where it is most off."""
        return float(self.stops.flat[int(np.abs(self.stops).argmax())])


def with_shadow(build: Build, material: str, through: ShadowThrough) -> Build:
    """The build with another shadow of a material."""
    entry = build.setup.materials.get(material, MaterialSetup()).model_copy(update={"shadow_through": through})
    return build.with_setup(build.setup.model_copy(update={"materials": build.setup.materials | {material: entry}}))


def asked(survey: Survey, viewpoint: str) -> dict[int, list[int]]:
    """By material number, drawables that might throw a coloured shadow and throw none, or another."""
    s = survey.stage(viewpoint).state
    chosen = (
        np.isin(s.blend, KINDS_THROUGH)
        & s.drawn
        & s.casts
        & s.shadow_pass
        & (s.shadow_through != SHADOWS_THROUGH.index("tinted"))
    )
    found: dict[int, list[int]] = {}
    for d in np.flatnonzero(chosen):
        if survey.geometry.drawables[d].material >= 0:
            found.setdefault(survey.geometry.drawables[d].material, []).append(int(d))
    return found


def observe(survey: Survey, viewpoint: str) -> dict[int, Bright]:
    """Materials without whose shadow something in sight is too bright."""
    if survey.resolved(viewpoint)[Shadow].of_blended != "meant":
        return {}
    return {m: b for m, b in bright_at(survey, viewpoint).items() if b.off.sum() >= LEAST_PIXELS}


def bright_at(survey: Survey, viewpoint: str) -> dict[int, Bright]:
    """All materials that might throw a coloured shadow and do not."""
    found: dict[int, Bright] = {}
    there = asked(survey, viewpoint)
    if not there or not any(light.casts for light in survey.stage(viewpoint).lights):
        return found
    now = survey.frame(viewpoint, "fogged")
    for material, drawables in there.items():
        due = survey.on(with_shadow(survey.build, survey.build.scene.material_keys[material], "tinted")).frame(
            viewpoint, "fogged"
        )
        stops = _stops(now, due)
        through = SHADOWS_THROUGH[int(survey.stage(viewpoint).state.shadow_through[drawables[0]])]
        on, pixels = np.unique(now.drawable[(np.abs(stops) > STOPS) & (now.drawable >= 0)], return_counts=True)
        names = [survey.geometry.drawables[d].name for d in (*drawables, *on[pixels >= LEAST_PIXELS])]
        found[material] = Bright(tuple(names[: len(drawables)]), through, stops, tuple(names[len(drawables) :]))
    return found


def _stops(now: Frame, due: Frame) -> np.ndarray:
    """(h, w) by how many stops what is solid is too bright, averaged over a few pixels."""
    seen, right = (uniform_filter(luminance(f.buffers["fogged"]), AVERAGED_PX, mode="nearest") for f in (now, due))
    return np.asarray(np.log2(np.maximum(seen, LEAST_NITS) / np.maximum(right, LEAST_NITS)))


def conclude(survey: Survey, seen: dict[str, dict[int, Bright]]) -> list[Suspicion]:
    """One suspicion for each material."""
    result = []
    for material, there in by_cause(seen).items():
        name = survey.build.scene.material_keys[material]
        masks = {v: b.off for v, b in there.items()}
        view = max(masks, key=lambda v: int(masks[v].sum()))
        n, most = int(masks[view].sum()), there[view].most
        does = "throws no shadow" if there[view].through == "none" else f"throws a {there[view].through} shadow"
        how = "bright" if most > 0 else "dark"
        things = tuple(dict.fromkeys(t for b in there.values() for t in b.things))
        lit = tuple(t for t in dict.fromkeys(t for b in there.values() for t in b.lit) if t not in things)
        result.append(
            Suspicion(
                code=CODE, cause_kind="material", cause=name, subjects=(*things, *lit), value=abs(most), limit=STOPS,
                title=f"{name} {does}: where its shadow is due it is {abs(most):.2f} stops too {how}",
                evidence=(
                    Evidence(measure=f"too {how} at {view}, at the most", value=abs(most), unit="stops", limit=STOPS,
                             source="beside light that is coloured by what the thing keeps of what is seen through it",
                             picture=survey.painted(view, masks[view])),
                    Evidence(measure=f"pixels beyond {STOPS:g} stops", value=float(n), unit="px", limit=LEAST_PIXELS),
                ),
                pixels={v: int(m.sum()) for v, m in masks.items()}, regions={v: region_of(m) for v, m in masks.items()},
                candidates=tuple(_ways(survey, name, len(things), there[view].through)),
            )
        )  # fmt: skip
    return result


def change_to(build: Build, material: str, through: ShadowThrough) -> Change:
    """Another shadow of a material."""
    path = ("materials", material, "shadow_through")
    return set_leaf(build, path, through, scope="material", title=WORDS[through].format(material))


def _ways(survey: Survey, name: str, things: int, now: ShadowThrough) -> list[Candidate]:
    rays = survey.size[0] * survey.size[1]
    ways = [
        Candidate(change=change_to(survey.build, name, "tinted"), predicts="as dark, and as coloured, as what is seen through it",
                  costs=(Cost("rays for each light", rays, "rays"),)),
        Candidate(change=change_to(survey.build, name, "dithered"), predicts="as dark on the mean, a pattern where a filter shows it",
                  costs=(Cost("drawn into each map", things, "draws"),), side_effects=("layers that share the pattern do not add up",)),
        Candidate(change=change_to(survey.build, name, "whole"), predicts="a shadow, too dark",
                  costs=(Cost("drawn into each map", things, "draws"),)),
    ]  # fmt: skip
    return [w for w in ways if w.change.title != WORDS.get(now, "").format(name)]


def lit_through(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Stops by which the spot's solid pixels are off on the mean, beside the same with all that is blended colouring the light."""
    survey = Survey(build, renderer, spot.request.target, None, spot.request.size, spot=spot.request.crop, pictures=False)
    due, names, resolved = build, build.scene.material_keys, survey.resolved(spot.request.viewpoint)
    for material in asked(survey, spot.request.viewpoint):
        due = with_shadow(due, names[material], "tinted")
    if not resolved[Shadow].enabled:  # what is due does not go when all shadows do
        due = apply_change(due, set_resolved(due, resolved, {"shadow.enabled": True}, title="shadows on"))
    now, right = (renderer.frame(b, spot.request, "fogged") for b in (build, due))
    solid = now.drawable >= 0
    if due is build or not solid.any():
        return 0.0
    return float(np.abs(_stops(now, right))[solid].mean())


def went_through(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels elsewhere that have light which goes through something that tints it, before or after."""
    found = np.zeros(before.drawable.shape, bool)
    for frame in (before, after):
        tints = frame.buffers["tints"]
        if tints.size:
            found |= (tints < 1).any(axis=(2, 3))
    return found


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Shadows of what is blended and throws none, where anything is."""
    if survey.resolved(viewpoint)[Shadow].of_blended != "meant":
        return []
    return [
        Lever("direct", change_to(survey.build, survey.build.scene.material_keys[m], "tinted"), "it goes on coloured",
              "what is blended throws no shadow")
        for m in list(asked(survey, viewpoint))[:4]
    ]  # fmt: skip


SYMPTOM = register_symptom(
    Symptom(
        name="lit through", unit="stops", means="light goes on through what is blended as if it were not there, or is stopped by it",
        score=lit_through, clear_share=0.2, shares=went_through,
    )
)  # fmt: skip
FAMILY = register(
    Family(
        "shadows of what light goes through",
        (
            Code(code=CODE, words="What is blended throws no shadow, or a wrong one", kind="Shadow", symptom="lit through",
                 limit=f"stops that something in sight is too bright or too dark: {STOPS:g}; pixels: {LEAST_PIXELS}"),
        ),
        observe,
        conclude,
        levers,
    )
)  # fmt: skip
