"""The symptoms "glass vanishes", nits lost behind what lets light through, and "see-through wrongly", how far what is kept is off."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.layers.bodies import bodies_in
from eddyfall.core.layers.chain import chain_at, meant
from eddyfall.core.layers.lost import lost_in
from eddyfall.core.layers.plates import plates
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build


def lost_nits(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Mean nits over the spot by which what is lost behind what lets light through would change it; where something that is meant to let
    light through is drawn opaque instead, all that lies behind it is lost."""
    lost = sum(one.nit_px for one in lost_in(renderer, build, spot.request))
    frame, wanted = renderer.frame(build, spot.request, "linear"), meant(build)
    shut = frozenset(
        i for i, d in enumerate(frame.geometry.things) if wanted[d.material] and frame.stage.state.solid[i] and d.material >= 0
    )
    where = np.isin(frame.front, list(shut))
    if where.any():
        behind = renderer.frame(build, replace(spot.request, hidden=spot.request.hidden | shut), "linear").linear
        lost += float(behind[where].mean(axis=1).sum())
    return lost / max(spot.pixels.size, 1)


def off_keep(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """By what share of it the subject keeps another part of what is behind than real glass of its kind would, over its pixels; for what is
    not meant to let light through, how far it is neither there nor not (0: it keeps all or nothing; 1: half)."""
    d = spot.subject
    if not spot.pixels.any() or d not in renderer.frame(build, spot.request, "in_view").buffers["in_view"]:
        return 0.0
    each = plates(renderer, build, spot.request, [d]).k[spot.pixels]
    k = float(each.mean())
    geometry = renderer.geometry(build)
    if not meant(build)[geometry.drawables[d].material]:
        return float(2 * np.clip(np.minimum(each, 1 - each), 0, 1).mean())
    x, y = middle(spot.pixels)
    x0, y0, _, _ = spot.request.window
    due = float(np.mean(chain_at(renderer, build, spot.request, x0 + x, y0 + y, geometry.drawables[d].name).due))
    due *= _taken_up(renderer.frame(build, spot.request, "linear"), d)
    return abs(k - due) / max(due, 1e-6)


def _taken_up(frame: Frame, subject: int) -> float:
    """What a body of glass leaves by the way that rays take through it, over what it leaves by the way it is drawn with; 1 for what is no
    closed body, or has nothing wired to its thickness, which its chain tells."""
    body = next((b for b in bodies_in(frame) if b.drawable == subject and not b.missing), None)
    return float(np.mean(2.0**-body.stops)) if body is not None else 1.0


def bent_wrongly(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Median px over the spot from where what lies behind the subject is due to where it is seen; 0 for what is no closed body."""
    frame = renderer.frame(build, spot.request, "linear")
    body = next((b for b in bodies_in(frame) if b.drawable == spot.subject), None)
    if body is None:
        return 0.0
    (x, y), (ox, oy) = body.px.astype(int).T, frame.pixels.origin
    off = body.off_px[spot.pixels[y - oy, x - ox] & ~np.isnan(body.off_px)]
    return float(np.median(off)) if len(off) else 0.0


def middle(mask: np.ndarray) -> tuple[int, int]:
    """(x, y) of the true pixel of a mask (h, w) that lies nearest to their middle."""
    at = np.argwhere(mask)
    y, x = at[int(((at - at.mean(axis=0)) ** 2).sum(axis=1).argmin())]
    return int(x), int(y)


def behind_glass(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels elsewhere that are seen through something before or after."""
    return np.asarray((before.pane >= 0) | (after.pane >= 0))


def lets_through(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels elsewhere whose front thing has the subject's material, or lets light through before or after."""
    material = before.stage.state.material
    same = np.append(material == material[spot.subject], False)
    return np.asarray(same[before.front] | same[after.front] | (before.pane >= 0) | (after.pane >= 0))


VANISHES = register_symptom(
    Symptom(
        name="glass vanishes", unit="nit", means="what lies behind something that lets light through is not seen in it", score=lost_nits,
        clear_share=0.02, shares=behind_glass,
    )
)  # fmt: skip
BENT = register_symptom(
    Symptom(
        name="bent wrongly", unit="px", means="what lies behind a body of glass is seen elsewhere than rays through it say",
        score=bent_wrongly, clear_share=0.2, shares=lets_through,
    )
)  # fmt: skip
WRONGLY = register_symptom(
    Symptom(
        name="see-through wrongly", unit="share", means="a thing lets through more or less of what is behind it than it is meant to",
        score=off_keep, clear_share=0.2, shares=lets_through,
    )
)  # fmt: skip
