"""Commands about edges and costs of what has alpha: edges, overdraw."""

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from eddyfall.cli_tools import Out, inputs, numbers, opened
from eddyfall.core.errors import RequestError


def add_commands(command: Callable[..., Any]) -> None:
    """Add the commands to the parser."""
    sub = command(
        "edges",
        edges,
        "say what pictures with alpha hold, where they show a rim, and how much of each cutout is drawn, by mip level",
    )
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--at", type=numbers(2), metavar="X,Y", help="also tell what a pixel shows and what is due there")
    sub.add_argument("--picture", type=Path, metavar="F.png", help="write the frame with visible rims marked")
    sub = command(
        "overdraw",
        overdraw,
        "count blended fragments: for each pixel, by thing, those that change nothing, what trimming cards saves",
    )
    sub.add_argument("--viewpoint", required=True)


def edges(args: argparse.Namespace) -> int:
    import numpy as np

    from eddyfall.core.defects.edge_faults import edges_at
    from eddyfall.core.defects.survey import Survey, painted
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.edges import AlphaEdgesDocument
    from eddyfall.core.handover.exr import png_of
    from eddyfall.core.handover.package import write_new

    out, build, renderer = Out(args), opened(args), Renderer()
    (width, height), at = args.size, args.at
    if at and not (0 <= at[0] < width and 0 <= at[1] < height):
        raise RequestError(f"pixel {at[0]},{at[1]} is outside the {width} x {height} frame")
    frame = renderer.frame(build, Request(args.viewpoint, args.size, None, args.target))
    told = edges_at(Survey(build, renderer, args.target, size=args.size, pictures=False), args.viewpoint, at)
    found = AlphaEdgesDocument.from_core(build, args.viewpoint, told, at)
    rows = [
        [m.material, m.kind, _held(m.holds) if m.filtered else "-", _held(m.read_as) if m.filtered else "-",
         "-" if m.filtered is None else "multiplied" if m.filtered == "premultiplied" else "as they are", str(m.misread_px),
         str(m.averaged_px), f"{m.worst_delta_e:.1f}", "-" if m.due_px is None else f"{m.drawn_px} of {m.due_px:.0f}"]
        for m in found.materials
    ]  # fmt: skip
    head = ["material", "kind", "colours are", "drawn as", "averaged", "px misread", "px rim", "worst dE", "coverage, px"]
    out.table(f"{args.viewpoint}, edges of what has alpha", head, rows)
    for m in found.materials:
        for v in m.levels:
            out.say(f"{m.material}, mip level {v.level}: {v.drawn} of {v.pixels} px are drawn, {v.due:.0f} are due")
        if m.at:
            shown, due = (" ".join(f"{c:.4f}" for c in v) for v in (m.at.drawn, m.at.due))
            out.say(f"{m.material} at {m.at.x},{m.at.y}: {shown} nits, due {due}, CIEDE2000 {m.at.delta_e:.2f}")
    if args.picture:
        masks = [mask for e in told for mask in (e.misread, e.averaged) if mask is not None]
        marked = np.any(masks, axis=0) if masks else np.zeros(frame.pixels.shape, bool)
        write_new(args.picture, png_of(painted(frame.display, marked)), inputs(args))
    out.result(found, inputs(args))
    return int(any(m.beyond for m in found.materials))


def _held(holds: Any) -> str:
    from eddyfall.core.layers.edges import WORDS

    return WORDS.get(holds, "not to be told")


def overdraw(args: argparse.Namespace) -> int:
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.overdraw import OverdrawDocument
    from eddyfall.core.layers.overdraw import overdraw_of

    out, build = Out(args), opened(args)
    frame = Renderer().frame(build, Request(args.viewpoint, args.size, None, args.target), "linear")
    found = OverdrawDocument.from_core(build, args.viewpoint, frame, overdraw_of(frame))
    limit = "no limit" if found.limit is None else f"{found.limit:g} allowed"
    each = f"{found.mean:.3f} blended layers a pixel ({limit}), {found.deepest} at the most"
    out.say(f"{found.viewpoint}: {each}; {found.idle:.1%} of them change nothing")
    rows = [
        [v.drawable, str(v.fragments), str(v.hidden), str(v.idle), "-" if v.trims is None else f"{v.trims:.1%}"]
        for v in found.laid
    ]
    out.table("", ["thing", "fragments", "hidden", "change nothing", "trimming saves"], rows)
    out.result(found, inputs(args))
    return int(found.limit is not None and found.mean > found.limit)
