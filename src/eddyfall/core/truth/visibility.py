"""True visibility of the sun at pixels: rays against every caster, whatever the shadow maps can reach."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.rays.queries import RayScene, Tree, tree_of
from eddyfall.core.shade.columns import DISTANCE, NORMAL_XYZ
from eddyfall.core.shade.lights import DIRECTIONAL

OFFSET_M = 2e-3  # at most, off the surface that a ray starts from
OFFSET_SHARE = 2e-4  # of the distance to the eye: small things are looked at from near by


@dataclass(frozen=True)
class SunTruth:
    """For pixels (n, 2) x y of the window: whether a face turned to the sun is really lit, the drawable that blocks it (-1: none),
    distance from the point to the blocker in m."""

    pixels: np.ndarray
    lit: np.ndarray
    blocker: np.ndarray
    blocker_m: np.ndarray


def casters(frame: Frame) -> np.ndarray:
    """(d,) bool: drawables that cast in this frame's stage."""
    s = frame.stage.state
    return np.asarray(s.casts & s.shadow_pass & s.drawn & s.blocks)


def would_cast(frame: Frame) -> np.ndarray:
    """(d,) bool: drawables that would cast if everything solid that a camera draws did, whatever node, shadow pass and light say."""
    s = frame.stage.state
    chosen = s.drawn & s.colour_pass & ~s.blended
    chosen[frame.geometry.plate] = False
    return np.asarray(chosen)


def intended(frame: Frame) -> np.ndarray:
    """(d,) bool: what is meant to cast: drawn in the picture, not blended, not told not to cast; whatever shadow pass, face sides and culls
    say."""
    s = frame.stage.state
    chosen = s.drawn & s.colour_pass & s.casts & ~s.blended
    chosen[frame.geometry.plate] = False
    return np.asarray(chosen)


def caster_scene(frame: Frame) -> RayScene:
    """Rays' view of everything that casts in this frame's stage."""
    return RayScene(frame.geometry, casters(frame), frame.buffers["cutouts"], frame.buffers["textures"].alpha_uv)


def rays_of(renderer: Renderer, frame: Frame, taking_part: np.ndarray) -> RayScene:
    """Rays' view of the drawables (d,) bool that take part in a frame; their tree is kept with the passes' results."""
    tree: Tree = renderer.derive(tree_of, frame.known("caster_geometry"), taking_part).value
    return RayScene(frame.buffers["caster_geometry"], tree, frame.buffers["cutouts"], frame.buffers["textures"].alpha_uv)


def off_surface(place: np.ndarray, normal: np.ndarray, towards: np.ndarray, distance: np.ndarray) -> np.ndarray:
    """(n, 3) where rays to a light start: off the surface at places (n, 3), which lie `distance` (n, 1) m from the eye, by more than
    float32 loses there, so that they do not meet the surface itself."""
    away = np.minimum(OFFSET_M, OFFSET_SHARE * distance) + 4e-6 * distance
    away = np.maximum(away, 2.4e-7 * np.abs(place).max(axis=1, keepdims=True))
    return np.asarray(place + normal * away + towards * away)


def sunlit_candidates(frame: Frame, receive_or_not: bool = False) -> np.ndarray:
    """(h, w) bool: opaque pixels that receive shadows (or whether they do or not) and whose face is turned to the first sun."""
    suns = [light for light in frame.stage.lights if light.kind == DIRECTIONAL]
    if not suns:
        return np.zeros(frame.drawable.shape, bool)
    surface = frame.buffers["surface"]
    turned = surface[..., 7:10] @ np.array(suns[0].towards, np.float32) > 0.05
    receives = frame.stage.state.receives[frame.drawable] | receive_or_not
    return np.asarray((frame.drawable >= 0) & turned & receives & (surface[..., :6].sum(axis=2) > 0))


def sun_visibility(frame: Frame, scene: RayScene, pixels: np.ndarray) -> SunTruth:
    """Trace from the surfaces at `pixels` (n, 2) of the window to the first sun."""
    suns = [light for light in frame.stage.lights if light.kind == DIRECTIONAL]
    n = len(pixels)
    if not suns or not n:
        return SunTruth(pixels, np.ones(n, bool), np.full(n, -1), np.full(n, np.inf))
    from eddyfall.core.passes.contract import View

    x, y = pixels[:, 0], pixels[:, 1]
    rays = View(frame.camera, frame.pixels).rays
    ox, oy = frame.pixels.origin
    direction = rays.d0 + (x + ox + 0.5)[:, None] * rays.du + (y + oy + 0.5)[:, None] * rays.dv
    direction /= np.linalg.norm(direction, axis=1, keepdims=True)
    row = frame.buffers["surface"][y, x].astype(np.float64)
    place = rays.eye + direction * row[:, DISTANCE : DISTANCE + 1]
    towards = np.array(suns[0].towards)
    start = off_surface(place, row[:, NORMAL_XYZ], towards, row[:, DISTANCE : DISTANCE + 1])
    triangle, distance = scene.first_hit(start, np.tile(towards, (n, 1)))
    blocker = np.where(triangle >= 0, frame.geometry.owner[triangle], -1)
    return SunTruth(pixels, triangle < 0, blocker, distance)
