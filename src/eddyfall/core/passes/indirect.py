"""Pass 6: baked light from lightmaps where there are any, light from the sky in shade elsewhere (probes join here later)."""

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from eddyfall.core.passes.contract import LookUp, Pass, Stage, Target, Values, View
from eddyfall.core.passes.lightmap_shade import kept_of_lightmaps
from eddyfall.core.passes.look_ups import look_ups
from eddyfall.core.passes.off_switches import off_by_leaf
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.sections import sky_light, with_picture
from eddyfall.core.passes.silent import silenced, silent_of
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.sections.screen import Occlusion, Reflect
from eddyfall.core.shade.coat import even_plain
from eddyfall.core.shade.columns import ALBEDO_RGB, NORMAL_XYZ, OPEN
from eddyfall.core.shade.lightmaps import add_lightmaps, irradiance_at, page_position
from eddyfall.core.shade.sky import SkyLight, add_ambient, ambient_plain
from eddyfall.core.shade.surface import Soup


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


def section(stage: Stage) -> IndirectSection:
    bake = stage.resolved[Bake]
    shades = tuple(light.lightmap_shade for light in stage.lights)
    any_shade = any(stays is not None for stays in shades)
    occlusion = stage.resolved[Occlusion]
    return IndirectSection(
        sky=sky_light(stage), mapped=stage.state.mapped, material=stage.state.material,
        nearest=bake.filter == "nearest", mips=bake.mips, shades=shades if any_shade else (),
        receives=stage.state.receives if any_shade else None, look_ups=look_ups(stage) if any_shade else (),
        coat_apart=stage.resolved[Reflect].enabled, occluded=occlusion.applies_to if occlusion.enabled else "nothing",
        silent=silent_of(stage.state.answers_ambient),
    )  # fmt: skip


def run(inputs: Values, section: IndirectSection) -> dict[str, Any]:
    mirrored = np.zeros((1, 1, 3), np.float32)
    surface = silenced(inputs["surface"], inputs["drawable"], section.silent)
    if section.coat_apart:
        coat = surface.copy()
        coat[..., ALBEDO_RGB] = 0.0
        mirrored = _lit(inputs, section, coat, np.zeros_like(inputs["lit"]))
    return {"shaded": _lit(inputs, section, surface, inputs["lit"]), "mirrored": mirrored}


def _lit(inputs: Values, section: IndirectSection, surface: np.ndarray, shaded: np.ndarray) -> np.ndarray:
    """`shaded` (h, w, 3) and what surfaces (h, w, row) reflect of light from around."""
    pixels, visible = inputs["pixels"], inputs["visible"]
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
        g = inputs["geometry"]
        soup = Soup(g.positions, g.normals, g.uv0, g.uv1, g.triangles, g.owner, section.material)
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


def twin(r: Recorder) -> None:
    """Lays the light of the fragment's lightmap, or that of the sky."""
    front = r.notes["front"]
    if front is None:
        return
    d, sky = int(r.geometry.owner[front.triangle]), sky_light(r.stage)
    if not r.stage.state.answers_ambient[d]:
        return
    row = r.notes["row"]
    name, occlusion = r.geometry.drawables[d].name, r.stage.resolved[Occlusion]
    stays = float(r.values["occluded"][0, 0])
    if r.stage.state.mapped[d]:
        baked, facts = _baked(r, row, d, front.triangle)
        kept = _kept(r, row, d, front.triangle) * (stays if occlusion.applies_to == "indirect" else 1.0)
        r.lay("indirect", name, "light from its lightmap", baked * kept, 1.0, lightmap={**facts, "kept_in_shadows": kept})
    elif sky is not None:
        light = ambient_plain(row, r.to_eye, with_picture(sky, r.values["sky_maps"]))
        facts = {"kept_by_occlusion": stays} if occlusion.enabled else {}
        r.lay("indirect", name, "light from the sky", light * stays, 1.0, **facts)


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
        does="baked light from lightmaps, light from the sky where there are none",
        reads=(
            "geometry", "camera", "pixels", "lightmaps", "sky_maps", "visible", "drawable", "triangle", "surface", "lit", "lights",
            "shadow_maps", "traced", "occluded",
        ),
        writes=("shaded", "mirrored"),
        section=section,
        targets=(Target(name="shaded", texel_bytes=12), Target(name="mirrored", texel_bytes=0)),
        run=run,
        twin=twin,
        off=(off_by_leaf("sky.ambient", False, "light from the sky off"),),
    )
)  # fmt: skip
