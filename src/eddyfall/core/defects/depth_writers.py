"""blend.writes-depth, glass.fog-depth: what is seen through writes its depth, and hides what is drawn after it and lies behind; or fog
takes that depth for the depth of what is seen through it.

A thing's own faces are no matter: that only the nearest of them is drawn is what many write depth for (common practice)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, by_cause, region_of
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.layers.capture import layers_of
from eddyfall.core.layers.pairs import LEAST_PIXELS, wrong_pairs
from eddyfall.core.layers.written import covered_in
from eddyfall.core.passes.draw_order import sort_keys, sorting
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, set_leaf, set_leaves
from eddyfall.core.scene.setup.sections.fog import Fog
from eddyfall.core.scene.setup.tables import WRITES_DEPTH, MaterialSetup, NodeSetup, WritesDepth
from eddyfall.core.shade.srgb import luminance

WRITES, FOG = "blend.writes-depth", "glass.fog-depth"
STOPS, LEAST_NITS, NOTHING = 0.25, 1e-4, 1e-6
COPIED = WRITES_DEPTH.index("copied")


@dataclass(frozen=True)
class Fogged:
    """A material whose depth stands in the depth copy: stops (h, w) by which the picture is brighter than with the depth behind it."""

    things: tuple[str, ...]
    stops: np.ndarray

    @property
    def off(self) -> np.ndarray:
        """(h, w) bool: beyond the limit."""
        return np.asarray(np.abs(self.stops) > STOPS)


@dataclass(frozen=True)
class Hidden:
    """A material that writes its depth: names of its things, of what they hide, where (h, w) that is visible, nits times pixels of it."""

    things: tuple[str, ...]
    hidden: tuple[str, ...]
    where: np.ndarray
    nit_px: float


@dataclass(frozen=True)
class Seen:
    """At a viewpoint, by material."""

    hidden: dict[str, Hidden]
    fogged: dict[str, Fogged]


def with_depth(build: Build, materials: list[str], writes: WritesDepth) -> Build:
    """The build with other depth of materials."""
    entries = {m: build.setup.materials.get(m, MaterialSetup()).model_copy(update={"writes_depth": writes}) for m in materials}
    return build.with_setup(build.setup.model_copy(update={"materials": build.setup.materials | entries}))


def copied_in(frame: Frame) -> dict[int, list[int]]:
    """By material number, drawables in sight whose depth stands in the depth copy where nothing solid does."""
    s, found = frame.stage.state, dict[int, list[int]]()
    for d in frame.buffers["in_view"]:
        if s.writes_depth[d] == COPIED and not s.solid[d] and frame.geometry.drawables[d].material >= 0:
            found.setdefault(frame.geometry.drawables[d].material, []).append(int(d))
    return found


def observe(survey: Survey, viewpoint: str) -> Seen | None:
    """What is hidden by a depth that is written at a viewpoint, and what is fogged by it."""
    state = survey.stage(viewpoint).state
    if not (state.writes_depth[~state.solid.astype(bool)] > 0).any():
        return None
    frame, names = survey.frame(viewpoint, "linear"), survey.build.scene.material_keys
    hidden: dict[str, Hidden] = {}
    for one in covered_in(layers_of(frame)):
        material = frame.geometry.drawables[one.writer].material
        if material < 0:
            continue
        before = hidden.get(names[material])
        of = [frame.geometry.drawables[d].name for d in one.hidden]
        mine = (frame.geometry.drawables[one.writer].name,)
        if before is None:
            hidden[names[material]] = Hidden(mine, tuple(of), one.where, one.nit_px)
        else:
            told = tuple(dict.fromkeys((*before.hidden, *of)))
            where = before.where | one.where
            hidden[names[material]] = Hidden((*before.things, *mine), told, where, before.nit_px + one.nit_px)
    hidden = {m: h for m, h in hidden.items() if h.where.sum() >= LEAST_PIXELS}
    return Seen(hidden, {m: f for m, f in _fogged(survey, viewpoint, frame).items() if f.off.sum() >= LEAST_PIXELS})


def _fogged(survey: Survey, viewpoint: str, frame: Frame) -> dict[str, Fogged]:
    if not survey.resolved(viewpoint)[Fog].enabled:
        return {}
    found = {}
    for material, drawables in copied_in(frame).items():
        name = survey.build.scene.material_keys[material]
        due = survey.on(with_depth(survey.build, [name], "drawn")).frame(viewpoint, "linear")
        things = tuple(frame.geometry.drawables[d].name for d in drawables)
        found[name] = Fogged(things, _stops(frame, due))
    return found


def _stops(now: Frame, due: Frame) -> np.ndarray:
    seen, right = (np.maximum(luminance(f.linear), LEAST_NITS) for f in (now, due))
    return np.asarray(np.log2(seen / right))


def conclude(survey: Survey, seen: dict[str, Seen | None]) -> list[Suspicion]:
    """One suspicion for each material that hides something, one for each that fog takes the depth of."""
    there, result = {v: s for v, s in seen.items() if s is not None}, []
    for material, found in by_cause({v: s.hidden for v, s in there.items()}).items():
        view = max(found, key=lambda v: int(found[v].where.sum()))
        one, n = found[view], int(found[view].where.sum())
        things = tuple(dict.fromkeys(t for h in found.values() for t in h.things))
        hidden = tuple(dict.fromkeys(t for h in found.values() for t in h.hidden))
        result.append(
            Suspicion(
                code=WRITES, cause_kind="material", cause=material, subjects=(*things, *hidden), value=float(n), limit=LEAST_PIXELS,
                title=f"{material} writes its depth, and hides {_listed(hidden)} behind it",
                evidence=(
                    Evidence(measure=f"pixels that lack a layer at {view}", value=float(n), unit="px", limit=LEAST_PIXELS,
                             source="CIEDE2000 above 2 between all layers in their order and those that pass the depth test",
                             picture=survey.painted(view, one.where)),
                    Evidence(measure="what they would add", value=one.nit_px, unit="nit px"),
                ),
                pixels={v: int(h.where.sum()) for v, h in found.items()},
                regions={v: region_of(h.where) for v, h in found.items()},
                candidates=tuple(_ways(survey, view, material, things, hidden, list(found))),
                facts={"hidden": list(hidden), "nit_px": one.nit_px},
            )
        )  # fmt: skip
    for material, fogged in by_cause({v: s.fogged for v, s in there.items()}).items():
        view = max(fogged, key=lambda v: int(fogged[v].off.sum()))
        of = fogged[view]
        n, most = int(of.off.sum()), float(of.stops.flat[int(np.abs(of.stops).argmax())])
        how = "bright" if most > 0 else "dark"
        result.append(
            Suspicion(
                code=FOG, cause_kind="material", cause=material, value=abs(most), limit=STOPS,
                subjects=tuple(dict.fromkeys(t for f in fogged.values() for t in f.things)),
                title=f"fog is as deep behind {material} as before it: {abs(most):.2f} stops too {how}",
                evidence=(
                    Evidence(measure=f"too {how} at {view}, at the most", value=abs(most), unit="stops", limit=STOPS,
                             source="beside fog at the depth of what is seen through it", picture=survey.painted(view, of.off)),
                    Evidence(measure=f"pixels beyond {STOPS:g} stops", value=float(n), unit="px", limit=LEAST_PIXELS),
                ),
                pixels={v: int(f.off.sum()) for v, f in fogged.items()},
                regions={v: region_of(f.off) for v, f in fogged.items()},
                candidates=tuple(
                    Candidate(change=change_to(survey.build, material, to), predicts=PREDICTS[to]) for to in ("drawn", "no")
                ),
            )
        )  # fmt: skip
    return result


WORDS: dict[str, str] = {"no": "do not write the depth of {}", "drawn": "keep the depth of {} out of the depth copy"}
PREDICTS: dict[str, str] = {
    "no": "what lies behind it is drawn, and fogged at its own depth", "drawn": "what is behind it is fogged at its own depth",
}  # fmt: skip


def change_to(build: Build, material: str, writes: WritesDepth) -> Change:
    """Other depth of a material."""
    return set_leaf(
        build, ("materials", material, "writes_depth"), writes, scope="material", title=WORDS[writes].format(material)
    )


def _sorted_after(survey: Survey, viewpoint: str, things: list[int], hidden: list[int]) -> bool:
    """Whether things would be drawn after what they hide by their keys alone."""
    by, camera = sorting(survey.stage(viewpoint)), survey.frame(viewpoint).camera
    keys = sort_keys(survey.geometry, np.array([*things, *hidden]), camera, by)
    return bool(keys[: len(things)].max() < keys[len(things) :].min())


def _ways(
    survey: Survey, viewpoint: str, material: str, things: tuple[str, ...], hidden: tuple[str, ...], seen_from: list[str]
) -> list[Candidate]:  # fmt: skip
    """Without depth; or drawn after what it hides, which then stands below it already."""
    build, number = survey.build, survey.geometry.names
    then = wrong_pairs(layers_of(survey.on(with_depth(build, [material], "no")).frame(viewpoint, "linear")))
    names = [d.name for d in survey.geometry.drawables]
    over = tuple(
        f"{names[p.late]} is then drawn over {names[p.early]}, which lies before it: {p.pixels} px at {viewpoint}"
        for p in then
        if names[p.early] in things and p.pixels >= LEAST_PIXELS
    )
    ways = [Candidate(change=change_to(build, material, "no"), predicts=PREDICTS["no"], warnings=over)]
    ranks = {d.node: build.setup.nodes.get(d.node, NodeSetup()).draw_rank for d in survey.geometry.drawables}
    mine, theirs = ({survey.geometry.drawables[number[t]].node for t in of} for of in (things, hidden))
    if mine.isdisjoint(theirs):
        after = max(ranks[n] for n in theirs)
        if not all(_sorted_after(survey, v, [number[t] for t in things], [number[t] for t in hidden]) for v in seen_from):
            after += 1
        leaves: dict[tuple[str, ...], object] = {("nodes", n, "draw_rank"): after for n in sorted(mine)}
        title = f"draw {_listed(things)} after {_listed(hidden)}"
        ways.append(
            Candidate(
                change=set_leaves(build, leaves, scope="node", title=title), predicts="what it would hide is drawn before it",
                side_effects=("a rank holds from everywhere: from behind it is wrong",) if after else (),
            )
        )  # fmt: skip
    return ways


def _listed(names: tuple[str, ...]) -> str:
    return " and ".join(names) if len(names) < 4 else f"{', '.join(names[:2])} and {len(names) - 2} others"


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """Depth of all that writes it in sight and is seen through."""
    frame, names, found = survey.frame(viewpoint, "in_view"), survey.build.scene.material_keys, []
    s = frame.stage.state
    chosen = [d for d in frame.buffers["in_view"] if s.writes_depth[d] > 0 and not s.solid[d]]
    drawables = frame.geometry.drawables
    for one in covered_in(layers_of(survey.frame(viewpoint, "linear"))) if chosen else []:
        if drawables[one.writer].material >= 0:
            hidden = tuple(drawables[d].name for d in one.hidden)
            because = f"{drawables[one.writer].name} writes its depth before {_listed(hidden)} is drawn"
            ways = _ways(
                survey, viewpoint, names[drawables[one.writer].material], (drawables[one.writer].name,), hidden, [viewpoint]
            )
            found += [Lever("blended", w.change, w.predicts, because) for w in ways]
    for material in dict.fromkeys(drawables[d].material for d in chosen):
        if material >= 0:
            change = change_to(survey.build, names[material], "no")
            found.append(Lever("blended", change, PREDICTS["no"], f"{names[material]} is seen through and writes its depth"))
    return found


def hidden_nits(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Mean nits over the spot by which it is off what it would be with all that nothing solid hides, in its true order: a layer that is no
    longer hidden and then lies over what is nearer is no gain."""
    layers = layers_of(renderer.frame(build, spot.request, "linear"))
    off = float(np.abs(layers.drawn - layers.due).mean())
    return off if off > NOTHING else 0.0


def fogged_stops(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Stops over the spot by which fog at the depth of what is seen through is off, on the mean."""
    frame = renderer.frame(build, spot.request, "linear")
    materials = [build.scene.material_keys[m] for m in copied_in(frame)]
    if not materials:
        return 0.0
    return float(np.abs(_stops(frame, renderer.frame(with_depth(build, materials, "drawn"), spot.request, "linear"))).mean())


def over_or_under(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels elsewhere on which something lies that wrote its depth, before or after."""
    covered = np.zeros(before.drawable.shape, bool)
    for frame in (before, after):
        shown = layers_of(frame).every
        pixel = np.repeat(np.arange(len(shown.starts) - 1), np.diff(shown.starts))
        covered.flat[pixel[frame.stage.state.writes_depth[shown.drawable] > 0]] = True
    return np.asarray(covered | (before.pane >= 0) | (after.pane >= 0))


HIDES = register_symptom(
    Symptom(
        name="layer hidden", unit="nit", means="something blended is not drawn, or not in its place, behind something else",
        score=hidden_nits, clear_share=0.02, shares=over_or_under, of_layers=True,
    )
)  # fmt: skip
FOGGED = register_symptom(
    Symptom(
        name="fogged too little", unit="stops", means="what is seen through something is fogged as if it were as near as that",
        score=fogged_stops, clear_share=0.2, shares=over_or_under, of_layers=True,
    )
)  # fmt: skip
FAMILY = register(
    Family(
        "depth of what is seen through",
        (
            Code(code=WRITES, words="What is seen through writes its depth and hides what is behind", kind="Transparency",
                 symptom=HIDES.name, sheet="draw-order", limit=f"{LEAST_PIXELS} px that differ visibly"),
            Code(code=FOG, words="Fog takes the depth of what is seen through", kind="Transparency", symptom=FOGGED.name,
                 sheet="draw-order", limit=f"{STOPS:g} stops over {LEAST_PIXELS} px"),
        ),
        observe,
        conclude,
        levers,
        (HIDES.name, FOGGED.name),
    )
)  # fmt: skip
