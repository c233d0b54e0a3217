"""Which splits of charts nothing asks for: across a flat surface, long enough to show, and with nothing standing on their line."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from eddyfall.core.bake.light.light_scene import LitScene, light_scene
from eddyfall.core.bake.maps.run import light_sets
from eddyfall.core.bake.questions.sides import blocked, lift_of
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.uv.report import AssetReport
from eddyfall.core.uv.seams import Seam

LEAST_SEAM_TEXELS = 4.0
ALONG_SEAM = 64


def needless_splits(report: AssetReport, scene: Callable[[], LitScene]) -> list[Seam]:
    """The flat seams of a report that could be joined without any texel holding both sides of something. scene: made only if asked."""
    long = [s for s in report.seams if s.length_m * report.page_texels_per_m >= LEAST_SEAM_TEXELS]
    return [s for s in long if not parted_for_cause(scene(), report, s)] if long else []


def with_needless_splits(build: Build, geometry: Geometry, report: AssetReport) -> AssetReport:
    """The report with only those seams that nothing asks for."""
    made: list[LitScene] = []

    def scene() -> LitScene:
        if not made:
            made.append(light_scene(build, geometry, light_sets(build)[0]))
        return made[0]

    return replace(report, seams=tuple(needless_splits(report, scene))) if report.seams else report


def parted_for_cause(scene: LitScene, report: AssetReport, seam: Seam) -> bool:
    """Whether something stands on the seam's line, so that texels across it would hold both sides of it."""
    triangle, a, b = seam.edges[0]
    corners = report.corners[triangle]
    normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
    normal /= max(float(np.linalg.norm(normal)), 1e-30)
    along = corners[b] - corners[a]
    along /= max(float(np.linalg.norm(along)), 1e-30)
    reach = (report.corners.reshape(-1, 3) - corners[a]) @ along
    places = corners[a] + np.linspace(reach.min(), reach.max(), ALONG_SEAM + 2)[1:-1, None] * along
    texel_m = 1.0 / max(report.page_texels_per_m, 1e-9)
    lift = normal * lift_of(scene, texel_m)
    step = np.cross(normal, along) * texel_m * 0.05
    return int(blocked(scene, places + lift - step, places + lift + step).sum()) >= 2
