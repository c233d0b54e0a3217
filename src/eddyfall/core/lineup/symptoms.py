"""Scores of symptoms: defined and measured, not eyeballed. A score of 0 means the symptom is gone."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.passes.contract import View
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.visibility import sun_visibility, sunlit_candidates

PLATE_BEHIND_M = 0.5  # less in a scene of less than ten metres


@dataclass(frozen=True)
class Spot:
    """Where and what: the crop's request, the subject drawable, its pixels in the crop (h, w) bool, what lies behind it."""

    request: Request
    subject: int
    pixels: np.ndarray
    behind: frozenset[int]
    plate: np.ndarray


@dataclass(frozen=True)
class Symptom:
    """A named symptom. score(renderer, build, spot, rays) in `unit`; cleared when the score falls to clear_share of the base's.

    shares(before, after, spot, rays) -> (h, w) bool of the preview frame: pixels elsewhere that have the same cause, so that their
    change is no collateral."""

    name: str
    unit: str
    means: str
    score: Callable[[Renderer, Build, Spot, Callable[[Frame], RayScene]], float]
    clear_share: float
    shares: Callable[[Frame, Frame, Spot, Callable[[Frame], RayScene]], np.ndarray]


def same_shader(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels whose front drawable has the subject's shader, before or after."""
    shader = before.stage.state.shader
    same = np.array([name == shader[spot.subject] for name in shader] + [False])
    return np.asarray(same[before.drawable] | same[after.drawable])


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


def see_through(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Largest spread of frame.linear over the subject's pixels when what is behind it is as it is, hidden, and replaced by an
    opaque plate 0.5 m behind it in all camera passes; shadow passes stay unchanged."""
    stack = []
    for request in (
        spot.request,
        replace(spot.request, hidden=spot.behind),
        replace(spot.request, hidden=spot.behind, plate=spot.plate),
    ):
        stack.append(renderer.frame(build, request, "linear").linear[spot.pixels])
    values = np.stack(stack)
    return float((values.max(axis=0) - values.min(axis=0)).max()) if values.size else 0.0


def missing_shadow(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
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


SYMPTOMS: dict[str, Symptom] = {
    s.name: s
    for s in (
        Symptom("see-through", "nit", "colour of a solid thing changes with what is behind it", see_through, 0.05, same_shader),
        Symptom(
            "missing shadow", "share", "the sun's shadow is not where rays say it is", missing_shadow, 0.25, shadow_came_true
        ),
    )
}


def make_spot(frame: Frame, request: Request, subject: int) -> Spot:
    """The spot of a rendered crop. The plate is square to the view, 0.5 m behind the subject's farthest pixel, and fills the crop."""
    pixels = frame.drawable == subject
    behind = frozenset(int(i) for i in np.unique(frame.geometry.owner[frame.buffers["screen"].ids])) | _blended(frame)
    depth = frame.view_depth[pixels]
    far = float(depth.max()) if len(depth) else 1.0
    view = View(frame.camera, frame.pixels)
    x0, y0, x1, y1 = request.window
    margin = 2
    behind_m = min(PLATE_BEHIND_M, frame.geometry.diagonal_m / 20)
    corners = [(x0 - margin, y0 - margin), (x0 - margin, y1 + margin), (x1 + margin, y1 + margin), (x1 + margin, y0 - margin)]
    r = view.rays
    plate = np.array([r.eye + (r.d0 + x * r.du + y * r.dv) * (far + behind_m) for x, y in corners])
    return Spot(request, subject, pixels, behind - {subject}, plate)


def _blended(frame: Frame) -> frozenset[int]:
    blend = frame.stage.state.blend
    return frozenset(int(i) for i in frame.buffers["in_view"] if blend[i] >= 2)
