"""Commands about light: reference, compare, where-light, moves, response, swap-shader, probes, migrate, roles, dials, budget."""

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from eddyfall.cli_tools import Out, inputs, numbers, opened
from eddyfall.core.errors import printable


def add_commands(command: Callable[..., Any]) -> None:
    """Add the commands to the parser."""
    sub = command(
        "reference",
        reference,
        "follow light's paths to what a viewpoint ought to show, part by part, and say how noisy that is",
    )
    _way(sub)
    sub.add_argument("--error", type=float, metavar="SHARE", help="end sooner, once noise is this share of the mean (0.02: 2 %%)")
    sub.add_argument("--spread", action="store_true", help="spread samples over their pixels (default: all through the middle)")
    sub.add_argument("--picture", type=Path, metavar="F.png", help="write the reference, exposed as the frame")
    sub.add_argument("--exr", type=Path, metavar="F.exr", help="write it scene-linear in nits, a layer a part")
    sub = command(
        "compare",
        compare,
        "hold a frame against its reference: what differs in shadow, shading, bounce, reflection ..., in nits and stops",
    )
    _way(sub)
    sub.add_argument("--against", type=Path, metavar="F.exr", help="hold it against this picture instead, its exposure fitted")

    sub = command(
        "where-light",
        where_light,
        "say where the light is that surfaces get from others: on the frame, off it, hidden, behind the camera; what each remedy can bring",
    )
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--crop", type=numbers(4), metavar="X0,Y0,X1,Y1", help="of the frame (default: all of it)")
    sub.add_argument(
        "--at", type=place, metavar="X,Y,Z", help="a place of the world in m instead, whether the frame shows it or not"
    )
    sub.add_argument("--samples", type=int, default=64, metavar="N", help="of each place (default 64)")
    sub.add_argument("--places", type=int, default=512, metavar="N", help="spread over the crop (default 512)")
    sub.add_argument("--bounces", type=int, default=8, metavar="N", help="how often light is reflected at the most (default 8)")
    sub = command(
        "moves",
        moves,
        "look along a move of the camera: how far places drift from the light that is due to them, when, why, and what helps",
    )
    sub.add_argument(
        "--move", required=True, metavar="NAME", help="a move of the setup, or turn, approach, sway from a viewpoint"
    )
    sub.add_argument(
        "--viewpoint", help="where a turn, an approach or a sway starts; of another move: whose frame the crop is of"
    )
    sub.add_argument(
        "--crop", type=numbers(4), metavar="X0,Y0,X1,Y1", help="of the frame (default: all of it), for places to look at"
    )
    sub.add_argument("--at", type=place, metavar="X,Y,Z", help="a place of the world in m instead")
    sub.add_argument("--from", dest="from_s", type=float, metavar="S", help="moment of the crop in s (default: the first)")
    sub.add_argument("--anchors", type=int, default=64, metavar="N", help="places spread over the crop (default 64)")
    sub.add_argument("--samples", type=int, metavar="N", help="of each place (default: so many that their mean is smooth)")
    sub.add_argument("--bounces", type=int, default=8, metavar="N", help="how often light is reflected at the most (default 8)")
    sub.add_argument("--every", type=int, metavar="N", help="draw every Nth pose, besides the worst")
    sub.add_argument("--limit", type=float, default=0.25, metavar="STOPS", help="drift that is let pass (default 0.25)")
    sub = command(
        "response",
        response,
        "say how materials answer light: alone in even light and in the sun, in place against what is due, and why one does not",
    )
    sub.add_argument("--viewpoint", help="only at this viewpoint (default: at all that are judged)")
    sub.add_argument(
        "--material", action="append", metavar="NAME", help="only this one; may be said again (default: all that are seen)"
    )
    sub = command(
        "swap-shader",
        swap_shader,
        "rehearse another base shader for a material: what becomes of its pictures, in the sun, in shade, on screen",
    )
    sub.add_argument("--material", required=True, metavar="NAME")
    sub.add_argument("--to", required=True, metavar="SHADER", help="a base shader of the setup, or a stock one")
    sub.add_argument("--changes", type=Path, metavar="F.json", help="write the change, to be applied with `apply`")
    sub = command(
        "probes",
        probes,
        "hold reflection probes, planar mirrors and light grids against what is really there: parallax, leaks, steps, what is stale",
    )
    sub.add_argument("--viewpoint", help="only at this viewpoint (default: at all that are judged)")
    sub.add_argument("--at", type=place, metavar="X,Y,Z", help="a place of the world in m: say how far off it is shown, too")
    sub.add_argument(
        "--changes", type=Path, metavar="F.json", help="write the change that captures what is missing or stale, for `apply`"
    )
    sub = command(
        "migrate",
        migrate,
        "say what a build of an older release leaves out, what switching that on does, which fills it doubles, how far lamps need to reach",
    )
    sub.add_argument("--viewpoint", help="only at this viewpoint (default: at all that are judged)")
    sub.add_argument("--changes", type=Path, metavar="F.json", help="write the changes that follow: bounce on, fills out, ranges")
    sub = command(
        "roles",
        roles,
        "hold two roles side by side: each setting in which they differ, who set it, what it does to the view alone and with the others",
    )
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--first", default="edit", metavar="ROLE", help="held against the second (default edit)")
    sub.add_argument("--second", default="play", metavar="ROLE", help="(default play)")
    sub.add_argument("--crop", type=numbers(4), metavar="X0,Y0,X1,Y1", help="of the frame (default: all of it)")
    sub = command(
        "dials",
        dials,
        "turn each dial of bounce and reflection by itself: nits nearer to what is due, noise, steps, bytes, time",
    )
    sub.add_argument("--viewpoint", required=True)
    sub = command(
        "budget",
        budget,
        "count what occlusion, bounce and reflection hold in memory, target by target, beside the target's limit",
    )
    sub.add_argument("--viewpoint", help="only at this viewpoint (default: at all that are judged)")


def place(text: str) -> tuple[float, float, float]:
    parts = text.split(",")
    try:
        x, y, z = (float(p) for p in parts)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{printable(text)!r} is not three numbers with commas between") from None
    if not all(abs(v) < 1e7 for v in (x, y, z)):
        raise argparse.ArgumentTypeError(f"{printable(text)!r} is no place of the world")
    return x, y, z


def _way(sub: Any) -> None:
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--crop", type=numbers(4), metavar="X0,Y0,X1,Y1", help="of the frame (default: all of it)")
    sub.add_argument("--points", type=int, metavar="N", help="ask so many places spread over it instead of every pixel")
    sub.add_argument("--samples", type=int, default=64, metavar="N", help="of each pixel, at the most (default 64)")
    sub.add_argument("--bounces", type=int, default=8, metavar="N", help="how often light is reflected at the most (default 8)")
    sub.add_argument("--state", type=Path, metavar="F.npz", help="go on from what was put away here, and put it away again")


def _wanted(args: Any) -> Any:
    from eddyfall.core.frame.render import Request
    from eddyfall.core.truth.reference.of_frame import Wanted
    from eddyfall.core.truth.reference.trace import Asked

    return Wanted(
        request=Request(args.viewpoint, args.size, args.crop, args.target), samples=args.samples, noise=getattr(args, "error", None),
        points=args.points, asked=Asked(bounces=args.bounces, spread=getattr(args, "spread", False)),
    )  # fmt: skip


class _Kept:
    """A tally on disk: what was there before, and what is there once a round is done; an interrupt loses none of it."""

    def __init__(self, path: Path | None) -> None:
        from eddyfall.core.truth.reference.tally import Tally

        self.path = path
        self.held = Tally.load(path) if path is not None and path.exists() else None

    def put(self, tally: Any) -> None:
        if self.path is not None:
            tally.save(self.path)


def reference(args: Any) -> int:
    from PIL import Image

    from eddyfall.core.errors import RequestError
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.light_account import ReferenceDocument
    from eddyfall.core.handover.exr import reference_exr
    from eddyfall.core.handover.package import write_new
    from eddyfall.core.truth.reference.of_frame import picture_of, reference_of

    out, build, kept, wanted = Out(args), opened(args), _Kept(args.state), _wanted(args)
    if args.points is not None and (args.picture or args.exr):
        raise RequestError("a picture needs every pixel: leave --points out")
    with out.progress() as progress:
        found = reference_of(Renderer(), build, wanted, kept.held, progress, kept.put)
    document = ReferenceDocument.from_core(wanted, found)
    out.say(
        f"{args.viewpoint}: {document.pixels} px, {document.noise.samples} samples each, light followed over {args.bounces} bounces"
    )
    rows = [[p.part, *(f"{v:.5g}" for v in p.nits)] for p in (*document.lights, *document.parts) if any(p.nits)]
    out.table("mean nits that reach the eye", ["from", "red", "green", "blue"], rows)
    _say_noise(out, document.noise)
    if args.picture:
        Image.fromarray(picture_of(found)).save(args.picture)
    if args.exr:
        write_new(args.exr, reference_exr(found), inputs(args))
    out.result(document, inputs(args))
    return 0


def compare(args: Any) -> int:
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.light_account import AccountDocument
    from eddyfall.core.truth.reference.of_frame import compare as compared

    if args.against:
        return _against(args)
    out, build, kept, wanted = Out(args), opened(args), _Kept(args.state), _wanted(args)
    with out.progress() as progress:
        found = compared(Renderer(), build, wanted, kept.held, progress, kept.put)
    account = AccountDocument.from_core(wanted, found)
    out.say(
        f"{account.viewpoint}: the frame has {account.standin:.5g} nit on the mean, the reference {account.reference:.5g} "
        f"(+- {account.error:.2g}): {_stops(account.stops)}"
    )
    rows = [
        [r.part, f"{r.luminance:+.4g}", _stops(r.stops), "" if r.shown else "within floor and noise", r.means]
        for r in account.rows
        if r.luminance
    ]
    out.table("stand-in less reference", ["part", "nits", "with it, against it put right", "", "what it is"], rows)
    rows = [[v.light, f"{v.standin:.4g}", f"{v.reference:.4g}"] for v in account.lights]
    if rows:
        out.table("", ["light", "nits drawn", "nits due"], rows)
    _say_noise(out, account.noise)
    out.result(account, inputs(args))
    return 1 if any(r.shown for r in account.rows) else 0


def _against(args: Any) -> int:
    from eddyfall.core.errors import RequestError
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.light_account import AgainstDocument
    from eddyfall.core.truth.reference.against import against, read_picture

    out, build = Out(args), opened(args)
    if args.crop or args.points or args.state:
        raise RequestError("--against compares whole frames: leave --crop, --points and --state out")
    frame = Renderer().frame(build, Request(args.viewpoint, args.size, None, args.target), "linear")
    found = AgainstDocument.from_core(
        args.viewpoint, args.against.name, against(frame.linear, read_picture(args.against, args.size))
    )
    right, down = found.misaligned_px
    out.say(
        f"{found.picture} is exposed by {_stops(found.scale_stops)} to meet the frame [fitted], and lies {right} px right, {down} px down"
    )
    x0, y0, x1, y1 = found.worst_region
    out.say(
        f"half of {found.pixels} px are off by less than {found.median_off_stops:.3g} stops; most so at {x0},{y0} to {x1},{y1}: "
        f"{_stops(found.worst_stops)}"
    )
    out.result(found, inputs(args))
    return 0


def where_light(args: Any) -> int:
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.where_light import WhereDocument
    from eddyfall.core.truth.reference.where import where_light as asked

    out, build = Out(args), opened(args)
    request = Request(args.viewpoint, args.size, args.crop, args.target)
    ways = {"samples": args.samples, "bounces": args.bounces, "places": args.places}
    with out.progress() as progress:
        found = WhereDocument.from_core(args.viewpoint, asked(Renderer(), build, request, at=args.at, **ways, progress=progress))
    out.say(
        f"{found.viewpoint}: {found.due:.4g} nit are due on the mean of {found.places} places, {found.from_others:.4g} of it from other "
        "surfaces and the sky"
    )
    rows = [[c.where, f"{c.share * 100:.1f} %", f"{c.bounce:.4g}", f"{c.reflection:.4g}"] for c in found.classes]
    out.table("", ["where it is", "rays", "nits bounced", "nits mirrored"], rows)
    if found.in_lightmaps:
        out.say(f"{found.in_lightmaps:.4g} nit of it lie in lightmaps already")
    for answer in found.answers:
        rows = [
            [c.where, *(f"{v:.4g}" for v in (c.found, c.wrong_hit, c.missed, c.fell_back, c.not_asked))] for c in answer.classes
        ]
        head = ["nits it is asked for", "found", "wrong hit", "missed", "fell back", "not asked"]
        out.table(f"what {answer.name} makes of it, falling back on {answer.fallback}", head, rows)
    rows = [[s.drawable, s.where, f"{s.nits:.4g}"] for s in found.sources]
    out.table("", ["light of", "which is", "nits"], rows)
    if found.hidden_by:
        out.say("hidden by " + ", ".join(f"{h.drawable} ({h.nits:.3g} nit)" for h in found.hidden_by))
    rows = [[c.remedy, f"{c.nits:.4g}", _stops(c.stops), c.why] for c in found.ceilings]
    out.table("the most that can be had [predictions]", ["by", "nits", "against what is due", "it has"], rows)
    rows = [[f"{m.px} px", f"+{m.pixels_more * 100:.0f} %", f"{m.nits:.4g}"] for m in found.margin]
    out.table("", ["a margin of", "pixels", "nits on it"], rows)
    out.result(found, inputs(args))
    return 0


def moves(args: Any) -> int:
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.moves import AlongDocument
    from eddyfall.core.truth.moving.along import Asked, along, move_of, spot_of

    out, build, renderer = Out(args), opened(args), Renderer()
    request = Request(args.viewpoint or "", args.size, args.crop, args.target)
    path = move_of(renderer, build, args.move, args.viewpoint, request)
    asked = Asked(
        path=path, request=request, spot=spot_of(build, args.move, args.viewpoint, request), at=args.at, from_s=args.from_s,
        anchors=args.anchors, samples=args.samples, bounces=args.bounces,
        every=args.every, limit_stops=args.limit,
    )  # fmt: skip
    with out.progress() as progress:
        found = AlongDocument.from_core(along(renderer, build, asked, progress))
    holds = "it holds" if found.holds else f"it does NOT hold within {found.limit_stops:g}"
    drawn = "" if found.measured_drift is None else f", {found.measured_drift:.2f} stops over the frames that were drawn"
    out.say(
        f"{found.move} from {found.viewpoint}, {_places(found.anchors)} over {len(found.moments)} poses: drift {found.drift:.2f} stops "
        f"[prediction]{drawn}: {holds}"
    )
    if found.exceeds:
        spans = ", ".join(f"{a:.2f} to {b:.2f}" for a, b in found.exceeds)
        out.say(f"beyond it at {spans} s; most of what is lost at {found.worst_s:.2f} s is {found.cause}")
    rows = [
        [
            f"{m.t_s:.2f}",
            f"{m.in_sight}",
            *(_nits(v) for v in (m.due, m.predicted, m.measured)),
            _signed(m.away),
            _signed(m.measured_away),
        ]
        for m in found.moments
        if m.measured is not None
    ]
    out.table(
        "frames that were drawn",
        ["s", "in sight", "nits due", "predicted", "measured", "away [prediction]", "away measured"],
        rows,
    )
    rows = [[h.remedy, f"{h.drift:.2f} stops", "within the limit" if h.enough else ""] for h in found.helps]
    if rows:
        out.table("drift that is left with the most that can be had [predictions]", ["of", "drift", ""], rows)
    out.result(found, inputs(args))
    return 0 if found.holds else 1


def _places(count: int) -> str:
    return "one place" if count == 1 else f"{count} places"


def _nits(value: float | None) -> str:
    return "" if value is None else f"{value:.4g}"


def _signed(value: float | None) -> str:
    return "" if value is None else f"{value:+.2f}"


def response(args: Any) -> int:
    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.light_response import MaterialAnswerDocument
    from eddyfall.core.truth.response.survey import answers

    out, build, renderer = Out(args), opened(args), Renderer()
    views = [args.viewpoint] if args.viewpoint else Survey(build, renderer, args.target).viewpoints
    with out.progress() as progress:
        told = answers(renderer, build, views, args.target, args.material, progress)
    found = [MaterialAnswerDocument.from_core(a) for a in told]
    rows = [
        [m.material, m.shader, f"{m.furnace:.3f}", f"{m.ambient:.3f}", f"{m.answer:.2f}", f"{m.sun:.4f}",
         f"{m.in_place[0].answer:.2f} at {m.in_place[0].viewpoint}" if m.in_place else "", m.verdict]
        for m in found
    ]  # fmt: skip
    head = ["material", "base shader", "its furnace value", "drawn of it", "R alone", "nit a lux of sun", "R in place, worst", ""]
    out.table("", head, rows)
    for m in found:
        for p in m.in_place[:1]:
            if p.tried:
                rows = [[t.what, t.title, f"{t.answer:.2f}"] for t in p.tried]
                out.table(f"{p.drawable} at {p.viewpoint}: {p.drawn:.3g} of {p.due:.3g} nit", ["if", "put right", "R then"], rows)
                said = [" and ".join(c.what) for c in p.causes]
                out.say("cause: " + ("; or ".join(said) if said else "none of these, nor two of them together"))
        shown = [f"{x.role}: {x.shows}" for x in m.maps if (x.bound is not None and x.shows != "its own") or x.shows == "default"]
        if shown:
            out.say(f"{m.material} draws in the stead of its pictures " + ", ".join(shown))
    out.result(found, inputs(args))
    return 1 if any(m.verdict in ("broken", "weak") for m in found) else 0


def swap_shader(args: Any) -> int:
    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.light_response import SwapDocument
    from eddyfall.core.handover.package import changes_document, json_bytes, write_new
    from eddyfall.core.materials.swap import swap_shader as swapped
    from eddyfall.core.truth.response.rehearsal import rehearse

    out, build, renderer = Out(args), opened(args), Renderer()
    swap = swapped(build, args.material, args.to)
    views = Survey(build, renderer, args.target).viewpoints
    found = SwapDocument.from_core(rehearse(renderer, build, swap, views, args.target))
    out.say(f"{found.material}: {found.before} -> {found.after}; factors and tints stay, {found.kept} pictures keep their roles")
    rows = [[t.role, t.bound or "", t.fate, t.default or ""] for t in found.transfers]
    out.table("", ["role", "bound", "becomes", "shows instead"], rows)
    out.say(
        f"alone it answers light from around with {found.answer_before:.2f} before, {found.answer_after:.2f} after; in the sun the two are "
        f"CIEDE2000 {found.sun_delta_e:.2f} apart; default pictures on {found.default_px} px"
    )
    rows = [[s.viewpoint, f"{s.pixels}", f"{s.default_px}", f"{s.before:.2f}", f"{s.after:.2f}"] for s in found.seen]
    out.table("", ["viewpoint", "px of it", "with a default", "R before", "R after"], rows)
    if args.changes:
        write_new(args.changes, json_bytes(changes_document((swap.change,))), inputs(args))
    out.result(found, inputs(args))
    return 0


def probes(args: Any) -> int:
    from eddyfall.core.defects.grid_faults import grids_anew
    from eddyfall.core.defects.probe_faults import captured_anew
    from eddyfall.core.defects.reflections_told import reflections
    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.reflections import ReflectionsDocument
    from eddyfall.core.handover.package import changes_document, json_bytes, write_new

    out, build, renderer = Out(args), opened(args), Renderer()
    views = [args.viewpoint] if args.viewpoint else Survey(build, renderer, args.target).viewpoints
    with out.progress() as progress:
        found = ReflectionsDocument.from_core(reflections(renderer, build, views, args.target, args.at, progress))
    wrong, due = False, []
    for p in found.probes:
        box = f"{_corner(p.low_m)} to {_corner(p.high_m)}" + ("" if p.boxed else ", not put onto it")
        out.say(f"probe {p.name}: at {_corner(p.place_m)}, box {box}, {p.size} texels, {p.bytes:,} B{'' if p.on else ', off'}")
        for f in p.fits:
            what = "never captured" if f.missing else "; ".join(f.why) or "fits"
            out.say(f"   {f.light_set or 'lights as they are'}: {what}")
        if any(f.missing or f.why for f in p.fits):
            due.append(p.name)
        rows = [
            [s.viewpoint, f"{s.pixels * 100:.1f} %", f"{s.parallax_px:.1f} / {s.parallax_px_most:.1f}", f"{s.wrong * 100:.0f} %",
             f"{s.parallax_stops:.2f}", f"{s.unseen * 100:.0f} %", f"{s.leak_stops:.2f}", f"{s.texel_px:.1f}",
             f"{s.seam_stops:.2f}" if s.seam_stops else "", ", ".join(s.faults)]
            for s in p.seen
        ]  # fmt: skip
        if rows:
            head = [
                "viewpoint",
                "of frame",
                "px off, half / most",
                "shows else",
                "stops",
                "unseen",
                "stops",
                "px a texel",
                "step",
                "",
            ]
            out.table("", head, rows)
        for s in p.seen if args.at else ():
            off = (
                "nothing that takes from it mirrors that place"
                if s.at_px is None
                else f"that place is shown {s.at_px:.1f} px off"
            )
            out.say(f"   {s.viewpoint}: {off}")
        wrong |= any(s.faults for s in p.seen)
    for m in found.mirrors:
        out.say(f"mirror {m.name}: node {m.node}, 1 / {m.divisor} of the frame{'' if m.on else ', off'}")
        for v in m.seen:
            out.say(f"   {v.viewpoint}: {v.pixels} px")
            for g in v.left_out:
                out.say(
                    f"   leaves out {', '.join(g.things)} ({g.share * 100:.1f} % of it): base shader {g.shader} has no mirror pass"
                )
                wrong = True
    stale = []
    for grid in found.grids:
        out.say(
            f"grid {grid.name}: {' x '.join(str(n) for n in grid.counts)} points from {_corner(grid.low_m)} to {_corner(grid.high_m)}, "
            f"{grid.bytes:,} B{'' if grid.on else ', off'}"
        )
        for f in grid.fits:
            what = "never captured" if f.missing else "; ".join(f.why) or "fits"
            out.say(f"   {f.light_set or 'lights as they are'}: {what}")
        if any(f.missing or f.why for f in grid.fits):
            stale.append(grid.name)
    rows = [
        [m.drawable, m.viewpoint, ", ".join(m.grids) or "none", f"{m.uncovered * 100:.0f} %", f"{m.drawn:.4g}", f"{m.due:.4g}",
         f"{m.off_stops:+.2f}", f"{m.unseen * 100:.0f} %", f"{m.leak_stops:.2f}",
         f"{m.seam_stops:.2f} to {m.neighbour}" if m.neighbour else "", ", ".join(m.faults)]
        for m in found.movers
    ]  # fmt: skip
    if rows:
        head = ["moves", "viewpoint", "grid", "outside", "lx drawn", "lx due", "stops", "unseen", "stops", "seam", ""]
        out.table("", head, rows)
    wrong |= any(m.faults for m in found.movers)
    if not found.probes and not found.mirrors and not found.grids and not found.movers:
        out.say("there are no probes, no mirrors and no light grids, and nothing moves")
    if args.changes:
        anew = [*(captured_anew(name) for name in due), *(grids_anew(name) for name in stale)]
        write_new(args.changes, json_bytes(changes_document(tuple(anew))), inputs(args))
        out.say(f"{len(due)} probes and {len(stale)} grids to capture: {args.changes}")
    due += stale
    out.result(found, inputs(args))
    return 1 if wrong or due else 0


def migrate(args: Any) -> int:
    from eddyfall.core.bake.questions.overview import stale_maps
    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.migration import MigrationDocument
    from eddyfall.core.handover.package import changes_document, json_bytes, write_new
    from eddyfall.core.truth.older.migrate import changes_of, migration

    out, build, renderer = Out(args), opened(args), Renderer()
    views = [args.viewpoint] if args.viewpoint else Survey(build, renderer, args.target).viewpoints
    with out.progress() as progress:
        told = migration(renderer, build, views, args.target, progress)
    found = MigrationDocument.from_core(told, stale_maps(build, renderer), build.notes)
    rows = [
        [a.section, "not there" if a.whole else f"{len(a.leaves)} leaves left out", "on" if a.on else "arrives off",
         ", ".join(x.leaf for x in a.leaves[:4]) + (" ..." if len(a.leaves) > 4 else "")]
        for a in found.absent
    ]  # fmt: skip
    out.table("what the set-up does not say", ["section", "", "", "leaves"], rows)
    for s in found.steps:
        rows = [[v.viewpoint, f"{v.stops:+.2f}", ", ".join(f"{x.drawable} {x.stops:+.2f}" for x in v.surfaces)] for v in s.seen]
        out.table(f"with {s.section} on", ["viewpoint", "stops", "surfaces, most first"], rows)
    rows = [
        [f.light, f.viewpoint, f"{f.above:+.2f}", f"{f.without:+.2f}", "bounce doubles it" if f.doubles else ""]
        for f in found.fills
    ]
    if rows:
        out.table(
            "with bounce, against the frame without, where it lights", ["light", "viewpoint", "stops", "without it", ""], rows
        )
    rows = [
        [r.light, f"{r.range_m:g} m" if r.range_m else "endless", f"{r.least_m:.2f} m", f"{r.kept * 100:.1f} %", f"{r.pixels}",
         f"{r.pixels_then}"]
        for r in found.reaches
    ]  # fmt: skip
    if rows:
        head = ["lamp", "reaches", "least that keeps 95 % within .25 stops", "kept, rendered", "px it is worked out for", "then"]
        out.table("", head, rows)
    for name in found.stale:
        out.say(f"stale: {name}")
    for note in found.notes:
        out.say(f"left: {note}")
    if args.changes:
        write_new(args.changes, json_bytes(changes_document(changes_of(build, told))), inputs(args))
    out.result(found, inputs(args))
    return 1 if any(f.doubles for f in found.fills) or found.stale else 0


def _corner(place: Any) -> str:
    return ",".join(f"{v:g}" for v in place)


def roles(args: Any) -> int:
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.roles import SideBySideDocument
    from eddyfall.core.truth.roles import side_by_side

    out, build = Out(args), opened(args)
    request = Request(args.viewpoint, args.size, args.crop, args.target)
    with out.progress() as progress:
        found = SideBySideDocument.from_core(side_by_side(Renderer(), build, request, args.first, args.second, progress))
    out.say(
        f"{found.viewpoint}: {found.first} is {found.whole.stops:+.2f} stops against {found.second}, {found.whole.share * 100:.1f} % of "
        f"pixels differ; {len(found.leaves)} settings do"
    )
    rows = [
        [d.leaf, f"{d.first} ({d.first_winner})", f"{d.second} ({d.second_winner})", f"{d.alone.stops:+.2f} stops",
         f"{d.alone.share * 100:.1f} %", f"{d.rest.stops:+.2f} stops", d.says]
        for d in found.leaves
    ]  # fmt: skip
    head = ["setting", found.first, found.second, "alone", "pixels", "all but it", ""]
    if rows:
        out.table("", head, rows)
    out.result(found, inputs(args))
    return 0


def dials(args: Any) -> int:
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.dials import DialsDocument
    from eddyfall.core.truth.dials import dials as asked
    from eddyfall.core.truth.screen_budget import MIB

    out, build = Out(args), opened(args)
    with out.progress() as progress:
        found = DialsDocument.from_core(asked(Renderer(), build, Request(args.viewpoint, target=args.target), progress))
    if not found.now:
        out.say("neither bounce nor reflection is on")
    for n in found.now:
        p = n.price
        out.say(
            f"{n.name}: {p.nits:.4g} of {found.due:.4g} nit from around, {p.off:.3g} off on the mean, noise {p.noise * 100:.0f} %, "
            f"{p.steps / 1e6:.0f} M steps, {p.bytes / MIB:.2f} MiB, {p.ms:.0f} ms here"
        )
        rows = [
            [d.leaf, f"{d.old} -> {d.new}", f"{d.nearer:+.3g}", f"{d.price.noise * 100:.0f} %", f"{d.price.steps / 1e6:.0f} M",
             f"{d.price.rays / 1e6:.1f} M", f"{d.price.bytes / MIB:.2f}", f"{d.price.ms / max(p.ms, 1e-9):.2f}"]
            for d in found.dials
            if d.pass_name == n.name
        ]  # fmt: skip
        head = ["dial", "turned", "nits nearer to due", "noise", "steps", "rays", "MiB", "times as long"]
        out.table("", head, sorted(rows, key=lambda r: -float(r[2])))
    out.result(found, inputs(args))
    return 0


def budget(args: Any) -> int:
    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.screen_budget import ScreenBudgetDocument
    from eddyfall.core.truth.screen_budget import MIB, screen_budget

    out, build = Out(args), opened(args)
    survey = Survey(build, Renderer(), args.target, None, args.size)
    views = [args.viewpoint] if args.viewpoint else survey.viewpoints
    found = [ScreenBudgetDocument.from_core(view, screen_budget(survey.stage(view))) for view in views]
    for b in found:
        limit = f" of {b.limit_mib:g} MiB{' OVER' if b.over else ''}" if b.limit_mib else " MiB; no limit is set"
        out.say(f"{b.viewpoint}: {b.bytes / MIB:.2f}{limit}, at {b.width_px} x {b.height_px} px")
        rows = [
            [
                t.pass_name,
                t.target,
                f"{t.texel_bytes} B",
                f"1 / {t.divisor}",
                "yes" if t.mips else "",
                f"{t.margin_px} px",
                f"{t.bytes / MIB:.2f}",
            ]
            for t in b.targets
        ]
        if rows:
            out.table("", ["pass", "target", "a texel", "of the edge", "mips", "margin", "MiB"], rows)
    out.result(found, inputs(args))
    return 1 if any(b.over for b in found) else 0


def _say_noise(out: Out, noise: Any) -> None:
    if noise.value is None or noise.samples < 2:
        out.say("noise: not told by one sample")
        return
    forecast = noise.refused or f"2 % take {noise.at_2_percent} samples [prediction]"
    out.say(
        f"noise {noise.value * 100:.2g} % at {noise.samples} samples, {noise.edges * 100:.2g} % of pixels at edges apart; {forecast}"
    )


def _stops(stops: float | None) -> str:
    return "none of it is left" if stops is None else f"{stops:+.2f} stops"
