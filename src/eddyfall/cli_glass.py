"""Commands about what is seen through things and what they take part in: glass, plates, pass-table."""

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from eddyfall.cli_tools import Out, inputs, numbers, opened
from eddyfall.core.errors import RequestError


def add_commands(command: Callable[..., Any]) -> None:
    """Add the commands to the parser."""
    sub = command(
        "glass", glass, "say what is lost behind what lets light through, or why glass does not, link by link, at a pixel"
    )
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--at", type=numbers(2), metavar="X,Y", help="the chain of the glass in that pixel")
    sub.add_argument(
        "--subject", metavar="NODE", help="which thing in the pixel (default: the nearest that is meant to let light through)"
    )
    sub.add_argument("--picture", type=Path, metavar="F.png", help="write the frame with what is lost marked")
    sub = command(
        "plates", plates, "stand things before a black and a white plate: what they keep of what is behind, what they lay over it"
    )
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--subject", required=True, action="append", metavar="NODE", help="a thing; may be given again")
    sub.add_argument("--at", type=numbers(2), metavar="X,Y", help="also tell of one pixel")

    sub = command("pass-table", pass_table, "say what each material takes part in, as declared and as hiding it shows")
    sub.add_argument("--viewpoint", required=True)


def pass_table(args: argparse.Namespace) -> int:
    from eddyfall.core.defects.pass_table import pass_table_of
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.pass_table import BuildPassTableDocument

    out, build, renderer = Out(args), opened(args), Renderer()
    with out.progress() as progress:
        rows = pass_table_of(renderer, build, Request(args.viewpoint, target=args.target), progress)
    found = BuildPassTableDocument.from_core(args.viewpoint, rows)
    told = [[r.material, *(c.status + (" !" if c.disagrees else "") for c in r.cells)] for r in found.rows]
    out.table(f"{found.viewpoint}, what each material takes part in", ["material", *found.consumers], told)
    for r in found.rows:
        for c in r.cells:
            if c.status in ("missing", "mismatched"):
                out.say(f"{r.material}, {c.consumer}: {c.status} ({c.because})")
    if found.disagreements:
        out.say(f"! in {found.disagreements} cells hiding the material shows something else: that is a fault of ours")
    out.result(found, inputs(args))
    return int(found.disagreements > 0 or any(c.status == "mismatched" for r in found.rows for c in r.cells))


def glass(args: argparse.Namespace) -> int:
    from eddyfall.core.frame.render import Renderer, Request

    out, build, renderer = Out(args), opened(args), Renderer()
    request = Request(args.viewpoint, args.size, None, args.target)
    if args.at:
        if args.picture:
            raise RequestError("a picture is of the whole frame: leave --at out")
        return _chain(args, out, build, renderer, request)
    if args.subject:
        raise RequestError("a subject belongs to --at")
    return _frame(args, out, build, renderer, request)


def _chain(args: Any, out: Out, build: Any, renderer: Any, request: Any) -> int:
    from eddyfall.core.handover.documents.glass import ChainDocument
    from eddyfall.core.layers.chain import measured_at

    told, k = measured_at(renderer, build, request, args.at[0], args.at[1], args.subject)
    found = ChainDocument.from_core(told, build, k)
    rows = [
        ["" if link.holds else "BROKEN", link.name, link.value, link.need, link.decides, link.fix or ""] for link in found.links
    ]
    out.table(
        f"{found.drawable} ({found.material}), {found.far_m:.3g} m from the eye, pixel {found.x},{found.y}",
        ["", "link", "is", "needs", "decided by", "what would mend it"], rows,
    )  # fmt: skip
    behind = [f"{b.drawable} ({b.kind}{'' if b.in_copy else ', in no copy'})" for b in found.behind]
    out.say(f"behind it, nearest first: {', '.join(behind)}")
    out.say(
        f"keeps {_three(found.measured)} of what is behind; with every link whole {_three(found.whole)}, real glass {_three(found.due)}"
    )
    if found.bends_px > 0:
        truth = "" if found.true_px is None else f"; what lies behind it would be shifted by {found.true_px:.3f} px"
        out.say(f"reads the copy {found.bends_px:.3f} px off, at {found.reads_px[0]:.1f}, {found.reads_px[1]:.1f}{truth}")
    if found.first_broken:
        then = f", next to break: {found.next_broken}" if found.next_broken else ""
        out.say(f"first broken: {found.first_broken}{then}")
    out.result(found, inputs(args))
    return int(found.first_broken is not None)


def _frame(args: Any, out: Out, build: Any, renderer: Any, request: Any) -> int:
    import numpy as np

    from eddyfall.core.defects.glass_faults import shut_at
    from eddyfall.core.defects.survey import Survey, painted
    from eddyfall.core.handover.documents.glass import GlassDocument
    from eddyfall.core.handover.exr import png_of
    from eddyfall.core.handover.package import write_new
    from eddyfall.core.layers.lost import lost_in
    from eddyfall.core.layers.pairs import LEAST_PIXELS

    lost = lost_in(renderer, build, request)
    frame = renderer.frame(build, request)
    shut = shut_at(Survey(build, renderer, args.target, size=args.size, pictures=False), args.viewpoint)
    found = GlassDocument.from_core(args.viewpoint, frame, lost, shut)
    out.say(
        f"{args.viewpoint}: {len(found.panes)} things let light through ({', '.join(found.panes) or 'none'}), {found.layers} deep"
    )
    rows = [
        [
            one.drawable,
            ", ".join(one.panes),
            one.how,
            str(one.pixels),
            str(one.all_pixels),
            f"{one.nit_px:.1f}",
            f"{one.brighter:+.1%}",
        ]
        for one in found.lost
    ]
    out.table("", ["lost", "behind", "why", "px off visibly", "px", "nit px", "light there"], rows)
    for one in found.shut:
        links, keeps = ", ".join(one.broken), f"keeps {one.kept:.3f}, real glass {one.due:.3f}"
        out.say(f"{one.material} lets no light through on {one.pixels} px: {links}; {keeps}")
    if args.picture:
        mask = np.any([one.where for one in lost], axis=0) if lost else np.zeros(frame.pixels.shape, bool)
        write_new(args.picture, png_of(painted(frame.display, mask)), inputs(args))
    out.result(found, inputs(args))
    return int(bool(found.shut) or any(one.pixels >= LEAST_PIXELS for one in found.lost))


def plates(args: argparse.Namespace) -> int:
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.glass import PlatesDocument
    from eddyfall.core.layers.plates import plates as behind

    out, build, renderer = Out(args), opened(args), Renderer()
    names = [d.name for d in renderer.geometry(build).things]
    for wanted in args.subject:
        if wanted not in names:
            raise RequestError(f"there is no {wanted!r:.60} among {len(names)} things")
    (width, height), at = args.size, args.at
    if at and not (0 <= at[0] < width and 0 <= at[1] < height):
        raise RequestError(f"pixel {at[0]},{at[1]} is outside the {width} x {height} frame")
    subjects = [n for n, name in enumerate(names) if name in args.subject]
    told = behind(renderer, build, Request(args.viewpoint, args.size, None, args.target), subjects)
    found = PlatesDocument.from_core(args.viewpoint, args.subject, told, tuple(at) if at else None)
    rows = [[f"mean of {found.covered_px} px", _three(found.k), _three(found.b)]]
    if found.at and found.k_at and found.b_at:
        rows.append([f"pixel {found.at[0]},{found.at[1]}", _three(found.k_at), _three(found.b_at)])
    out.table(
        f"{', '.join(args.subject)} at {args.viewpoint}, acts as {found.acts_as}", ["", "keeps", "lays over it, nits"], rows
    )
    out.result(found, inputs(args))
    return 0


def _three(values: list[float]) -> str:
    return f"{values[0]:.4f}" if max(values) - min(values) < 5e-5 else " ".join(f"{v:.4f}" for v in values)
