"""The command line: intake, frame, core-sample, sweep, lineup, apply, demo, setup-schema, passes; those of lightmaps and of shadows stand
in modules of their own.

Exit codes: 0 clean, 1 findings at or above the level, 2 bad input, 3 something that Eddyfall did not foresee (a fault of its own).
"""

import argparse
import datetime
import json
import os
import sys
import traceback
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from eddyfall.cli_delivery import add_commands as add_delivery_commands
from eddyfall.cli_edges import add_commands as add_edge_commands
from eddyfall.cli_glass import add_commands as add_glass_commands
from eddyfall.cli_layers import add_commands as add_layer_commands
from eddyfall.cli_light import add_commands as add_light_commands
from eddyfall.cli_lightmaps import add_commands as add_lightmap_commands
from eddyfall.cli_materials import add_commands as add_material_commands
from eddyfall.cli_shadows import add_commands as add_shadow_commands
from eddyfall.cli_tools import UNFORESEEN, Out, Pipe, end_quietly, inputs, numbers, opened, size, unforeseen
from eddyfall.core.errors import EddyfallError, RequestError
from eddyfall.core.extras import load_extras


def main(argv: list[str] | None = None) -> int:
    """Run one command and return its exit code."""
    parser = _parser()
    args = None
    try:
        args = parser.parse_args(argv)
    except SystemExit as stop:
        return 2 if stop.code else 0
    try:
        load_extras()
        return int(args.run(args))
    except EddyfallError as error:
        print(f"eddyfall: {error}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("eddyfall: stopped", file=sys.stderr)
        return 2
    except Exception as error:  # a crash must not read as findings: its exit code is its own, and it is one line
        print(f"eddyfall: {unforeseen(error, getattr(args, 'file', None))}", file=sys.stderr)
        if os.environ.get("EDDYFALL_TRACEBACK"):
            traceback.print_exception(error)
        return UNFORESEEN
    finally:
        end_quietly()


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        "eddyfall", description="Find out why a 3D build does not render cleanly, and prove the repair."
    )
    commands = parser.add_subparsers(required=True, metavar="COMMAND")

    def command(name: str, run: Callable[[Any], int], help_text: str, file: bool = True) -> argparse.ArgumentParser:
        sub = commands.add_parser(name, help=help_text, description=help_text)
        sub.set_defaults(run=run)
        if file:
            sub.add_argument("file", type=Path, help="scene: .glb, .gltf, .obj, .usda, .usdc, .usdz or .zip")
            sub.add_argument("--setup", type=Path, help="setup document (default: FILE with .setup.json, if it is there)")
            sub.add_argument("--target", help="device whose settings apply")
            sub.add_argument("--size", type=size, default=(960, 540), metavar="WxH", help="frame size in px (default 960x540)")
        sub.add_argument("--json", metavar="F", help="write the result as JSON to F, or - for standard output")
        return sub

    sub = command("intake", _intake, "read a scene and say what is in it and what is left out")
    sub.add_argument("--supply", type=Path, nargs="+", default=[], metavar="F", help="pictures that came later: which is which")
    sub.add_argument("--older", type=Path, help="an older delivery, which knows what the missing pictures looked like")
    sub.add_argument("--out", type=Path, metavar="F.glb", help="write the scene with the pictures in their places")
    sub = command("frame", _frame, "render one viewpoint")
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--out", type=Path, required=True, help="F.png or F.exr")
    sub.add_argument("--samples", type=int, default=1, choices=range(1, 13), metavar="1..12", help="jittered frames averaged")
    sub.add_argument("--clip", metavar="NAME", help="pose the scene as this clip has it")
    sub.add_argument("--time", type=float, default=0.0, metavar="S", help="of the clip (default 0)")
    sub.add_argument("--variant", metavar="NAME", help="dress the scene as this variant of its materials")
    sub.add_argument("--levels", action="store_true", help="draw of each thing the level of detail that is due from there")
    sub = command("core-sample", _core_sample, "list everything that touched one pixel")
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--at", type=numbers(2), required=True, metavar="X,Y")
    sub = command("sweep", _sweep, "inspect every viewpoint, prove remedies, measure impact")
    sub.add_argument("--sarif", type=Path, help="write SARIF 2.1.0")
    sub.add_argument("--html", type=Path, help="write the HTML sheet")
    sub.add_argument("--changes-out", type=Path, help="write the best remedies as a change file")
    sub.add_argument(
        "--fail-on", choices=("blocking", "visible", "latent"), default="visible", help="level that makes the exit code 1"
    )
    sub.add_argument("--budget", type=int, default=400, metavar="N", help="proofs of remedies that it may spend (default 400)")
    sub = command("lineup", _lineup, "try single changes on a spot and rank them")
    sub.add_argument("--viewpoint", required=True)
    sub.add_argument("--spot", type=numbers(4), required=True, metavar="X,Y,W,H")
    sub.add_argument("--symptom", required=True, help="see-through, 'missing shadow', 'false shadow' ...")
    sub.add_argument("--subject", help="drawable whose pixels count (default: the one in front on most of the spot)")
    sub.add_argument("--try-all", action="store_true", help="also try levers in passes that did not move the score")
    sub.add_argument("--pictures", type=Path, metavar="DIR", help="write each trial's picture of the spot")
    sub = command("apply", _apply, "apply a change file and write the repaired build")
    sub.add_argument("--changes", type=Path, required=True)
    sub.add_argument("--out", type=Path, required=True, metavar="DIR")
    sub = command("demo", _demo, "write the demo build, sweep it, repair it, sweep it again", file=False)
    sub.add_argument("--out", type=Path, required=True, metavar="DIR")
    sub.add_argument("--only-write", action="store_true", help="write the files and stop")
    sub.add_argument(
        "--hall", action="store_true", help="the pump hall with its lightmaps instead of the river front; only written"
    )
    sub.add_argument("--yard", action="store_true", help="the tow-path yard with its shadows instead; only written")
    sub.add_argument("--court", action="store_true", help="the court under a picture of the sky instead; only written")
    sub.add_argument(
        "--gallery", action="store_true", help="the gallery lit by bounced light and reflections instead; only written"
    )
    sub.add_argument("--meters", action="store_true", help="the meter house with its probes and its mirror instead; only written")
    sub.add_argument("--glass", action="store_true", help="the glasshouse with its blended things instead; only written")
    sub.add_argument("--lantern", action="store_true", help="the lantern room with its panes instead; only written")
    sub.add_argument(
        "--vinery", action="store_true", help="the vinery with its leaves, mist and shade cloths instead; only written"
    )
    sub.add_argument("--kiosk", action="store_true", help="the kiosk's flat game instead; only written")
    sub.add_argument("--store", action="store_true", help="the diving store with things from elsewhere instead; only written")
    sub.add_argument(
        "--delivery", action="store_true", help="two deliveries of the river front and edits of the first; only written"
    )
    add_lightmap_commands(command)
    add_shadow_commands(command)
    add_light_commands(command)
    add_layer_commands(command)
    add_glass_commands(command)
    add_edge_commands(command)
    add_delivery_commands(command)
    add_material_commands(command)
    command("setup-schema", _setup_schema, "print the JSON Schema of the setup document", file=False)
    command("passes", _passes, "print the pass table of the renderer", file=False)
    return parser


def _intake(args: Any) -> int:
    from eddyfall.core.handover.documents.facts import IntakeDocument

    if args.supply:
        from eddyfall.cli_delivery import supply

        return supply(args)
    out, build = Out(args), opened(args)
    facts = IntakeDocument.from_core(build)
    rows = [
        [k, str(getattr(facts, k))]
        for k in ("triangles", "vertices", "drawables", "meshes", "nodes", "materials", "images", "lights", "cameras")
    ]
    rows.append(
        [
            "bounds",
            " to ".join(
                "(" + ", ".join(f"{v:.4g}" for v in corner) + ") m" for corner in (facts.bounds_m.low, facts.bounds_m.high)
            ),
        ]
    )
    rows.append(["viewpoints", ", ".join(build.setup.viewpoints)])
    if facts.skins:
        rows.append(["skins", str(facts.skins)])
    if facts.variants:
        rows.append(["variants", ", ".join(facts.variants)])
    for level in facts.levels:
        least = ", ".join(f"{share * 100:g} %" for share in level.coverage)
        due = f"from {least} of the picture" if least else "not said from when: the first is drawn"
        rows.append(["levels of detail", f"{level.node}: {level.levels}, {due}"])
    if facts.clips:
        rows.append(["clips", ", ".join(f"{c.name} ({c.ends_s:.4g} s)" for c in facts.clips)])
    out.table(args.file.name, ["what", "how much"], rows)
    for one in facts.undrawn:
        seen = ", ".join(f"{n} px at {v}" for v, n in one.pixels.items()) or "no pixel at any viewpoint"
        out.say(f"not drawn yet: {one.extension} of {', '.join(one.materials)}: {seen}, of 480 x 270")
    if facts.arrivals:
        found = [
            [a.code, a.subject, a.measure, f"{a.value:.4g}" + ("" if a.unit == "-" else f" {a.unit}"), a.why]
            for a in facts.arrivals
        ]
        out.table("on arrival", ["code", "what", "measure", "value", "why"], found)
    for note in build.notes:
        out.say(f"- {note}" if not note.startswith("  ") else f"  {note}")
    out.result(facts, inputs(args))
    return 0


def _frame(args: Any) -> int:
    from eddyfall.core.frame.moment import Moment, at, due_from
    from eddyfall.core.frame.render import render
    from eddyfall.core.handover.exr import exr_bytes, png_bytes
    from eddyfall.core.handover.package import write_new
    from eddyfall.core.scene.clips import clip_named

    out = Out(args)
    if args.out.suffix.lower() not in (".png", ".exr"):
        raise RequestError("--out must end in .png or .exr")
    build = opened(args)
    moment, aspect = Moment(args.clip, args.time, args.variant, args.levels), args.size[0] / args.size[1]
    posed = at(build, replace(moment, levels=False), args.viewpoint, aspect)
    due = due_from(posed, args.viewpoint, aspect) if args.levels else {}
    build = at(build, moment, args.viewpoint, aspect)
    if args.clip is not None:
        out.say(f"clip {args.clip} at {args.time:g} s of {clip_named(build.scene, args.clip).ends_s:g} s")
    if args.levels:
        told = ", ".join(f"{build.scene.node_keys[n]} {'is not drawn' if k is None else f'at {k}'}" for n, k in due.items())
        out.say(f"levels of detail, 0 the finest: {told or 'there are none'}")
    frame = render(build, args.viewpoint, target=args.target, size=args.size, samples=args.samples)
    write_new(args.out, png_bytes(frame) if args.out.suffix.lower() == ".png" else exr_bytes(frame), inputs(args))
    mean = [float(v) for v in frame.linear.mean(axis=(0, 1))]
    out.say(f"wrote {args.out} ({args.size[0]} x {args.size[1]} px, {len(frame.draw_list)} drawables in view)")
    out.result(
        {
            "viewpoint": args.viewpoint,
            "size": list(args.size),
            "out": str(args.out),
            "mean_linear": mean,
            "draw_list": frame.draw_list,
        },
        inputs(args),
    )
    return 0


def _core_sample(args: Any) -> int:
    from eddyfall.core.frame.core_sample import core_sample
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.handover.documents.core_samples import CoreSampleDocument

    out, build = Out(args), opened(args)
    sample = core_sample(Renderer(), build, Request(args.viewpoint, args.size, None, args.target), *args.at)
    rows = []
    for i, v in enumerate(sample.layers):
        depth = "" if v.depth_m is None else f"{v.depth_m:.2f} m"
        facts = ""
        if v.pass_name == "fog":
            read, own, share = (v.facts[k] for k in ("copy_distance_m", "surface_distance_m", "fog_share"))
            facts = f"reads {read:.4g} m, surface at {own:.4g} m, fog {share * 100:.1f} %"
        elif v.facts.get("lights"):
            facts = ", ".join(f"{light['light']} {light['visible'] * 100:.0f} % visible" for light in v.facts["lights"])
        read = "; ".join(f"{t['role']} at uv {t['uv'][0]:.5g}, {t['uv'][1]:.5g}" for t in v.facts.get("textures", ()))
        facts = "; ".join(text for text in (facts, read) if text)
        rows.append([str(i), v.pass_name, v.drawable, v.state, depth, _rgb(v.colour), _rgb(v.weight), facts])
    out.table(
        f"{args.viewpoint} at {sample.x},{sample.y}, first laid first",
        ["#", "pass", "drawable", "state", "depth", "colour (nit)", "weight", "facts"],
        rows,
    )
    out.say(f"linear {_rgb(sample.linear)}; then " + "; ".join(sample.transforms))
    out.result(CoreSampleDocument.from_core(sample), inputs(args))
    return 0


def _rgb(value: Any) -> str:
    return " ".join(f"{float(v):.4g}" for v in value)


def _sweep(args: Any) -> int:
    from eddyfall.core.frame.memo import Memo
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.findings import SweepDocument
    from eddyfall.core.handover.html import html_sheet
    from eddyfall.core.handover.package import changes_document, json_bytes, write_new
    from eddyfall.core.handover.sarif import sarif
    from eddyfall.core.sweep import best_changes, sweep
    from eddyfall.core.sweep.proving import TRIAL_BAKES
    from eddyfall.core.sweep.run import SWEEP_MEMO_BYTES

    out, build = Out(args), opened(args)
    renderer = Renderer(Memo(SWEEP_MEMO_BYTES))
    with out.progress() as progress:
        result = sweep(build, target=args.target, size=args.size, progress=progress, renderer=renderer,
                       budget=max(args.budget, 0))  # fmt: skip
    _print_sweep(out, result, args.file.name)
    families = ", ".join(f"{name} {share * 100:.0f} %" for name, share in renderer.clock.shares("family ") if share >= 0.005)
    frames, bakes = (sum(share for _, share in renderer.clock.shares(of)) for of in ("pass ", TRIAL_BAKES))
    out.say(f"time went to: frames {frames * 100:.0f} %, lightmaps baked for trials {bakes * 100:.0f} %, {families}")
    if args.sarif:
        write_new(args.sarif, json_bytes(sarif(result, args.file.name)), inputs(args))
    if args.changes_out:
        write_new(args.changes_out, json_bytes(changes_document(best_changes(build, result))), inputs(args))
    if args.html:
        sheet = html_sheet(build, result, name=args.file.stem, renderer=renderer, when=_today())
        write_new(args.html, sheet.encode(), inputs(args))
    out.result(SweepDocument.from_core(result), inputs(args))
    return 1 if result.at_or_above(args.fail_on) else 0


def _today() -> str:
    return datetime.date.today().isoformat()


def _print_sweep(out: Out, result: Any, name: str) -> None:
    if not result.findings:
        out.say(f"{name} is clean: no findings from {len(result.viewpoints)} viewpoints")
    rows = []
    for f in result.findings:
        impact = f"{f.impact.share * 100:.2f} % {f.impact.kind}" if f.impact.kind != "none" else "none"
        rows.append([f.severity, impact, f.code, f.suspicion.title, f.best.change.title if f.best else "no cure found"])
    if rows:
        out.table(
            f"{len(rows)} cause{'s' if len(rows) != 1 else ''} in {name}",
            ["severity", "impact", "code", "what", "best remedy"],
            rows,
        )
    for f in result.findings:
        out.say("")
        out.say(f"{f.suspicion.title}")
        for e in f.evidence:
            limit = "" if e.limit is None else f" ({'at least' if e.at_least else 'limit'} {e.limit:.4g})"
            out.say(f"    {e.measure}: {e.value:.4g} {e.unit}{limit}{' [prediction]' if e.predicted else ''}")
        for r in f.roles:
            if not r.seen:
                out.say(
                    f"    hidden in role {r.role}"
                    + (f": {r.leaf} is {r.role_value} there, {r.play_value} in play" if r.leaf else "")
                )
        for r in f.remedies:
            costs = ", ".join(f"{c.name} {c.value:.4g} {c.unit}" for c in r.costs)
            together = f"; proved together with {r.together - 1} like ones" if r.together > 1 else ""
            out.say(
                f"    -> {r.change.title}: {r.verdict} ({costs})"
                + "".join(f"; {w}" for w in r.warnings)
                + "".join(f"; new: {w}" for w in r.new_findings)
                + together
            )
    for note in result.left_out:
        out.say(f"- {note}")


def _lineup(args: Any) -> int:
    from eddyfall.core.handover.documents.lineups import LineUpDocument
    from eddyfall.core.handover.package import slug
    from eddyfall.core.lineup import line_up

    out, build = Out(args), opened(args)
    with out.progress() as progress:
        result = line_up(build, args.viewpoint, args.spot, args.symptom, target=args.target, size=args.size, subject=args.subject,
                         try_all=args.try_all, progress=progress)  # fmt: skip
    _print_lineup(out, result)
    if args.pictures:
        from PIL import Image

        args.pictures.mkdir(parents=True, exist_ok=True)
        Image.fromarray(result.base_picture).save(args.pictures / "00-as-built.png")
        for i, t in enumerate(result.trials, 1):
            Image.fromarray(t.picture).save(args.pictures / f"{i:02d}-{slug(t.title)}.png")
    out.result(LineUpDocument.from_core(result), inputs(args))
    return 0


def _print_lineup(out: Out, result: Any) -> None:
    rows = []
    for t in result.trials:
        verdict = "no effect (ruled out)" if t.verdict == "no effect" else t.verdict
        rows.append(
            [
                verdict,
                t.title,
                f"{t.before:.4g} -> {t.after:.4g}",
                f"{t.collateral * 100:.2f} %",
                f"{t.also_changed * 100:.2f} %",
                t.change.scope if t.change else "",
                t.predicts,
            ]
        )
    title = f"{result.symptom} at {result.viewpoint} {result.spot}: subject {result.subject}, score {result.base_score:.4g} {result.unit}"
    out.table(title, ["verdict", "trial", "score", "collateral*", "also changed*", "scope", "predicts"], rows)
    out.say("* on a 240 x 135 preview; the proof repeats it at full size")
    for left in result.not_tried:
        out.say(f"not tried: {left}")


def _apply(args: Any) -> int:
    from eddyfall.core import defects  # noqa: F401  (registers the buffer operations)
    from eddyfall.core.handover.package import setup_patch, write_package
    from eddyfall.core.scene.changes import apply_changes, read_changes

    out = Out(args)
    changes = read_changes(args.changes)
    build = opened(args)
    try:
        result = apply_changes(build, changes)
    except EddyfallError as error:
        raise error.in_file(args.changes.name) from None
    paths = write_package(build, result, changes, args.out, args.file.stem, inputs(args))
    hunks = [op for op in setup_patch(build, result) if op["op"] != "test"]
    out.say(
        f"applied {len(changes)} change{'s' if len(changes) != 1 else ''}; "
        f"the setup differs in {len(hunks)} hunk{'s' if len(hunks) != 1 else ''}"
    )
    for kind, path in paths.items():
        out.say(f"  {kind}: {path}")
    out.result(
        {"applied": [c.id for c in changes], "hunks": len(hunks), "files": {k: str(p) for k, p in paths.items()}}, inputs(args)
    )
    return 0


def _demo(args: Any) -> int:
    from eddyfall.demo.walk import walk
    from eddyfall.demo.write import write_demo

    out = Out(args)
    others = (
        args.hall,
        args.yard,
        args.court,
        args.gallery,
        args.meters,
        args.glass,
        args.lantern,
        args.vinery,
        args.kiosk,
        args.store,
        args.delivery,
    )
    if args.only_write or any(others):
        from eddyfall.demo.court import write_court
        from eddyfall.demo.diving_store import write_diving_store
        from eddyfall.demo.gallery import write_gallery
        from eddyfall.demo.glasshouse import write_glasshouse
        from eddyfall.demo.hall import write_hall
        from eddyfall.demo.kiosk import write_kiosk
        from eddyfall.demo.lantern_room import write_lantern_room
        from eddyfall.demo.meter_house import write_meter_house
        from eddyfall.demo.second_delivery import write_deliveries
        from eddyfall.demo.vinery import write_vinery
        from eddyfall.demo.yard import write_yard

        writes = (
            write_hall,
            write_yard,
            write_court,
            write_gallery,
            write_meter_house,
            write_glasshouse,
            write_lantern_room,
            write_vinery,
            write_kiosk,
            write_diving_store,
            write_deliveries,
        )
        asked = zip(others, writes)
        write = next((write for wanted, write in asked if wanted), write_demo)
        paths = write(args.out)
        out.result({"files": {k: str(p) for k, p in paths.items()}}, [])
        for kind, path in paths.items():
            out.say(f"{kind}: {path}")
        return 0
    with out.progress() as progress:
        result = walk(args.out, out.say, progress, _today())
    out.result(result, [])
    return 0 if not result["left"] else 1


def _setup_schema(args: Any) -> int:
    from eddyfall.core.frame.affects import described_schema

    if args.json and args.json != "-":
        Out(args).result(described_schema(), [])
    else:
        Pipe(sys.stdout).write(json.dumps(described_schema(), indent=2) + "\n")
    return 0


def _passes(args: Any) -> int:
    from eddyfall.core.frame.schedule import pass_table

    out, table = Out(args), pass_table()
    rows = [
        [f"{p['number']:g}", p["name"], p["does"], " ".join(p["reads"]), " ".join(p["writes"]), ", ".join(p["off"])]
        for p in table
    ]
    out.table("Pass table", ["#", "pass", "does", "reads", "writes", "off by"], rows)
    out.result(table, [])
    return 0


if __name__ == "__main__":
    os.environ.setdefault("PYTHONUNBUFFERED", "1")
    sys.exit(main())
