"""A sky picture to be looked at: as it is exposed in a frame, a ring around its sun, or without it."""

import math

import numpy as np

from eddyfall.core.passes.display import encode_display, exposure_scale
from eddyfall.core.scene.model import SkyPicture
from eddyfall.core.scene.resolve import Resolved
from eddyfall.core.scene.setup.sections.exposure import Exposure
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.shade.sky_maps import LARGEST, cleaned, directions_of
from eddyfall.core.truth.sky_sun import sun_in

WIDTH = 640
RING_RAD, RING_WIDE_RAD = math.radians(7.0), math.radians(1.2)
RING_RGB = (200, 86, 31)


def sky_view(picture: SkyPicture, resolved: Resolved, without_sun: bool) -> np.ndarray:
    """(h, w, 3) uint8 sRGB, at most WIDTH wide, by every n-th pixel: its middle looks along -Z."""
    sun = sun_in(picture)
    step = max(picture.radiance.shape[1] // WIDTH, 1)
    shown = cleaned((sun.sky if without_sun else picture.radiance)[::step, ::step], LARGEST)
    exposure = resolved[Exposure]
    scale = resolved[Sky].picture_nits * exposure_scale(exposure.mode, exposure.ev100)
    view = encode_display((shown * scale).astype(np.float32))
    if sun.verdict != "none" and not without_sun:
        away = np.arccos(np.clip(directions_of(*view.shape[:2]) @ np.array(sun.towards), -1.0, 1.0))
        view[np.abs(away - RING_RAD) < RING_WIDE_RAD / 2] = RING_RGB
    return view
