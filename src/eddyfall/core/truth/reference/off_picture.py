"""How many stops a frame is off its reference, as a picture: told by hue and by pattern."""

import numpy as np

from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.of_frame import Comparison

FULL_STOPS = 2.0  # where a colour is full
DARKER_RGB, BRIGHTER_RGB, EVEN_RGB = (14, 90, 95), (200, 86, 31), (232, 230, 224)
CALM = 2.0  # standard errors, within which nothing is told


def off_picture(found: Comparison) -> np.ndarray:
    """(h, w, 3) uint8 of a comparison of all pixels of its window: too dark towards one hue and hatched, too bright towards the other and
    dotted, even where they agree within noise."""
    height, width = found.frame.pixels.shape
    tally = found.reference.tally
    mine, theirs = (np.maximum(v, 1e-12) for v in (found.parts.radiance @ REC709_LUMA, tally.luminance))
    told = np.abs(mine - theirs) > CALM * np.where(np.isfinite(tally.error), tally.error, 0.0)
    stops = np.where(told, np.clip(np.log2(mine / theirs) / FULL_STOPS, -1, 1), 0.0).reshape(height, width)
    ends = np.where((stops < 0)[..., None], DARKER_RGB, BRIGHTER_RGB).astype(float)
    share = np.abs(stops)[..., None]
    picture = np.array(EVEN_RGB) * (1 - share) + ends * share
    y, x = np.mgrid[:height, :width]
    strong = np.abs(stops) > 0.125
    marked = strong & np.where(stops < 0, (x + y) % 4 == 0, (x % 4 == 0) & (y % 4 == 0))
    picture[marked] = picture[marked] * 0.6
    return np.asarray(picture + 0.5).astype(np.uint8)
