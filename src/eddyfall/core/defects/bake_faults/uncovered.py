"""bake.uncovered: lightmaps outside every bake focus region, which get no bounced light."""

from collections.abc import Iterator
from typing import Any

import numpy as np

from eddyfall.core.defects.contract import Candidate, Evidence, Suspicion
from eddyfall.core.defects.lightmap_survey import Lightmaps, Seen
from eddyfall.core.scene.changes import set_leaves
from eddyfall.core.scene.receivers import Receiver


def uncovered(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    regions = maps.build.setup.focus_regions
    if not regions:
        return
    geometry = maps.geometry
    outside: list[tuple[Receiver, float]] = []
    boxes = np.array([(r.low_m, r.high_m) for r in regions.values()])
    for receiver in maps.baked:
        report = maps.report(receiver)
        area = np.linalg.norm(
            np.cross(report.corners[:, 1] - report.corners[:, 0], report.corners[:, 2] - report.corners[:, 0]), axis=1
        )
        corners = report.corners[:, None]
        low_side, high_side = (
            corners >= boxes[:, 0][:, None] - 1e-7 * geometry.diagonal_m,
            corners <= boxes[:, 1][:, None] + 1e-7 * geometry.diagonal_m,
        )
        inside = np.asarray(np.asarray((low_side & high_side).all(axis=(2, 3))).any(axis=1))
        share = float(area[~inside].sum() / max(area.sum(), 1e-30))
        if share > 0.001:
            outside.append((receiver, share))
    if not outside:
        return
    mine = [r for r, _ in outside]
    spare = min(0.01, geometry.diagonal_m / 1000)
    low = np.min([geometry.bounds[d, 0] for r in maps.baked for d in r.drawables], axis=0) - spare
    high = np.max([geometry.bounds[d, 1] for r in maps.baked for d in r.drawables], axis=0) + spare
    name, region = next(iter(regions.items()))
    values: dict[tuple[str, ...], Any] = {
        ("focus_regions", name, "low_m"): [float(v) for v in np.minimum(low, region.low_m)],
        ("focus_regions", name, "high_m"): [float(v) for v in np.maximum(high, region.high_m)],
    }
    change = set_leaves(
        maps.build,
        values,
        scope="project",
        title=f"widen the bake focus region {name}",
        reason="lightmaps outside get no bounced light",
    )
    worst = max(s for _, s in outside)
    yield Suspicion(
        code="bake.uncovered",
        cause_kind="setting",
        cause="focus_regions",
        title="outside every bake focus region: " + ", ".join(r.name for r in mine[:4]),
        subjects=maps.subjects(mine),
        value=worst * 100,
        limit=0.0,
        evidence=(
            Evidence(
                measure="surface outside", value=worst * 100, unit="%", limit=0.1, source="no bounced light is gathered there"
            ),
        ),
        pixels=maps.shown(mine, seen),
        regions={},
        candidates=(
            Candidate(
                change=change,
                predicts="every lightmap gets bounced light",
                costs=(),
                side_effects=("more texels gather bounced light: the bake takes longer",),
            ),
        ),
    )
