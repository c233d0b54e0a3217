"""What the Shadow reach sheet asks of the core, each as the command line gives it."""

import io

from PIL import Image

from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer, Request
from eddyfall.core.handover.documents.shadow_bias import ShadowBiasDocument
from eddyfall.core.handover.documents.shadow_budget import FrameBudgetDocument
from eddyfall.core.handover.documents.shadow_fineness import FinenessDocument
from eddyfall.core.handover.documents.shadow_reach import CuresDocument, LeftoversDocument, LongSectionDocument
from eddyfall.core.handover.documents.shadow_walk import WalkDocument
from eddyfall.core.handover.documents.sky_sun import SkyOfFrameDocument
from eddyfall.core.lineup.cures import cures_matrix
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.core.scene.model import sky_named
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.truth.bar_ends import bar_end
from eddyfall.core.truth.bias.proving import SolvedBias, bias_of_light
from eddyfall.core.truth.fineness import fineness as core_fineness
from eddyfall.core.truth.judge import SHADOWED
from eddyfall.core.truth.leftovers import KINDS
from eddyfall.core.truth.leftovers import leftovers as core_leftovers
from eddyfall.core.truth.long_section import long_section
from eddyfall.core.truth.shadow_budget import frame_budget
from eddyfall.core.truth.shadow_picture import shadow_picture
from eddyfall.core.truth.sky_shade import sky_shade
from eddyfall.core.truth.sky_view import sky_view
from eddyfall.core.truth.walk import Move, shadow_walk
from eddyfall.workbench.studio.room import STUDIO


def section(build: CoreBuild, viewpoint: str, light: str | None, target: str | None) -> LongSectionDocument:
    """The long section of a light's shadows."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)
    return LongSectionDocument.from_core(STUDIO.draw(lambda renderer: long_section(renderer, build, request, light)))


def picture(build: CoreBuild, viewpoint: str, light: str | None, target: str | None) -> bytes:
    """PNG of the frame with missing shadows hatched and false ones dotted."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)
    stream = io.BytesIO()
    shown = STUDIO.draw(lambda renderer: shadow_picture(renderer, build, request, light))
    Image.fromarray(shown).save(stream, "PNG", compress_level=1)
    return stream.getvalue()


def end(build: CoreBuild, viewpoint: str, light: str | None, target: str | None, caster: str, beyond: bool) -> bytes:
    """PNG of a caster's shadow just inside its bar's end, or just beyond it."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)
    stream = io.BytesIO()
    found = STUDIO.draw(lambda renderer: bar_end(renderer, build, request, caster, light, beyond))
    Image.fromarray(found.picture).save(stream, "PNG", compress_level=1)
    return stream.getvalue()


def cures(build: CoreBuild, viewpoint: str, caster: str, target: str | None) -> CuresDocument:
    """Every remedy in every technique for one caster's shadow."""
    found = STUDIO.draw(lambda renderer: cures_matrix(renderer, build, viewpoint, caster, target=target))
    return CuresDocument.from_core(found)


def bias(build: CoreBuild, light: str, target: str | None) -> ShadowBiasDocument:
    """A light's bias, solved at every viewpoint that a sweep looks from, the front drawn again."""

    def solved(renderer: Renderer) -> SolvedBias:
        survey = Survey(build, renderer, target)
        return bias_of_light(renderer, build, [survey.request(v) for v in survey.viewpoints], light)

    return ShadowBiasDocument.from_core(STUDIO.draw(solved))


def walk(
    build: CoreBuild, viewpoint: str, light: str | None, target: str | None, move: Move, step: float, steps: int
) -> WalkDocument:
    """A short walk in one light."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)
    return WalkDocument.from_core(STUDIO.draw(lambda renderer: shadow_walk(renderer, build, request, move, step, steps, light)))


def fineness(build: CoreBuild, viewpoint: str, light: str | None, target: str | None) -> FinenessDocument:
    """Texels at edges, joins, holes and thin casters of one light."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)
    return FinenessDocument.from_core(STUDIO.draw(lambda renderer: core_fineness(renderer, build, request, light)))


def budget(build: CoreBuild, viewpoint: str, target: str | None) -> FrameBudgetDocument:
    """What each light's shadows take of a frame, beside the target's limits."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)
    return FrameBudgetDocument.from_core(STUDIO.draw(lambda renderer: frame_budget(renderer, build, request)))


def sky(build: CoreBuild, viewpoint: str, target: str | None) -> SkyOfFrameDocument:
    """The sky picture of a frame and its sun."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)

    section = resolve(build.setup, target, None, viewpoint)[Sky]
    if sky_named(build.scene.skies, section.picture) is None:
        return SkyOfFrameDocument.from_core(build, section, None)
    shade = STUDIO.draw(lambda renderer: sky_shade(renderer, build, renderer.frame(build, request, SHADOWED)))
    return SkyOfFrameDocument.from_core(build, section, shade)


def sky_picture(build: CoreBuild, viewpoint: str, target: str | None, without_sun: bool) -> bytes:
    """PNG of the sky picture as the viewpoint exposes it. RequestError if there is none."""
    resolved = resolve(build.setup, target, None, viewpoint)
    picture = sky_named(build.scene.skies, resolved[Sky].picture)
    if picture is None:
        raise RequestError(f"{viewpoint} has no sky picture")
    stream = io.BytesIO()
    Image.fromarray(sky_view(picture, resolved, without_sun)).save(stream, "PNG", compress_level=1)
    return stream.getvalue()


def leftovers(build: CoreBuild, of: str) -> LeftoversDocument:
    """Settings of shadows, or of draw order, that change no pixel."""
    return LeftoversDocument.from_core(STUDIO.draw(lambda renderer: core_leftovers(renderer, build, KINDS[of])))
