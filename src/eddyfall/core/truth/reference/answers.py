"""What the passes that have the frame alone make of the rays that bring light to a surface, by where that light is.

The same march as theirs, along rays whose true end is known: it finds that end, takes something else for it, or finds nothing."""

from __future__ import annotations

import math
from dataclasses import dataclass, fields

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.screen import copied_depth, found_on, near_plane, screen_of
from eddyfall.core.scene.setup.sections.screen import Bounce, Marched, Reflect
from eddyfall.core.screen.march import OFF_SHARE
from eddyfall.core.shade.columns import DISTANCE
from eddyfall.core.shade.facing import ray_directions

OUTCOMES = ("found", "wrong hit", "missed", "fell back", "not asked")
FOUND, WRONG, MISSED, FELL_BACK, NOT_ASKED = range(len(OUTCOMES))
NAMES = ("bounce", "reflect")
MARCHED = 4_000_000_000  # the dimension of random numbers that places along marched rays are drawn by
IN_PX = ("margin_px", "edge_fade_px")
SLACK = 0.01  # of its distance to the eye: how far from a ray's true end a pixel's surface may lie, besides the thickness


@dataclass(frozen=True)
class Vertices:
    """Where n rays start: place, normal (n, 3), rough (n,) of their surface, mapped (n,) bool: it has a lightmap; drawable (n,) it is of;
    jitter (n,) in (0, 1]."""

    place: np.ndarray
    normal: np.ndarray
    rough: np.ndarray
    mapped: np.ndarray
    drawable: np.ndarray
    jitter: np.ndarray

    def of(self, which: np.ndarray) -> Vertices:
        """Some of them."""
        return Vertices(*(getattr(self, f.name)[which] for f in fields(self)))


class Answers:
    """The passes of a whole frame, drawn with its margin, as they are set there; finer: so many px of the frame they are set for stand,
    along each edge, for one of this."""

    def __init__(self, frame: Frame, finer: int = 1) -> None:
        self.frame, stage = frame, frame.stage
        self.settings: dict[str, Marched] = {
            name: section.model_copy(update={field: math.ceil(getattr(section, field) / finer) for field in IN_PX})
            for name, section in zip(NAMES, (stage.resolved[Bounce], stage.resolved[Reflect]))
            if section.enabled
        }
        self.roughest = stage.resolved[Reflect].roughest if "reflect" in self.settings else -1.0
        self.depth = copied_depth(frame.buffers)

    @property
    def copied(self) -> np.ndarray | None:
        """(h, w) view depth in m that the depth copy holds for the frame without its margin; None if nothing reads it."""
        if not self.settings:
            return None
        x, y = -self.frame.pixels.origin[0], -self.frame.pixels.origin[1]
        width, height = self.frame.pixels.size
        return self.depth[y : y + height, x : x + width]

    def concerns(self, name: str, v: Vertices) -> np.ndarray:
        """(n, 2) bool: whether light of the layer under the coat, and of the coat, is a pass's own, whether it takes it or not."""
        by_rays, all_of_them = v.rough <= self.roughest, np.ones(len(v.rough), bool)
        return np.stack([~all_of_them, all_of_them] if name == "reflect" else [all_of_them, ~by_rays], axis=1)

    def takes(self, name: str, v: Vertices) -> np.ndarray:
        """(n, 2) bool: whether a pass answers for the layer under the coat, and for the coat."""
        setting = self.settings[name]
        asked = v.rough <= self.roughest if name == "reflect" else ~v.mapped
        if isinstance(setting, Bounce) and setting.on_lightmapped:
            asked = np.ones(len(v.rough), bool)
        answers = self.frame.stage.state.answers_ambient[v.drawable] | (v.drawable < 0)
        return np.asarray(self.concerns(name, v) & (asked & answers)[:, None])

    def unfound(self, name: str) -> int:
        """What becomes of a ray that finds nothing."""
        return MISSED if self.settings[name].fallback == "nothing" else FELL_BACK

    def met(self, name: str, v: Vertices, direction: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """((n,) pixel of the frame with its margin that each ray along unit directions (n, 3) meets, -1: none; (n,) how much of it counts,
        0 to 1: the rest of what is met near the edge is not found)."""
        setting, frame = self.settings[name], self.frame
        eye, surface = np.array(frame.camera.eye), frame.buffers["surface"]
        screen = screen_of(frame.camera, frame.pixels, self.depth, surface, near_plane(frame.stage), setting.margin_px)
        off = v.normal * (np.linalg.norm(v.place - eye, axis=1, keepdims=True) * OFF_SHARE)
        return found_on(screen, v.place + off, direction, v.jitter, setting)

    def outcomes(
        self, name: str, v: Vertices, direction: np.ndarray, end: np.ndarray, drawable: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """((n,) outcome of rays along unit directions (n, 3) that end at places (n, 3) of drawables (n,); (n,) how much of it counts)."""
        pixel, counts = self.met(name, v, direction)
        return self.outcome_of(name, pixel, end, drawable), np.where(pixel >= 0, counts, 1.0)

    def outcome_of(self, name: str, pixel: np.ndarray, end: np.ndarray, drawable: np.ndarray) -> np.ndarray:
        """(n,) outcome of rays that meet pixels (n,), -1: none, and end at places (n, 3) of drawables (n,)."""
        setting, frame = self.settings[name], self.frame
        eye, surface = np.array(frame.camera.eye), frame.buffers["surface"]
        met = pixel >= 0
        outcome = np.where(met, WRONG, self.unfound(name))
        at = pixel[met]
        y, x = np.divmod(at, surface.shape[1])
        rays, (ox, oy) = View(frame.camera, frame.pixels).rays, frame.pixels.origin
        shown = ray_directions(rays.d0, rays.du, rays.dv, x + ox + 0.5, y + oy + 0.5)
        shown = eye + shown * surface.reshape(-1, surface.shape[2])[at][:, DISTANCE, None].astype(np.float64)
        near = np.linalg.norm(shown - end[met], axis=1) <= setting.thickness_m + SLACK * np.linalg.norm(end[met] - eye, axis=1)
        right = near & (frame.drawable.ravel()[at] == drawable[met])
        outcome[np.flatnonzero(met)[right]] = FOUND
        return outcome
