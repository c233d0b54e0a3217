"""The symptoms "missing shadow" and "false shadow": light that rays say is blocked and the picture has, and the other way round."""

from collections.abc import Callable

import numpy as np

from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.surfaces import surfaces_of, to_light
from eddyfall.core.truth.visibility import sun_visibility, sunlit_candidates, would_cast

SQUARE_ON = 0.05  # cosine: surfaces that a light only grazes are not asked


def light_too_much(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Mean over the subject's pixels of the share of a light that the picture has and rays say is blocked; of the light with most of it."""
    return max((float(np.maximum(drawn - true, 0).mean()) for drawn, true in _of_lights(renderer, build, spot)), default=0.0)


def light_too_little(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Mean over the subject's pixels of the share of a light that rays say arrives and the picture lacks; of the light with most of it."""
    return max((float(np.maximum(true - drawn, 0).mean()) for drawn, true in _of_lights(renderer, build, spot)), default=0.0)


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
    """Pixels whose drawn sun visibility changed to what rays say."""
    changed = np.abs(before.buffers["sun_visibility"] - after.buffers["sun_visibility"]) > 0.25
    changed &= sunlit_candidates(before, True) & sunlit_candidates(after, True)
    result = np.zeros(changed.shape, bool)
    pixels = np.argwhere(changed)[:, ::-1]
    if len(pixels):
        truth = sun_visibility(after, rays(after), pixels)
        result[pixels[:, 1], pixels[:, 0]] = (after.buffers["sun_visibility"][pixels[:, 1], pixels[:, 0]] >= 0.5) == truth.lit
    return result


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
