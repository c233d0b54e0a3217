"""Pass 6: baked light from lightmaps where there are any, light from the sky in shade elsewhere (probes and bounce join here later)."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values, View
from eddyfall.core.passes.off_switches import off_by_leaf
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.sections import sky_light
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.shade.coat import even_plain
from eddyfall.core.shade.columns import NORMAL_XYZ, OPEN
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


def section(stage: Stage) -> IndirectSection:
    bake = stage.resolved[Bake]
    return IndirectSection(
        sky=sky_light(stage), mapped=stage.state.mapped, material=stage.state.material,
        nearest=bake.filter == "nearest", mips=bake.mips,
    )  # fmt: skip


def run(inputs: Values, section: IndirectSection) -> dict[str, Any]:
    pixels, visible, shaded = inputs["pixels"], inputs["visible"], inputs["lit"]
    view = View(inputs["camera"], pixels)
    by_map = section.mapped.any()
    if section.sky is not None:
        lit_by_sky = visible
        if by_map:
            lit_by_sky = np.where(section.mapped[inputs["drawable"]] & (inputs["drawable"] >= 0), -1, visible).astype(np.int32)
        shaded = add_ambient(inputs["surface"], lit_by_sky, pixels.origin, pixels.jitter, view.rays, section.sky, shaded)
    if by_map:
        g = inputs["geometry"]
        soup = Soup(g.positions, g.normals, g.uv0, g.uv1, g.triangles, g.owner, section.material)
        shaded = add_lightmaps(
            inputs["surface"], visible, inputs["drawable"], inputs["triangle"], pixels.origin, pixels.jitter, view.rays, soup,
            inputs["lightmaps"], section.nearest, section.mips, shaded,
        )  # fmt: skip
    return {"shaded": shaded}


def twin(r: Recorder) -> None:
    """Lays the light of the fragment's lightmap, or that of the sky."""
    front = r.notes["front"]
    if front is None:
        return
    d, row, sky = int(r.geometry.owner[front.triangle]), r.notes["row"], sky_light(r.stage)
    name = r.geometry.drawables[d].name
    if r.stage.state.mapped[d]:
        baked, facts = _baked(r, row, d, front.triangle)
        r.lay("indirect", name, "light from its lightmap", baked, 1.0, lightmap=facts)
    elif sky is not None:
        r.lay("indirect", name, "light from the sky", ambient_plain(row, r.to_eye, sky), 1.0)


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
        reads=("geometry", "camera", "pixels", "lightmaps", "visible", "drawable", "triangle", "surface", "lit"),
        writes=("shaded",),
        section=section,
        targets=(Target(name="shaded", texel_bytes=12),),
        run=run,
        twin=twin,
        off=(off_by_leaf("sky.ambient", False, "light from the sky off"),),
    )
)
