"""Commands about lightmaps: charts, bake, why."""

import math
from collections.abc import Callable
from pathlib import Path
from typing import Any

from eddyfall.cli_tools import Out, inputs, numbers, opened
from eddyfall.core.errors import RequestError
from eddyfall.core.scene.setup.sections.bake import Bake


def add_commands(command: Callable[..., Any]) -> None:
    """Add the commands to the parser."""
    sub = command("charts", charts, "measure lightmap charts: overlap, density, stretch, skew, gutters, splits")
    sub.add_argument("--asset", help="one asset in detail (default: all)")
    sub.add_argument("--uv", type=int, choices=(0, 1), help="UV set to measure (default: the lightmap's)")
    sub.add_argument("--height", type=int, default=1080, metavar="PX", help="frame height for bleed distances (default 1080)")
    sub.add_argument(
        "--fov", type=float, default=60.0, metavar="DEG", help="vertical field of view for bleed distances (default 60)"
    )
    sub.add_argument("--picture", type=Path, metavar="F.png", help="write the chart page of --asset")
    sub = command("bake", bake, "bake what is missing or stale, or say what would be")
    sub.add_argument("--out", type=Path, metavar="DIR", help="write the build with its lightmaps here, and each map as OpenEXR")
    sub.add_argument("--assets", help="names with commas between (default: all)")
    sub.add_argument("--light-set", help="one light set (default: all)")
    sub.add_argument("--everything", action="store_true", help="bake what is fresh too")
    sub.add_argument("--samples", type=int, help="instead of bake.samples")
    sub.add_argument("--bounces", type=int, help="instead of bake.bounces")
    sub.add_argument("--workers", type=int, default=1, metavar="N", help="worker processes (default 1: this one)")
    sub.add_argument("--dask", metavar="ADDRESS", help="scheduler of a Dask cluster to bake on")
    sub.add_argument("--status", action="store_true", help="only say which lightmaps are missing or stale, and why")
    sub.add_argument("--plan", action="store_true", help="only say what is worth a lightmap and what that costs")
    sub.add_argument("--unwrap-rate", type=float, metavar="TRIANGLES/S", help="known unwrap rate for --plan (default: measured)")
    sub = command("why", why, "say why a lightmap texel is as it is")
    sub.add_argument("--asset")
    sub.add_argument("--texel", type=numbers(2), metavar="X,Y")
    sub.add_argument("--viewpoint", help="ask about a pixel of this viewpoint instead")
    sub.add_argument("--at", type=numbers(2), metavar="X,Y", help="the pixel")
    sub.add_argument("--light-set", help="light set (default: the viewpoint's, else the first)")


def charts(args: Any) -> int:
    from eddyfall.core.bake.questions.splits import with_needless_splits
    from eddyfall.core.handover.documents.charts import ChartsDocument
    from eddyfall.core.scene.drawables import pack
    from eddyfall.core.scene.receivers import receivers
    from eddyfall.core.scene.resolve import resolve
    from eddyfall.core.uv.report import asset_report

    out, build = Out(args), opened(args)
    bake = resolve(build.setup, args.target)[Bake]
    geometry = pack(build.scene, build.setup)
    chosen = receivers(build, geometry, bake)
    if args.asset:
        name = _receiver_or_mesh(build, geometry, args.asset, bake)
        chosen = [name]
    reports = [with_needless_splits(build, geometry, asset_report(build, geometry, r, bake, args.uv)) for r in chosen]
    rows = [_chart_row(r) for r in reports]
    columns = ["asset", "charts", "overlap", "outside", "texels/m", "stretch", "skew", "gutter", "splits", "KiB"]
    out.table(f"{len(rows)} lightmapped asset{'s' if len(rows) != 1 else ''} in {args.file.name}", columns, rows)
    documents = [ChartsDocument.from_core(r).model_dump(mode="json") for r in reports]
    if args.asset:
        documents[0] |= _details(out, build, geometry, reports[0], args)
        if args.picture:
            _write_picture(args, reports[0])
    elif args.picture:
        raise RequestError("--picture needs --asset")
    out.result(documents[0] if args.asset else {"assets": documents}, inputs(args))
    return 0


def _receiver_or_mesh(build: Any, geometry: Any, name: str, bake: Any) -> Any:
    """The receiver of a name; an asset that has no lightmap is measured as if it had one on TEXCOORD_0."""
    from eddyfall.core.scene.receivers import Receiver, receiver_named, receivers

    for r in receivers(build, geometry, bake):
        if r.name == name:
            return r
    members = [i for i, d in enumerate(geometry.things) if name in (d.name, d.node, d.mesh)]
    if not members:
        return receiver_named(build, geometry, name)
    for r in receivers(build, geometry, bake):
        if members[0] in r.drawables:
            return r
    first = geometry.drawables[members[0]].node
    same_node = tuple(i for i in members if geometry.drawables[i].node == first)
    return Receiver(name, same_node, 0, bake.resolution, (0.0, 0.0), 1.0, bake.uv_use == "as_is")


def _chart_row(r: Any) -> list[str]:
    skews = [r.page.charts[i].skew_deg for i in r.skewed]
    shared = r.ruling_overlap
    gutter = (
        "-"
        if r.safe_mip is None
        else f"{r.gutter_texels:.1f}, safe to mip {r.safe_mip}"
        if r.safe_mip >= 0
        else f"{r.gutter_texels:.1f}"
    )
    stretch = f"{r.stretch:.2f}" if math.isfinite(r.stretch) else "-"
    return [
        r.receiver.name, str(len(r.page.charts)),
        f"{shared.texel_share * 100:.1f} % texels, {shared.surface_share * 100:.1f} % surface" if shared.pairs else "none",
        f"{r.overlap.out_of_range_share * 100:.0f} %", f"{r.page_texels_per_m:.1f}", stretch,
        f"{max(skews, key=abs):.1f} deg" if skews else "-", gutter, str(len(r.seams)), f"{r.memory()['half'] / 1024:.0f}",
    ]  # fmt: skip


def _details(out: Out, build: Any, geometry: Any, report: Any, args: Any) -> dict[str, Any]:
    from eddyfall.core.uv.bleed import measure_bleed
    from eddyfall.core.uv.copy_remedies import copy_remedies
    from eddyfall.core.uv.gutters import focal_px

    extra: dict[str, Any] = {}
    rows = [
        [
            str(i), str(c.triangles), f"{c.density:.1f}", "-" if c.skew_deg is None else f"{c.skew_deg:.2f}",
            "-" if c.step_texels > 1e6 else f"{c.step_texels:.1f}", f"{c.stretch_l2:.3f}", "mirrored" if c.mirrored else "",
        ]
        for i, c in enumerate(report.page.charts[:40])
    ]  # fmt: skip
    out.table("", ["chart", "triangles", "texels/m", "skew deg", "step texels", "stretch", ""], rows)
    mesh = geometry.drawables[report.receiver.drawables[0]].mesh
    remedies = copy_remedies(build, mesh)
    if remedies:
        rows = [
            [r.title, f"{r.texel_share * 100:.1f} %", f"{r.surface_share * 100:.1f} %", f"{r.texels_per_m:.1f}", r.price]
            for r in remedies
        ]
        out.table("what if", ["remedy", "texels doubled", "surface doubled", "texels/m", "price"], rows)
        extra["remedies"] = [vars(r) | {"change": None} for r in remedies]
    d = geometry.drawables[report.receiver.drawables[0]]
    use = build.scene.materials[d.material].base_texture if d.material >= 0 else None
    if use is not None and (args.uv if args.uv is not None else report.receiver.uv_set) == use.uv_set:
        image = build.scene.images[use.image]
        density = report.page.density / report.receiver.resolution * image.pixels.shape[1]
        bleed = measure_bleed(image.pixels, report.uv, density, focal_px(args.height, args.fov))
        if bleed.padding < 64:
            out.say(
                f"texture {image.name}: {bleed.padding} texels of padding, safe to mip {bleed.safe}"
                f"; bleeds beyond {bleed.first_bad_m:.2f} m"
                f" ({bleed.first_bad_nearest_m:.2f} m with the nearest mip); without mips it shimmers beyond {bleed.shimmer_m:.2f} m"
            )
            extra["bleed"] = {
                "image": image.name, "padding_texels": bleed.padding, "safe_mip": bleed.safe, "texels_per_m": density,
                "focal_px": bleed.focal_px, "first_bad_m": bleed.first_bad_m, "first_bad_nearest_m": bleed.first_bad_nearest_m,
                "shimmer_m": bleed.shimmer_m, "level_m": {str(k): bleed.level_m(k) for k in range(8)},
                "base_bytes": bleed.base_bytes, "mip_chain_bytes": bleed.mip_chain_bytes,
            }  # fmt: skip
    return extra


def _write_picture(args: Any, report: Any) -> None:
    import io

    from PIL import Image

    from eddyfall.core.handover.package import write_new
    from eddyfall.core.uv.picture import overlap_picture

    stream = io.BytesIO()
    picture = overlap_picture(report.uv, report.ruling_overlap.collided, as_is=report.uv_use == "as_is", edge_px=1024)
    Image.fromarray(picture).save(stream, "PNG")
    write_new(args.picture, stream.getvalue(), inputs(args))


def bake(args: Any) -> int:
    from eddyfall.core.bake.maps.run import bake as run_bake
    from eddyfall.core.bake.maps.run import light_sets
    from eddyfall.core.compute import DaskCluster, Executor, Here, Processes

    out, build = Out(args), opened(args)
    sets = [args.light_set] if args.light_set else light_sets(build)
    if args.light_set and args.light_set not in build.setup.light_sets:
        raise RequestError(
            f"light set {args.light_set!r} does not exist; there are: {', '.join(build.setup.light_sets) or 'none'}"
        )
    if args.plan:
        return _plan(out, build, args, sets[0])
    if args.status:
        return _status(out, build, args, sets)
    if args.out is None:
        raise RequestError("say where to with --out DIR, or ask with --status or --plan")
    names = [n.strip() for n in args.assets.split(",")] if args.assets else None
    _known(build, names)
    settings = build.setup[Bake].model_copy(
        update={k: v for k, v in (("samples", args.samples), ("bounces", args.bounces)) if v is not None}
    )
    if (args.samples is not None and args.samples < 1) or (args.bounces is not None and not 0 <= args.bounces <= 64):
        raise RequestError("--samples must be 1 or more, --bounces 0 to 64")
    executor: Executor = Here() if args.workers <= 1 else Processes(args.workers)
    if args.dask:
        from distributed import Client

        executor = DaskCluster(Client(args.dask))  # type: ignore[no-untyped-call]
    with out.progress() as progress:
        result = run_bake(
            build.with_setup(build.setup.model_copy(update={"bake": settings})), names, sets, everything=args.everything,
            executor=executor, progress=progress,
        )  # fmt: skip
    files = _write_baked(args, build, result)
    out.say(f"{len(result.done)} lightmaps baked, {result.rays / 1e6:.1f} M rays; {len(result.left)} left")
    for path in files:
        out.say(f"   {path}")
    document = {
        "baked": [{"asset": n, "light_set": s} for n, s in result.done], "left": [{"asset": n, "light_set": s} for n, s in result.left],
        "rays": result.rays, "files": [str(p) for p in files], "maps": [_map_facts(result, n, s) for n, s in result.done],
    }  # fmt: skip
    out.result(document, inputs(args))
    return 0


def _known(build: Any, names: list[str] | None) -> None:
    from eddyfall.core.scene.drawables import pack
    from eddyfall.core.scene.receivers import receivers

    there = {r.name for r in receivers(build, pack(build.scene, build.setup))}
    for name in names or ():
        if name not in there:
            raise RequestError(f"no lightmapped asset {name!r}; there are: {', '.join(sorted(there)) or 'none'}")


def _map_facts(result: Any, name: str, light_set: str | None) -> dict[str, Any]:
    from eddyfall.core.shade.srgb import luminance

    raw = result.raws[name, light_set]
    y = luminance(raw.mean[raw.covered])
    mean = float(y.mean()) if len(y) else 0.0
    return {
        "asset": name, "light_set": light_set, "edge": raw.covered.shape[0], "texels": int(raw.covered.sum()), "mean_lux": mean,
        "hidden_texels": int(raw.hidden_texels.sum()), "noise": float(raw.noise[raw.covered].mean()) / mean if mean > 0 else 0.0,
    }  # fmt: skip


def _write_baked(args: Any, build: Any, result: Any) -> list[Path]:
    from eddyfall.core.bake.maps.files import exr_of_map
    from eddyfall.core.frame.lightmap_store import stored_map
    from eddyfall.core.handover.package import slug, write_new, write_package

    paths = list(write_package(build, result.build, (), args.out, args.file.stem, inputs(args)).values())
    used: set[str] = set()
    for name, light_set in result.done:
        found = stored_map(result.build, name, light_set)
        if found is not None:
            stem = slug(name + (f"-{light_set}" if light_set else ""))
            # Names that differ only in what a file name cannot hold would overwrite each other.
            stem = next(s for k in range(len(result.done) + 1) if (s := f"{stem}-{k + 1}" if k else stem) not in used)
            used.add(stem)
            path = args.out / f"{stem}.lightmap.exr"
            write_new(path, exr_of_map(found.values), inputs(args))
            paths.append(path)
    return paths


def _status(out: Out, build: Any, args: Any, sets: list[str | None]) -> int:
    from eddyfall.core.bake.maps.stamps import stale
    from eddyfall.core.bake.questions.overview import map_state
    from eddyfall.core.handover.documents.lightmaps import MapStateDocument
    from eddyfall.core.scene.drawables import pack
    from eddyfall.core.scene.resolve import resolve

    geometry = pack(build.scene, build.setup)
    bake = resolve(build.setup, args.target)[Bake]
    rows, documents = [], []
    for light_set in sets:
        for found in stale(build, geometry, light_set, bake):
            state = map_state(found, light_set)
            asset = found.receiver
            rows.append([asset.name, light_set or "", state.state, str(state.stale_texels), "; ".join(state.why)[:160]])
            documents.append({"asset": asset.name, "edge": asset.resolution, **MapStateDocument.from_core(state).model_dump()})
    out.table("lightmaps", ["asset", "light set", "state", "stale texels", "why"], rows)
    out.result({"lightmaps": documents}, inputs(args))
    return 1 if any(d["state"] != "fresh" for d in documents) else 0


def _plan(out: Out, build: Any, args: Any, light_set: str | None) -> int:
    from eddyfall.core.bake.questions.shortlist import shortlist
    from eddyfall.core.handover.documents.lightmaps import ShortlistDocument
    from eddyfall.core.scene.drawables import pack

    found = shortlist(build, pack(build.scene, build.setup), light_set, triangles_per_s=args.unwrap_rate)
    rows = [
        [c.node, f"{c.value:.2f}", f"{c.area_m2:.2f}", str(c.triangles), f"{c.contrast:.2f}", f"{c.resolution}", f"{c.unwrap_s:.4g}",
         f"{c.bake_s:.3g}",
         f"{c.noise * 100:.1f} %", c.why or "bake"]
        for c in found.candidates
    ]  # fmt: skip
    columns = ["asset", "value", "m²", "triangles", "contrast", "texels", "unwrap s", "bake s", "noise", "advice"]
    out.table("what is worth a lightmap", columns, rows)
    everything = sum(c.triangles for c in found.candidates)
    chosen = sum(c.triangles for c in found.chosen)
    out.say(
        f"unwrap all {everything:,} triangles: {everything / found.triangles_per_s:.4g} s; the {len(found.chosen)} chosen with {chosen:,}: "
        f"{chosen / found.triangles_per_s:.4g} s; at {found.triangles_per_s:,.0f} triangles/s"
        f" {'as said' if args.unwrap_rate else 'measured here'} [prediction]"
    )
    targets = {name: found.bytes_on(build, name) for name in [None, *build.setup.targets]}
    out.say("memory of the chosen maps: " + "; ".join(f"{n or 'project'} {b / 2**20:.2f} MiB" for n, b in targets.items()))
    out.result(ShortlistDocument.from_core(found, {n or "project": b for n, b in targets.items()}), inputs(args))
    return 0


def why(args: Any) -> int:
    from eddyfall.core.bake.questions.explain import explain
    from eddyfall.core.handover.documents.lightmaps import ExplanationDocument, effect_title
    from eddyfall.core.scene.resolve import resolve

    out, build = Out(args), opened(args)
    light_set = args.light_set or next(iter(build.setup.light_sets), None)
    asset, texel = args.asset, args.texel
    if args.viewpoint:
        if args.at is None:
            raise RequestError("--viewpoint needs --at X,Y")
        asset, texel = _texel_of_pixel(build, args)
        light_set = args.light_set or build.setup.viewpoints[args.viewpoint].light_set
    if asset is None or texel is None:
        raise RequestError("say which texel: --asset A --texel X,Y, or --viewpoint V --at X,Y")
    bake = resolve(build.setup, args.target)[Bake]
    e = explain(build, asset, texel, light_set, bake=bake)
    out.say(f"{e.receiver}, texel {e.texel[0]},{e.texel[1]} of {e.edge}: {e.value:.4g} lx; it should be {e.reference:.4g} lx")
    out.say("healthy" if e.healthy else f"strongest cause: {effect_title(e.effects[0])}")
    rows = [[effect_title(f), f"{f.without:.4g}", f"{f.share * 100:.1f} %", _facts(f.facts)] for f in e.effects]
    out.table("each cause taken away alone", ["cause", "without it, lx", "share of the fault", "facts"], rows)
    out.say(f"all taken away: {e.all_removed:.4g} lx; unexplained: {e.unexplained:.3g} lx; noise ±{e.noise:.2g} lx")
    out.result(ExplanationDocument.from_core(e), inputs(args))
    return 0


def _facts(facts: dict[str, Any]) -> str:
    def in_words(value: Any) -> str:
        return (
            f"{value:.4g}" if isinstance(value, float) else ", ".join(map(str, value)) if isinstance(value, list) else str(value)
        )

    return "; ".join(f"{k.replace('_', ' ')} {in_words(v)}" for k, v in facts.items())


def _texel_of_pixel(build: Any, args: Any) -> tuple[str, tuple[int, int]]:
    from eddyfall.core.frame.core_sample import core_sample
    from eddyfall.core.frame.render import Renderer, Request
    from eddyfall.core.scene.receivers import receiver_named

    renderer = Renderer()
    sample = core_sample(renderer, build, Request(args.viewpoint, args.size, None, args.target), *args.at)
    for layer in sample.layers:
        if "lightmap" in layer.facts:
            receiver = receiver_named(build, renderer.geometry(build), layer.drawable)
            edge = layer.facts["lightmap"]["edge"]
            x, y = (min(max(t, 0), edge - 1) for t in layer.facts["lightmap"]["texel"])
            return receiver.name, (x, y)
    raise RequestError(f"nothing with a lightmap is seen at {args.at[0]},{args.at[1]} of {args.viewpoint}")
