"""uv.overlap: surfaces that share lightmap texels, after the copy rules of the mesh are evaluated."""

import math
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, set_leaf
from eddyfall.core.scene.setup.tables import CopyRule
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
    bake = survey.build.setup.bake
    if survey.viewpoints:
        bake = survey.resolved(survey.viewpoints[0]).bake
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
        Evidence(f"surface doubled{part}", worst.surface_share * 100, "%", 0.0, rule, picture),
        Evidence(f"texels doubled{part}", worst.texel_share * 100, "%", 0.0, f"{rule}, {charts.resolution} texels a tile"),
        Evidence("triangle pairs that collide", float(sum(o.pairs for _, o in bad)), "pairs", 0.0, "intersection > 0.001 texel²"),
    ]
    if uv_use == "repacked":
        wrapped = measure_overlap(charts.uv, charts.area, charts.resolution, as_is=True)
        evidence.append(
            Evidence("surface doubled if the UVs were used as they are", wrapped.surface_share * 100, "%", None, "uv modulo 1")
        )
    nodes = [k for k, n in zip(survey.build.scene.node_keys, survey.build.scene.nodes) if n.mesh == mesh]
    subjects = tuple(d.name for d in survey.geometry.drawables if d.node in nodes)
    index = [i for i, d in enumerate(survey.geometry.drawables) if d.node in nodes]
    shown = {v: sum(counts.get(i, 0) for i in index) for v, counts in seen.items()}
    pixels = {v: n for v, n in shown.items() if n}
    return Suspicion(
        CODE,
        "mesh",
        key,
        f"{key}: surfaces share lightmap texels",
        subjects,
        worst.surface_share * 100,
        0.0,
        tuple(evidence),
        pixels,
        {},
        tuple(_candidates(survey, mesh, charts, worst, uv_use)),
        "lightmaps are not drawn yet",
        facts={"tiles": worst.tiles, "out_of_range_share": worst.out_of_range_share, "degenerate": worst.degenerate},
    )


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
                change,
                "every copy has a tile of its own",
                (
                    Cost("memory", 0.0, "bytes"),
                    Cost("memory to keep the texel density after repacking", float(density_cost), "bytes"),
                ),
                (
                    f"the packed map holds {tiles} charts where it held one: at one size texels/m fall to {100 / math.sqrt(tiles):.0f} %",
                    "uv modulo 1 still collides, so a target that uses UVs as they are stays red",
                ),
            )
        )
    repack = Change(
        id=f"uv.repack:{key}",
        title=f"evaluate the copies of {key} and pack its charts anew"
        if rules
        else f"unwrap and pack the lightmap of {key} anew",
        scope="mesh",
        reason="every triangle needs texels of its own",
        operation=Operation(name="uv.repack", params={"mesh": key}),
    )
    effects = ["lightmap UVs are made anew; textures keep theirs; old bakes of it are stale"]
    if rules:
        effects.append("the copy rules are gone: the mesh is stored whole")
    result.append(
        Candidate(
            repack,
            "no two triangles share a texel",
            (Cost("triangles stored", float(len(charts.uv)), "triangles"),),
            tuple(effects),
        )
    )
    return result


def offset_copies(build: Build, key: str, mesh: int) -> tuple[Change, int]:
    """(change, tiles used): give each copy of each rule a tile of its own by UV offsets along U.

    A mirror on several axes cannot do it with one offset, so it is split into one rule an axis.
    """
    from eddyfall.core.uv.lightmaps import lightmap_uv_set

    uv_set = lightmap_uv_set(build, mesh)
    spans = [
        p.attributes[f"TEXCOORD_{uv_set}"][:, 0]
        for p in build.scene.meshes[mesh].primitives
        if f"TEXCOORD_{uv_set}" in p.attributes
    ]
    wide = max(1, math.ceil(max(float(s.max()) for s in spans) - 1e-6) - math.floor(min(float(s.min()) for s in spans) + 1e-6))
    stride = wide
    entries: dict[str, Any] = {}
    rules = sorted(copy_entry(build, key).copies.items(), key=lambda item: (item[1].order, item[0]))
    order = 0
    for name, rule in rules:
        parts: list[tuple[str, CopyRule]] = [(name, rule)]
        if rule.kind == "mirror" and len(rule.axes) > 1:
            parts = [(f"{name} {axis}", rule.model_copy(update={"axes": (axis,)})) for axis in rule.axes]
        for part_name, part in parts:
            copies = part.count if part.kind == "array" else 2
            entries[part_name] = part.model_copy(update={"uv_offset": (float(stride), 0.0), "order": order}).model_dump(
                mode="json"
            )
            stride *= copies
            order += 1
    if all(r.kind == "array" or len(r.axes) == 1 for _, r in rules) and len(rules) == 1:
        name, rule = rules[0]
        change = set_leaf(
            build,
            ("meshes", key, "copies", name, "uv_offset"),
            [float(wide), 0.0],
            scope="mesh",
            title=f"move the UV of each copy of {key} by {wide} tile{'s' if wide > 1 else ''}",
            reason="copies share one chart",
        )
    else:
        change = set_leaf(
            build,
            ("meshes", key, "copies"),
            entries,
            scope="mesh",
            title=f"move the UV of each copy of {key} to its own tile",
            reason="copies share one chart",
        )
    return change, stride // wide


FAMILY = register(Family("lightmap charts", {CODE: "Surfaces share lightmap texels"}, observe, conclude))
