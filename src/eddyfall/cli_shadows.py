"""Commands about shadows: shadows, autopsy, cures, shadow-bias, shadow-walk, shadow-fineness, shadow-budget,
shadow-through, sun-of, leftovers."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from eddyfall.cli_tools import Out, inputs, numbers, opened


def add_commands(command: Callable[..., Any]) -> None:
    """Add the commands to the parser."""
    sub = command(
        "shadows",
        shadows,
        "hold drawn shadows against true ones: how much is missing or false, by which test, how far each caster reaches",
    )
    sub.add_argument("--viewpoint", help="one viewpoint (default: all that are not of role edit)")
    sub.add_argument("--light", help="one light (default: the first that shines)")
    sub.add_argument("--picture", type=Path, metavar="F.png", help="write the frame of --viewpoint with wrong shadows marked")
    sub.add_argument(
        "--end", metavar="CASTER", help="write --picture of a caster's shadow just inside its end and just beyond it instead"
    )
    sub = command("autopsy", autopsy, "say which shadows are due at a pixel, which are drawn, and which test lost them")
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--at", type=numbers(2), required=True, metavar="X,Y")
    sub = command(
        "shadow-through",
        shadow_through,
        "say by how much what is blended leaves something too bright or too dark, by the shadow that it throws",
    )
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--at", type=numbers(2), metavar="X,Y", help="also tell the stops in a pixel")
    sub = command("cures", cures, "try every remedy in every shadow technique on one caster's shadow, each from the same base")
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--caster", required=True, help="the drawable whose shadow is missing")
    sub = command(
        "shadow-bias",
        shadow_bias,
        "solve a light's shadow bias: what each way takes to end acne, what contact it then loses, the smallest inside both limits",
    )
    sub.add_argument("--light", required=True)
    sub.add_argument("--viewpoint", action="append", help="may be given again (default: all that are not of role edit)")
    sub.add_argument("--every", type=int, default=2, metavar="N", help="ask each N-th pixel across and down (default 2)")
    sub = command(
        "shadow-walk",
        shadow_walk,
        "walk a few steps from a viewpoint: which fixed places swim, which a join or the reach's end passes",
    )
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--move", choices=("aside", "retreat", "turn"), default="aside")
    sub.add_argument("--step", type=float, metavar="M", help="metres, degrees of a turn (default 0.025 m, 0.3 deg)")
    sub.add_argument("--steps", type=int, default=8, metavar="N")
    sub.add_argument("--light", help="one light (default: the first sun that draws maps)")
    sub = command(
        "shadow-fineness",
        shadow_fineness,
        "measure how fine a light's shadows are drawn: texels at their edges, joins between maps, holes, casters thinner than a texel",
    )
    sub.add_argument("--viewpoint", help="one viewpoint (default: all that are not of role edit)")
    sub.add_argument("--light", help="one light (default: the first that shines)")
    sub = command(
        "shadow-budget",
        shadow_budget,
        "count what each light's shadows take: memory, draws, triangles, rays; what they are due on; the target's limits",
    )
    sub.add_argument("--viewpoint", help="one viewpoint (default: all that are not of role edit)")
    sub = command(
        "sun-of",
        sun_of,
        "find the sun in an equirectangular sky: direction, illuminance, size, the sky without it; or say why there is none to trust",
        file=False,
    )
    sub.add_argument("picture", type=Path, help="sky: .exr or .hdr, twice as wide as high, -Z in the middle")
    sub.add_argument("--out", type=Path, metavar="F.exr", help="write the sky without its sun")
    sub = command(
        "leftovers",
        leftovers,
        "find shadow settings, or settings of the draw order, that change no pixel at any viewpoint, target or role",
    )
    sub.add_argument("--of", choices=["shadow", "order"], default="shadow", help="which settings (default: shadow)")


def shadow_through(args: Any) -> int:
    from eddyfall.core.defects.shadow_translucent import bright_at
    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.errors import RequestError
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.shadow_through import ShadowThroughDocument
    from eddyfall.core.layers.pairs import LEAST_PIXELS
    from eddyfall.core.scene.setup.sections.shadow import Shadow

    out, build = Out(args), opened(args)
    (width, height), at = args.size, args.at
    if at and not (0 <= at[0] < width and 0 <= at[1] < height):
        raise RequestError(f"pixel {at[0]},{at[1]} is outside the {width} x {height} frame")
    survey = Survey(build, Renderer(), args.target, size=args.size, pictures=False)
    survey.frame(args.viewpoint, "fogged")
    of_blended = survey.resolved(args.viewpoint)[Shadow].of_blended
    bright = bright_at(survey, args.viewpoint)
    found = ShadowThroughDocument.from_core(build, args.viewpoint, of_blended, bright, tuple(at) if at else None)
    rows = [
        [m.material, ", ".join(m.things), m.through, f"{m.stops:.3f}", str(m.pixels), "-" if m.at is None else f"{m.at:.3f}"]
        for m in found.materials
    ]
    head = ["material", "things", "shadow", "stops too bright", f"px beyond {found.limit_stops:g}", "stops at the pixel"]
    out.table(f"{args.viewpoint}, what is blended and throws no coloured shadow (shadows are {found.of_blended})", head, rows)
    out.result(found, inputs(args))
    return int(any(m.pixels >= LEAST_PIXELS for m in found.materials))


def shadows(args: Any) -> int:
    import numpy as np
    from PIL import Image

    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.errors import RequestError
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.shadow_reach import LongSectionDocument
    from eddyfall.core.truth.long_section import long_section
    from eddyfall.core.truth.shadow_picture import shadow_picture

    out, build = Out(args), opened(args)
    renderer = Renderer()
    if args.picture and not args.viewpoint:
        raise RequestError("--picture needs --viewpoint")
    if args.end:
        return _end(args, out, renderer, build)
    views = [args.viewpoint] if args.viewpoint else Survey(build, renderer, args.target, None, args.size).viewpoints
    found = []
    for view in views:
        request = Request(view, args.size, None, args.target)
        section = long_section(renderer, build, request, args.light)
        found.append(LongSectionDocument.from_core(section))
        total = max(sum(section.classes.values()), 1)
        classes = ", ".join(f"{name} {n / total * 100:.2f} %" for name, n in section.classes.items() if n)
        out.say(f"{view}: {section.light} by {section.technique}; {classes}")
        if section.coarser:
            out.say(f"  the page pool is too small: all levels are {2**section.coarser} times coarser")
        if section.tiers:
            rows = [
                [
                    t.name,
                    f"{t.near_m:.4g}",
                    "" if t.far_m is None else f"{t.far_m:.4g}",
                    f"{t.texel_m * 1000:.4g}",
                    f"{t.bytes / 2**20:.3g}",
                ]
                for t in section.tiers
            ]
            out.table("", ["tier", "from m", "to m", "texel mm", "MiB"], rows)
        rows = [[s.what, s.drawable, str(s.pixels)] for s in (*section.lost, *section.wrote)]
        if rows:
            out.table("", ["lost at, or written by", "drawable", "px"], rows)
        rows = [
            [
                c.name,
                f"{c.range_m:.4g}",
                _known(c.ends_m) or "any",
                c.ended_by,
                _known(c.margin_m),
                str(c.due_px),
                str(c.missing_px),
            ]
            for c in section.casters
        ]
        if rows:
            out.table("", ["caster", "stands at m", "drawn to m", "ended by", "margin m", "px due", "px missing"], rows)
        if args.picture:
            Image.fromarray(np.asarray(shadow_picture(renderer, build, request, args.light))).save(args.picture)
    out.result(found, inputs(args))
    wrong = any(c.lost_at for d in found for c in d.casters)
    return 1 if wrong else 0


def _end(args: Any, out: Out, renderer: Any, build: Any) -> int:
    """Both sides of where a caster's shadow ends, beside one another."""
    import numpy as np
    from PIL import Image

    from eddyfall.core.errors import RequestError
    from eddyfall.core.frame.render import Request
    from eddyfall.core.truth.bar_ends import bar_end

    if not args.picture:
        raise RequestError("--end needs --viewpoint and --picture")
    request = Request(args.viewpoint, args.size, None, args.target)
    sides = [bar_end(renderer, build, request, args.end, args.light, beyond) for beyond in (False, True)]
    for side, words in zip(sides, ("inside", "beyond")):
        out.say(f"{words} its end, eye {side.retreat_m:+.4g} m back: {side.dark * 100:.0f} % of {side.due_px} px are dark")
    high = max(s.picture.shape[0] for s in sides)
    shown = [np.asarray(Image.fromarray(s.picture).resize((high * 4 // 3, high))) for s in sides]
    Image.fromarray(np.concatenate(shown, axis=1)).save(args.picture)
    found = [
        {"side": w, "retreat_m": s.retreat_m, "due_px": s.due_px, "dark": s.dark} for s, w in zip(sides, ("inside", "beyond"))
    ]
    out.result(found, inputs(args))
    return 0


def autopsy(args: Any) -> int:
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.shadows import AutopsyDocument
    from eddyfall.core.truth.autopsy import shadow_autopsy

    out, build = Out(args), opened(args)
    found = shadow_autopsy(Renderer(), build, Request(args.viewpoint, args.size, None, args.target), *args.at)
    out.say(f"{args.viewpoint} at {found.x},{found.y}: {found.drawable}")
    for v in found.lights:
        due = f"due to {v.caster}, {v.caster_m:.4g} m away" if v.due else "not due"
        clears = f"; it clears {v.clears} by {v.clears_deg:.2g} deg" if v.clears is not None else ""
        stops = "" if v.stops is None else f", {v.stops:.2g} stops"
        out.say(f"{v.light}{stops}: {v.verdict}; a shadow is {due}, {v.drawn * 100:.0f} % of the light is let through{clears}")
        if v.wrote:
            out.say(f"  what blocks it there is of {', '.join(v.wrote)}{f' ({v.written_as})' if v.written_as else ''}")
        for p in v.passed:
            out.say(f"  it goes through {p.name}, {p.away_m:.4g} m away, which keeps {_shares(p.keeps)} and {_throws(p.throws)}")
        if v.too_bright_stops is not None:
            how = "bright" if v.too_bright_stops > 0 else "dark"
            out.say(f"  its light is {abs(v.too_bright_stops):.2g} stops too {how}, beside what is seen through it")
        rows = [
            ["passes" if t.passed else "FAILS", t.name, *(_known(n) for n in (t.value, t.limit, t.margin)), t.unit, t.leaf, t.level,
             _known(t.critical)]
            for t in v.tests
        ]  # fmt: skip
        if rows:
            out.table(
                "", ["", "test", "value", "limit", "margin", "unit", "setting", "set by", "would pass at [prediction]"], rows
            )
        if v.retried is not None:
            lost = f"lost again: {v.retried.lost_at}" if v.retried.lost_at else "drawn"
            out.say(f"  drawn with {v.retried.leaf} {v.retried.value:.4g}: {v.retried.drawn * 100:.0f} % let through, {lost}")
    rows = [
        [e.target or "none", e.role or "its own", v.light, v.verdict, f"{v.drawn * 100:.0f} %", v.lost_at or ""]
        for e in found.elsewhere
        for v in e.lights
    ]
    if rows:
        out.table("The same pixel elsewhere", ["target", "role", "light", "verdict", "let through", "lost at"], rows)
    out.result(AutopsyDocument.from_core(found), inputs(args))
    return 1 if any(v.verdict in ("missing", "false", "lit through") for v in found.lights) else 0


def cures(args: Any) -> int:
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.shadow_reach import CuresDocument
    from eddyfall.core.lineup.cures import cures_matrix

    out, build = Out(args), opened(args)
    with out.progress() as progress:
        matrix = cures_matrix(
            Renderer(), build, args.viewpoint, args.caster, target=args.target, size=args.size, progress=progress
        )  # fmt: skip
    out.say(
        f"{args.caster} from {args.viewpoint}: its shadow falls on {matrix.due} px; every cell starts from build {matrix.base[:12]}"
    )
    rows = [
        [c.technique, c.remedy, c.verdict, f"{c.drawn_before * 100:.0f} -> {c.drawn * 100:.0f} %", f"{c.lost_before} -> {c.lost}", c.leaf,
         str(c.value), _known(c.critical), f"{c.cost.bytes / 2**20:+.3g}", f"{c.cost.draws:+d}", f"{c.cost.triangles:+d}", str(c.elsewhere)]
        for c in matrix.cells
    ]  # fmt: skip
    columns = [
        "technique",
        "remedy",
        "verdict",
        "drawn",
        "px lost",
        "setting",
        "to",
        "would pass at",
        "MiB",
        "draws",
        "triangles",
        "px elsewhere",
    ]
    out.table("", columns, rows)
    out.result(CuresDocument.from_core(matrix), inputs(args))
    return 0


def shadow_bias(args: Any) -> int:
    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.errors import RequestError
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.shadow_bias import ShadowBiasDocument
    from eddyfall.core.truth.bias.proving import bias_of_light

    out, build = Out(args), opened(args)
    if not 1 <= args.every <= 16:
        raise RequestError("--every must be from 1 to 16")
    renderer = Renderer()
    views = args.viewpoint or Survey(build, renderer, args.target, None, args.size).viewpoints
    with out.progress() as progress:
        solved = bias_of_light(
            renderer,
            build,
            [Request(v, args.size, None, args.target) for v in dict.fromkeys(views)],
            args.light,
            args.every,
            progress,
        )
    found = ShadowBiasDocument.from_core(solved)
    low, high = found.texel_mm
    out.say(
        f"{found.light} by {found.technique}, {found.resolution} texels of {low:.3g} to {high:.3g} mm, filter {found.filter_px}; "
        f"{found.asked_px} px and {found.lines} feet and tips at {', '.join(found.viewpoints)}"
    )
    out.say(
        f"limits: {found.limit_px} px shading themselves at a viewpoint; lost contact of a caster the larger of 20 mm and two pixels"
    )
    columns = ["", "bias", "px shading themselves", "contact lost mm", "may be", "of", "tips short mm", "lift mm", ""]
    rows = [["as set", *_outcome(found.set_to)]]
    for way in found.ways:
        shown = way.best or way.least
        if shown is not None:
            rows.append([way.name, *_outcome(shown)])
            if way.best is None and way.resolution is not None:
                would = f"none; {way.resolution} texels ({_known(way.texel_mm)} mm) would [prediction]"
                rows[-1][-1] = would
    out.table("", columns, rows)
    rows = [
        [*_outcome(r.outcome)[:-1], f"{r.false_px} px, {r.lost_points} points", "as said" if r.same else "NOT as said"]
        for r in found.front
    ]
    out.table("The front, each drawn again", [*columns[1:-1], "drawn", ""], rows)
    if found.chosen is not None:
        out.say(f"smallest inside both limits: {found.chosen.bias.words}")
    else:
        at = found.at_texel
        does = f"; with maps of {at.resolution} texels it is {at.best.bias.words}, drawn" if at and at.best else ""
        out.say(f"no bias keeps both limits{does}")
    out.result(found, inputs(args))
    return 0 if found.set_to.inside else 1


def _outcome(v: Any) -> list[str]:
    foot = v.foot
    return [
        v.bias.words, str(v.false_px), f"{foot.lost_mm:.1f}", _known(foot.limit_mm), foot.caster, f"{v.tip.lost_mm:.1f}",
        f"{v.lift_mm:.1f}", "inside" if v.inside else "outside",
    ]  # fmt: skip


def shadow_walk(args: Any) -> int:
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.shadow_walk import WalkDocument
    from eddyfall.core.truth.walk import shadow_walk as walk

    out, build = Out(args), opened(args)
    step = args.step if args.step is not None else (0.3 if args.move == "turn" else 0.025)
    request = Request(args.viewpoint, args.size, None, args.target)
    found = WalkDocument.from_core(walk(Renderer(), build, request, args.move, step, args.steps, args.light))
    out.say(
        f"{found.viewpoint}, {found.light} by {found.technique}: {len(found.steps)} steps {found.move} of {found.step:g} {found.unit}; "
        f"{found.swims} of {found.dark} places in shadow swim ({found.share * 100:.2f} %, limit {found.limit * 100:g} %), "
        f"{found.joined} flip at a join, {found.dropped} drop out; {found.points} fixed places"
    )
    rows = [[f"{s.at:.4g}", str(s.swims), str(s.joined), str(s.dropped)] for s in found.steps]
    out.table("", [f"at {found.unit}", "swim", "at a join", "drop out"], rows)
    rows = [[c.name, str(c.dark), str(c.swims), _known(c.drops_out_m)] for c in found.casters]
    if rows:
        out.table("", ["caster", "places of its shadow", "swim", "drops out at m"], rows)
    out.result(found, inputs(args))
    return 1 if found.share > found.limit else 0


def shadow_fineness(args: Any) -> int:
    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.shadow_fineness import FinenessDocument
    from eddyfall.core.truth.fineness import fineness

    out, build, renderer = Out(args), opened(args), Renderer()
    views = [args.viewpoint] if args.viewpoint else Survey(build, renderer, args.target, None, args.size).viewpoints
    found = []
    for view in views:
        f = FinenessDocument.from_core(fineness(renderer, build, Request(view, args.size, None, args.target), args.light))
        found.append(f)
        out.say(f"{view}: {f.light} by {f.technique}{'; beyond a limit' if f.beyond else ''}")
        rows = []
        if f.edges:
            covers = f"a texel covers {f.edges.pixels_a_texel:.3g} px"
            rows.append(["edges", covers, f"{f.edges.limit:g} px", str(f.edges.pixels)])
        rows += [[f"join at {j.at_m:.4g} m", f"dE00 {j.step:.3g}", f"dE00 {j.limit:g}", str(j.pixels)] for j in f.joins]
        rows += [
            [
                f"holes of {h.material}",
                f"{h.drawn * 100:.0f} % drawn, {h.true * 100:.0f} % by rays",
                f"{h.limit * 100:.0f} % apart",
                str(h.pixels),
            ]
            for h in f.holes
        ]
        rows += [
            [
                t.caster,
                f"{t.texels:.2g} texel wide ({t.width_mm:.3g} of {t.texel_mm:.3g} mm)",
                f"{t.limit:g} texel",
                str(t.pixels),
            ]
            for t in f.thin
        ]
        rows += [
            [
                f"edges {e.gap_m:.3g} m behind what throws them",
                f"{e.drawn_mm:.3g} mm wide, {e.true_mm:.3g} mm by the light's size",
                f"{e.limit:g} times",
                str(e.pixels),
            ]
            for e in f.soft
        ]
        if rows:
            out.table("", ["what", "measured", "limit", "px"], rows)
    out.result(found, inputs(args))
    return 1 if any(f.beyond for f in found) else 0


def shadow_budget(args: Any) -> int:
    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.shadow_budget import FrameBudgetDocument
    from eddyfall.core.truth.shadow_budget import frame_budget

    out, build, renderer = Out(args), opened(args), Renderer()
    views = [args.viewpoint] if args.viewpoint else Survey(build, renderer, args.target, None, args.size).viewpoints
    found = []
    for view in views:
        b = FrameBudgetDocument.from_core(frame_budget(renderer, build, Request(view, args.size, None, args.target)))
        found.append(b)
        limits = ", ".join(f"{v.leaf} {v.spent:.4g} of {v.limit:g}{' OVER' if v.spent > v.limit else ''}" for v in b.limits)
        out.say(f"{view}: {limits or 'no limit is set'}")
        rows = [
            [name, technique, f"{s.mib:.4g}", str(s.maps), str(s.draws), str(s.triangles), str(s.rays), due, drawn]
            for name, technique, s, due, drawn in (
                *((v.light, v.technique, v.spent, str(v.due_px), str(v.drawn_px)) for v in b.lights),
                ("all", "", b.total, "", ""),
            )
        ]
        out.table("", ["light", "by", "MiB", "maps", "draws", "triangles", "rays", "px due", "px drawn"], rows)
    out.result(found, inputs(args))
    return 1 if any(b.over for b in found) else 0


def sun_of(args: Any) -> int:
    from eddyfall.core.handover.documents.sky_sun import SkySunDocument
    from eddyfall.core.handover.package import write_new
    from eddyfall.core.scene.sky_pictures import read_sky, sky_bytes
    from eddyfall.core.truth.sky_sun import sun_of as find

    out, picture = Out(args), read_sky(args.picture)
    found = find(picture)
    document = SkySunDocument.from_core(picture, found)
    words = {
        "sun": "a sun",
        "clipped": f"a sun that is cut off ({found.why}): lower bounds",
        "none": f"no sun to trust: {found.why}",
    }
    out.say(f"{picture.name}, {document.width} x {document.height} px: {words[found.verdict]}")
    if found.verdict != "none":
        size = "not resolved" if found.radius_deg is None else f"{2 * found.radius_deg:.3g} deg across"
        x, y, z = found.towards
        out.say(f"  towards ({x:.5f}, {y:.5f}, {z:.5f}), {found.lux:.5g} lx on a face turned to it, {size}")
        out.say(
            f"  level ground: {found.sun_lux:.5g} lx of it and {found.sky_lux:.5g} lx of the sky; as a picture alone "
            f"{found.unshadowed_share * 100:.1f} % throws no shadow; its shade is due at {found.stops:+.2f} stops"
        )
    if args.out:
        write_new(args.out, sky_bytes(found.sky), [args.picture])
    out.result(document, [args.picture])
    return 0 if found.verdict == "sun" else 1


def leftovers(args: Any) -> int:
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.shadow_reach import LeftoversDocument
    from eddyfall.core.truth.leftovers import KINDS
    from eddyfall.core.truth.leftovers import leftovers as find

    out, build = Out(args), opened(args)
    with out.progress() as progress:
        found = find(Renderer(), build, KINDS[args.of], size=args.size, progress=progress)
    rows = [
        [
            ".".join(s.path),
            str(s.value),
            str(s.default),
            "needed" if s.needed else "LEFT OVER",
            s.where,
            str(s.pixels) if s.pixels else "",
        ]
        for s in found.settings
    ]
    if rows:
        out.table("", ["setting", "value", "default", "", "first needed at", "px"], rows)
    spare = sum(not s.needed for s in found.settings)
    what = "shadow settings" if args.of == "shadow" else "settings of the draw order"
    out.say(f"{spare} of {len(rows)} {what} change no pixel in {len(found.looked)} frames")
    out.result(LeftoversDocument.from_core(found), inputs(args))
    return 1 if spare else 0


def _shares(rgb: tuple[float, float, float]) -> str:
    words = [f"{v * 100:.0f} %" for v in rgb]
    return words[0] if len(set(words)) == 1 else " ".join(words)


def _throws(throws: str) -> str:
    return {
        "none": "throws no shadow", "whole": "blocks all light", "dithered": "blocks light by a pattern", "tinted": "colours the light",
    }[throws]  # fmt: skip


def _known(value: float | None) -> str:
    return "" if value is None else f"{value:.4g}"
