"""What the Light and colour sheet asks of the core, each as the command line gives it."""

from dataclasses import replace
from typing import Literal, get_args

import numpy as np

from eddyfall.core.defects.reflections_told import Reflections, reflections
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.moves import Stock
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer, Request
from eddyfall.core.frame.stage import make_camera
from eddyfall.core.handover.documents.dials import DialsDocument
from eddyfall.core.handover.documents.light_account import AccountDocument
from eddyfall.core.handover.documents.light_response import MaterialAnswerDocument, SwapDocument
from eddyfall.core.handover.documents.moves import AlongDocument, MovesDocument
from eddyfall.core.handover.documents.reflections import ReflectionsDocument
from eddyfall.core.handover.documents.roles import SideBySideDocument
from eddyfall.core.handover.documents.screen_budget import ScreenBudgetDocument
from eddyfall.core.handover.documents.where_light import WhereDocument
from eddyfall.core.handover.exr import png_of
from eddyfall.core.materials.swap import swap_shader
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.core.truth.dials import Dials
from eddyfall.core.truth.dials import dials as turn_dials
from eddyfall.core.truth.moving.along import WORST, Along, along, move_of, spot_of
from eddyfall.core.truth.moving.along import Asked as AskedAlong
from eddyfall.core.truth.reference.account import account as account_of
from eddyfall.core.truth.reference.of_frame import DRAWN, Comparison, Wanted, compare, drawn_picture, picture_of
from eddyfall.core.truth.reference.off_picture import off_picture
from eddyfall.core.truth.reference.trace import Asked
from eddyfall.core.truth.reference.where import Where, where_light
from eddyfall.core.truth.response.rehearsal import Rehearsal, rehearse
from eddyfall.core.truth.response.survey import Answer, answers
from eddyfall.core.truth.roles import SideBySide, side_by_side
from eddyfall.core.truth.screen_budget import ScreenBudget, screen_budget
from eddyfall.workbench.studio.room import STUDIO

SIZE = (240, 135)  # of the frames compared: a reference of it has some samples within seconds
Shown = Literal["standin", "reference", "off"]
Region = tuple[int, int, int, int]


def account(
    build: CoreBuild, viewpoint: str, target: str | None, samples: int, bounces: int, region: Region | None
) -> AccountDocument:
    """The account of a viewpoint's frame, or of a region (x, y, width, height) of the frame at its default size."""
    wanted = _wanted(viewpoint, target, samples, bounces)
    found = _compared(build, wanted)
    if region is None:
        return AccountDocument.from_core(wanted, found)
    inside = inside_of(region)
    return AccountDocument.from_core(wanted, found, account_of(found.parts, found.reference.tally, inside), region, inside)


def where(
    build: CoreBuild, viewpoint: str, target: str | None, samples: int, bounces: int, region: Region | None
) -> WhereDocument:
    """Where the light is that a frame, or a region (x, y, width, height) of it, gets from other surfaces."""
    request = Request(viewpoint, DEFAULT_SIZE, None if region is None else crop_of(region), target)

    def asked(renderer: Renderer) -> Where:
        return where_light(renderer, build, request, samples=samples, bounces=bounces)

    return WhereDocument.from_core(viewpoint, STUDIO.draw(asked))


def moves(build: CoreBuild, viewpoint: str) -> MovesDocument:
    """The moves that can be looked along: those of the setup, and the stock ones from a viewpoint. RequestError if it does not exist."""
    make_camera(build, viewpoint, 1.0)
    return MovesDocument(own=list(build.setup.moves), stock=list(get_args(Stock)))


def move(build: CoreBuild, viewpoint: str, target: str | None, name: str, region: Region | None, drawn: bool) -> AlongDocument:
    """A move looked along at what a region (x, y, width, height) of the viewpoint's frame shows, or all of it; drawn: its worst poses are
    drawn, too."""
    request = Request(viewpoint, DEFAULT_SIZE, None if region is None else crop_of(region), target)

    def asked(renderer: Renderer) -> Along:
        path = move_of(renderer, build, name, viewpoint, request)
        spot = spot_of(build, name, viewpoint, request)
        return along(renderer, build, AskedAlong(path=path, request=request, spot=spot, worst=WORST if drawn else 0))

    return AlongDocument.from_core(STUDIO.draw(asked))


def moment_picture(
    build: CoreBuild, viewpoint: str, target: str | None, name: str, at_s: float, samples: int, shown: Shown
) -> bytes:
    """PNG of the frame at a moment of a move, of its reference, or of how many stops they are apart."""

    def asked(renderer: Renderer) -> bytes:
        request = Request(viewpoint, SIZE, None, target)
        path = move_of(renderer, build, name, viewpoint, request)
        request = replace(request, viewpoint=path.viewpoint, role=path.role, camera=path.at(at_s))
        if shown == "standin":
            return png_of(drawn_picture(renderer.frame(build, request, DRAWN)))
        return _drawn(compare(renderer, build, Wanted(request=request, samples=samples)), shown)

    drawn: bytes = STUDIO.draw(asked)
    return drawn


def response(build: CoreBuild, viewpoint: str, target: str | None) -> list[MaterialAnswerDocument]:
    """How the materials that a viewpoint shows answer light, the weakest first."""

    def asked(renderer: Renderer) -> list[Answer]:
        return answers(renderer, build, [viewpoint], target)

    return [MaterialAnswerDocument.from_core(a) for a in STUDIO.draw(asked)]


def swap(build: CoreBuild, viewpoint: str, target: str | None, material: str, to: str) -> SwapDocument:
    """A swap of a material's base shader, rehearsed at a viewpoint. RequestError for names that do not exist."""

    def asked(renderer: Renderer) -> Rehearsal:
        return rehearse(renderer, build, swap_shader(build, material, to), [viewpoint], target)

    return SwapDocument.from_core(STUDIO.draw(asked))


def probes(build: CoreBuild, viewpoint: str, target: str | None) -> ReflectionsDocument:
    """Reflection probes and planar mirrors as a viewpoint sees them. RequestError if it does not exist."""

    def asked(renderer: Renderer) -> Reflections:
        return reflections(renderer, build, [viewpoint], target)

    return ReflectionsDocument.from_core(STUDIO.draw(asked))


def dials(build: CoreBuild, viewpoint: str, target: str | None) -> DialsDocument:
    """What each dial of bounce and reflection buys at a viewpoint. RequestError if it does not exist."""

    def asked(renderer: Renderer) -> Dials:
        return turn_dials(renderer, build, Request(viewpoint, DEFAULT_SIZE, None, target))

    return DialsDocument.from_core(STUDIO.draw(asked))


def roles(
    build: CoreBuild, viewpoint: str, target: str | None, first: str, second: str, region: Region | None
) -> SideBySideDocument:
    """Two roles side by side at a viewpoint, in a region of its frame or all of it. RequestError for names that do not exist."""
    request = Request(viewpoint, DEFAULT_SIZE, None if region is None else crop_of(region), target)

    def asked(renderer: Renderer) -> SideBySide:
        return side_by_side(renderer, build, request, first, second)

    return SideBySideDocument.from_core(STUDIO.draw(asked))


def targets(build: CoreBuild, viewpoint: str, target: str | None) -> ScreenBudgetDocument:
    """What occlusion, bounce and reflection hold in memory at a viewpoint. RequestError if it, or the target, does not exist."""

    def asked(renderer: Renderer) -> ScreenBudget:
        return screen_budget(Survey(build, renderer, target).stage(viewpoint))

    return ScreenBudgetDocument.from_core(viewpoint, STUDIO.draw(asked))


def crop_of(region: Region) -> tuple[int, int, int, int]:
    """The crop of a region (x, y, width, height) of the default frame. RequestError if it lies outside."""
    inside_of(region)
    x, y, w, h = region
    return x, y, x + w, y + h


def inside_of(region: Region) -> np.ndarray:
    """(n,) bool: pixels of the compared frames that a region of the default frame holds, one at the least. RequestError if it lies
    outside."""
    x, y, w, h = region
    if x < 0 or y < 0 or w < 1 or h < 1 or x + w > DEFAULT_SIZE[0] or y + h > DEFAULT_SIZE[1]:
        raise RequestError(f"region {x},{y} of {w} x {h} px does not lie in the {DEFAULT_SIZE[0]} x {DEFAULT_SIZE[1]} frame")
    scale = DEFAULT_SIZE[0] // SIZE[0]
    mask = np.zeros((SIZE[1], SIZE[0]), bool)
    mask[y // scale : -(-(y + h) // scale), x // scale : -(-(x + w) // scale)] = True
    return mask.reshape(-1)


def picture(build: CoreBuild, viewpoint: str, target: str | None, samples: int, bounces: int, shown: Shown) -> bytes:
    """PNG of the frame as compared, of its reference, or of how many stops they are apart."""
    return _drawn(_compared(build, _wanted(viewpoint, target, samples, bounces)), shown)


def _drawn(found: Comparison, shown: Shown) -> bytes:
    if shown == "standin":
        return png_of(drawn_picture(found.frame))
    return png_of(picture_of(found.reference) if shown == "reference" else off_picture(found))


def _wanted(viewpoint: str, target: str | None, samples: int, bounces: int) -> Wanted:
    return Wanted(request=Request(viewpoint, SIZE, None, target), samples=samples, asked=Asked(bounces=bounces))


def _compared(build: CoreBuild, wanted: Wanted) -> Comparison:
    found: Comparison = STUDIO.draw(lambda renderer: compare(renderer, build, wanted))
    return found
