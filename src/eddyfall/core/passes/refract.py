"""Pass 8.5: what lets light through, from a copy of the picture; nearest first, so many layers deep, with the copy taken anew for each.

What lies in no copy is lost: what else lets light through beyond the layers that are drawn, and all that is blended, which comes later
and is hidden by the depth that this leaves. With inside set to blend it is laid straight over what is behind before the first copy is
taken."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import LookUp, Pass, Pixels, Stage, Target, Values, View
from eddyfall.core.passes.look_ups import look_ups, looked_up
from eddyfall.core.passes.off_switches import off_by_leaf
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.sections import no_sky, sky_light, with_picture
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.raster.fragments import covering
from eddyfall.core.raster.project import project
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.resolve import Resolved
from eddyfall.core.scene.setup.sections.refract import Refract
from eddyfall.core.scene.setup.sections.screen import Reflect
from eddyfall.core.shade.columns import ROW
from eddyfall.core.shade.glass import BACK_FACES, Glass, levels_of, read_copies, see_through, see_through_plain
from eddyfall.core.shade.sky import SkyLight, ambient_plain
from eddyfall.core.shade.surface import soup_of

COPY_BYTES = 8  # half RGBA


@dataclass(frozen=True, kw_only=True)
class RefractSection:
    """What the pass is set by."""

    refract: Refract
    refracts: np.ndarray
    inside_blend: np.ndarray
    hides: np.ndarray
    bends: np.ndarray
    thickness: np.ndarray
    transmission: np.ndarray
    rougher: np.ndarray
    double_sided: np.ndarray
    receives: np.ndarray
    material: np.ndarray
    depth: DepthFormat
    paint: Any
    sky: SkyLight | None
    no_sky: SkyLight
    look_ups: tuple[LookUp, ...]


def section(stage: Stage) -> RefractSection:
    s = stage.state
    return RefractSection(
        refract=stage.resolved[Refract],
        refracts=s.refracts,
        inside_blend=s.inside_blend,
        hides=s.hides,
        bends=s.bends,
        thickness=s.thickness,
        transmission=s.transmission,
        rougher=s.rougher,
        double_sided=s.double_sided,
        receives=s.receives,
        material=s.material,
        depth=stage.depth_format,
        paint=stage.paint,
        sky=sky_light(stage),
        no_sky=no_sky(stage),
        look_ups=look_ups(stage),
    )


def held(section: RefractSection) -> tuple[Target, ...]:
    """The copy, with its mips, where anything reads it."""
    wanted = section.refract.enabled and section.refract.copy_from == "opaque"
    return (Target(name="refract_copy", texel_bytes=COPY_BYTES, mips=True),) if wanted else ()


def beyond_px(resolved: Resolved) -> int | None:
    """What is seen through may be anywhere on the frame."""
    return 0 if resolved[Refract].enabled else None


@dataclass(frozen=True)
class Met:
    """Where n fragments of what lets light through lie, by pixel, within a pixel nearest first: pixel (row by row), drawable, triangle, key
    of the depth buffer, far m from the eye along the ray, path m to the next face of the same thing, open: nothing opaque is before it."""

    pixel: np.ndarray
    drawable: np.ndarray
    triangle: np.ndarray
    key: np.ndarray
    far: np.ndarray
    path: np.ndarray
    open: np.ndarray


@dataclass(frozen=True)
class Panes(Met):
    """The same, shaded. rank: place among those of its pixel that are drawn from a copy (-1: laid straight, or not open); lit, kept (n, 3),
    at (n, 3) as `see_through` has them."""

    rank: np.ndarray
    lit: np.ndarray
    kept: np.ndarray
    at: np.ndarray


def panes_of(inputs: Values, section: RefractSection) -> Panes | None:
    """All of them in a window; None where there are none."""
    met = panes_met(inputs, section)
    if met is None:
        return None
    geometry, pixels = inputs["geometry"], inputs["pixels"]
    view = View(inputs["camera"], pixels)
    rank = rank_in_pixel(met.pixel, met.open & ~section.inside_blend[met.drawable])
    (ox, oy), (jx, jy), width = pixels.origin, pixels.jitter, pixels.shape[1]
    x, y = ox + met.pixel % width + 0.5 + jx, oy + met.pixel // width + 0.5 + jy
    lit, kept, at = (np.zeros((len(met.pixel), 3)) for _ in range(3))
    lights, maps = inputs["lights"], looked_up(inputs["shadow_maps"], section.look_ups)
    sky = section.no_sky if section.sky is None else with_picture(section.sky, inputs["sky_maps"])
    glass = glass_of(inputs, section)
    see_through(
        x, y, met.triangle, met.path, glass, view.rays, soup_of(geometry, section.material), inputs["textures"].surfaces, lights, maps,
        np.ones((1, 1, len(lights.kind)), np.float32), sky, lit, kept, at, np.zeros((len(met.pixel), ROW), np.float32),
    )  # fmt: skip
    return Panes(**vars(met), rank=rank, lit=lit, kept=kept, at=at)


def panes_met(inputs: Values, section: RefractSection) -> Met | None:
    """Where they lie in a window; None where there are none."""
    geometry, pixels = inputs["geometry"], inputs["pixels"]
    chosen = inputs["in_view"][section.refracts[inputs["in_view"]]]
    if not len(chosen):
        return None
    view = View(inputs["camera"], pixels)
    spans = [np.arange(geometry.drawables[i].first, geometry.drawables[i].last, dtype=np.int32) for i in np.sort(chosen)]
    triangles = np.concatenate(spans)
    owner = geometry.owner[triangles]
    both = section.double_sided[owner] | (section.thickness[owner] == BACK_FACES)
    screen = project(
        geometry.positions, inputs["textures"].alpha_uv, geometry.triangles, triangles, np.where(both, 0, 1).astype(np.int8),
        view.clip_matrix(section.depth), pixels.size, pixels.window,
    )  # fmt: skip
    found = covering(screen, section.depth.code, pixels.shape, pixels.origin)
    if not len(found.screen):
        return None
    pixel, triangle = found.pixel, screen.ids[found.screen]
    order = np.lexsort((found.screen, found.key, pixel))
    pixel, triangle, key = pixel[order], triangle[order], found.key[order]
    drawable = geometry.owner[triangle]
    far = section.depth.view_depth(key) * view.ray_lengths.ravel()[pixel]
    path, leaves = _of_same(pixel, drawable, far)
    towards = _towards(geometry, screen.ids, np.array(view.camera.eye))[found.screen[order]]
    # The face by which a body is left is no layer of its own: what it keeps is in that of the face by which it is entered.
    shown = (section.double_sided[drawable] | towards) & ~(section.bends[drawable] & ~towards & leaves)
    pixel, triangle, key, drawable, far, path = (v[shown] for v in (pixel, triangle, key, drawable, far, path))
    return Met(pixel, drawable, triangle, key, far, path, key <= inputs["depth"].ravel()[pixel])


def glass_of(inputs: Values, section: RefractSection) -> Glass:
    """What the fragments are drawn by."""
    paint = np.full((len(inputs["geometry"].drawables), 3), np.nan)
    for d, rgb in section.paint:
        paint[d] = rgb
    return Glass(
        section.transmission, section.bends, section.thickness, section.rougher, section.receives, paint,
        float(section.refract.roughest),
    )  # fmt: skip


def _of_same(pixel: np.ndarray, drawable: np.ndarray, far: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((n,) m from each fragment to the next one of the same drawable in its pixel, 0 where there is none; (n,) bool: one is before it)."""
    order = np.lexsort((far, drawable, pixel))
    same = (np.diff(pixel[order]) == 0) & (np.diff(drawable[order]) == 0)
    way, after = np.zeros(len(pixel)), np.zeros(len(pixel), bool)
    way[order[:-1]] = np.where(same, np.diff(far[order]), 0.0)
    after[order[1:]] = same
    return way, after


def _towards(geometry: Geometry, triangles: np.ndarray, eye: np.ndarray) -> np.ndarray:
    """(t,) bool: triangles (t,) whose front is turned to the eye."""
    corners = geometry.positions[geometry.triangles[triangles]].astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return np.asarray(((eye - corners[:, 0]) * normal).sum(axis=1) > 0)


def lay_panes(inputs: Values, section: RefractSection, panes: Panes, layers: int) -> tuple[np.ndarray, np.ndarray]:
    """((h, w, 3) nits of the picture with what lets light through laid on it, (n, 3) nits that each fragment saw through itself; nan where
    it was not drawn)."""
    picture = np.array(inputs["with_sky"], np.float64)
    flat, seen = picture.reshape(-1, 3), np.full((len(panes.pixel), 3), np.nan)
    straight = rank_in_pixel(panes.pixel, panes.open & section.inside_blend[panes.drawable])
    for turn in range(int(straight.max(initial=-1)), -1, -1):
        which = straight == turn
        seen[which] = flat[panes.pixel[which]]
        flat[panes.pixel[which]] = panes.lit[which] + panes.kept[which] * seen[which]
    for layer in range(layers - 1, -1, -1):
        which = panes.rank == layer
        if not which.any():
            continue
        seen[which] = copied(inputs, section, picture, panes.at[which])
        flat[panes.pixel[which]] = panes.lit[which] + panes.kept[which] * seen[which]
    return picture.astype(np.float32), seen


def copied(inputs: Values, section: RefractSection, picture: np.ndarray, at: np.ndarray) -> np.ndarray:
    """(n, 3) nits that a copy of a picture (h, w, 3) shows at places (n, 3) as `see_through` gives them."""
    seen, pixels = np.zeros((len(at), 3)), inputs["pixels"]
    if section.refract.copy_from == "opaque":
        (ox, oy), (jx, jy) = pixels.origin, pixels.jitter  # a texel of the copy is where its own pixel was drawn
        read_copies(at, ox + jx, oy + jy, *levels_of(picture), seen)
    return seen


def rank_in_pixel(pixel: np.ndarray, which: np.ndarray) -> np.ndarray:
    """(n,) place of each of the fragments `which` (n,) bool among those of its pixel, as they are sorted; -1 for the others."""
    if not len(pixel):
        return np.zeros(0, np.int64)
    first = np.flatnonzero(np.diff(pixel, prepend=-1))
    before = np.cumsum(which) - which
    return np.where(which, before - np.repeat(before[first], np.diff(np.append(first, len(pixel)))), -1)


def run(inputs: Values, section: RefractSection) -> dict[str, Any]:
    depth = inputs["depth"]
    panes = panes_of(inputs, section)
    if panes is None:
        nothing = np.full((1, 1), -1, np.int32)
        return {"with_sky": inputs["with_sky"], "behind_panes": inputs["with_sky"], "over_depth": depth, "pane": nothing}
    layers = section.refract.layers
    picture, _ = lay_panes(inputs, section, panes, layers)
    over, pane = np.array(depth), np.full(depth.shape, -1, np.int32)
    drawn = (panes.rank >= 0) & (panes.rank < layers)
    hiding = drawn & section.hides[panes.drawable]
    np.minimum.at(over.reshape(-1), panes.pixel[hiding], panes.key[hiding])
    front = panes.rank == 0
    pane.reshape(-1)[panes.pixel[front]] = panes.drawable[front]
    return {"with_sky": picture, "behind_panes": inputs["with_sky"], "over_depth": over, "pane": pane}


@dataclass(frozen=True, kw_only=True)
class CopySection:
    """What the copy for reflections is set by: None where they are content with what is there before."""

    refract: RefractSection | None


def copy_section(stage: Stage) -> CopySection:
    wanted = stage.resolved[Reflect].enabled and stage.resolved[Refract].reflect_copy == "after"
    return CopySection(refract=section(stage) if wanted else None)


def run_copy(inputs: Values, section: CopySection) -> dict[str, Any]:
    panes = None if section.refract is None else panes_of(inputs, section.refract)
    if section.refract is None or panes is None:
        return {"reflect_copy": inputs["with_sky"]}
    return {"reflect_copy": lay_panes(inputs, section.refract, panes, section.refract.refract.layers)[0]}


def twin(r: Recorder) -> None:
    """Lays what lets light through in this pixel. What is seen through it comes from a copy, so that nothing is kept of what was here."""
    section_here = section(r.stage)
    if not section_here.refracts.any():
        return
    given = {**r.values, **r.inputs("refract")}
    (width, height), shape = r.view.pixels.size, given["with_sky"].shape
    margin = (shape[1] - width) // 2
    given["pixels"] = Pixels((width, height), (-margin, -margin, width + margin, height + margin))
    panes = panes_of(given, section_here)
    if panes is None:
        return
    layers, glass = section_here.refract.layers, glass_of(given, section_here)
    _, seen = lay_panes(given, section_here, panes, layers)
    here = np.flatnonzero(panes.pixel == (r.y + margin) * shape[1] + r.x + margin)
    for n in here[::-1]:
        d, t = int(panes.drawable[n]), int(panes.triangle[n])
        found = see_through_plain(
            r.x + 0.5, r.y + 0.5, t, float(panes.path[n]), glass, r.view.rays, r.soup, r.values["textures"].surfaces
        )  # fmt: skip
        kept, at, row = found.kept, found.at, found.row
        lit = np.array(r.paint[d]) if d in r.paint else r.light(row, d, t)[0]
        if d not in r.paint and section_here.sky is not None:
            lit = lit + ambient_plain(row, r.to_eye, with_picture(section_here.sky, r.values["sky_maps"]))
        state, colour, keeps = f"reads {at[0]:.1f}, {at[1]:.1f}", lit + kept * seen[n], np.zeros(3)
        if not panes.open[n]:
            state, colour, keeps = "hidden by depth", np.zeros(3), np.ones(3)
        elif panes.rank[n] < 0:
            state, colour, keeps = "laid straight", lit, kept
        elif panes.rank[n] >= layers:
            state, colour, keeps = "lost: in no copy", np.zeros(3), np.ones(3)
        laid = r.lay(
            "refract", r.geometry.drawables[d].name, state, colour, keeps, keeps_of_copy=kept.tolist(), reads_px=at[:2].tolist()
        )
        laid.depth_m = float(panes.far[n]) / r.length


READS = ("geometry", "camera", "pixels", "textures", "sky_maps", "in_view", "depth", "lights", "shadow_maps", "with_sky")
COPY = register(
    Pass(
        number=7.8,
        name="reflect copy",
        does="a copy of the picture with what lets light through, for reflections that ask for one",
        reads=READS,
        writes=("reflect_copy",),
        section=copy_section,
        targets=(Target(name="reflect_copy", texel_bytes=0),),
        held=lambda section: () if section.refract is None else (Target(name="reflect_copy", texel_bytes=COPY_BYTES),),
        beyond_px=beyond_px,
        run=run_copy,
    )
)
PASS = register(
    Pass(
        number=8.5,
        name="refract",
        does="what lets light through, from a copy of what is drawn so far",
        reads=READS,
        writes=("with_sky", "behind_panes", "over_depth", "pane"),
        section=section,
        targets=(
            Target(name="with_sky", texel_bytes=0),
            Target(name="behind_panes", texel_bytes=0),
            Target(name="over_depth", texel_bytes=0),
            Target(name="pane", texel_bytes=0),
        ),
        held=held,
        beyond_px=beyond_px,
        run=run,
        twin=twin,
        off=(off_by_leaf("refract.enabled", False, "refraction off"),),
    )
)
