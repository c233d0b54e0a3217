"""What the Light and colour sheet asks of the core, each as the command line gives it."""

import io
from typing import Literal

import numpy as np
from PIL import Image

from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer, Request
from eddyfall.core.handover.documents.light_account import AccountDocument
from eddyfall.core.handover.documents.screen_budget import ScreenBudgetDocument
from eddyfall.core.handover.documents.where_light import WhereDocument
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.core.truth.reference.account import account as account_of
from eddyfall.core.truth.reference.of_frame import Comparison, Wanted, compare, drawn_picture, picture_of
from eddyfall.core.truth.reference.off_picture import off_picture
from eddyfall.core.truth.reference.trace import Asked
from eddyfall.core.truth.reference.where import Where, where_light
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
    crop = None
    if region is not None:
        inside_of(region)
        x, y, w, h = region
        crop = (x, y, x + w, y + h)
    request = Request(viewpoint, DEFAULT_SIZE, crop, target)

    def asked(renderer: Renderer) -> Where:
        return where_light(renderer, build, request, samples=samples, bounces=bounces)

    return WhereDocument.from_core(viewpoint, STUDIO.draw(asked))


def targets(build: CoreBuild, viewpoint: str, target: str | None) -> ScreenBudgetDocument:
    """What occlusion, bounce and reflection hold in memory at a viewpoint. RequestError if it, or the target, does not exist."""

    def asked(renderer: Renderer) -> ScreenBudget:
        return screen_budget(Survey(build, renderer, target).stage(viewpoint))

    return ScreenBudgetDocument.from_core(viewpoint, STUDIO.draw(asked))


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
    found = _compared(build, _wanted(viewpoint, target, samples, bounces))
    if shown == "standin":
        drawn = drawn_picture(found.frame)
    else:
        drawn = picture_of(found.reference) if shown == "reference" else off_picture(found)
    stream = io.BytesIO()
    Image.fromarray(drawn).save(stream, "PNG", compress_level=1)
    return stream.getvalue()


def _wanted(viewpoint: str, target: str | None, samples: int, bounces: int) -> Wanted:
    return Wanted(request=Request(viewpoint, SIZE, None, target), samples=samples, asked=Asked(bounces=bounces))


def _compared(build: CoreBuild, wanted: Wanted) -> Comparison:
    found: Comparison = STUDIO.draw(lambda renderer: compare(renderer, build, wanted))
    return found
