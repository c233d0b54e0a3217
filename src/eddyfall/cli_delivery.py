"""The commands about what is delivered: rehearse, twins."""

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from eddyfall.cli_tools import Out, inputs, opened
from eddyfall.core.errors import ChangeError, RequestError, SceneError

SHAPES_HEAD = [
    "mesh",
    "of",
    "triangles",
    "box, m",
    "area, m2",
    "pairs apart, m: mean",
    "a quarter under",
    "half",
    "three quarters",
]
ANSWERS = ("before", "yours", "delivered")


def add_commands(command: Callable[..., Any]) -> None:
    """Add the commands to the parser."""
    sub = command(
        "rehearse", rehearse, "say what a new delivery of a scene changes, and what becomes of every edit, before it is taken"
    )
    sub.add_argument("new", type=Path, help="the new delivery: .glb, .gltf or .zip")
    sub.add_argument("--changes", type=Path, help="what is kept on the old one")
    sub.add_argument("--new-setup", type=Path, help="setup that came with the new one (default: the old one goes on)")
    sub.add_argument(
        "--answer", action="append", default=[], metavar="KEY=WHICH", help="of an edit that is asked: before, yours or delivered"
    )
    sub.add_argument(
        "--accept", type=Path, metavar="DIR", help="write the new delivery with its edits; refused while one is asked"
    )

    sub = command("twins", twins, "say what is missing in a scene, and which meshes could stand there, best first")
    sub.add_argument("--older", type=Path, help="an older delivery, which knows what stood where")
    sub.add_argument("--library", type=Path, nargs="+", default=[], metavar="F", help="files whose meshes are looked among too")
    sub.add_argument("--expect", action="append", default=[], metavar="NODE", help="an empty node that should have a shape")
    sub.add_argument(
        "--changes-out",
        type=Path,
        metavar="F",
        help="write the changes by which the best twin of each stands there, brought along",
    )
    sub.add_argument("--shapes", action="store_true", help="say what each mesh is compared by, too")


def answer(text: str) -> tuple[str, Any]:
    """(key, answer) of an argument."""
    key, _, which = text.rpartition("=")
    if not key or which not in ANSWERS:
        raise RequestError(f"{text!r} is not KEY=WHICH, with one of {', '.join(ANSWERS)}")
    return key, which


def rehearse(args: argparse.Namespace) -> int:
    from eddyfall.core.delivery.rehearse import rehearse as rehearsed
    from eddyfall.core.handover.documents.delivery import RehearsalDocument
    from eddyfall.core.handover.package import write_package
    from eddyfall.core.scene.changes import read_changes
    from eddyfall.core.scene.read.gltf import read_scene
    from eddyfall.core.scene.setup import read_setup

    out, old = Out(args), opened(args)
    changes = read_changes(args.changes) if args.changes else ()
    new = read_scene(args.new)
    delivered = read_setup(args.new_setup)[1] if args.new_setup else None
    answers = dict(answer(text) for text in args.answer)
    with out.progress() as progress:
        found = rehearsed(old, changes, new, delivered, answers, size=args.size, progress=progress)
    told = RehearsalDocument.from_core(found)
    _say(out, told)
    all_inputs = [p for p in (*inputs(args), args.new, args.new_setup) if p is not None]
    if args.accept:
        if told.unanswered:
            raise ChangeError(
                f"{len(told.unanswered)} edits are still asked: {', '.join(told.unanswered)}; answer with --answer KEY=WHICH"
            )
        carried = found.carried
        paths = write_package(carried.base, carried.result, carried.changes, args.accept, args.new.stem, all_inputs)
        for kind, path in paths.items():
            out.say(f"  {kind}: {path}")
    out.result(told, all_inputs)
    return 1 if told.unanswered or told.counts.get("lost") else 0


def supply(args: argparse.Namespace) -> int:
    from eddyfall.core.handover.documents.supply import SupplyDocument
    from eddyfall.core.handover.package import write_new
    from eddyfall.core.intake.supply import matched, offered, supplied, taken
    from eddyfall.core.scene.images import ImageBudget
    from eddyfall.core.scene.read.gltf import read_scene

    out, scene, budget = Out(args), read_scene(args.file), ImageBudget()
    names = [path.name for path in args.supply]
    if doubled := [name for name in names if names.count(name) > 1]:
        raise RequestError(f"{doubled[0]!r} is supplied twice")
    pictures = [offered(path.name, _bytes_of(path), budget) for path in args.supply]
    found = matched(scene, pictures, read_scene(args.older) if args.older else None)
    told = SupplyDocument.from_core(found)
    rows = [[f.name or f"image {f.image}", ", ".join(f"{m} {r}" for m, r in f.uses) or "-", f.picture, f.how,
             "-" if f.apart is None else f"{f.apart:.1f}", "" if f.sure else "look at it"] for f in told.found]  # fmt: skip
    head = ["missing", "for", "is", "by", "apart, codes", ""]
    out.table(f"{args.file.name}: {len(scene.missing)} pictures are missing", head, rows)
    for one in told.missing:
        out.say(
            f"still missing: {one.name or f'image {one.image}'} for {', '.join(f'{m} {r}' for m, r in one.uses) or 'nothing'}"
        )
    for name in told.left:
        out.say(f"finds no place: {name}")
    all_inputs = [p for p in (args.file, args.older, *args.supply) if p is not None]
    if args.out:
        if args.out.suffix.lower() != ".glb":
            raise RequestError("--out must end in .glb")
        write_new(args.out, supplied(args.file, taken(found, pictures)), all_inputs)
        out.say(f"wrote {args.out}")
    out.result(told, all_inputs)
    return 1 if told.missing else 0


def _bytes_of(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError as error:
        raise SceneError(f"cannot be read: {error.strerror}", file=path.name) from None


def twins(args: argparse.Namespace) -> int:
    from eddyfall.core.handover.documents.twins import MissingDocument, ShapeDocument, TwinsDocument
    from eddyfall.core.handover.package import write_new
    from eddyfall.core.likeness.twins import missing, shapes_of, stands_in
    from eddyfall.core.likeness.twins import twins as twins_of
    from eddyfall.core.scene.changes import ChangeFile
    from eddyfall.core.scene.read.gltf import read_scene

    out, scene = Out(args), read_scene(args.file)
    older = read_scene(args.older) if args.older else None
    library = [(path.name, read_scene(path)) for path in args.library]
    if unknown := [name for name in args.expect if name not in scene.node_number]:
        raise RequestError(f"node {unknown[0]!r} is not in the scene")
    with out.progress() as progress:
        found = [(what, twins_of(scene, what, library, progress=progress)) for what in missing(scene, older, args.expect)]
    told = [MissingDocument.from_core(*one) for one in found]
    for what in told:
        known = f"{'a guess by' if what.guess else 'known by the'} {what.how}" + (f", as {what.like}" if what.like else "")
        rows = [[t.mesh, t.source, _mm(t.apart_mm), _mm(t.most_mm), "-" if t.mirrored is None else "yes" if t.mirrored else "no",
                 _mm(t.end_fit_mm)] for t in what.twins]  # fmt: skip
        head = ["mesh", "of", "surfaces apart, mm", "at most", "mirrored", "ends apart, mm"]
        out.table(f"{what.name} is missing at ({', '.join(f'{v:.4g}' for v in what.at_m)}) m: {known}", head, rows)
    if not told:
        out.say("nothing is missing that the scene tells of")
    if args.changes_out:
        best = [stands_in(what, ranked[0], scene, library) for what, ranked in found if ranked]
        document = ChangeFile(changes=tuple(change for change in best if change is not None))
        write_new(args.changes_out, document.model_dump_json(exclude_none=True).encode(), [args.file, *args.library])
        out.say(f"wrote {args.changes_out} ({len(document.changes)} changes)")
    shapes = [ShapeDocument.from_core(*one) for one in shapes_of(scene, library)]
    if args.shapes:
        out.table("shapes, by points of their surfaces drawn at random", SHAPES_HEAD, [_shape(s) for s in shapes])
    out.result(TwinsDocument(missing=told, shapes=shapes), [p for p in (args.file, args.older, *args.library) if p is not None])
    return 1 if told else 0


def _shape(s: Any) -> list[str]:
    numbers = (s.area_m2, s.pairs_mean_m, *s.pairs_quartiles_m)
    return [s.mesh, s.source, str(s.triangles), " x ".join(f"{v:.4g}" for v in s.sides_m), *(f"{v:.4g}" for v in numbers)]


def _mm(value: float | None) -> str:
    return "-" if value is None else f"{value:.3g}"


def _say(out: Out, told: Any) -> None:
    same = ", ".join(f"{count} {kind}" for kind, count in told.same.items()) or "nothing"
    rows = [[m.kind, ", ".join(m.old) or "-", m.state, ", ".join(m.new) or "-", m.why] for m in told.matches]
    out.table(f"parts; the same: {same}", ["kind", "before", "is", "now", "why"], rows)
    edits = [[e.fate + (f" ({e.answer})" if e.answer else ""), e.key, e.path, ", ".join(e.to) or "-", _value(e.before), _value(e.yours),
              _value(e.delivered), e.why] for e in told.edits]  # fmt: skip
    out.table("edits", ["fate", "key", "edit", "now", "before", "yours", "delivered", "why"], edits)
    views = [[v.viewpoint, *("new" if x is None else f"{x:.2f}" for x in (v.mean_de, v.most_de)),
              "-" if v.differs is None else f"{v.differs * 100:.1f} %"] for v in told.views]  # fmt: skip
    out.table("frames", ["viewpoint", "mean CIEDE2000", "99th percentile", "differs"], views)
    for s in told.stale:
        out.say(f"stale: {s.what}: {s.why}")
    for note in told.notes:
        out.say(note)


def _value(value: Any) -> str:
    if isinstance(value, float):
        return f"{value:g}"
    if isinstance(value, list):
        return ", ".join(_value(v) for v in value)
    return "-" if value is None else str(value)
