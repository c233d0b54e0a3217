"""Pass 6: baked light from lightmaps where there are any, light from the sky in shade elsewhere (probes and bounce join here later)."""

from typing import Any

import numpy as np

from eddyfall.core.passes.contract import OffSwitch, Pass, Stage, Values, View
from eddyfall.core.passes.sections import sky_light
from eddyfall.core.shade.lightmaps import add_lightmaps
from eddyfall.core.shade.sky import add_ambient
from eddyfall.core.shade.surface import Soup


def section(stage: Stage) -> dict[str, Any]:
    bake = stage.resolved.bake
    return {
        "sky": sky_light(stage), "mapped": stage.state.mapped, "material": stage.state.material,
        "nearest": bake.filter == "nearest", "mips": bake.mips,
    }  # fmt: skip


def run(inputs: Values, section: dict[str, Any]) -> dict[str, Any]:
    pixels, visible, shaded = inputs["pixels"], inputs["visible"], inputs["lit"]
    view = View(inputs["camera"], pixels)
    by_map = section["mapped"].any()
    if section["sky"] is not None:
        lit_by_sky = visible
        if by_map:
            lit_by_sky = np.where(section["mapped"][inputs["drawable"]] & (inputs["drawable"] >= 0), -1, visible).astype(np.int32)
        shaded = add_ambient(inputs["surface"], lit_by_sky, pixels.origin, pixels.jitter, view.rays, section["sky"], shaded)
    if by_map:
        g = inputs["geometry"]
        soup = Soup(g.positions, g.normals, g.uv0, g.uv1, g.triangles, g.owner, section["material"])
        shaded = add_lightmaps(
            inputs["surface"], visible, inputs["drawable"], inputs["triangle"], pixels.origin, pixels.jitter, view.rays, soup,
            inputs["lightmaps"], section["nearest"], section["mips"], shaded,
        )  # fmt: skip
    return {"shaded": shaded}


PASS = Pass(
    number=6,
    name="indirect",
    does="baked light from lightmaps, light from the sky where there are none",
    reads=("geometry", "camera", "pixels", "lightmaps", "visible", "drawable", "triangle", "surface", "lit"),
    writes=("shaded",),
    section=section,
    run=run,
    settings=("sky", "bake.filter", "bake.mips"),
    support_px=0,
    off=(OffSwitch("sky.ambient", False, "light from the sky off"),),
)
