"""uv.missing, uv.out-of-range, uv.degenerate, uv.gutter, uv.skew, uv.split, uv.density: charts that are not fit to be baked."""

import math
from collections.abc import Iterator

import numpy as np

from eddyfall.core.bake.splits import needless_splits
from eddyfall.core.defects.contract import Candidate, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.lightmap_survey import Lightmaps, Seen, front_pixels, lightmaps_of
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey
from eddyfall.core.scene.changes import Change, Operation, Scope, set_leaf
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.receivers import Receiver
from eddyfall.core.uv.picture import overlap_picture
from eddyfall.core.uv.report import AssetReport

LEAST_GUTTER_TEXELS = 2.0  # one texel a side: what bilinear filtering needs: level 0
SKEW_LIMIT_DEG = 1.0
LEAST_BORDER_TEXELS = 16.0
DENSITY_LIMIT = 4.0
LEAST_TEXELS = 1e-3


def mesh_operation(name: str, mesh: str, title: str, reason: str, **params: object) -> Change:
    """A named operation on a mesh as a change."""
    return Change(
        id=short_id(f"{name}:{mesh}"),
        title=title,
        scope="mesh",
        reason=reason,
        operation=Operation(name=name, params={"mesh": mesh, **params}),
    )


def conclude(survey: Survey, seen: Seen) -> list[Suspicion]:
    """One suspicion for each asset and code."""
    maps = lightmaps_of(survey)
    result = list(_missing(maps, seen))
    everyone = maps.receivers
    for receiver in everyone:
        report = maps.report(receiver)
        for judge in (_out_of_range, _degenerate, _gutter, _skew, _split):
            found = judge(maps, receiver, report)
            if found is not None:
                result.append(_shown(found, maps, receiver, seen))
    result += [_shown(s, maps, r, seen) for r, s in _density(maps, everyone)]
    return result


def _shown(suspicion: Suspicion, maps: Lightmaps, receiver: Receiver, seen: Seen) -> Suspicion:
    from dataclasses import replace

    why = "" if maps.build.setup.lightmaps.get(receiver.name) else "it has no baked lightmap yet"
    return replace(suspicion, pixels=maps.shown([receiver], seen), subjects=maps.subjects([receiver]), not_drawn_yet=why)


def _suspicion(
    code: str, key: str, title: str, value: float, limit: float, evidence: list[Evidence], candidates: list[Candidate]
) -> Suspicion:
    return Suspicion(code, "mesh", key, title, (), value, limit, tuple(evidence), candidates=tuple(candidates))


def _missing(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    """Meshes that the setup says are lightmapped by UVs they do not have."""
    build = maps.build
    for key, mesh in zip(build.scene.mesh_keys, build.scene.meshes):
        said = build.setup.meshes[key].lightmap_uv if key in build.setup.meshes else None
        if said is None:
            continue
        without = [p for p in mesh.primitives if f"TEXCOORD_{said}" not in p.attributes]
        nodes = {
            k
            for k, n in zip(build.scene.node_keys, build.scene.nodes)
            if n.mesh is not None and build.scene.mesh_keys[n.mesh] == key
        }
        if not without or not nodes:
            continue
        members = [i for i, d in enumerate(maps.geometry.drawables) if d.node in nodes]
        pixels = {v: t for v, counts in seen.items() if (t := sum(counts.get(i, 0) for i in members))}
        change = mesh_operation("uv.repack", key, f"unwrap {key} for its lightmap", "its lightmap has no UVs")
        yield Suspicion(
            "uv.missing",
            "mesh",
            key,
            f"{key}: no UVs for its lightmap",
            tuple(maps.geometry.drawables[i].name for i in members),
            float(sum(p.triangles for p in without)),
            0.0,
            (
                Evidence(
                    f"triangles without TEXCOORD_{said}", float(sum(p.triangles for p in without)), "triangles", 0.0, "the setup"
                ),
            ),
            pixels,
            {},
            (Candidate(change, "every triangle has texels of its own", (), ("vertices are split along charts",)),),
            "it cannot be baked without UVs",
        )


def _out_of_range(maps: Lightmaps, receiver: Receiver, report: AssetReport) -> Suspicion | None:
    share = report.overlap.out_of_range_share
    if report.uv_use != "as_is" or share <= 0:
        return None
    key = maps.mesh_of(receiver)
    evidence = [
        Evidence(
            "surface outside 0..1",
            share * 100,
            "%",
            0.0,
            "the target takes UVs as they are",
            overlap_picture(report.uv, np.zeros(len(report.uv), bool)),
        )
    ]
    pack = mesh_operation("uv.pack", key, f"pack the charts of {key} into 0..1", "they lie outside the map")
    return _suspicion(
        "uv.out-of-range",
        key,
        f"{key}: charts outside the map",
        share * 100,
        0.0,
        evidence,
        [Candidate(pack, "all charts lie in 0..1", (), ("copies are evaluated for good",))],
    )


def _degenerate(maps: Lightmaps, receiver: Receiver, report: AssetReport) -> Suspicion | None:
    if not report.overlap.degenerate or not any(c.uv_area for c in report.page.charts):
        return None
    key = maps.mesh_of(receiver)
    evidence = [
        Evidence("triangles without UV area", float(report.overlap.degenerate), "triangles", 0.0, f"under {LEAST_TEXELS} texel²")
    ]
    repack = mesh_operation("uv.repack", key, f"unwrap {key} anew", "some of its triangles have no texels")
    return _suspicion(
        "uv.degenerate",
        key,
        f"{key}: triangles without texels",
        float(report.overlap.degenerate),
        0.0,
        evidence,
        [Candidate(repack, "every triangle has texels", (), ("charts are new; old bakes are stale",))],
    )


def _gutter(maps: Lightmaps, receiver: Receiver, report: AssetReport) -> Suspicion | None:
    gap = report.gutter_texels
    if not math.isfinite(gap) or gap >= LEAST_GUTTER_TEXELS - 1e-3 or report.judged.pairs:
        return None
    key = maps.mesh_of(receiver)
    evidence = [
        Evidence(
            "gap between the closest charts",
            gap,
            "texels",
            LEAST_GUTTER_TEXELS,
            "one texel a side for bilinear filtering",
            at_least=True,
        ),
    ]
    wanted = max(int(LEAST_GUTTER_TEXELS), maps.bake.gutter_texels)
    change = mesh_operation(
        "uv.pack",
        key,
        f"pack {key} with {wanted} texels between charts",
        "its charts bleed into each other",
        gutter_texels=wanted,
    )
    return _suspicion(
        "uv.gutter",
        key,
        f"{key}: charts lie too close",
        LEAST_GUTTER_TEXELS - gap,
        0.0,
        evidence,
        [Candidate(change, "no texel serves two charts", (), ("texels/m may fall",))],
    )


def _skew(maps: Lightmaps, receiver: Receiver, report: AssetReport) -> Suspicion | None:
    charts = [i for i in report.skewed if report.page.charts[i].border_texels / receiver.side >= LEAST_BORDER_TEXELS]
    if not charts:
        return None
    key = maps.mesh_of(receiver)
    worst = max((report.page.charts[i] for i in charts), key=lambda c: c.border_texels)
    assert worst.skew_deg is not None
    mark = np.isin(report.page.chart, charts)
    evidence = [
        Evidence(
            "skew to the texel grid",
            abs(worst.skew_deg),
            "deg",
            SKEW_LIMIT_DEG,
            "steps show along edges",
            overlap_picture(report.uv, mark),
        ),
        Evidence("texels between steps", worst.step_texels, "texels", None, "1 / tan(skew)"),
        Evidence("skewed charts", float(len(charts)), "charts", 0.0, "off the grid"),
    ]
    change = mesh_operation("uv.align", key, f"turn the charts of {key} onto the texel grid", "skewed edges bake as steps")
    return _suspicion(
        "uv.skew",
        key,
        f"{key}: charts lie askew on the texel grid",
        abs(worst.skew_deg),
        SKEW_LIMIT_DEG,
        evidence,
        [Candidate(change, "no steps along edges", (), ("charts are packed anew; old bakes are stale",))],
    )


def _split(maps: Lightmaps, receiver: Receiver, report: AssetReport) -> Suspicion | None:
    found = needless_splits(report, lambda: maps.scene(maps.sets[0]))
    if not found or report.judged.pairs:
        return None
    key = maps.mesh_of(receiver)
    mark = np.isin(report.page.chart, [c for s in found for c in s.charts])
    evidence = [
        Evidence(
            "charts that part across a flat surface",
            float(len(found)),
            "seams",
            0.0,
            "bend under 1 deg",
            overlap_picture(report.uv, mark),
        ),
        Evidence("length of these seams", sum(s.length_m for s in found), "m", 0.0, "each may show as a line"),
    ]
    change = mesh_operation("uv.join", key, f"join the split charts of {key}", "flat surfaces are split for nothing")
    return _suspicion(
        "uv.split",
        key,
        f"{key}: a flat surface is split into charts",
        float(len(found)),
        0.0,
        evidence,
        [Candidate(change, "no seam across a flat surface", (), ("charts are packed anew; old bakes are stale",))],
    )


def _density(maps: Lightmaps, everyone: list[Receiver]) -> Iterator[tuple[Receiver, Suspicion]]:
    """Receivers whose texels are far larger than those of most: beyond four times the median."""
    densities = {r.name: maps.report(r).page_texels_per_m for r in everyone}
    known = [v for v in densities.values() if v > 0]
    if len(known) < 3:
        return
    median = float(np.median(known))
    for receiver in everyone:
        mine = densities[receiver.name]
        if mine <= 0 or median / mine <= DENSITY_LIMIT:
            continue
        key = maps.node_of(receiver)
        edge = receiver.resolution
        while edge < 4096 and mine * edge / receiver.resolution < median / 2:
            edge *= 2
        extra = (edge**2 - receiver.resolution**2) * 8 * len(maps.sets)
        change = set_leaf(
            maps.build,
            ("nodes", key, "lightmap_size"),
            edge,
            scope="node",
            title=f"lightmap of {key}: {edge} texels instead of {receiver.resolution}",
            reason="its texels are far larger than its neighbours'",
        )
        evidence = [
            Evidence("coarser than the median lightmap", median / mine, "times", DENSITY_LIMIT, "common practice"),
            Evidence("texels/m", mine, "1/m"),
            Evidence("median texels/m", median, "1/m"),
        ]
        yield (
            receiver,
            Suspicion(
                "uv.density",
                "node",
                key,
                f"{key}: lightmap texels far larger than its neighbours'",
                (),
                median / mine,
                DENSITY_LIMIT,
                tuple(evidence),
                candidates=(
                    Candidate(change, "density within four times of the median", (Cost("memory", float(extra), "bytes"),)),
                ),
            ),
        )


FAMILY = Family(
    "uv_charts",
    {
        "uv.missing": "lightmapped without lightmap UVs",
        "uv.out-of-range": "charts outside the map of a target that takes UVs as they are",
        "uv.degenerate": "triangles without texels",
        "uv.gutter": "charts too close to each other",
        "uv.skew": "charts askew on the texel grid",
        "uv.split": "flat surfaces split into charts",
        "uv.density": "texels far larger than those of neighbours",
    },
    front_pixels,
    conclude,
    looks_like={
        "uv.missing": "no baked light",
        "uv.out-of-range": "blotches",
        "uv.degenerate": "blotches",
        "uv.gutter": "seams",
        "uv.skew": "jagged edges",
        "uv.split": "seams",
        "uv.density": "coarse light",
    },
)
register(FAMILY)

__all__ = ["FAMILY", "Scope", "mesh_operation"]
