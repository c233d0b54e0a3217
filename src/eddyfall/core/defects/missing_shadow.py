"""The symptom "missing shadow": the sun's shadow is not where rays say it is."""

from collections.abc import Callable

import numpy as np

from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.visibility import sun_visibility, sunlit_candidates


def score(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Share of the subject's pixels turned to the sun where the shadow maps say lit and rays say not, or the other way round.

    Rays meet whatever is solid and drawn: true is what would be if everything cast and received, so that a switch that keeps a shadow
    out is found, not taken for the truth."""
    frame = renderer.frame(build, spot.request, "linear")
    mask = sunlit_candidates(frame, True) & spot.pixels
    pixels = np.argwhere(mask)[:, ::-1]
    if not len(pixels):
        return 0.0
    truth = sun_visibility(frame, rays(frame), pixels)
    drawn = frame.buffers["sun_visibility"][pixels[:, 1], pixels[:, 0]] >= 0.5
    return float((drawn != truth.lit).mean())


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


SYMPTOM = register_symptom(
    Symptom(
        name="missing shadow",
        unit="share",
        means="the sun's shadow is not where rays say it is",
        score=score,
        clear_share=0.25,
        shares=shadow_came_true,
    )
)
