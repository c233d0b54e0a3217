"""The frame with its wrong shadows marked: missing ones hatched, false ones dotted, so that they are told apart without colour."""

import numpy as np

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.long_section import light_number
from eddyfall.core.truth.shadow_classes import Class
from eddyfall.core.truth.surfaces import surfaces_of

MISSING_RGB, FALSE_RGB = (200, 86, 31), (14, 94, 90)
HATCH_PX, DOTS_PX = 6, 4


def shadow_picture(renderer: Renderer, build: Build, request: Request, light: str | None = None) -> np.ndarray:
    """(h, w, 3) uint8 sRGB: the frame with every pixel of missing shadow under a hatching and every pixel of false shadow under dots."""
    frame = renderer.frame(build, request, "display")
    number = light_number(frame, light)
    s = surfaces_of(frame)
    classes, _, _ = Judge(renderer, frame).classes(number, s)
    picture = np.array(frame.display)
    y, x = np.indices(picture.shape[:2])
    hatch, dots = (x + y) % HATCH_PX < HATCH_PX // 3, (x % DOTS_PX < 2) & (y % DOTS_PX < 2)
    for wanted, pattern, rgb in ((Class.MISSING, hatch, MISSING_RGB), (Class.FALSE, dots, FALSE_RGB)):
        at = s.pixels[classes == wanted]
        mask = np.zeros(picture.shape[:2], bool)
        mask[at[:, 1], at[:, 0]] = True
        picture[mask & pattern] = rgb
    return picture
