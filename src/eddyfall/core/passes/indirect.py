"""Pass 6: light from the sky in shade (lightmaps, probes and bounce join here later)."""

from typing import Any

from eddyfall.core.passes.contract import OffSwitch, Pass, Stage, Values, View
from eddyfall.core.passes.sections import sky_light
from eddyfall.core.shade.sky import add_ambient


def section(stage: Stage) -> dict[str, Any]:
    return {"sky": sky_light(stage)}


def run(inputs: Values, section: dict[str, Any]) -> dict[str, Any]:
    if section["sky"] is None:
        return {"shaded": inputs["lit"]}
    pixels = inputs["pixels"]
    view = View(inputs["camera"], pixels)
    jitter = pixels.jitter
    return {
        "shaded": add_ambient(
            inputs["surface"], inputs["visible"], pixels.origin, jitter, view.rays, section["sky"], inputs["lit"]
        )
    }


PASS = Pass(6, "indirect", "light from the sky", ("camera", "pixels", "visible", "surface", "lit"), ("shaded",), section, run,
            ("sky",), 0, (OffSwitch("sky.ambient", False, "light from the sky off"),))  # fmt: skip
