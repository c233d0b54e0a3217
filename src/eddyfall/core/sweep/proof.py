"""Proof of a repair: the spot's score again, and every viewpoint at full size, before and after, with the siblings of the cause."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE, delta_e_2000
from eddyfall.core.defects import families
from eddyfall.core.defects.contract import Suspicion
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import DEFAULT_SIZE, Frame, Renderer, Request
from eddyfall.core.layers.capture import shows
from eddyfall.core.scene.build import Build
from eddyfall.core.sweep.proof_moves import MoveProof, along_moves
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.moving.along import LIMIT_STOPS
from eddyfall.core.truth.shadow_classes import SAME, Class
from eddyfall.core.truth.surfaces import surfaces_of, to_light
from eddyfall.core.truth.truer import light_truer

COLLATERAL_LIMIT = 0.001


@dataclass(frozen=True)
class ViewProof:
    """One viewpoint: shares (0..1) of its pixels that change, on drawables that share the cause and elsewhere; pixels by sibling.

    shadow_edges: of those elsewhere, what only moves within the filter of a true shadow's edge, or towards true visibility; light_truer:
    what only changes in light from around, and comes nearer to what is due. Neither is counted as elsewhere."""

    viewpoint: str
    role: str
    changed: float
    on_cause: float
    elsewhere: float
    siblings: dict[str, int]
    shadow_edges: float = 0.0
    light_truer: float = 0.0


@dataclass(frozen=True)
class Proof:
    """views of every viewpoint; titles of findings that the repair ends, leaves and makes; moves: drift along those of the set-up. proved:
    ends some or none was named, makes none, changes nothing elsewhere beyond 0.1 % of any frame, leaves no moment of a move worse."""

    views: tuple[ViewProof, ...]
    ended: tuple[str, ...]
    left: tuple[str, ...]
    made: tuple[str, ...]
    proved: bool
    why: str
    moves: tuple[MoveProof, ...] = ()


def prove(
    before: Build, after: Build, cause: frozenset[str], fingerprint: str | None = None, *, target: str | None = None,
    size: tuple[int, int] = DEFAULT_SIZE, renderer: Renderer, progress: Callable[[str, float], None] = lambda what, share: None,
) -> Proof:  # fmt: skip
    """Compare two builds. cause: names of drawables that share the cause; fingerprint: the finding that must be gone."""
    views = []
    names = list(before.setup.viewpoints)
    for i, view in enumerate(names):
        progress(f"proving at {view}", 0.6 * i / len(names))
        views.append(_view(renderer, before, after, view, cause, target, size))
    found: list[dict[str, str]] = []
    for k, build in enumerate((before, after)):
        progress("sweeping before" if k == 0 else "sweeping after", 0.6 + 0.2 * k)
        survey = Survey(build, renderer, target, None, size, pictures=False)
        found.append({s.fingerprint: s.title for s in inspected(survey)})
    ended = tuple(title for key, title in found[0].items() if key not in found[1])
    made = tuple(title for key, title in found[1].items() if key not in found[0])
    left = tuple(title for key, title in found[1].items() if key in found[0])
    progress("going along moves", 0.97)
    moves = along_moves(renderer, before, after, cause, target)
    progress("done", 1.0)
    worst = max(views, key=lambda v: v.elsewhere)
    edges = max(views, key=lambda v: v.shadow_edges)
    why = "the finding is gone, nothing else changes from any viewpoint"
    if edges.shadow_edges > COLLATERAL_LIMIT:
        why += f" but shadows on {edges.shadow_edges * 100:.2f} % of {edges.viewpoint}, none less true by rays"
    truer = max(views, key=lambda v: v.light_truer)
    if truer.light_truer > COLLATERAL_LIMIT:
        why += f" but light from around on {truer.light_truer * 100:.2f} % of {truer.viewpoint}, nearer to what is due"
    steadier = [m for m in moves if m.before > LIMIT_STOPS >= m.after]
    if steadier:
        why += f"; {steadier[0].surface} no longer drifts along {steadier[0].move} [prediction]"
    wilder = next((m for m in moves if m.worse), None)
    proved = True
    if fingerprint is not None and fingerprint in found[1]:
        proved, why = False, "the finding is still there"
    elif made:
        proved, why = False, f"it makes a new finding: {made[0]}"
    elif worst.elsewhere > COLLATERAL_LIMIT:
        proved, why = False, f"{worst.elsewhere * 100:.2f} % of {worst.viewpoint} changes away from the cause"
    elif wilder is not None:
        proved, why = (
            False,
            f"{wilder.surface} is {wilder.further:.2f} stops further off along {wilder.move} than it was",
        )
    elif fingerprint is None and not ended and all(v.changed == 0 for v in views):
        proved, why = False, "it changes nothing from any viewpoint"
    return Proof(tuple(views), ended, left, made, proved, why, moves)


def inspected(survey: Survey) -> list[Suspicion]:
    """What all families find, viewpoint by viewpoint: the frames of one are not pushed out of memory by those of the next meanwhile."""
    seen: dict[str, dict[str, Any]] = {family.name: {} for family in families()}
    for viewpoint in survey.viewpoints:
        for family in families():
            with survey.renderer.clock.timing(f"family {family.name}"):
                seen[family.name][viewpoint] = family.observe(survey, viewpoint)
    found = []
    for family in families():
        with survey.renderer.clock.timing(f"family {family.name}"):
            found += family.conclude(survey, seen[family.name])
    return found


def _view(
    renderer: Renderer, before: Build, after: Build, view: str, cause: frozenset[str], target: str | None, size: tuple[int, int]
) -> ViewProof:
    request = Request(view, size, None, target)
    a, b = renderer.frame(before, request), renderer.frame(after, request)
    changed = delta_e_2000(a.display, b.display) > VISIBLE_DIFFERENCE
    ids = [i for i, d in enumerate(a.geometry.drawables) if d.name in cause or d.node in cause]
    shown = {i: shows(a, [i]) | shows(b, [i]) for i in ids}
    mine = np.any(list(shown.values()), axis=0) if ids else np.zeros(changed.shape, bool)
    siblings = {}
    for i in ids:
        pixels = int((changed & shown[i]).sum())
        if pixels:
            siblings[a.geometry.drawables[i].name] = pixels
    apart = changed & ~mine
    edges = _still_true(renderer, a, b, apart) if apart.any() else apart
    left = apart & ~edges
    truer = light_truer(renderer, after, request, a, b, left) if left.any() else left
    whole, on_cause, elsewhere = (float(mask.mean()) for mask in (changed, changed & mine, left & ~truer))
    role = before.setup.viewpoints[view].role
    return ViewProof(view, role, whole, on_cause, elsewhere, siblings, float(edges.mean()), float(truer.mean()))


def _still_true(renderer: Renderer, before: Frame, after: Frame, mask: np.ndarray) -> np.ndarray:
    """(h, w) bool: pixels of a mask where nothing but shadows changed, and these to what agrees with rays, to what the filter of a true
    edge allows, or nearer to what rays say."""
    same = (before.drawable == after.drawable) & (before.buffers["surface"] == after.buffers["surface"]).all(axis=2)
    s = surfaces_of(after, mask=mask & same)
    names = {light.name: i for i, light in enumerate(before.stage.lights)}
    if not len(s) or [v.name for v in after.stage.lights] != list(names):
        return np.zeros(mask.shape, bool)
    old, new = Judge(renderer, before), Judge(renderer, after)
    fine, moved = np.ones(len(s), bool), np.zeros(len(s), bool)
    for i in range(len(names)):
        classes, true, now = new.classes(i, s)
        towards, distance = to_light(s, i, after)
        was = np.where(classes == Class.UNLIT, now, old.drawn(i, s, towards, distance))
        moved |= np.abs(was - now) > SAME
        fine &= ~np.isin(classes, (Class.MISSING, Class.FALSE)) | (np.abs(now - true) <= np.abs(was - true))
    result = np.zeros(mask.shape, bool)
    kept = s.pixels[fine & moved]
    result[kept[:, 1], kept[:, 0]] = True
    return result


def sharing(renderer: Renderer, build: Build, node_or_drawable: str) -> frozenset[str]:
    """Names of the drawables with the shader of one drawable, itself included."""
    survey = Survey(build, renderer)
    state = survey.stage().state
    drawables = survey.geometry.drawables
    shaders = {state.shader[i] for i, d in enumerate(drawables) if node_or_drawable in (d.name, d.node)}
    return frozenset(d.name for i, d in enumerate(survey.geometry.things) if state.shader[i] in shaders)


__all__ = ["Proof", "ViewProof", "prove", "sharing"]
