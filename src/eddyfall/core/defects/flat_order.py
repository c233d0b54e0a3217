"""order.level, order.stages, order.direction: flat pictures, whose things lie at one depth, and directions that are set back to front.

Depth does not say which of two is in front there. By a direction it does, for what is blended; cutouts are drawn before all of that."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Evidence, Family, Lever, Suspicion
from eddyfall.core.defects.order_symptoms import OVER
from eddyfall.core.defects.order_ways import BETTER, back_to_front
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, by_cause, region_of
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.layers.capture import Layers, captured, layers_of
from eddyfall.core.layers.level import SAME_M, UP, Level, in_turn, levels_in, solid_pairs, stage_pairs
from eddyfall.core.layers.pairs import LEAST_PIXELS
from eddyfall.core.passes.draw_order import blended_in, sort_keys
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, set_leaf, set_resolved
from eddyfall.core.scene.setup.sections.order import Order

LEVEL, STAGES, DIRECTION = "order.level", "order.stages", "order.direction"
NOTHING = 1e-6  # nit: rounding


@dataclass(frozen=True)
class Flat:
    """At a viewpoint: by (code, first, second) names of two at one depth, the pixels their order shows on, where (h, w) bool; what
    `back_to_front` says; off (h, w) bool: layers that are not in their true order, and names of what lies there."""

    pairs: dict[tuple[str, str, str], tuple[int, np.ndarray]]
    turned: tuple[Change, float, float] | None
    off: np.ndarray
    things: tuple[str, ...]


def observe(survey: Survey, viewpoint: str) -> Flat | None:
    """Pairs at one depth, and what a direction leaves wrong."""
    state = survey.stage(viewpoint).state
    directed = survey.resolved(viewpoint)[Order].key == "direction"
    if not directed and len(blended_in(state)) < 2:
        return None
    layers = layers_of(survey.frame(viewpoint), least=1 if directed else 2)
    names = [d.name for d in survey.geometry.drawables]
    levels = levels_in(survey.renderer, survey.build, survey.request(viewpoint), layers)
    found = [one for one in levels if one.stages or (not directed and _may_flip(layers, one))]
    shape = layers.frame.pixels.shape
    pairs = {
        (STAGES if one.stages else LEVEL, names[one.first], names[one.second]): (one.pixels, _mask(shape, one.where))
        for one in found
        if one.pixels >= LEAST_PIXELS
    }
    off = np.abs(layers.drawn - layers.sorted).max(axis=2) > NOTHING
    there = np.unique(layers.shown.drawable[off.ravel()[layers.pixel]])
    return Flat(pairs, back_to_front(survey, viewpoint), off, tuple(names[d] for d in there))


def _may_flip(layers: Layers, pair: Level) -> bool:
    """Whether two at one depth are told apart by keys that the camera decides, not by rank, a point that they share, or the file."""
    two, by = np.array([pair.first, pair.second]), layers.by
    keys = sort_keys(layers.frame.geometry, two, layers.frame.camera, by)
    return bool(by.rank[two[0]] == by.rank[two[1]] and abs(keys[0] - keys[1]) > SAME_M)


def _mask(shape: tuple[int, ...], where: np.ndarray) -> np.ndarray:
    mask = np.zeros(shape, bool)
    mask.flat[where] = True
    return mask


def conclude(survey: Survey, seen: dict[str, Flat | None]) -> list[Suspicion]:
    """One suspicion for each pair, and one for a direction that is back to front."""
    there = {v: flat for v, flat in seen.items() if flat is not None}
    result = list(_reversed(survey, there))
    for (code, first, second), of in by_cause({v: flat.pairs for v, flat in there.items()}).items():
        view = max(of, key=lambda v: of[v][0])
        pixels, where = of[view]
        solid = survey.stage(view).state.solid[survey.geometry.names[second]]
        why = "both are drawn with what is solid" if solid else f"{first} is a cutout, drawn before all that is blended"
        title = (
            f"{second} shows over {first}, which stands before it: {why}"
            if code == STAGES
            else f"{first} and {second} lie at one depth: which is in front follows from {_decides(survey, view)}"
        )
        result.append(
            Suspicion(
                code=code, cause_kind="drawables", cause=f"{first} | {second}", title=title, subjects=(first, second),
                value=float(pixels), limit=LEAST_PIXELS,
                evidence=(
                    Evidence(measure=f"pixels that show it at {view}", value=pixels, unit="px", limit=LEAST_PIXELS,
                             picture=survey.painted(view, where), source="the other way round they differ by more than CIEDE2000 2"),
                ),
                pixels={v: found[0] for v, found in of.items()}, regions={v: region_of(found[1]) for v, found in of.items()},
                candidates=tuple(_ways(survey, view, code, first)),
            )
        )  # fmt: skip
    return result


def _decides(survey: Survey, viewpoint: str) -> str:
    return (
        "the range to one point of each" if survey.resolved(viewpoint)[Order].key == "range" else "the depth of one point of each"
    )


def _reversed(survey: Survey, there: dict[str, Flat]) -> list[Suspicion]:
    off = {v: (flat.turned, flat.off) for v, flat in there.items() if flat.turned is not None}
    pixels = {v: int(where.sum()) for v, (_, where) in off.items()}
    if not off or max(pixels.values()) < LEAST_PIXELS:
        return []
    view = max(off, key=lambda v: pixels[v])
    change, wrong, left = off[view][0]
    return [
        Suspicion(
            code=DIRECTION, cause_kind="setting", cause="order.direction",
            title=f"things are sorted by a direction that is back to front at {view}: what lies behind is drawn later",
            subjects=there[view].things, value=float(pixels[view]), limit=LEAST_PIXELS,
            evidence=(
                Evidence(measure=f"pixels whose layers are out of order at {view}", value=pixels[view], unit="px", limit=LEAST_PIXELS,
                         picture=survey.painted(view, off[view][1])),
                Evidence(measure="of the nits that it adds, the opposite direction leaves", value=left / wrong, unit="share", limit=BETTER),
            ),
            pixels=pixels, regions={v: region_of(where) for v, (_, where) in off.items()},
            candidates=(Candidate(change=change, predicts="what lies further along is drawn first"),),
        )
    ]  # fmt: skip


def _ways(survey: Survey, viewpoint: str, code: str, first: str) -> list[Candidate]:
    """A direction for what is blended; what is solid blended, so that the direction is of it as well."""
    if code == LEVEL:
        resolved = survey.resolved(viewpoint)
        leaves: dict[str, object] = {"order.key": "direction", "order.direction": list(UP), "order.point": "nearest"}
        feet = set_resolved(survey.build, resolved, leaves, title="sort by where things stand, the highest foot first")
        return [Candidate(change=feet, predicts="what stands lower in the picture is in front; reaches the whole scene")]
    material = survey.geometry.drawables[survey.geometry.names[first]].material
    if material < 0:
        return []
    key = survey.build.scene.material_keys[material]
    change = set_leaf(survey.build, ("materials", key, "blend"), "blended", scope="material", title=f"blend {key}, by its alpha")
    return [Candidate(change=change, predicts="it is sorted with the others", side_effects=("it writes no depth any more",))]


def levers(survey: Survey, subject: int, viewpoint: str) -> list[Lever]:
    """What puts pairs at one depth in order that the subject is one of; a direction turned round where one is set."""
    flat, name = observe(survey, viewpoint), survey.geometry.drawables[subject].name
    if flat is None:
        return []
    result = []
    if flat.turned is not None:
        result.append(Lever("blended", flat.turned[0], "what lies further along is drawn first", "a direction is set"))
    for code, first, second in flat.pairs:
        if name in (first, second):
            because = f"{first} and {second} lie at one depth"
            result += [Lever("blended", w.change, w.predicts, because) for w in _ways(survey, viewpoint, code, first)]
    return result


def out_of_turn(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Mean nits over the spot by which its layers differ from things at one depth drawn in the order that they stand in."""
    layers = captured(renderer, build, spot.request)
    off = np.abs(layers.drawn - in_turn(layers))
    for one in solid_pairs(renderer, build, layers.frame, spot.request):
        off.reshape(-1, 3)[one.where] = np.abs(layers.drawn.reshape(-1, 3)[one.where] - one.nits)
    mean = float(off.mean())
    return mean if mean > NOTHING else 0.0


def put_in_turn(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels elsewhere whose layers were out of turn and have come nearer to it; and those of cutouts that something showed over: blended,
    their edges are softer."""

    def off(layers: Layers) -> np.ndarray:
        return np.asarray(np.abs(layers.drawn - in_turn(layers)).max(axis=2))

    was, is_now = layers_of(before), layers_of(after)
    off_before, off_after = off(was), off(is_now)
    covered = np.isin(before.drawable, [pair.first for pair in stage_pairs(was)])
    return np.asarray((off_before > NOTHING) & (off_after < off_before) | covered)


TURN = register_symptom(
    Symptom(
        name="out of turn", unit="nit", means="things at one depth are not drawn in the order that they stand in", score=out_of_turn,
        clear_share=0.02, shares=put_in_turn, of_layers=True,
    )
)  # fmt: skip
FAMILY = register(
    Family(
        "flat pictures",
        (
            Code(code=LEVEL, words="Two blended things lie at one depth, and nothing says which is in front", kind="Transparency",
                 symptom=TURN.name, sheet="draw-order", limit=f"pixels that the other order would change visibly: {LEAST_PIXELS}"),
            Code(code=STAGES, words="Something solid lies at one depth with what stands behind it, which shows over it",
                 kind="Transparency", symptom=TURN.name, sheet="draw-order", limit=f"pixels off by it: {LEAST_PIXELS}"),
            Code(code=DIRECTION, words="Things are sorted by a direction that is back to front", kind="Transparency",
                 symptom=OVER.name, sheet="draw-order", limit=f"{LEAST_PIXELS} px; its opposite leaves at most {BETTER:g} of it"),
        ),
        observe,
        conclude,
        levers,
        (TURN.name,),
    )
)  # fmt: skip
