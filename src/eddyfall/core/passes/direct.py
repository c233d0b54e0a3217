"""Pass 5.4: direct light on what is visible, dimmed by shadow maps and rays."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.coated import is_coated, under_coat
from eddyfall.core.passes.contract import LookUp, Pass, Stage, Target, Values, View
from eddyfall.core.passes.look_ups import look_ups, looked_up
from eddyfall.core.passes.off_switches import off_by_light
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.silent import silenced, silent_of, silent_row
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.shade.blend import KIND_NAMES
from eddyfall.core.shade.direct import direct_buffer


@dataclass(frozen=True, kw_only=True)
class DirectSection:
    """What the pass is set by."""

    receives: np.ndarray
    mapped: np.ndarray
    look_ups: tuple[LookUp, ...]
    silent: np.ndarray | None


def section(stage: Stage) -> DirectSection:
    return DirectSection(
        receives=stage.state.receives,
        mapped=stage.state.mapped,
        look_ups=look_ups(stage),
        silent=silent_of(stage.state.answers_direct),
    )


def run(inputs: Values, section: DirectSection) -> dict[str, Any]:
    pixels = inputs["pixels"]
    view = View(inputs["camera"], pixels)
    geometry: Geometry = inputs["geometry"]
    maps = looked_up(inputs["shadow_maps"], section.look_ups)

    def reflected(surface: np.ndarray, visible: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        return direct_buffer(
            silenced(surface, inputs["drawable"], section.silent), visible, inputs["drawable"],
            (inputs["triangle"], geometry.positions, geometry.triangles), section.receives.astype(np.uint8),
            section.mapped.astype(np.uint8), pixels.origin,
            pixels.jitter, view.rays, inputs["lights"], maps, inputs["traced"], inputs["tints"],
        )  # fmt: skip

    lit, sun = reflected(inputs["surface"], inputs["visible"])
    if is_coated(inputs):
        share = inputs["coat_share"]
        coat, _ = reflected(inputs["coat_rows"], np.where(share > 0, inputs["visible"], -1).astype(np.int32))
        lit = under_coat(lit, share) + coat * share[..., None].astype(np.float32)
    return {"lit": lit, "sun_visibility": sun}


def twin(r: Recorder) -> None:
    """Lays the fragment in front as direct light and emission show it."""
    front = r.notes["front"]
    if front is None:
        return
    state, d = r.stage.state, int(r.geometry.owner[front.triangle])
    lit, lights = r.light(silent_row(r.notes["row"], state.answers_direct[d]), d, front.triangle, opaque=True)
    share = r.notes["coat_share"]
    coat = {}
    if share > 0:
        of_coat, _ = r.light(silent_row(r.notes["coat_row"], state.answers_direct[d]), d, front.triangle, opaque=True)
        lit = lit * (1 - share) + of_coat * share
        coat = {"clear_coat": {"share": share, "rgb": [float(v) for v in of_coat * share]}}
    layer = r.lay(
        "opaque", r.geometry.drawables[d].name, f"{KIND_NAMES[int(state.blend[d])]}, writes depth", lit, 0.0,
        shader=state.shader[d], in_prepass=bool(r.notes["in_prepass"][d]),
        textures=[read.facts for read in r.notes["used"]], lights=lights, **coat,
    )  # fmt: skip
    layer.depth_m = float(r.stage.depth_format.view_depth(front.key))


PASS = register(
    Pass(
        number=5.4,
        name="direct",
        does="direct light and emission of what is visible",
        reads=(
            "geometry", "camera", "pixels", "visible", "drawable", "triangle", "surface", "coat_rows", "coat_share", "lights",
            "shadow_maps", "traced",
            "tints",
        ),
        writes=("lit", "sun_visibility"),
        section=section,
        targets=(
            Target(name="lit", texel_bytes=12),
            Target(name="sun_visibility", texel_bytes=4),
        ),
        run=run,
        twin=twin,
        off=(off_by_light(),),
    )
)  # fmt: skip
