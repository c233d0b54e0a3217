"""The commands about what materials are made of: convert."""

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from eddyfall.cli_tools import Out, inputs, opened


def add_commands(command: Callable[..., Any]) -> None:
    """Add the commands to the parser."""
    sub = command(
        "convert",
        convert,
        "give materials whose base shader has no version for a target another one, by what their values are for",
    )
    sub.add_argument("--to", help="base shader that they get (default: the stock one)")
    sub.add_argument("--material", action="append", default=[], help="this one, special or not, instead of all that convert")
    sub.add_argument("--changes", type=Path, help="write the change here, to be kept")


def convert(args: argparse.Namespace) -> int:
    from eddyfall.core.defects.survey import Survey
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.handover.documents.conversion import ConversionsDocument
    from eddyfall.core.handover.package import changes_document, json_bytes, write_new
    from eddyfall.core.truth.response.conversions import rehearse_conversions

    out, build, renderer = Out(args), opened(args), Renderer()
    views = Survey(build, renderer, args.target).viewpoints
    found = rehearse_conversions(renderer, build, args.target, views, args.to, args.material, args.size)
    told = ConversionsDocument.from_core(found, args.to)
    if not told.rows:
        out.say(f"every material's base shader has a version for {args.target or 'every target'}")
    for row in told.rows:
        out.say(f"{row.material}: {row.before} -> {row.after}" + (f"; {row.how}" if row.how else ""))
        for why in row.why:
            out.say(f"  special: {why}")
        if row.values:
            lines = [[m.name, f"{_value(m.said)} {'' if m.unit == '-' else m.unit}".strip(), m.role or "-", m.how.replace("_", " "),
                      _value(m.comes_to), m.fate] for m in row.values]  # fmt: skip
            out.table("", ["value", "says", "role", "how", "comes to", "fate"], lines)
        if row.factors is not None:
            out.say("  then: " + ", ".join(f"{role} {_value(v)}" for role, v in row.factors.items() if role in TOLD))
        for t in row.pictures:
            out.say(f"  {t.role}: {t.bound or 'none'}: {t.fate}" + (f"; {t.default} shows" if t.default else ""))
    rows = [
        [s.viewpoint, str(s.error_before), str(s.error_after), str(s.pixels), f"{s.mean_de:.2f}", f"{s.most_de:.2f}"]
        for s in told.seen
    ]
    if told.rows:
        out.table(
            "what is seen", ["viewpoint", "error px before", "after", "px converted", "mean CIEDE2000", "99th percentile"], rows
        )
    if told.special and not args.material:
        out.say(f"left as they are: {', '.join(told.special)}; name one with --material to convert it with what it loses")
    if args.changes and found.change is not None:
        write_new(args.changes, json_bytes(changes_document((found.change,))), inputs(args))
    out.result(told, inputs(args))
    return 1 if any(s.error_after for s in told.seen) or (told.special and not args.material) else 0


TOLD = ("base_rgb", "metallic", "roughness", "ior", "specular")


def _value(value: Any) -> str:
    if isinstance(value, (list, tuple)):
        return "(" + ", ".join(f"{v:.4g}" for v in value) + ")"
    return "-" if value is None else f"{value:.5g}"
