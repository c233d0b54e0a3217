"""Pass 5: opaque and cutout drawables. Depth starts as the prepass left it and is tested less-or-equal."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values
from eddyfall.core.passes.off_switches import off_by_blend
from eddyfall.core.passes.recorder import Recorder, depth_state
from eddyfall.core.passes.registry import register
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.raster.rasterise import rasterise


@dataclass(frozen=True, kw_only=True)
class OpaqueSection:
    """What the pass is set by."""

    taking_part: np.ndarray
    depth: DepthFormat


def section(stage: Stage) -> OpaqueSection:
    return OpaqueSection(taking_part=stage.state.solid, depth=stage.depth_format)


def run(inputs: Values, section: OpaqueSection) -> dict[str, Any]:
    depth = np.array(inputs["prepass_depth"])
    visible = np.full(depth.shape, -1, np.int32)
    screen = inputs["screen"]
    rasterise(
        screen, inputs["geometry"].owner, section.taking_part, inputs["cutouts"], section.depth.code,
        depth, visible, inputs["pixels"].origin,
    )  # fmt: skip
    if len(screen.ids):
        triangle = np.where(visible >= 0, screen.ids[visible], -1)
        drawable = np.where(visible >= 0, inputs["geometry"].owner[triangle], -1).astype(np.int32)
    else:
        triangle, drawable = visible, np.full_like(visible, -1)
    return {"visible": visible, "depth": depth, "triangle": triangle.astype(np.int32), "drawable": drawable}


def twin(r: Recorder) -> None:
    """Lays the fragments that are not in front; leaves the one that is (None if there is none) for the passes that shade it."""
    depth, owner, in_prepass = r.notes["prepass_depth"], r.geometry.owner, r.notes["in_prepass"]
    front, entries = None, []
    for f in r.notes["fragments"]:
        writes = f.kept and f.key <= depth
        if writes:
            depth, front = f.key, f
        entries.append((f, writes))
    for f, writes in entries:
        if f is front:
            continue
        d = int(owner[f.triangle])
        hidden = depth_state(f.kept, writes) if not writes else "drawn over"
        layer = r.lay("opaque", r.geometry.drawables[d].name, hidden, np.zeros(3), 1.0, in_prepass=bool(in_prepass[d]))
        layer.depth_m = float(r.stage.depth_format.view_depth(f.key))
    r.notes["front"] = front


PASS = register(
    Pass(
        number=5,
        name="opaque",
        does="opaque and cutout drawables, front to back, test less-or-equal against the prepass",
        reads=("geometry", "pixels", "screen", "cutouts", "prepass_depth"),
        writes=("visible", "depth", "triangle", "drawable"),
        section=section,
        targets=(
            Target(name="visible", texel_bytes=4),
            Target(name="depth", texel_bytes=4),
            Target(name="triangle", texel_bytes=4),
            Target(name="drawable", texel_bytes=4),
        ),
        run=run,
        twin=twin,
        off=(off_by_blend("alpha test off", of_subject=True),),
    )
)
