"""What went wrong in a bake, a module for each fault. Judged on what a bake gathers, for receivers that have a lightmap."""

from eddyfall.core.defects.bake_faults.banding import banding
from eddyfall.core.defects.bake_faults.denoise_lines import denoise_lines
from eddyfall.core.defects.bake_faults.hidden import hidden
from eddyfall.core.defects.bake_faults.leak import leaks
from eddyfall.core.defects.bake_faults.stale import stale_maps
from eddyfall.core.defects.bake_faults.uncovered import uncovered
from eddyfall.core.defects.contract import Family, Suspicion
from eddyfall.core.defects.lightmap_survey import Seen, front_pixels, lightmaps_of
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey

FAULTS = (stale_maps, leaks, hidden, banding, denoise_lines, uncovered)


def conclude(survey: Survey, seen: Seen) -> list[Suspicion]:
    """One suspicion for each cause: occluder and receiver, setting, region, thing that changed."""
    if not survey.build.setup.lightmaps:
        return []
    maps = lightmaps_of(survey)
    return [suspicion for fault in FAULTS for suspicion in fault(maps, seen)]


FAMILY = Family(
    "bake_faults",
    {
        "bake.stale": "lightmaps baked from something else",
        "bake.leak": "texels that hold both sides of an occluder",
        "bake.hidden-faces": "hidden faces that bleed black",
        "bake.wasted": "texels on faces that nothing can see",
        "bake.banding": "bit depth that shows as steps",
        "bake.denoise-lines": "a denoiser that reaches across gaps",
        "bake.uncovered": "lightmaps outside every bake focus region",
    },
    front_pixels,
    conclude,
    looks_like={
        "bake.stale": "stale light",
        "bake.leak": "light leaks",
        "bake.hidden-faces": "black joins",
        "bake.wasted": "wasted texels",
        "bake.banding": "banding",
        "bake.denoise-lines": "black lines",
        "bake.uncovered": "no bounced light",
    },
)
register(FAMILY)
