"""texture.mip-bleed: lightmaps drawn with mips whose gutters end before the level that is seen."""

import math
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.lightmap_survey import lightmaps_of
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey
from eddyfall.core.defects.uv_charts import mesh_operation
from eddyfall.core.scene.changes import set_resolved
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.shade.columns import DISTANCE
from eddyfall.core.uv.gutters import focal_px, padding_for_mip, safe_mip


def observe(survey: Survey, viewpoint: str) -> dict[str, Any] | None:
    """By drawable: pixels, and the distance that nearly all of it lies within; with the frame's focal length."""
    if not survey.resolved(viewpoint)[Bake].mips or not survey.build.setup.lightmaps:
        return None
    frame = survey.frame(viewpoint, "surface")
    distance = frame.buffers["surface"][..., DISTANCE]
    result: dict[int, tuple[int, float]] = {}
    for d in np.unique(frame.drawable[frame.drawable >= 0]):
        mine = distance[frame.drawable == d]
        result[int(d)] = (len(mine), float(np.percentile(mine, 95)))
    return {"focal_px": focal_px(frame.pixels.size[1], math.degrees(frame.camera.fov_y_rad)), "drawables": result}


def conclude(survey: Survey, seen: dict[str, dict[str, Any] | None]) -> list[Suspicion]:
    """One suspicion for each lightmap whose charts bleed at a level that a viewpoint shows."""
    if not survey.build.setup.lightmaps:
        return []
    maps = lightmaps_of(survey)
    result = []
    for receiver in maps.baked:
        report = maps.report(receiver)
        if len(report.page.charts) < 2:
            continue
        padding = min(report.gutter_texels / 2, float(maps.bake.dilate_texels))
        safe = safe_mip(padding, report.snapped_to)
        reached = 0.0
        pixels: dict[str, int] = {}
        for viewpoint, entry in seen.items():
            if entry is None:
                continue
            for d in receiver.drawables:
                count, distance = entry["drawables"].get(d, (0, 0.0))
                if not count:
                    continue
                level = math.log2(max(report.page_texels_per_m * distance / entry["focal_px"], 1e-9))
                if level > safe:
                    reached = max(reached, level)
                    pixels[viewpoint] = pixels.get(viewpoint, 0) + count
        if not pixels:
            continue
        mesh, need = maps.mesh_of(receiver), math.ceil(reached)
        resolved = survey.resolved(survey.viewpoints[0])
        pack = mesh_operation(
            "uv.pack",
            mesh,
            f"pack {mesh} with gutters safe to mip {need}",
            "its charts bleed at a distance",
            safe_mip=min(need, 6),
        )
        off = set_resolved(
            survey.build, resolved, {"bake.mips": False}, title="no mips on lightmaps", reason="charts bleed at a distance"
        )
        evidence = (
            Evidence(
                measure="mip level that is seen",
                value=reached,
                unit="level",
                limit=float(safe),
                source=f"{padding:.1f} texels a side are safe to level {safe}",
            ),
            Evidence(
                measure="texels a side it needs",
                value=float(padding_for_mip(need)),
                unit="texels",
                limit=padding,
                source="1.5 * 2^k - 1, worst case on the grid",
            ),
        )
        result.append(
            Suspicion(
                code="texture.mip-bleed",
                cause_kind="mesh",
                cause=mesh,
                title=f"{receiver.name}: lightmap charts bleed at a distance",
                subjects=maps.subjects([receiver]),
                value=reached,
                limit=float(safe),
                evidence=evidence,
                pixels=pixels,
                regions={},
                candidates=(
                    Candidate(
                        change=off,
                        predicts="charts keep apart",
                        costs=(Cost("memory", -float(report.memory()[maps.bake.encoding]) / 3, "bytes"),),
                        side_effects=("it shimmers at a distance",),
                    ),
                    Candidate(
                        change=pack,
                        predicts=f"clean to level {need}",
                        costs=(),
                        side_effects=("texels/m fall", f"dilation must reach {padding_for_mip(need)} texels too"),
                    ),
                ),
            )
        )
    return result


FAMILY = Family(
    "mip_bleed",
    (
        Code(
            code="texture.mip-bleed",
            words="lightmap charts that bleed at mip levels",
            kind="Lightmap",
            symptom="seams",
            limit="gutters must hold out to the coarsest mip level that is seen",
            sheet="lightmaps",
        ),
    ),
    observe,
    conclude,
)
register(FAMILY)
