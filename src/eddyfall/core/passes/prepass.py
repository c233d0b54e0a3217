"""Pass 4: the depth prepass. Only drawables whose shader has a depth pass are in it."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values
from eddyfall.core.passes.recorder import Recorder, depth_state
from eddyfall.core.passes.registry import register
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.raster.rasterise import fragments_at, rasterise


@dataclass(frozen=True, kw_only=True)
class PrepassSection:
    """What the pass is set by."""

    taking_part: np.ndarray
    depth: DepthFormat


def section(stage: Stage) -> PrepassSection:
    return PrepassSection(taking_part=(stage.state.depth_pass & ~stage.state.blended).astype(np.uint8), depth=stage.depth_format)


def run(inputs: Values, section: PrepassSection) -> dict[str, Any]:
    shape = inputs["pixels"].shape
    depth = np.full(shape, section.depth.far_key, np.float32)
    visible = np.full(shape, -1, np.int32)
    rasterise(
        inputs["screen"], inputs["geometry"].owner, section.taking_part, inputs["cutouts"], section.depth.code,
        depth, visible, inputs["pixels"].origin,
    )  # fmt: skip
    return {"prepass_depth": depth}


def twin(r: Recorder) -> None:
    """Lays each fragment whose shader has a depth pass; leaves the fragments and the depth for the opaque pass."""
    depth_format, owner, state = r.stage.depth_format, r.geometry.owner, r.stage.state
    found = fragments_at(r.values["screen"], owner, r.values["cutouts"], depth_format.code, r.x, r.y)
    taking_part = state.depth_pass & ~state.blended
    depth = depth_format.far_key
    for f in found:
        d = int(owner[f.triangle])
        if not taking_part[d]:
            continue
        writes = f.kept and f.key <= depth
        if writes:
            depth = f.key
        layer = r.lay("prepass", r.geometry.drawables[d].name, depth_state(f.kept, bool(writes)), np.zeros(3), 1.0)
        layer.depth_m = float(depth_format.view_depth(np.asarray(f.key)))
    r.notes.update(fragments=found, prepass_depth=depth, in_prepass=taking_part)


PASS = register(
    Pass(
        number=4,
        name="prepass",
        does="depth of drawables whose shader has a depth pass",
        reads=("geometry", "pixels", "screen", "cutouts"),
        writes=("prepass_depth",),
        section=section,
        targets=(Target(name="prepass_depth", texel_bytes=4),),
        run=run,
        twin=twin,
    )
)
