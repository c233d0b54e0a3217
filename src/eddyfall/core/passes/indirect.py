"""Pass 6: baked light from lightmaps where there are any, light from the sky in shade elsewhere; what coats mirror, from probes where there
are any."""

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from eddyfall.core.passes.coated import is_coated, under_coat
from eddyfall.core.passes.contract import LookUp, Pass, Stage, Target, Values, View
from eddyfall.core.passes.lightmap_shade import kept_of_lightmaps
from eddyfall.core.passes.look_ups import look_ups
from eddyfall.core.passes.off_switches import off_by_leaf
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.screen import bundle_of
from eddyfall.core.passes.sections import sky_light, with_picture
from eddyfall.core.passes.silent import silenced, silent_of
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.sections.screen import Occlusion, Reflect
from eddyfall.core.screen.bundles import shares_of_even_light
from eddyfall.core.screen.march import OFF_SHARE
from eddyfall.core.shade.coat import even_plain
from eddyfall.core.shade.columns import ALBEDO_RGB, DISTANCE, F0_RGB, NORMAL_XYZ, OPEN, ROUGH
from eddyfall.core.shade.grids import gathered
from eddyfall.core.shade.lightmaps import add_lightmaps, irradiance_at, page_position
from eddyfall.core.shade.probes import mirrored_ways, shown_by
from eddyfall.core.shade.sky import SkyLight, add_ambient, ambient_plain
from eddyfall.core.shade.surface import soup_of


@dataclass(frozen=True, kw_only=True)
class IndirectSection:
    """What the pass is set by."""

    sky: SkyLight | None
    mapped: np.ndarray
    material: np.ndarray
    nearest: bool
    mips: bool
    shades: tuple[float | None, ...]
    receives: np.ndarray | None
    look_ups: tuple[LookUp, ...]
    coat_apart: bool
    occluded: Literal["nothing", "sky", "indirect"]
    silent: np.ndarray | None
    moves: np.ndarray | None


def section(stage: Stage) -> IndirectSection:
    bake = stage.resolved[Bake]
    shades = tuple(light.lightmap_shade for light in stage.lights)
    any_shade = any(stays is not None for stays in shades)
    occlusion = stage.resolved[Occlusion]
    return IndirectSection(
        sky=sky_light(stage), mapped=stage.state.mapped, material=stage.state.material,
        nearest=bake.filter == "nearest", mips=bake.mips, shades=shades if any_shade else (),
        receives=stage.state.receives if any_shade else None, look_ups=look_ups(stage) if any_shade else (),
        coat_apart=stage.resolved[Reflect].enabled or bool(stage.state.mirrors.any()), 
        occluded=occlusion.applies_to if occlusion.enabled else "nothing",
        silent=silent_of(stage.state.answers_ambient), moves=stage.state.moves if stage.state.moves.any() else None,
    )  # fmt: skip


def run(inputs: Values, section: IndirectSection) -> dict[str, Any]:
    mirrored, share = np.zeros((1, 1, 3), np.float32), np.zeros((1, 1), np.float32)
    surface = silenced(inputs["surface"], inputs["drawable"], section.silent)
    by_probes, coated, of_coats = len(inputs["probes"].maps) > 0, is_coated(inputs), np.zeros((1, 1, 3), np.float32)
    under = np.zeros_like(inputs["lit"]) if coated else inputs["lit"]
    shaded = _lit(inputs, section, surface, under)
    if section.coat_apart or by_probes:
        coat = surface.copy()
        coat[..., ALBEDO_RGB] = 0.0
        mirrored = _lit(inputs, section, coat, np.zeros_like(inputs["lit"]))
    if by_probes:
        change, share = _stood_in(inputs, section, surface, mirrored)
        shaded, mirrored = shaded + change, mirrored + change
    if coated:
        over = silenced(inputs["coat_rows"], inputs["drawable"], section.silent)
        of_coats = _lit(inputs, section, over, np.zeros_like(inputs["lit"]))
        if by_probes:
            of_coats = of_coats + _stood_in(inputs, section, over, of_coats)[0]
        of_coats = (of_coats * inputs["coat_share"][..., None]).astype(np.float32)
        shaded = inputs["lit"] + under_coat(shaded, inputs["coat_share"]) + of_coats
        mirrored = under_coat(mirrored, inputs["coat_share"]) if mirrored.shape == shaded.shape else mirrored
    gridded = np.zeros((1, 1), bool)
    if section.moves is not None and len(inputs["grids"].first):
        gridded = _of_grids(inputs, section.moves, surface)[1]
    return {
        "shaded": shaded, "mirrored": mirrored, "probed": share.astype(np.float32), "gridded": gridded, "coat_mirrored": of_coats,
    }  # fmt: skip


def _stood_in(
    inputs: Values, section: IndirectSection, surface: np.ndarray, mirrored: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """((h, w, 3) nits by which probes change what coats mirror of even light, mirrored (h, w, 3); (h, w) how much of it they stand for)."""
    shown, share = _shown(inputs, surface)
    if section.occluded != "nothing":
        shown *= inputs["occluded"][..., None]
    return (shown - mirrored * share[..., None]).astype(np.float32), share


def _shown(inputs: Values, surface: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((h, w, 3) nits that coats mirror of what probes show; (h, w) how much of their even light that stands in for)."""
    b = bundle_of(inputs, (inputs["visible"] >= 0) & (surface[..., F0_RGB].sum(axis=2) > 0), 1)
    light, total = np.zeros((surface[..., 0].size, 3)), np.zeros(surface[..., 0].size)
    rows = surface.reshape(-1, surface.shape[-1])[b.pixel]
    shown, share = shown_by(inputs["probes"], b.place, mirrored_ways(rows, b.to_eye), rows[:, ROUGH])
    light[b.pixel] = shown * shares_of_even_light(rows, b.to_eye)[1]
    total[b.pixel] = share
    return light.reshape(*surface.shape[:2], 3), total.reshape(surface.shape[:2])


def _lit(inputs: Values, section: IndirectSection, surface: np.ndarray, shaded: np.ndarray) -> np.ndarray:
    """`shaded` (h, w, 3) and what surfaces (h, w, row) reflect of light from around."""
    pixels, visible = inputs["pixels"], inputs["visible"]
    if section.moves is not None and len(inputs["grids"].first):
        of_grids, held = _of_grids(inputs, section.moves, surface)
        if section.occluded != "nothing":
            of_grids *= inputs["occluded"][..., None]
        shaded, visible = (shaded + of_grids).astype(np.float32), np.where(held, -1, visible).astype(np.int32)
    view, by_map = View(inputs["camera"], pixels), section.mapped.any()
    if section.sky is not None:
        lit_by_sky = visible
        if by_map:
            lit_by_sky = np.where(section.mapped[inputs["drawable"]] & (inputs["drawable"] >= 0), -1, visible).astype(np.int32)
        sky = with_picture(section.sky, inputs["sky_maps"])
        if section.occluded == "nothing":
            shaded = add_ambient(surface, lit_by_sky, pixels.origin, pixels.jitter, view.rays, sky, shaded)
        else:
            alone = add_ambient(surface, lit_by_sky, pixels.origin, pixels.jitter, view.rays, sky, np.zeros_like(shaded))
            shaded = (shaded + alone * inputs["occluded"][..., None]).astype(np.float32)
    if by_map:
        soup = soup_of(inputs["geometry"], section.material)
        dimmed = section.receives is not None or section.occluded == "indirect"
        baked = add_lightmaps(
            surface, visible, inputs["drawable"], inputs["triangle"], pixels.origin, pixels.jitter, view.rays, soup,
            inputs["lightmaps"], section.nearest, section.mips, np.zeros_like(shaded) if dimmed else shaded,
        )  # fmt: skip
        if section.receives is not None:
            kept = kept_of_lightmaps(inputs, section.shades, section.receives, section.mapped, section.look_ups)
            baked = baked * kept[..., None]
        if section.occluded == "indirect":
            baked = baked * inputs["occluded"][..., None]
        shaded = (shaded + baked).astype(np.float32) if dimmed else baked
    return shaded


def _of_grids(inputs: Values, moves: np.ndarray, surface: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((h, w, 3) nits that things which move reflect of light from grids, (h, w) bool: where one holds them)."""
    b = bundle_of(inputs, (inputs["visible"] >= 0) & moves[inputs["drawable"]] & (inputs["drawable"] >= 0), 1)
    rows = surface.reshape(-1, surface.shape[-1])[b.pixel]
    lux, which = gathered(inputs["grids"], b.place, rows[:, NORMAL_XYZ].astype(np.float64))
    under, coat = shares_of_even_light(rows, b.to_eye)
    light, held = np.zeros((surface[..., 0].size, 3)), np.zeros(surface[..., 0].size, bool)
    light[b.pixel], held[b.pixel] = (under + coat) * lux / np.pi, which >= 0
    return light.reshape(*surface.shape[:2], 3), held.reshape(surface.shape[:2])


def twin(r: Recorder) -> None:
    """Lays the light of the fragment's lightmap, or that of the sky, and what probes show in the stead of its coat's."""
    front = r.notes["front"]
    if front is None:
        return
    d = int(r.geometry.owner[front.triangle])
    if not r.stage.state.answers_ambient[d]:
        return
    name, of_coat = r.geometry.drawables[d].name, float(r.notes["coat_share"])
    layers = [(r.notes["row"], 1 - of_coat, "")] + (
        [(r.notes["coat_row"], of_coat, ", on its clear coat")] if of_coat > 0 else []
    )
    for row, part, where in layers:
        even, words, facts = _even(r, row, d, front.triangle)
        if words:
            r.lay("indirect", name, words + where, even * part, 1.0, **facts)
        shown, share = _probed(r, row)
        if share > 0:
            coat = row.copy()
            coat[ALBEDO_RGB] = 0.0
            change = (shown - _even(r, coat, d, front.triangle)[0] * share) * part
            r.lay("indirect", name, f"what probes show in the stead of its coat's even light{where}", change, 1.0, share=share)


def _even(r: Recorder, row: np.ndarray, drawable: int, triangle: int) -> tuple[np.ndarray, str, dict[str, Any]]:
    """(nits of light from around that a surface row reflects, where from in words, facts)."""
    grid = _gridded(r, row, drawable)
    if grid is not None:
        return grid, "light from a grid", {}
    sky, occlusion, stays = sky_light(r.stage), r.stage.resolved[Occlusion], float(r.values["occluded"][0, 0])
    if r.stage.state.mapped[drawable]:
        baked, facts = _baked(r, row, drawable, triangle)
        kept = _kept(r, row, drawable, triangle) * (stays if occlusion.applies_to == "indirect" else 1.0)
        return baked * kept, "light from its lightmap", {"lightmap": {**facts, "kept_in_shadows": kept}}
    if sky is None:
        return np.zeros(3), "", {}
    light = ambient_plain(row, r.to_eye, with_picture(sky, r.values["sky_maps"]))
    return light * stays, "light from the sky", {"kept_by_occlusion": stays} if occlusion.enabled else {}


def _gridded(r: Recorder, row: np.ndarray, drawable: int) -> np.ndarray | None:
    """Nits that the fragment reflects of a grid's light, if it is of a thing that moves and a grid holds it."""
    grids = r.values["grids"]
    if not r.stage.state.moves[drawable] or not len(grids.first):
        return None
    away, normal = float(row[DISTANCE]), np.asarray(row[NORMAL_XYZ], float)
    lux, which = gathered(grids, (r.view.rays.eye - r.to_eye * away + normal * away * OFF_SHARE)[None], normal[None])
    if which[0] < 0:
        return None
    under, coat = shares_of_even_light(np.asarray(row, np.float32)[None], r.to_eye[None])
    stays = float(r.values["occluded"][0, 0]) if r.stage.resolved[Occlusion].enabled else 1.0
    return np.asarray((under + coat)[0] * lux[0] / np.pi * stays)


def _probed(r: Recorder, row: np.ndarray) -> tuple[np.ndarray, float]:
    """(nits of what probes show that the fragment's coat mirrors, how much of its even light they stand in for)."""
    probes = r.values["probes"]
    if not len(probes.maps) or not row[F0_RGB].sum() > 0:
        return np.zeros(3), 0.0
    away = float(row[DISTANCE])
    place = r.view.rays.eye - r.to_eye * away + np.asarray(row[NORMAL_XYZ], float) * away * OFF_SHARE
    rows, to_eye = np.asarray(row, np.float32)[None], r.to_eye[None]
    shown, share = shown_by(probes, place[None], mirrored_ways(rows, to_eye), rows[:, ROUGH])
    stays = float(r.values["occluded"][0, 0]) if r.stage.resolved[Occlusion].enabled else 1.0
    return shown[0] * shares_of_even_light(rows, to_eye)[1][0] * stays, float(share[0])


def _kept(r: Recorder, row: np.ndarray, drawable: int, triangle: int) -> float:
    """Share of its lightmap that drawn shadows leave at this pixel."""
    shades = [light.lightmap_shade for light in r.stage.lights]
    if all(stays is None for stays in shades):
        return 1.0
    seen = r.visibility(row, drawable, triangle)
    return float(np.prod([1.0 if stays is None else 1 - (1 - stays) * (1 - v) for stays, v in zip(shades, seen)]))


def _baked(r: Recorder, row: np.ndarray, drawable: int, triangle: int) -> tuple[np.ndarray, dict[str, Any]]:
    """(radiance, where it was read) of the lightmap at this pixel."""
    store, bake = r.values["lightmaps"], r.stage.resolved[Bake]
    k = int(store.of_drawable[drawable])
    x, y, nearest = r.x + 0.5, r.y + 0.5, bake.filter == "nearest"
    lux = [irradiance_at(store, k, r.soup, triangle, x, y, r.view.rays, nearest, bake.mips, c) for c in range(3)]
    u, v = page_position(store, k, r.soup, triangle, x, y, r.view.rays)
    edge = int(store.levels[store.maps[k, 0], 1])
    diffuse, coat = even_plain(row, min(max(float(row[NORMAL_XYZ] @ r.to_eye), 0.0), 1.0))
    return (diffuse + coat) * row[OPEN] / np.pi * np.array(lux), {
        "texel": [int(np.floor(u * edge)), int(np.floor(v * edge))], "edge": edge, "lux": [float(e) for e in lux], "filter": bake.filter,
    }  # fmt: skip


PASS = register(
    Pass(
        number=6,
        name="indirect",
        does="baked light from lightmaps, light from the sky where there are none; what coats mirror of probes",
        reads=(
            "geometry", "camera", "pixels", "lightmaps", "sky_maps", "probes", "grids", "visible", "drawable", "triangle", "surface",
            "coat_rows", "coat_share", "lit",
            "lights",
            "shadow_maps", "traced", "occluded",
        ),
        writes=("shaded", "mirrored", "probed", "gridded", "coat_mirrored"),
        section=section,
        targets=(Target(name="shaded", texel_bytes=12), Target(name="mirrored", texel_bytes=0), Target(name="probed", texel_bytes=0),
                 Target(name="gridded", texel_bytes=0), Target(name="coat_mirrored", texel_bytes=0)),
        run=run,
        twin=twin,
        off=(off_by_leaf("sky.ambient", False, "light from the sky off"),),
    )
)  # fmt: skip
