"""uv.missing, uv.out-of-range, uv.degenerate, uv.gutter, uv.off-grid, uv.split, uv.density: charts that are not fit to be baked."""

import math
from collections.abc import Iterator

import numpy as np

from eddyfall.core.bake.questions.splits import needless_splits
from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Suspicion
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
    return Suspicion(
        code=code,
        cause_kind="mesh",
        cause=key,
        title=title,
        subjects=(),
        value=value,
        limit=limit,
        evidence=tuple(evidence),
        candidates=tuple(candidates),
    )


def _missing(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    """Meshes that the setup says are lightmapped by UVs they do not have."""
    build = maps.build
    for key, mesh in zip(build.scene.mesh_keys, build.scene.meshes):
        uv_set = build.setup.meshes[key].lightmap_uv if key in build.setup.meshes else None
        if uv_set is None:
            continue
        without = [p for p in mesh.primitives if f"TEXCOORD_{uv_set}" not in p.attributes]
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
            code="uv.missing",
            cause_kind="mesh",
            cause=key,
            title=f"{key}: no UVs for its lightmap",
            subjects=tuple(maps.geometry.drawables[i].name for i in members),
            value=float(sum(p.triangles for p in without)),
            limit=0.0,
            evidence=(
                Evidence(
                    measure=f"triangles without TEXCOORD_{uv_set}",
                    value=float(sum(p.triangles for p in without)),
                    unit="triangles",
                    limit=0.0,
                    source="the setup",
                ),
            ),
            pixels=pixels,
            regions={},
            candidates=(
                Candidate(
                    change=change,
                    predicts="every triangle has texels of its own",
                    costs=(),
                    side_effects=("vertices are split along charts",),
                ),
            ),
            not_drawn_yet="it cannot be baked without UVs",
        )


def _out_of_range(maps: Lightmaps, receiver: Receiver, report: AssetReport) -> Suspicion | None:
    share = report.overlap.out_of_range_share
    if report.uv_use != "as_is" or share <= 0:
        return None
    key = maps.mesh_of(receiver)
    evidence = [
        Evidence(
            measure="surface outside 0..1",
            value=share * 100,
            unit="%",
            limit=0.0,
            source="the target takes UVs as they are",
            picture=overlap_picture(report.uv, np.zeros(len(report.uv), bool)),
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
        [Candidate(change=pack, predicts="all charts lie in 0..1", costs=(), side_effects=("copies are evaluated for good",))],
    )


def _degenerate(maps: Lightmaps, receiver: Receiver, report: AssetReport) -> Suspicion | None:
    if not report.overlap.degenerate or not any(c.uv_area for c in report.page.charts):
        return None
    key = maps.mesh_of(receiver)
    evidence = [
        Evidence(
            measure="triangles without UV area",
            value=float(report.overlap.degenerate),
            unit="triangles",
            limit=0.0,
            source=f"under {LEAST_TEXELS} texel²",
        )
    ]
    repack = mesh_operation("uv.repack", key, f"unwrap {key} anew", "some of its triangles have no texels")
    return _suspicion(
        "uv.degenerate",
        key,
        f"{key}: triangles without texels",
        float(report.overlap.degenerate),
        0.0,
        evidence,
        [
            Candidate(
                change=repack,
                predicts="every triangle has texels",
                costs=(),
                side_effects=("charts are new; old bakes are stale",),
            )
        ],
    )


def _gutter(maps: Lightmaps, receiver: Receiver, report: AssetReport) -> Suspicion | None:
    gap = report.gutter_texels
    if not math.isfinite(gap) or gap >= LEAST_GUTTER_TEXELS - 1e-3 or report.ruling_overlap.pairs:
        return None
    key = maps.mesh_of(receiver)
    evidence = [
        Evidence(
            measure="gap between the closest charts",
            value=gap,
            unit="texels",
            limit=LEAST_GUTTER_TEXELS,
            source="one texel a side for bilinear filtering",
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
        [Candidate(change=change, predicts="no texel serves two charts", costs=(), side_effects=("texels/m may fall",))],
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
            measure="skew to the texel grid",
            value=abs(worst.skew_deg),
            unit="deg",
            limit=SKEW_LIMIT_DEG,
            source="steps show along edges",
            picture=overlap_picture(report.uv, mark),
        ),
        Evidence(measure="texels between steps", value=worst.step_texels, unit="texels", limit=None, source="1 / tan(skew)"),
        Evidence(measure="skewed charts", value=float(len(charts)), unit="charts", limit=0.0, source="off the grid"),
    ]
    change = mesh_operation("uv.align", key, f"turn the charts of {key} onto the texel grid", "skewed edges bake as steps")
    return _suspicion(
        "uv.off-grid",
        key,
        f"{key}: charts lie askew on the texel grid",
        abs(worst.skew_deg),
        SKEW_LIMIT_DEG,
        evidence,
        [
            Candidate(
                change=change,
                predicts="no steps along edges",
                costs=(),
                side_effects=("charts are packed anew; old bakes are stale",),
            )
        ],
    )


def _split(maps: Lightmaps, receiver: Receiver, report: AssetReport) -> Suspicion | None:
    found = needless_splits(report, lambda: maps.scene(maps.sets[0]))
    if not found or report.ruling_overlap.pairs:
        return None
    key = maps.mesh_of(receiver)
    mark = np.isin(report.page.chart, [c for s in found for c in s.charts])
    evidence = [
        Evidence(
            measure="charts that part across a flat surface",
            value=float(len(found)),
            unit="seams",
            limit=0.0,
            source="bend under 1 deg",
            picture=overlap_picture(report.uv, mark),
        ),
        Evidence(
            measure="length of these seams",
            value=sum(s.length_m for s in found),
            unit="m",
            limit=0.0,
            source="each may show as a line",
        ),
    ]
    change = mesh_operation("uv.join", key, f"join the split charts of {key}", "flat surfaces are split for nothing")
    return _suspicion(
        "uv.split",
        key,
        f"{key}: a flat surface is split into charts",
        float(len(found)),
        0.0,
        evidence,
        [
            Candidate(
                change=change,
                predicts="no seam across a flat surface",
                costs=(),
                side_effects=("charts are packed anew; old bakes are stale",),
            )
        ],
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
            Evidence(
                measure="coarser than the median lightmap",
                value=median / mine,
                unit="times",
                limit=DENSITY_LIMIT,
                source="common practice",
            ),
            Evidence(measure="texels/m", value=mine, unit="1/m"),
            Evidence(measure="median texels/m", value=median, unit="1/m"),
        ]
        yield (
            receiver,
            Suspicion(
                code="uv.density",
                cause_kind="node",
                cause=key,
                title=f"{key}: lightmap texels far larger than its neighbours'",
                subjects=(),
                value=median / mine,
                limit=DENSITY_LIMIT,
                evidence=tuple(evidence),
                candidates=(
                    Candidate(
                        change=change,
                        predicts="density within four times of the median",
                        costs=(Cost("memory", float(extra), "bytes"),),
                    ),
                ),
            ),
        )


FAMILY = Family(
    "uv_charts",
    (
        Code(
            code="uv.missing",
            words="lightmapped without lightmap UVs",
            kind="Lightmap",
            symptom="no baked light",
            limit="a lightmapped mesh must have lightmap UVs",
            sheet="lightmaps",
        ),
        Code(
            code="uv.out-of-range",
            words="charts outside the map of a target that takes UVs as they are",
            kind="Lightmap",
            symptom="blotches",
            limit="every chart must lie in the map",
            sheet="lightmaps",
        ),
        Code(
            code="uv.degenerate",
            words="triangles without texels",
            kind="Lightmap",
            symptom="blotches",
            limit="a triangle must own a thousandth of a texel at least",
            sheet="lightmaps",
        ),
        Code(
            code="uv.gutter",
            words="charts too close to each other",
            kind="Lightmap",
            symptom="seams",
            limit="charts must keep the gutter that the bake asks for",
            sheet="lightmaps",
        ),
        Code(
            code="uv.off-grid",
            words="charts off the texel grid",
            kind="Lightmap",
            symptom="jagged edges",
            limit="edges of charts must run along the texels",
            sheet="lightmaps",
            of_texel="Jagged edge off the texel grid",
        ),
        Code(
            code="uv.split",
            words="flat surfaces split into charts",
            kind="Lightmap",
            symptom="seams",
            limit="a flat surface must be one chart",
            sheet="lightmaps",
        ),
        Code(
            code="uv.density",
            words="texels far larger than those of neighbours",
            kind="Lightmap",
            symptom="coarse light",
            limit="texels may be so many times as coarse as the median of the build",
            sheet="lightmaps",
        ),
    ),
    front_pixels,
    conclude,
)
register(FAMILY)

__all__ = ["FAMILY", "Scope", "mesh_operation"]
