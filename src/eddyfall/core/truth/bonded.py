"""What lies bonded under something clear: its own mirror is that of the joint, not that of its face in air.

Two media that touch mirror F0 = ((n1 - n2) / (n1 + n2))^2 head on (Fresnel): a print under acrylic next to nothing. With air between them
both faces mirror, and two highlights are right."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.compare.ciede2000 import delta_e_2000
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.materials.shown import shown_on
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import Material
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.surfaces import Surfaces, surfaces_of
from eddyfall.core.truth.visibility import rays_of

BOND_M = 5e-4  # gap up to which it counts as bonded (ours, changeable)
BELOW_M = 2e-3  # how far below its face a ray starts, so that it meets a shell whose back lies a little within it
CLOSE_M = 2e-5  # above its face, from where what it lies in is looked for below
PLACES = 128  # of a thing at which its gap is asked for
LEAST_PX = 16
VISIBLE = 2.0  # CIEDE2000


@dataclass(frozen=True)
class Joint:
    """An opaque thing seen through a clear one in a frame, by number of its drawable; gap_mm: the median distance of their faces, below 0
    where it lies within the other; indices of refraction; what it mirrors head on as drawn, and of the joint as due."""

    inner: int
    shell: int
    gap_mm: float
    n_inner: float
    n_shell: float
    drawn_f0: float
    due_f0: float

    @property
    def bonded(self) -> bool:
        return self.gap_mm <= BOND_M * 1000

    @property
    def times(self) -> float:
        """How often what is due is drawn."""
        return self.drawn_f0 / max(self.due_f0, 1e-12)


@dataclass(frozen=True)
class Excess:
    """Its own highlight beside what the joint gives: where they differ visibly (h, w) bool, the most nits that are too many."""

    where: np.ndarray
    peak_nit: float


def mirrors_f0(material: Material) -> float:
    """What a dielectric material mirrors head on, as drawn: the mean of its channels."""
    f0 = ((material.ior - 1) / (material.ior + 1)) ** 2 if material.ior > 0 else 1.0
    return float(np.minimum(f0 * np.array(material.specular_rgb), 1).mean() * material.specular)


def joint_f0(n_inner: float, n_shell: float) -> float:
    """What two media that touch mirror head on (Fresnel)."""
    return ((n_inner - n_shell) / (n_inner + n_shell)) ** 2


def joints_in(renderer: Renderer, build: Build, frame: Frame, target: str | None = None) -> list[Joint]:
    """Every opaque, dielectric thing that a frame shows through something clear, with the gap between them."""
    if not (frame.pane >= 0).any():
        return []
    materials = shown_on(build, target).build.scene.materials
    found = []
    pairs, counts = np.unique(
        np.stack([frame.drawable, frame.pane])[:, (frame.pane >= 0) & (frame.drawable >= 0)], axis=1, return_counts=True
    )
    for (inner, shell), count in zip(pairs.T.tolist(), counts.tolist()):
        of, over = (frame.geometry.drawables[d].material for d in (inner, shell))
        if count < LEAST_PX or of < 0 or over < 0 or frame.stage.state.refracts[inner]:
            continue
        mine, clear = materials[of], materials[over]
        if mine.unlit or mine.metallic > 0.5 or mine.ior <= 0 or clear.ior <= 0:
            continue
        gap = _gap_mm(renderer, frame, inner, shell)
        if gap is not None:
            due = joint_f0(mine.ior, clear.ior)
            found.append(Joint(inner, shell, gap, mine.ior, clear.ior, mirrors_f0(mine), due))
    return found


def _gap_mm(renderer: Renderer, frame: Frame, inner: int, shell: int) -> float | None:
    """Median mm from the faces of a thing to the next face of what lies over it; None where that is met at less than half of the places."""
    mask = (frame.drawable == inner) & (frame.pane == shell)
    surfaces = surfaces_of(frame, mask=mask)
    surfaces = surfaces.of(np.unique(np.linspace(0, len(surfaces) - 1, min(PLACES, len(surfaces))).astype(int)))
    chosen = np.zeros(len(frame.geometry.drawables), bool)
    chosen[shell] = True
    scene = rays_of(renderer, frame, chosen).solid
    up, leaves = _met(scene, frame, surfaces, -BELOW_M, 1.0)
    down, leaves_below = _met(scene, frame, surfaces, CLOSE_M, -1.0)
    within = leaves & leaves_below & np.isfinite(down)  # a closed body goes on on both sides of it
    gap = np.where(within, np.minimum(up, 0.0), up)
    met = np.isfinite(gap)
    return float(np.median(gap[met]) * 1000) if met.mean() >= 0.5 else None


def _met(scene: RayScene, frame: Frame, s: Surfaces, offset_m: float, sign: float) -> tuple[np.ndarray, np.ndarray]:
    """(distance (n,) m from places along their faces (sign 1) or against them, whether the face that is met is met from within)."""
    direction = s.face * sign
    start = s.place + s.face * offset_m
    triangle, distance = scene.first_hit(start, direction)
    hit = triangle >= 0
    g = frame.geometry
    corners = g.positions[g.triangles[np.maximum(triangle, 0)]].astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    leaves = hit & ((normal * direction).sum(axis=1) > 0)
    return np.where(hit, distance - abs(offset_m), np.inf), leaves


def excess_of(renderer: Renderer, build: Build, request: Request, joint: Joint) -> Excess:
    """What is drawn of a joint's own highlight, against a frame in which it mirrors what is due."""
    build = shown_on(build, request.target).build
    frame = renderer.frame(build, request)
    number = frame.geometry.drawables[joint.inner].material
    materials = list(build.scene.materials)
    share = joint.due_f0 / joint.drawn_f0 if joint.drawn_f0 > 0 else 1.0
    materials[number] = replace(materials[number], specular=materials[number].specular * min(share, 1.0))
    right = renderer.frame(replace(build, scene=replace(build.scene, materials=tuple(materials))), request)
    over = (frame.linear - right.linear) @ REC709_LUMA
    mine = (frame.drawable == joint.inner) & (frame.pane == joint.shell)
    where = mine & (delta_e_2000(frame.display, right.display) > VISIBLE) & (over > 0)
    return Excess(where, float(over[mine].max(initial=0.0)))
