"""Pass 7: the sky, where nothing opaque is visible."""

from dataclasses import dataclass
from typing import Any

from eddyfall.core.passes.contract import Pass, Stage, Target, Values, View
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.sections import sky_colours, with_picture
from eddyfall.core.shade.sky import SkyLight, sky_picture, sky_plain


@dataclass(frozen=True, kw_only=True)
class SkySection:
    """What the pass is set by."""

    sky: SkyLight


def section(stage: Stage) -> SkySection:
    return SkySection(sky=sky_colours(stage))


def run(inputs: Values, section: SkySection) -> dict[str, Any]:
    pixels = inputs["pixels"]
    view = View(inputs["camera"], pixels)
    jitter = pixels.jitter
    sky = with_picture(section.sky, inputs["sky_maps"])
    return {"with_sky": sky_picture(inputs["visible"], pixels.origin, jitter, view.rays, sky, inputs["shaded"])}


def twin(r: Recorder) -> None:
    """Lays the sky where nothing opaque is in front."""
    if r.notes["front"] is None:
        r.lay("sky", "(sky)", "drawn", sky_plain(-r.to_eye, with_picture(sky_colours(r.stage), r.values["sky_maps"])), 0.0)


PASS = register(
    Pass(
        number=7,
        name="sky",
        does="sky where nothing is visible",
        reads=("camera", "pixels", "sky_maps", "visible", "shaded"),
        writes=("with_sky",),
        section=section,
        targets=(Target(name="with_sky", texel_bytes=12),),
        run=run,
        twin=twin,
    )
)
