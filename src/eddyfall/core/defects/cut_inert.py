"""blend.cut-inert: cards that cut what lies behind them, and have nothing to cut from wherever they are seen.

A card of that kind cuts only blended layers that are drawn already, as far as its alpha says. Held against frames laid again without it, at
the viewpoint and along its moves; one that would cut, were it drawn in its turn, is told as an order that is wrong."""

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.draw_order import moves_of, on_the_way
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey, region_of
from eddyfall.core.layers.capture import Layers, captured, covered_by
from eddyfall.core.layers.pairs import LEAST_PIXELS
from eddyfall.core.passes.draw_order import blended_in
from eddyfall.core.scene.changes import set_leaf
from eddyfall.core.shade.blend import KINDS

INERT = "blend.cut-inert"
NOTHING = 1e-6  # nit: rounding


@dataclass(frozen=True)
class Cut:
    """A card at a viewpoint: pixels that it covers there, where (h, w) bool; pixels that it changes as drawn, there and on the way."""

    pixels: int
    where: np.ndarray
    changes: int


def without(layers: Layers, drawable: int) -> Layers:
    """The layers of a frame as if a drawable were none of them."""
    s = layers.shown
    mine = s.drawable == drawable
    k, p = np.where(mine[:, None], 1.0, s.k), np.where(mine[:, None], 0.0, s.p)
    return replace(layers, shown=s._replace(k=k, p=p, q=np.where(mine, 0.0, s.q)))


def apart_px(one: np.ndarray, other: np.ndarray) -> int:
    """Pixels in which two pictures (h, w, 3) of nits differ at all."""
    return int((np.abs(one - other).max(axis=2) > NOTHING).sum())


def observe(survey: Survey, viewpoint: str) -> dict[str, Cut] | None:
    """Cards of that kind in sight of a viewpoint."""
    state = survey.stage(viewpoint).state
    cards = [int(d) for d in blended_in(state) if state.blend[d] == KINDS["destination_out"]]
    if not cards:
        return None
    frame, found = survey.frame(viewpoint), {}
    poses = [captured(survey.renderer, survey.build, survey.request(viewpoint))]
    poses += [k for path in moves_of(survey, viewpoint) for _, k in on_the_way(survey, path, least=1)]
    for d in cards:
        where = covered_by(frame, (d,))
        if where.sum() >= LEAST_PIXELS:
            changes = sum(apart_px(k.drawn, without(k, d).drawn) for k in poses)
            found[survey.geometry.drawables[d].name] = Cut(int(where.sum()), where, changes)
    return found


def conclude(survey: Survey, seen: dict[str, dict[str, Cut] | None]) -> list[Suspicion]:
    """One suspicion for each card that changes nothing from any viewpoint, and would not in its turn either."""
    result = []
    there = {v: cuts for v, cuts in seen.items() if cuts}
    for name in sorted({n for cuts in there.values() for n in cuts}):
        cuts = {v: c[name] for v, c in there.items() if name in c}
        if any(c.changes for c in cuts.values()) or _in_its_turn(survey, list(cuts), name):
            continue
        view = max(cuts, key=lambda v: cuts[v].pixels)
        node = survey.geometry.drawables[survey.geometry.names[name]].node
        result.append(
            Suspicion(
                code=INERT, cause_kind="thing", cause=name, title=f"{name} cuts nothing: nothing blended lies behind it",
                subjects=(name,), value=float(cuts[view].pixels), limit=LEAST_PIXELS,
                evidence=(
                    Evidence(measure=f"pixels that it covers at {view} and does not change", value=cuts[view].pixels, unit="px",
                             limit=LEAST_PIXELS, picture=survey.painted(view, cuts[view].where)),
                ),
                pixels={v: c.pixels for v, c in cuts.items()}, regions={v: region_of(c.where) for v, c in cuts.items()},
                candidates=(
                    Candidate(change=set_leaf(survey.build, ("nodes", node, "drawn"), False, scope="node", title=f"draw {node} no more"),
                              predicts="one thing less to sort and to draw", costs=(Cost("sorted draws", -1, "draws"),)),
                ),
            )
        )  # fmt: skip
    return result


def _in_its_turn(survey: Survey, viewpoints: list[str], name: str) -> bool:
    """Whether the card would change anything, were every pixel's layers drawn in their true order."""
    d = survey.geometry.names[name]
    for viewpoint in viewpoints:
        layers = captured(survey.renderer, survey.build, survey.request(viewpoint))
        if apart_px(layers.sorted, without(layers, d).sorted):
            return True
    return False


FAMILY = register(
    Family(
        "cards that cut",
        (
            Code(code=INERT, words="A card that cuts what lies behind it has nothing to cut", kind="Transparency",
                 symptom="cuts nothing", sheet="draw-order", limit=f"pixels that it covers: {LEAST_PIXELS}; that it changes: none"),
        ),
        observe,
        conclude,
    )
)  # fmt: skip
