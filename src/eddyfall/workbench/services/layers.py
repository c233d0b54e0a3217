"""What the Draw order sheet asks of the core, each as the command line gives it."""

from dataclasses import replace
from typing import Literal

from eddyfall.core.defects.edge_faults import all_put_right, edges_at
from eddyfall.core.defects.glass_faults import shut_at
from eddyfall.core.defects.pass_table import pass_table_of
from eddyfall.core.defects.shadow_translucent import bright_at
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer, Request
from eddyfall.core.handover.documents.draw_order import FloorDocument, FrameOrderDocument, StrataDocument, WalkedDocument
from eddyfall.core.handover.documents.edges import AlphaEdgesDocument
from eddyfall.core.handover.documents.eyes import EyesDocument
from eddyfall.core.handover.documents.glass import ChainDocument, ChainHere, GlassDocument
from eddyfall.core.handover.documents.overdraw import OverdrawDocument
from eddyfall.core.handover.documents.pass_table import BuildPassTableDocument
from eddyfall.core.handover.documents.shadow_through import ShadowThroughDocument
from eddyfall.core.handover.exr import png_of
from eddyfall.core.layers.along_move import Walked, walked
from eddyfall.core.layers.capture import captured
from eddyfall.core.layers.chain import lies_at, measured_at
from eddyfall.core.layers.eyes import through_both
from eddyfall.core.layers.floor import floor_map, floor_of
from eddyfall.core.layers.glass_strata import strata_in
from eddyfall.core.layers.level import levels_in
from eddyfall.core.layers.lost import as_it_lies, lost_in
from eddyfall.core.layers.overdraw import overdraw_of
from eddyfall.core.layers.pairs import shown_as, wrong_pairs
from eddyfall.core.layers.strata import Strata
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.truth.moving.along import move_of
from eddyfall.workbench.studio.room import STUDIO

SMALL = (96, 54)  # of a frame that is only asked for its settings
Shown = Literal["drawn", "true", "right"]


def order(build: CoreBuild, viewpoint: str, target: str | None) -> FrameOrderDocument:
    """The draw order at a viewpoint and the pairs that are off. RequestError if it does not exist."""

    def asked(renderer: Renderer) -> FrameOrderDocument:
        request = Request(viewpoint, DEFAULT_SIZE, None, target)
        layers = captured(renderer, build, request)
        return FrameOrderDocument.from_core(viewpoint, layers, wrong_pairs(layers), levels_in(renderer, build, request, layers))

    found: FrameOrderDocument = STUDIO.draw(asked)
    return found


def strata(build: CoreBuild, viewpoint: str, target: str | None, move: str | None, at_s: float, x: int, y: int) -> StrataDocument:
    """The layers of a pixel of a viewpoint's frame, or of one at a moment of a move. RequestError if it lies outside."""

    def asked(renderer: Renderer) -> Strata:
        request = _posed(renderer, build, viewpoint, target, move, at_s)
        return strata_in(renderer, build, captured(renderer, build, request), request, x, y)

    return StrataDocument.from_core(STUDIO.draw(asked))


def walk(build: CoreBuild, viewpoint: str, target: str | None, move: str) -> WalkedDocument:
    """The draw order along a move. RequestError if there is none of that name."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)

    def asked(renderer: Renderer) -> Walked:
        return walked(renderer, build, move_of(renderer, build, move, viewpoint, request), request)

    return WalkedDocument.from_core(STUDIO.draw(asked), DEFAULT_SIZE)


def floor(build: CoreBuild, viewpoint: str, target: str | None) -> FloorDocument:
    """Where on the floor around viewpoints and moves pairs are drawn in the wrong order. RequestError by depth along the view."""

    def asked(renderer: Renderer) -> FloorDocument:
        frame = renderer.frame(build, Request(viewpoint, SMALL, None, target), "linear")
        return FloorDocument.from_core(floor_map(frame, *floor_of(build, frame)), [d.name for d in frame.geometry.drawables])

    found: FloorDocument = STUDIO.draw(asked)
    return found


def glass(build: CoreBuild, viewpoint: str, target: str | None) -> GlassDocument:
    """What is lost behind what lets light through at a viewpoint. RequestError if it does not exist."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)

    def asked(renderer: Renderer) -> GlassDocument:
        lost = lost_in(renderer, build, request)
        shut = shut_at(Survey(build, renderer, target, pictures=False), viewpoint)
        return GlassDocument.from_core(viewpoint, renderer.frame(build, request), lost, shut)

    found: GlassDocument = STUDIO.draw(asked)
    return found


def chain(build: CoreBuild, viewpoint: str, target: str | None, move: str | None, at_s: float, x: int, y: int) -> ChainHere:
    """The chain of the glass in a pixel, if any is there. RequestError if it lies outside."""
    if not (0 <= x < DEFAULT_SIZE[0] and 0 <= y < DEFAULT_SIZE[1]):
        raise RequestError(f"pixel {x},{y} is outside the {DEFAULT_SIZE[0]} x {DEFAULT_SIZE[1]} frame")

    def asked(renderer: Renderer) -> ChainHere:
        request = _posed(renderer, build, viewpoint, target, move, at_s)
        if not lies_at(renderer, build, request, x, y):
            return ChainHere(chain=None)
        told, k = measured_at(renderer, build, request, x, y)
        return ChainHere(chain=ChainDocument.from_core(told, build, k))

    found: ChainHere = STUDIO.draw(asked)
    return found


def edges(build: CoreBuild, viewpoint: str, target: str | None) -> AlphaEdgesDocument:
    """What pictures with alpha hold at a viewpoint, their rims, coverage of cutouts. RequestError if it does not exist."""

    def asked(renderer: Renderer) -> AlphaEdgesDocument:
        survey = _survey(renderer, build, viewpoint, target)
        return AlphaEdgesDocument.from_core(build, viewpoint, edges_at(survey, viewpoint))

    found: AlphaEdgesDocument = STUDIO.draw(asked)
    return found


def overdraw(build: CoreBuild, viewpoint: str, target: str | None) -> OverdrawDocument:
    """Blended fragments of a viewpoint's frame. RequestError if it does not exist."""

    def asked(renderer: Renderer) -> OverdrawDocument:
        frame = renderer.frame(build, Request(viewpoint, DEFAULT_SIZE, None, target), "linear")
        return OverdrawDocument.from_core(build, viewpoint, frame, overdraw_of(frame))

    found: OverdrawDocument = STUDIO.draw(asked)
    return found


def shadow_through(build: CoreBuild, viewpoint: str, target: str | None) -> ShadowThroughDocument:
    """What is blended and throws no shadow, at a viewpoint. RequestError if it does not exist."""

    def asked(renderer: Renderer) -> ShadowThroughDocument:
        survey = _survey(renderer, build, viewpoint, target)
        said = survey.resolved(viewpoint)[Shadow].of_blended
        return ShadowThroughDocument.from_core(build, viewpoint, said, bright_at(survey, viewpoint), None)

    found: ShadowThroughDocument = STUDIO.draw(asked)
    return found


def eyes(build: CoreBuild, viewpoint: str, target: str | None, move: str | None) -> EyesDocument:
    """Where two eyes draw blended things in different orders: at a viewpoint, or along a move instead. RequestError for what is not
    there."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)

    def asked(renderer: Renderer) -> EyesDocument:
        path = None if move is None else move_of(renderer, build, move, viewpoint, request)
        return EyesDocument.from_core(through_both(renderer, build, request, path))

    found: EyesDocument = STUDIO.draw(asked)
    return found


def pass_table(build: CoreBuild, viewpoint: str, target: str | None) -> BuildPassTableDocument:
    """What each material takes part in at a viewpoint. RequestError if it does not exist."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)

    def asked(renderer: Renderer) -> BuildPassTableDocument:
        return BuildPassTableDocument.from_core(viewpoint, pass_table_of(renderer, build, request))

    found: BuildPassTableDocument = STUDIO.draw(asked)
    return found


def picture(build: CoreBuild, viewpoint: str, target: str | None, move: str | None, at_s: float, shown: Shown) -> bytes:
    """PNG of the viewpoint's frame, or of that at a moment of a move, as drawn, with every pixel's layers in their true order, what glass
    loses among them, or with all pictures with alpha read and averaged right."""

    def asked(renderer: Renderer) -> bytes:
        request = _posed(renderer, build, viewpoint, target, move, at_s)
        if shown == "right":
            survey = _survey(renderer, build, request.viewpoint, target)
            return png_of(renderer.frame(all_put_right(survey, request.viewpoint), request).display)
        layers = captured(renderer, build, request)
        return png_of(shown_as(layers.frame, layers.drawn if shown == "drawn" else as_it_lies(renderer, build, layers, request)))

    drawn: bytes = STUDIO.draw(asked)
    return drawn


def _survey(renderer: Renderer, build: CoreBuild, viewpoint: str, target: str | None) -> Survey:
    """A look at a viewpoint without pictures of evidence. RequestError if it does not exist."""
    survey = Survey(build, renderer, target, size=DEFAULT_SIZE, pictures=False)
    survey.frame(viewpoint, "in_view")
    return survey


def _posed(renderer: Renderer, build: CoreBuild, viewpoint: str, target: str | None, move: str | None, at_s: float) -> Request:
    request = Request(viewpoint, DEFAULT_SIZE, None, target)
    if move is None:
        return request
    path = move_of(renderer, build, move, viewpoint, request)
    return replace(request, viewpoint=path.viewpoint, role=path.role, camera=path.at(at_s))
