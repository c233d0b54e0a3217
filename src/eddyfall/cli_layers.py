"""Commands about blended layers: order, flip-map, eyes, blend-advice."""

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from eddyfall.cli_tools import Out, inputs, numbers, opened
from eddyfall.core.errors import RequestError, printable


def add_commands(command: Callable[..., Any]) -> None:
    """Add the commands to the parser."""
    sub = command(
        "order",
        order,
        "hold the draw order of blended things against where they lie: at a viewpoint, at a pixel layer by layer, along a move",
    )
    sub.add_argument("--viewpoint", help="whose frame; where a turn, an approach or a sway starts")
    asked = sub.add_mutually_exclusive_group()
    asked.add_argument("--at", type=numbers(2), metavar="X,Y", help="the layers of a pixel of the viewpoint")
    asked.add_argument("--move", metavar="NAME", help="a move of the setup, or turn, approach, sway from the viewpoint")
    sub.add_argument(
        "--picture", type=Path, metavar="F.png", help="write its frame with every pixel's layers in their true order"
    )
    sub = command(
        "flip-map", flip_map, "say where two blended things change places in the draw order: lines on the floor, or headings"
    )
    asked = sub.add_mutually_exclusive_group()
    asked.add_argument("--move", metavar="NAME", help="along one move of the setup (default: all)")
    asked.add_argument(
        "--floor", nargs="?", const=(), type=metres, metavar="X0,Z0,X1,Z1",
        help="on a floor instead, cell by cell (default: where viewpoints and moves stand, and 2 m around)",
    )  # fmt: skip
    sub.add_argument("--height", type=float, metavar="M", help="of the eye above the floor (default: as viewpoints have it)")

    sub = command("eyes", eyes, "say where the two eyes of a headset draw blended things in different orders")
    sub.add_argument("--viewpoint", help="whose settings hold, and where one stands")
    sub.add_argument("--move", metavar="NAME", help="a move of the setup to look along")
    sub.add_argument("--gap", type=float, metavar="MM", help="between the eyes (default: order.eye_gap_mm, else 64)")

    command(
        "blend-advice",
        blend_advice,
        "say what kind of blending the alpha of each blended material asks for, by the texels it covers",
    )


def blend_advice(args: argparse.Namespace) -> int:
    from eddyfall.core.defects.blend_kinds import blended_materials, census_of
    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.draw_order import CensusDocument

    out, build = Out(args), opened(args)
    survey = Survey(build, Renderer(), args.target)
    found = [CensusDocument.from_core(census_of(survey, m)) for m in blended_materials(survey)]
    rows = [
        [c.material, str(c.texels), f"{c.open:.3f}", f"{c.most:.3f}", f"{c.clear:.3f}",
         "-" if c.edge_texels is None else f"{c.edge_texels:.2f}",
         str(c.hole), f"{c.area_m2:.3g}", f"{c.follows:.2f}", c.advice + (" (wired)" if c.wired else "")]
        for c in found
    ]  # fmt: skip
    head = [
        "material",
        "covered texels",
        "lets through",
        "at the most",
        "all or nothing",
        "edges, texels",
        "largest hole",
        "area, m2",
        "follows brightness",
        "asks for",
    ]
    out.table("", head, rows)
    out.result(found, inputs(args))
    return int(any(c.advice in ("opaque", "cutout") for c in found))


def eyes(args: argparse.Namespace) -> int:
    from eddyfall.core.frame.moves import path_of
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.eyes import EyesDocument
    from eddyfall.core.layers.eyes import through_both

    out, build, renderer = Out(args), opened(args), Renderer()
    if args.viewpoint is None and args.move is None:
        raise RequestError("say --viewpoint, or --move of the setup")
    if args.gap is not None and not 0 < args.gap <= 1000:
        raise RequestError("a gap between the eyes is more than 0 and at most 1000 mm")
    path = path_of(build, args.move, args.size[0] / args.size[1]) if args.move else None
    request = Request(args.viewpoint or (path.viewpoint if path else ""), args.size, None, args.target)
    found = EyesDocument.from_core(through_both(renderer, build, request, path, args.gap))
    out.say(
        f"eyes {found.gap_mm:g} mm apart, {'sorted from between them' if found.eyes == 'shared' else 'each sorting for itself'}: "
        f"{len(found.bands)} stretches of a move and {len(found.pairs)} pairs at the viewpoint differ"
    )
    rows = [
        [b.first, b.second, f"{b.from_s:.4f}", f"{b.to_s:.4f}", " ".join(f"{v:.4f}" for v in b.from_eye),
         " ".join(f"{v:.4f}" for v in b.to_eye), f"{b.seen.pixels} ({b.seen.eye} eye)" if b.seen else "-" if b.drawn else "not drawn"]
        for b in found.bands
    ]  # fmt: skip
    if rows:
        out.table("", ["one", "other", "from s", "to s", "from m", "to m", "px differ"], rows)
    if found.pairs:
        rows = [[p.left_first, p.right_first, str(p.pixels), p.eye, f"{p.worst:.2f}"] for p in found.pairs]
        out.table("", ["the left draws first", "the right", "px", "of eye", "CIEDE2000 up to"], rows)
    out.result(found, inputs(args))
    return int(bool(found.pairs) or any(b.seen for b in found.bands))


def order(args: argparse.Namespace) -> int:
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.truth.moving.along import move_of

    if args.viewpoint is None and args.move is None:
        raise RequestError("say --viewpoint, or --move of the setup")
    if args.picture and (args.at or args.move):
        raise RequestError("a picture is of the whole frame of a viewpoint: leave --at and --move out")
    out, build, renderer = Out(args), opened(args), Renderer()
    if args.move is not None:
        request = Request(args.viewpoint or "", args.size, None, args.target)
        return _along(args, out, build, renderer, move_of(renderer, build, args.move, args.viewpoint, request), request)
    request = Request(args.viewpoint, args.size, None, args.target)
    return _at(args, out, renderer, build, request) if args.at else _frame(args, out, renderer, build, request)


def _frame(args: Any, out: Out, renderer: Any, build: Any, request: Any) -> int:
    from eddyfall.core.handover.documents.draw_order import FrameOrderDocument
    from eddyfall.core.handover.exr import png_of
    from eddyfall.core.handover.package import write_new
    from eddyfall.core.layers.capture import captured
    from eddyfall.core.layers.level import levels_in
    from eddyfall.core.layers.lost import as_it_lies
    from eddyfall.core.layers.pairs import LEAST_PIXELS, shown_as, wrong_pairs

    layers = captured(renderer, build, request)
    levels = levels_in(renderer, build, request, layers)
    found = FrameOrderDocument.from_core(args.viewpoint, layers, wrong_pairs(layers), levels)
    how = (
        f"by {_key(found.key)}, first to last"
        if found.method == "sorted"
        else f"put together as {found.method}, without an order"
    )
    out.say(f"{args.viewpoint}: {len(found.order)} blended things {how}: {', '.join(found.order) or 'none'}")
    out.say(f"{found.off_px} px differ visibly from every pixel's layers drawn farthest first")
    rows = [[p.early, p.late, str(p.pixels), f"{p.nit_px:.1f}", f"{p.worst:.2f}"] for p in found.pairs]
    if rows:
        out.table(
            "pairs in the wrong order", ["drawn too early (nearer)", "drawn over it", "px", "nit px", "CIEDE2000 up to"], rows
        )
    for c in found.hidden:
        out.say(f"{c.writer} writes its depth and hides {', '.join(c.hidden)} behind it: {c.pixels} px, {c.nit_px:.1f} nit px")
    for two in found.level:
        sorted_by = (
            "depth does not say which is in front, a direction would" if found.key != "direction" else "by rank and direction"
        )
        why = "though it stands before: no direction reaches what is solid" if two.stages else sorted_by
        out.say(f"{two.first} and {two.second} lie at one depth: {two.first} is drawn first, {why}: {two.pixels} px")
    if args.picture:
        write_new(args.picture, png_of(shown_as(layers.frame, as_it_lies(renderer, build, layers, request))), inputs(args))
    out.result(found, inputs(args))
    off = [p.pixels for p in found.pairs] + [c.pixels for c in found.hidden] + [two.pixels for two in found.level if two.stages]
    return int(max(off, default=0) >= LEAST_PIXELS)


def _at(args: Any, out: Out, renderer: Any, build: Any, request: Any) -> int:
    from eddyfall.core.handover.documents.draw_order import StrataDocument
    from eddyfall.core.layers.capture import captured
    from eddyfall.core.layers.glass_strata import strata_in
    from eddyfall.core.layers.strata import CUTS_NOTHING, HIDDEN, IN_PLACE

    found = StrataDocument.from_core(strata_in(renderer, build, captured(renderer, build, request), request, *args.at))
    out.say(
        f"pixel {args.at[0]},{args.at[1]}: opaque {_nits(found.opaque)}, drawn {_nits(found.drawn)}, due {_nits(found.due)} nit"
    )
    solid, copied = ("nothing" if m is None else f"{m:.3f} m" for m in (found.solid_m, found.copied_m))
    out.say(
        f"what is solid: {solid}; the depth copy, which fog and whatever takes the depth of the frame reads for all layers: {copied}"
    )
    rows = [
        [str(k + 1), s.drawable, s.kind, f"{s.far_m:.3f} m", _nits(s.keep), _nits(s.lay), _nits(s.share),
         str(found.true.index(k) + 1) if k in found.true else "-", s.place + (f": {', '.join(s.against)}" if s.against else "")]
        for k, s in enumerate(found.strata)
    ]  # fmt: skip
    out.table("", ["drawn", "thing", "kind", "from the eye", "keeps", "lays", "of the picture", "lies", ""], rows)
    out.result(found, inputs(args))
    return int(any(s.place not in (IN_PLACE, HIDDEN, CUTS_NOTHING) for s in found.strata))


def _along(args: Any, out: Out, build: Any, renderer: Any, path: Any, request: Any) -> int:
    from eddyfall.core.handover.documents.draw_order import WalkedDocument
    from eddyfall.core.layers.along_move import walked

    with out.progress() as progress:
        found = WalkedDocument.from_core(walked(renderer, build, path, request, progress), args.size)
    out.say(
        f"{found.move} from {found.viewpoint}: {len(found.lanes)} blended things by {_key(found.key)}, {len(found.pops)} change places"
    )
    rows = [
        [f"{p.t_s:.4f}", ", ".join(f"{v:.4f}" for v in p.eye), f"{p.first}, then {p.second}", str(p.pixels), f"{p.nit_px:.0f}",
         f"{p.worst:.2f}", p.turn]
        for p in found.pops
    ]  # fmt: skip
    if rows:
        out.table("", ["s", "eye", "before; after the other way", "px", "nit px", "CIEDE2000", ""], rows)
    for two in found.flickers:
        out.say(
            f"{two.first} and {two.second} flicker: they change places {two.in_a_second} times in a second, {two.times} in all"
        )
    if found.undrawn:
        out.say(f"{found.undrawn} more were not drawn")
    off = [[f"{k.t_s:.2f}", p.late, p.early, str(p.pixels), f"{p.nit_px:.1f}"] for k in found.looks for p in k.pairs]
    if off:
        width, height = found.looked_at
        out.table(f"off on the way, px of {width} x {height}", ["s", "this", "is drawn over what is nearer", "px", "nit px"], off)
    out.result(found, inputs(args))
    return int(found.wrong)


def flip_map(args: argparse.Namespace) -> int:
    from eddyfall.core.frame.moves import path_of
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.draw_order import WalkedDocument
    from eddyfall.core.layers.along_move import walked

    out, build, renderer = Out(args), opened(args), Renderer()
    if args.height is not None and args.floor is None:
        raise RequestError("a height of the eye belongs to --floor")
    if args.floor is not None:
        return _floor(args, out, build, renderer)
    names = [args.move] if args.move else list(build.setup.moves)
    if not names:
        raise RequestError("the setup has no moves: say where one walks")
    found = []
    for name in names:
        path = path_of(build, name, args.size[0] / args.size[1])
        found.append(
            WalkedDocument.from_core(walked(renderer, build, path, Request("", args.size, None, args.target)), args.size)
        )
    rows = []
    for w in found:
        for n in w.lines:
            pops = [p for p in w.pops if {p.first, p.second} == {n.first, n.second}]
            where = "no straight line: keys are shifted, or of nearest points"
            if n.floor is not None:
                where = f"{n.floor[0]:.4g} x + {n.floor[1]:.4g} z = {n.floor[2]:.4g}"
            elif n.heading_deg is not None:
                where = f"no line on any floor: a heading {n.heading_deg:.2f} deg right of -z"
            rows.append([w.move, n.first, n.second, where, str(max(p.pixels for p in pops))])
    out.table("", ["move", "one", "other", "change places where", "px that pop, at most"], rows)
    out.result(found, inputs(args))
    return int(any(w.wrong for w in found))


def _floor(args: Any, out: Out, build: Any, renderer: Any) -> int:
    from eddyfall.core.frame.render import Request
    from eddyfall.core.handover.documents.draw_order import FloorDocument
    from eddyfall.core.layers.floor import floor_map, floor_of

    if not build.setup.viewpoints:
        raise RequestError("the build has no viewpoints: whose settings hold is not said")
    frame = renderer.frame(build, Request(next(iter(build.setup.viewpoints)), (96, 54), None, args.target), "linear")
    rect, height = floor_of(build, frame)
    found = floor_map(frame, args.floor or rect, height if args.height is None else args.height)
    told = FloorDocument.from_core(found, [d.name for d in frame.geometry.drawables])
    whole = found.shape[0] * found.shape[1] * found.cell_m**2
    rows = [
        [p.first, p.second, f"{p.over_m2:.2f}", f"{p.wrong_m2:.2f}", f"{p.wrong_m2 / whole:.1%}"]
        for p in sorted(told.pairs, key=lambda p: -p.wrong_m2)
    ]
    head = ["one", "other", "m2 where one lies before the other", "m2 where the order is wrong", "of the floor"]
    out.table(f"{whole:.1f} m2 of floor, eyes at {found.height_m:.2f} m", head, rows)
    if told.left_out:
        out.say(f"{told.left_out} more blended things were not asked about")
    out.result(told, inputs(args))
    return int(any(p.wrong_m2 > 0 for p in told.pairs))


def metres(text: str) -> tuple[float, ...]:
    """x0, z0, x1, z1 of a floor."""
    parts = text.split(",")
    try:
        values = tuple(float(p) for p in parts)
    except ValueError:
        values = ()
    if len(values) != 4:
        raise argparse.ArgumentTypeError(f"{printable(text)!r} is not four numbers with commas between")
    return values


def _key(key: str) -> str:
    return {"view_depth": "depth along the view", "range": "range to the eye", "direction": "a fixed direction"}[key]


def _nits(values: Any) -> str:
    same = max(values) - min(values) < 1e-9
    return f"{values[0]:.4g}" if same else " ".join(f"{v:.4g}" for v in values)
