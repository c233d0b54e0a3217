"""uv.overlap: surfaces that share lightmap texels, after the copy rules of the mesh are evaluated."""

import math
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, set_leaf, set_leaves
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.uv.copy_tiles import own_tiles
from eddyfall.core.uv.lightmaps import ChartSet, chart_sets, copy_entry, lightmapped_meshes
from eddyfall.core.uv.overlap import Overlap, measure_overlap
from eddyfall.core.uv.picture import overlap_picture

CODE = "uv.overlap"
HALF_FLOAT_RGBA_BYTES = 8


def observe(survey: Survey, viewpoint: str) -> dict[int, int]:
    """Pixels on which each drawable is in front: how much of a doubled lightmap the viewpoint shows."""
    drawable = survey.frame(viewpoint, "drawable").drawable
    ids, counts = np.unique(drawable[drawable >= 0], return_counts=True)
    return {int(i): int(n) for i, n in zip(ids, counts)}


def conclude(survey: Survey, seen: dict[str, dict[int, int]]) -> list[Suspicion]:
    """One suspicion for each lightmapped mesh whose triangles collide in its lightmap, by the target's rule."""
    result = []
    bake = survey.build.setup[Bake]
    if survey.viewpoints:
        bake = survey.resolved(survey.viewpoints[0])[Bake]
    for mesh in lightmapped_meshes(survey.build):
        sets = chart_sets(survey.build, mesh)
        measured = [(s, measure_overlap(s.uv, s.area, s.resolution, as_is=bake.uv_use == "as_is")) for s in sets]
        bad = [(s, o) for s, o in measured if o.pairs]
        if bad:
            result.append(_suspicion(survey, mesh, bad, bake.uv_use, seen))
    return result


def _suspicion(
    survey: Survey, mesh: int, bad: list[tuple[ChartSet, Overlap]], uv_use: str, seen: dict[str, dict[int, int]]
) -> Suspicion:
    key = survey.build.scene.mesh_keys[mesh]
    charts, worst = max(bad, key=lambda entry: entry[1].surface_share)
    part = f" ({charts.part})" if charts.part else ""
    rule = "unwrapped plane" if uv_use == "repacked" else "uv modulo 1"
    picture = overlap_picture(charts.uv, worst.collided, as_is=uv_use == "as_is")
    evidence = [
        Evidence(
            measure=f"surface doubled{part}", value=worst.surface_share * 100, unit="%", limit=0.0, source=rule, picture=picture
        ),
        Evidence(
            measure=f"texels doubled{part}",
            value=worst.texel_share * 100,
            unit="%",
            limit=0.0,
            source=f"{rule}, {charts.resolution} texels a tile",
        ),
        Evidence(
            measure="triangle pairs that collide",
            value=float(sum(o.pairs for _, o in bad)),
            unit="pairs",
            limit=0.0,
            source="intersection > 0.001 texel²",
        ),
    ]
    if uv_use == "repacked":
        wrapped = measure_overlap(charts.uv, charts.area, charts.resolution, as_is=True)
        evidence.append(
            Evidence(
                measure="surface doubled if the UVs were used as they are",
                value=wrapped.surface_share * 100,
                unit="%",
                limit=None,
                source="uv modulo 1",
            )
        )
    nodes = [k for k, n in zip(survey.build.scene.node_keys, survey.build.scene.nodes) if n.mesh == mesh]
    subjects = tuple(d.name for d in survey.geometry.drawables if d.node in nodes)
    index = [i for i, d in enumerate(survey.geometry.drawables) if d.node in nodes]
    shown = {v: sum(counts.get(i, 0) for i in index) for v, counts in seen.items()}
    pixels = {v: n for v, n in shown.items() if n}
    return Suspicion(
        code=CODE,
        cause_kind="mesh",
        cause=key,
        title=f"{key}: surfaces share lightmap texels",
        subjects=subjects,
        value=worst.surface_share * 100,
        limit=0.0,
        evidence=tuple(evidence),
        pixels=pixels,
        regions={},
        candidates=tuple(_candidates(survey, mesh, charts, worst, uv_use)),
        not_drawn_yet="" if _baked(survey, nodes) else "it has no lightmap yet, so nothing of this is drawn",
        facts={"tiles": worst.tiles, "out_of_range_share": worst.out_of_range_share, "degenerate": worst.degenerate},
    )


def _baked(survey: Survey, nodes: list[str]) -> bool:
    """Whether a lightmap is stored for any of some nodes, or for a material part of one."""
    return any(name == node or name.startswith(f"{node}/") for name in survey.build.setup.lightmaps for node in nodes)


def _candidates(survey: Survey, mesh: int, charts: ChartSet, worst: Overlap, uv_use: str) -> list[Candidate]:
    build = survey.build
    key = build.scene.mesh_keys[mesh]
    result = []
    rules = copy_entry(build, key).copies
    if rules and uv_use == "repacked":
        change, tiles = offset_copies(build, key, mesh)
        density_cost = (tiles - 1) * charts.resolution**2 * HALF_FLOAT_RGBA_BYTES
        result.append(
            Candidate(
                change=change,
                predicts="every copy has a tile of its own",
                costs=(
                    Cost("memory", 0.0, "bytes"),
                    Cost("memory to keep the texel density after repacking", float(density_cost), "bytes"),
                ),
                side_effects=(
                    f"the packed map holds {tiles} charts where it held one: at one size texels/m fall to {100 / math.sqrt(tiles):.0f} %",
                    "uv modulo 1 still collides, so a target that uses UVs as they are stays red",
                ),
            )
        )
    if rules:
        tiles = own_tiles(build, mesh).tiles
        share = Change(
            id=short_id(f"uv.share_tile:{key}"),
            title=f"fit the {tiles} copies of {key} into one tile",
            scope="mesh",
            reason="copies share one chart, and the target takes UVs as they are",
            operation=Operation(name="uv.share_tile", params={"mesh": key}),
        )
        density = (
            Cost("texel density along u falls to", 100 / tiles, "%"),
            Cost("memory to keep the texel density", float((tiles - 1) * charts.resolution**2 * HALF_FLOAT_RGBA_BYTES), "bytes"),
        )
        effects = ("texels become oblong: wide on the surface along u", "old bakes of it are stale")
        result.append(
            Candidate(
                change=share, predicts="every copy has a strip of the tile, modulo 1 too", costs=density, side_effects=effects
            )
        )
    repack = Change(
        id=short_id(f"uv.repack:{key}"),
        title=f"evaluate the copies of {key} and pack its charts anew"
        if rules
        else f"unwrap and pack the lightmap of {key} anew",
        scope="mesh",
        reason="every triangle needs texels of its own",
        operation=Operation(name="uv.repack", params={"mesh": key}),
    )
    remade = ["lightmap UVs are made anew; textures keep theirs; old bakes of it are stale"]
    if rules:
        remade.append("the copy rules are gone: the mesh is stored whole")
    result.append(
        Candidate(
            change=repack,
            predicts="no two triangles share a texel",
            costs=(Cost("triangles stored", float(len(charts.uv)), "triangles"),),
            side_effects=tuple(remade),
        )
    )
    return result


def offset_copies(build: Build, key: str, mesh: int) -> tuple[Change, int]:
    """(change, tiles used): the change that gives each copy of each rule a tile of its own."""
    layout = own_tiles(build, mesh)
    before = copy_entry(build, key).copies
    changed = [name for name, rule in layout.rules.items() if before.get(name) != rule]
    title, reason = f"move the UV of each copy of {key} to a tile of its own", "copies share one chart"
    if list(layout.rules) == sorted(before, key=lambda n: (before[n].order, n)) and all(
        before[n].model_copy(update={"uv_offset": layout.rules[n].uv_offset}) == layout.rules[n] for n in changed
    ):
        offsets: dict[tuple[str, ...], Any] = {
            ("meshes", key, "copies", n, "uv_offset"): list(layout.rules[n].uv_offset) for n in changed
        }
        return set_leaves(build, offsets, scope="mesh", title=title, reason=reason), layout.tiles
    rules = {name: rule.model_dump(mode="json") for name, rule in layout.rules.items()}
    return set_leaf(build, ("meshes", key, "copies"), rules, scope="mesh", title=title, reason=reason), layout.tiles


FAMILY = register(
    Family(
        "lightmap charts",
        (
            Code(
                code=CODE,
                words="Surfaces share lightmap texels",
                kind="Lightmap",
                symptom="blotches",
                limit="no two surfaces may write one texel",
                sheet="lightmaps",
                of_texel="Another surface writes this texel",
            ),
        ),
        observe,
        conclude,
    )
)
