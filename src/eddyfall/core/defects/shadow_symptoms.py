"""The symptoms "missing shadow", "false shadow", "shadow density": light that rays say is blocked and the picture has, the other way
round, and both on average."""

from collections.abc import Callable

import numpy as np

from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.surfaces import surfaces_of, to_light
from eddyfall.core.truth.visibility import would_cast

CHANGED = 0.25  # of a light
SQUARE_ON = 0.05  # cosine: surfaces that a light only grazes are not asked


def light_too_much(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Mean over the subject's pixels of the share of a light that the picture has and rays say is blocked; of the light with most of it."""
    return max((float(np.maximum(drawn - true, 0).mean()) for drawn, true in _of_lights(renderer, build, spot)), default=0.0)


def light_too_little(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Mean over the subject's pixels of the share of a light that rays say arrives and the picture lacks; of the light with most of it."""
    return max((float(np.maximum(true - drawn, 0).mean()) for drawn, true in _of_lights(renderer, build, spot)), default=0.0)


def light_off_on_average(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """How far the mean share of a light over the subject's pixels is from the mean by rays; of the light that is farthest off. What a
    grille's shadow has too much in one pixel and too little in the next does not count."""
    return max((abs(float(drawn.mean() - true.mean())) for drawn, true in _of_lights(renderer, build, spot)), default=0.0)


def _of_lights(renderer: Renderer, build: Build, spot: Spot) -> list[tuple[np.ndarray, np.ndarray]]:
    """(drawn, true) share of each light at the subject's pixels turned to it.

    Rays meet whatever is solid and drawn: true is what would be if everything cast and received, so that a switch that keeps a shadow out
    is found, not taken for the truth."""
    frame = renderer.frame(build, spot.request, "linear")
    judge, found = Judge(renderer, frame, would_cast(frame)), []
    everything = surfaces_of(frame, mask=spot.pixels)
    for i in range(len(frame.stage.lights)):
        towards, _ = to_light(everything, i, frame)
        turned = np.einsum("nk,nk->n", everything.normal, towards) > SQUARE_ON
        turned &= np.einsum("nk,nk->n", everything.face, towards) > 0
        turned &= ~(judge.state.mapped[everything.drawable] & bool(judge.table.baked[i]))
        s = everything.of(turned)
        if not len(s):
            continue
        towards, distance = to_light(s, i, frame)
        true = ~judge.blocked(judge.scene(judge.intended), s, towards, distance)
        found.append((judge.drawn(i, s, towards, distance), true.astype(float)))
    return found


def shadow_came_true(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels where some light's drawn share changed to what rays say, and no other light's changed away from it."""
    better, worse = np.zeros(before.drawable.shape, bool), np.zeros(before.drawable.shape, bool)
    changed = (before.linear != after.linear).any(axis=2) & (before.drawable == after.drawable)
    s = surfaces_of(after, mask=changed)
    if not len(s):
        return better
    old, new, scene = Judge(Renderer(), before), Judge(Renderer(), after), rays(after)
    x, y = s.pixels.T
    names = {light.name: i for i, light in enumerate(before.stage.lights)}
    for i, light in enumerate(after.stage.lights):
        if light.name not in names:
            continue
        towards, distance = to_light(s, i, after)
        lit = np.einsum("nk,nk->n", s.normal, towards) > SQUARE_ON
        was, now = (j.drawn(k, s, towards, distance) for j, k in ((old, names[light.name]), (new, i)))
        moved = lit & (np.abs(now - was) > CHANGED)
        true = ~new.blocked(scene, s, towards, distance)
        better[y, x] |= moved & (np.abs(now - true) < np.abs(was - true))
        worse[y, x] |= moved & (np.abs(now - true) > np.abs(was - true))
    return np.asarray(better & ~worse)


def holes_came_true(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels that changed and lie in the shadow that a cutout would throw with its holes filled, in some light."""
    found = np.zeros(before.drawable.shape, bool)
    changed = (before.linear != after.linear).any(axis=2) & (before.drawable == after.drawable)
    s, judge = surfaces_of(after, mask=changed), Judge(Renderer(), after)
    holed = judge.intended & (after.buffers["cutouts"].material >= 0)
    if not len(s) or not holed.any():
        return found
    x, y = s.pixels.T
    for i in range(len(after.stage.lights)):
        found[y, x] |= judge.blocked(judge.scene_without_holes(holed), s, *to_light(s, i, after))
    return found


MISSING = register_symptom(
    Symptom(
        name="missing shadow",
        unit="share",
        means="light that rays say is blocked and the picture has",
        score=light_too_much,
        clear_share=0.25,
        shares=shadow_came_true,
    )
)
FALSE = register_symptom(
    Symptom(
        name="false shadow",
        unit="share",
        means="light that rays say arrives and the picture lacks",
        score=light_too_little,
        clear_share=0.25,
        shares=shadow_came_true,
    )
)
DENSITY = register_symptom(
    Symptom(
        name="shadow density",
        unit="share",
        means="how far the light that a shadow lets through on average is from what rays say",
        score=light_off_on_average,
        clear_share=0.25,
        shares=holes_came_true,
    )
)
