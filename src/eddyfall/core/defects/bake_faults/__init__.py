"""What went wrong in a bake, a module for each fault. Judged on what a bake gathers, for receivers that have a lightmap."""

from eddyfall.core.defects.bake_faults.banding import banding
from eddyfall.core.defects.bake_faults.denoise_lines import denoise_lines
from eddyfall.core.defects.bake_faults.hidden import hidden
from eddyfall.core.defects.bake_faults.leak import leaks
from eddyfall.core.defects.bake_faults.stale import stale_maps
from eddyfall.core.defects.bake_faults.uncovered import uncovered
from eddyfall.core.defects.contract import Code, Family, Suspicion
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
    (
        Code(
            code="bake.stale",
            words="lightmaps baked from something else",
            kind="Lightmap",
            symptom="stale light",
            limit="a lightmap must be baked from the scene as it is",
            sheet="lightmaps",
            of_texel="Stale: baked from something else",
            ends_with="they are baked again",
        ),
        Code(
            code="bake.leak",
            words="texels that hold both sides of an occluder",
            kind="Lightmap",
            symptom="light leaks",
            limit="no texel may hold both sides of an occluder",
            sheet="lightmaps",
            of_texel="Mixed sides at an occluder",
        ),
        Code(
            code="bake.hidden-faces",
            words="hidden faces that darken joins",
            kind="Lightmap",
            symptom="black joins",
            limit="texels that nothing can see may not change seen ones by a tenth",
            sheet="lightmaps",
            of_texel="Hidden face bleeds in",
        ),
        Code(
            code="bake.wasted",
            words="texels on faces that nothing can see",
            kind="Lightmap",
            symptom="wasted texels",
            limit="a quarter of a map's texels may lie where nothing can see",
            sheet="lightmaps",
        ),
        Code(
            code="bake.banding",
            words="bit depth that shows as steps",
            kind="Lightmap",
            symptom="banding",
            limit="a step may be 3 % high where it is wider than a texel",
            sheet="lightmaps",
            of_texel="Bit depth",
        ),
        Code(
            code="bake.denoise-lines",
            words="a denoiser that reaches across gaps",
            kind="Lightmap",
            symptom="black lines",
            limit="denoising may not darken a texel by a tenth",
            sheet="lightmaps",
            of_texel="Denoiser reaches across a gap",
        ),
        Code(
            code="bake.uncovered",
            words="lightmaps outside every bake focus region",
            kind="Lightmap",
            symptom="no bounced light",
            limit="every lightmapped surface must lie in a focus region",
            sheet="lightmaps",
            of_texel="Outside every bake focus region",
        ),
    ),
    front_pixels,
    conclude,
)
register(FAMILY)
