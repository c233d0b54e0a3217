"""Pass 5.6: the copies that passes take which work from the frame alone: depth as the depth copy has it, and the room that colour takes."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Pass, Stage, Target, Values
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.screen import frame_margin_px
from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.scene.setup.sections.depth import Depth
from eddyfall.core.scene.setup.sections.screen import FROM_FRAME, Bounce, Reflect


@dataclass(frozen=True, kw_only=True)
class CopySection:
    """What the pass is set by: wanted, by anything; colour: by what reads colour, too."""

    wanted: bool
    colour: bool
    copy_from: str
    depth: DepthFormat | None
    margin_px: int


def section(stage: Stage) -> CopySection:
    copy_from, depth = stage.resolved[Depth].copy_from, stage.depth_format
    wanted = any(stage.resolved[kind].enabled for kind in FROM_FRAME.values())
    colour = stage.resolved[Bounce].enabled or stage.resolved[Reflect].enabled
    margin = frame_margin_px(stage.resolved)
    if not wanted:
        return CopySection(wanted=False, colour=False, copy_from="none", depth=None, margin_px=0)
    return CopySection(wanted=wanted, colour=colour, copy_from=copy_from, depth=depth, margin_px=margin)


def run(inputs: Values, section: CopySection) -> dict[str, Any]:
    if section.depth is None or section.copy_from == "none":
        return {"copied_depth": np.full((1, 1), np.inf)}
    key = inputs["prepass_depth" if section.copy_from == "prepass" else "depth"]
    return {"copied_depth": np.ascontiguousarray(section.depth.view_depth(key), np.float64)}


def held(section: CopySection) -> tuple[Target, ...]:
    """A chain of depths, and one of half RGBA colour."""
    depth = Target(name="copied_depth", texel_bytes=4, mips=True, margin_px=section.margin_px)
    colour = Target(name="copied_colour", texel_bytes=8, mips=True, margin_px=section.margin_px)
    return ((depth,) if section.wanted else ()) + ((colour,) if section.colour else ())


PASS = register(
    Pass(
        number=5.6,
        name="screen copy",
        does="copies of depth and colour for what works from the frame alone",
        reads=("prepass_depth", "depth"),
        writes=("copied_depth",),
        by_content=("copied_depth",),
        section=section,
        targets=(Target(name="copied_depth", texel_bytes=0),),
        held=held,
        run=run,
    )
)
