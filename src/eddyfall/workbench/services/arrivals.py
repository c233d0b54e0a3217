"""What is asked of a build that arrived: conversions of what lacks a base shader, and twins of what is missing."""

from typing import Literal

import numpy as np

from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.frame.stage import look_at, make_camera
from eddyfall.core.handover.documents.conversion import ConversionsDocument
from eddyfall.core.handover.documents.twins import MissingDocument, ShapeDocument, TwinsDocument
from eddyfall.core.handover.exr import png_of
from eddyfall.core.likeness.twins import Missing, Twin, missing, shapes_of, stands_in
from eddyfall.core.likeness.twins import twins as twins_of
from eddyfall.core.passes.contract import Camera
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.core.scene.changes import Change, apply_change
from eddyfall.core.scene.model import Scene, vec3
from eddyfall.core.truth.response.conversions import Converted, rehearse_conversions
from eddyfall.workbench.studio.room import STUDIO

PICTURE = (640, 360)
NEAR = 3.0  # a twin is looked at from so many times its size away, at the most


def conversions(build: CoreBuild, target: str | None, to: str | None, material: str | None) -> ConversionsDocument:
    """Every material that a target has no base shader for, converted in rehearsal; material: this one alone, special or not."""

    def asked(renderer: Renderer) -> Converted:
        views = Survey(build, renderer, target).viewpoints
        return rehearse_conversions(renderer, build, target, views, to, [material] if material else (), PICTURE)

    return ConversionsDocument.from_core(STUDIO.draw(asked), to)


def conversion_picture(
    build: CoreBuild, viewpoint: str, target: str | None, to: str | None, material: str | None, which: Literal["before", "after"]
) -> bytes:
    """PNG of a viewpoint on a target, as it is or with all converted that converts."""

    def asked(renderer: Renderer) -> bytes:
        shown = build
        if which == "after":
            shown = rehearse_conversions(renderer, build, target, (), to, [material] if material else ()).after
        return png_of(renderer.frame(shown, Request(viewpoint, PICTURE, None, target)).display)

    drawn: bytes = STUDIO.draw(asked)
    return drawn


def twins(build: CoreBuild, older: CoreBuild | None = None) -> TwinsDocument:
    """What is missing, and what could stand there: of this build, and of an older one of the project."""
    library = _library(older)
    found = missing(build.scene, None if older is None else older.scene)
    return TwinsDocument(
        missing=[MissingDocument.from_core(what, twins_of(build.scene, what, library)) for what in found],
        shapes=[ShapeDocument.from_core(*one) for one in shapes_of(build.scene, library)],
    )


def twin_picture(build: CoreBuild, older: CoreBuild | None, name: str, rank: int | None) -> bytes:
    """PNG of the place where something is missing, with the twin of a rank (from 0) standing there; None: as it is.
    RequestError for what is not missing, or a twin that there is not."""
    what, found = _found(build, older, name)
    shown = build if rank is None else apply_change(build, _stood_in(build, older, what, found, rank))
    return _looked_at(shown, what, found[0] if found else None)


def twin_change(build: CoreBuild, older: CoreBuild | None, name: str, rank: int) -> Change:
    """The change by which the twin of a rank (from 0) stands where something is missing; one of the older build is brought along in it.
    RequestError as `twin_picture`, and for a mesh that is larger than a change holds."""
    what, found = _found(build, older, name)
    return _stood_in(build, older, what, found, rank)


def _library(older: CoreBuild | None) -> list[tuple[str, Scene]]:
    return [] if older is None else [("the older build", older.scene)]


def _found(build: CoreBuild, older: CoreBuild | None, name: str) -> tuple[Missing, list[Twin]]:
    what = next((m for m in missing(build.scene, None if older is None else older.scene) if m.name == name), None)
    if what is None:
        raise RequestError(f"{name!r} is not missing")
    return what, twins_of(build.scene, what, _library(older))


def _stood_in(build: CoreBuild, older: CoreBuild | None, what: Missing, found: list[Twin], rank: int) -> Change:
    if not 0 <= rank < len(found):
        raise RequestError(f"{what.name!r} has no twin number {rank}")
    change = stands_in(what, found[rank], build.scene, _library(older))
    if change is None:
        raise RequestError(f"{found[rank].mesh} is larger than a change holds: bring it with the next delivery")
    return change


def _looked_at(build: CoreBuild, what: Missing, best: Twin | None) -> bytes:
    """From where the nearest viewpoint looks, but nearer."""
    shape, place = (best.shape, best.place) if best is not None and best.shape is not None else (what.shape, what.place)
    middle, size = what.place[:3, 3], 1.0
    if shape is not None and len(shape.corners):
        corners = (shape.corners @ place[:3, :3].T + place[:3, 3]).reshape(-1, 3)
        low, high = corners.min(axis=0), corners.max(axis=0)
        middle, size = (low + high) / 2, max(float(np.linalg.norm(high - low)), 1e-3)
    aspect = PICTURE[0] / PICTURE[1]
    cameras = {name: make_camera(build, name, aspect) for name in build.setup.viewpoints}
    name = min(cameras, key=lambda v: float(np.linalg.norm(np.array(cameras[v].eye) - middle)))
    camera = cameras[name]
    way = np.array(camera.eye) - middle
    far = float(np.linalg.norm(way))
    eye = middle + way / max(far, 1e-9) * min(far, NEAR * size)
    looking = Camera(vec3(eye), look_at(eye, middle), camera.fov_y_rad, aspect)

    def draw(renderer: Renderer) -> bytes:
        return png_of(renderer.frame(build, Request(name, PICTURE, camera=looking)).display)

    drawn: bytes = STUDIO.draw(draw)
    return drawn
