"""The symptoms "missing shadow", "false shadow", "shadow density": light that rays say is blocked and the picture has, the other way
round, and both on average."""

from collections.abc import Callable

import numpy as np

from eddyfall.core.bake.questions.doubled import doubled_shade
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.holes import averaged_shares
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.sky_shade import sky_shade
from eddyfall.core.truth.softness import disc_share
from eddyfall.core.truth.surfaces import surfaces_of, to_light
from eddyfall.core.truth.visibility import would_cast

CHANGED = 0.25  # of a light
DISC_RAYS = 24  # to a light that is drawn soft
SQUARE_ON = 0.05  # cosine: surfaces that a light only grazes are not asked


def light_too_much(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Mean over the subject's pixels of the share of a light that the picture has and rays say is blocked; of the light with most of it.
    The sun of a sky picture is one too: what lies behind something has its share of the light."""
    lights = max((float(np.maximum(drawn - true, 0).mean()) for drawn, true in _of_lights(renderer, build, spot)), default=0.0)
    sky = sky_shade(renderer, build, renderer.frame(build, spot.request, "linear"), every=1) if build.scene.skies else None
    asked = _asked(renderer, build, spot)
    return lights if sky is None or not asked.any() else max(lights, float(sky.due[asked].mean()) * sky.share)


def light_too_little(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Mean over the subject's pixels of the share of a light that rays say arrives and the picture lacks; of the light with most of it; or
    of what a shadow takes away that is laid over a lightmap which holds it already."""
    lights = max((float(np.maximum(true - drawn, 0).mean()) for drawn, true in _of_lights(renderer, build, spot)), default=0.0)
    asked = _asked(renderer, build, spot)
    lost = np.zeros(asked.shape)
    for doubled in doubled_shade(renderer, build, renderer.frame(build, spot.request, "linear")):
        x, y = doubled.pixels.T
        lost[y, x] = np.maximum(lost[y, x], 1 - doubled.drawn_lux / doubled.due_lux)
    return max(lights, float(lost[asked].mean())) if asked.any() else lights


def light_off_on_average(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """How far the mean share of a light over the subject's pixels is from the mean by rays; of the light that is farthest off. What a
    grille's shadow has too much in one pixel and too little in the next does not count."""
    lights = _of_lights(renderer, build, spot, averaged=True)
    return max((abs(float(drawn.mean() - true.mean())) for drawn, true in lights), default=0.0)


def _asked(renderer: Renderer, build: Build, spot: Spot) -> np.ndarray:
    """(h, w) bool: the subject's pixels."""
    shown = renderer.frame(build, spot.request, "linear").drawable >= 0
    return shown if spot.pixels is None else np.asarray(shown & spot.pixels)


def _of_lights(renderer: Renderer, build: Build, spot: Spot, averaged: bool = False) -> list[tuple[np.ndarray, np.ndarray]]:
    """(drawn, true) share of each light at the subject's pixels turned to it and within its reach; averaged: over what the look-up takes
    from around each.

    Rays meet whatever is solid and drawn: true is what would be if everything cast and received, so that a switch that keeps a shadow out
    is found, not taken for the truth."""
    frame = renderer.frame(build, spot.request, "linear")
    judge, found = Judge(renderer, frame, would_cast(frame)), []
    everything = surfaces_of(frame, mask=spot.pixels)
    for i in range(len(frame.stage.lights)):
        towards, distance = to_light(everything, i, frame)
        turned = judge.arrives(i, everything, distance)
        turned &= np.einsum("nk,nk->n", everything.normal, towards) > SQUARE_ON
        turned &= np.einsum("nk,nk->n", everything.face, towards) > 0
        turned &= ~(judge.state.mapped[everything.drawable] & bool(judge.table.baked[i]))
        s = everything.of(turned)
        if not len(s):
            continue
        towards, distance = to_light(s, i, frame)
        if averaged:
            true, drawn = averaged_shares(judge, i, s, towards, distance, judge.looks_around_m(i, s, towards, distance))
            found.append((drawn, true))
            continue
        light = frame.stage.lights[i]
        if light.look_up.size > 0 and light.look_up.softness != "box":
            true = disc_share(judge, i, s, DISC_RAYS)[0]
        else:
            true = (~judge.blocked(judge.scene(judge.intended), s, towards, distance)).astype(float)
        found.append((judge.drawn(i, s, towards, distance), true))
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
        if light.name not in names:  # it shone out of the sky, and threw no shadow
            towards, distance = to_light(s, i, after)
            hidden = new.blocked(scene, s, towards, distance) & (new.drawn(i, s, towards, distance) < CHANGED)
            better[y, x] |= hidden & (np.einsum("nk,nk->n", s.normal, towards) > SQUARE_ON)
            continue
        if light.lightmap_shade != before.stage.lights[names[light.name]].lightmap_shade:
            better[y, x] |= after.stage.state.mapped[s.drawable] & (new.drawn(i, s, *to_light(s, i, after)) < 1)
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
