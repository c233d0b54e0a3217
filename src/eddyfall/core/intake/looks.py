"""What a pose shows, found by drawing: which drawables are in front, from their front or from behind, and how far off."""

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.frame.stage import material_states
from eddyfall.core.intake.poses import Pose
from eddyfall.core.passes.contract import View
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import Material, Scene
from eddyfall.core.scene.setup import Setup, parse_setup

LOOK_SIZE = (240, 135)
SEEN_PIXELS = 2
MOSTLY_BEHIND = 0.9


@dataclass(frozen=True)
class Look:
    """From one pose, by drawable (d,): pixels that show its drawn side, pixels that meet a side that is not drawn.

    nearest_m, farthest_m: view depth of what is there (infinite and 0 if nothing is)."""

    front: np.ndarray
    behind: np.ndarray
    nearest_m: float
    farthest_m: float

    @property
    def seen(self) -> np.ndarray:
        """(d,) bool: shown, and not mostly from behind."""
        return np.asarray((self.front >= SEEN_PIXELS) & (self.behind < MOSTLY_BEHIND * (self.front + self.behind)))

    @property
    def behind_share(self) -> float:
        """Share of what is met that is met from behind."""
        return float(self.behind.sum() / max(self.front.sum() + self.behind.sum(), 1))


def every_side(scene: Scene, solid: bool) -> Scene:
    """The scene with both sides of everything drawn, parts without a material given one; solid: blended materials are opaque."""
    none = len(scene.materials)
    materials = [
        replace(m, double_sided=True, alpha_mode="OPAQUE" if solid and m.alpha_mode == "BLEND" else m.alpha_mode)
        for m in (*scene.materials, Material("(default)"))
    ]
    meshes = []
    for mesh in scene.meshes:
        bare = any(part.material is None for part in mesh.primitives)
        parts = (part if part.material is not None else replace(part, material=none) for part in mesh.primitives)
        meshes.append(replace(mesh, primitives=tuple(parts)) if bare else mesh)
    any_bare = any(a is not b for a, b in zip(meshes, scene.meshes))
    return replace(scene, materials=tuple(materials if any_bare else materials[:none]), meshes=tuple(meshes))


class Looker:
    """Draws poses of a scene at a small size, every side of everything drawn, blended things once as solid and once left out."""

    def __init__(self, scene: Scene, setup: Setup, renderer: Renderer) -> None:
        self.renderer = renderer
        self.scenes = {solid: every_side(scene, solid) for solid in (True, False)}
        self.states = material_states(Build(scene, setup))
        self.blended = any(s.blend not in ("opaque", "cutout") for s in self.states)
        self.known: dict[tuple[object, ...], Look] = {}

    def __call__(self, pose: Pose, aside: frozenset[int] = frozenset()) -> Look:
        """What a pose shows with the drawables `aside` left out."""
        key = (pose.eye, pose.target, pose.fov_y_deg, aside)
        if key not in self.known:
            self.known[key] = self._look({"pose": pose.entry()}, "pose", aside)
        return self.known[key]

    def of_viewpoint(self, name: str, entry: dict[str, object]) -> Look:
        """What a viewpoint of the file shows."""
        return self._look({name: entry}, name, frozenset())

    def _look(self, viewpoints: dict[str, object], name: str, aside: frozenset[int]) -> Look:
        front = behind = np.zeros(0, np.int64)
        depths: list[np.ndarray] = []
        for solid in (True, False) if self.blended else (True,):
            build = Build(self.scenes[solid], self._setup(viewpoints))
            frame = self.renderer.frame(build, Request(name, LOOK_SIZE, hidden=aside | self._left_out(build, solid)), "drawable")
            met = frame.drawable >= 0
            geometry = frame.geometry
            eye = View(frame.camera, frame.pixels).rays
            rows, columns = np.nonzero(met)
            direction = eye.d0 + (columns[:, None] + 0.5) * eye.du + (rows[:, None] + 0.5) * eye.dv
            corners = geometry.positions[geometry.triangles[frame.buffers["triangle"][met]]].astype(np.float64)
            normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
            owner = frame.drawable[met]
            both = np.array([self.states[d.material].double_sided for d in geometry.drawables])
            back = ((normal * direction).sum(axis=1) > 0) & ~both[owner]
            counts = len(geometry.drawables)
            here = np.bincount(owner[~back], minlength=counts), np.bincount(owner[back], minlength=counts)
            # A blended thing hides nothing for good: what is seen with it or without it is seen.
            front = here[0] if not len(front) else np.maximum(front, here[0])
            behind = here[1] if not len(behind) else np.maximum(behind, here[1])
            depths.append(frame.view_depth[met])
        depth = np.concatenate(depths)
        depth = depth[np.isfinite(depth)]
        return Look(front, behind, float(depth.min()) if len(depth) else np.inf, float(depth.max()) if len(depth) else 0.0)

    def _setup(self, viewpoints: dict[str, object]) -> Setup:
        # Reversed float depth keeps its steps at any scale, so near can be as good as nothing.
        depth = {"near_m": 1e-7, "format": "float32", "reversed": True}
        return parse_setup({"eddyfall_setup": 1, "viewpoints": viewpoints, "depth": depth})

    def _left_out(self, build: Build, solid: bool) -> frozenset[int]:
        if solid:
            return frozenset()
        drawables = self.renderer.geometry(build).drawables
        return frozenset(i for i, d in enumerate(drawables) if self.states[d.material].blend not in ("opaque", "cutout"))
