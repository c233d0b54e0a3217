"""What a picture's colours are to its alpha, and what becomes of them before they are filtered.

A picture holds its colours as they are (*straight*), multiplied by alpha in light (*premultiplied*), or multiplied as codes, before they
are decoded. Averages are right of multiplied colours only (Porter and Duff 1984; Blinn, "Compositing, part 1: theory", 1994): of straight
ones, the colour of what is clear takes part as if it were there.
"""

from typing import Literal, NamedTuple

import numpy as np

from eddyfall.core.shade.srgb import DECODE_TABLE, LINEAR_TABLE, encode

Holds = Literal["straight", "premultiplied", "premultiplied_codes"]
Filters = Literal["straight", "premultiplied"]


class Form(NamedTuple):
    """What a picture holds and as what it is stored; divided: what a look-up gives is divided by alpha, since its blend takes colours that
    are not multiplied."""

    holds: Holds
    stored: Filters
    divided: bool


AS_IT_IS = Form("straight", "straight", False)


def form_of(blend: str, holds: Holds | None, filters: Filters) -> Form:
    """The form that a material's base picture is stored in. blend: its kind; holds: what the setup says of the picture (None: what the kind
    takes); filters: what is averaged."""
    if blend == "opaque":
        return AS_IT_IS
    takes: Filters = "premultiplied" if blend == "premultiplied" else "straight"
    stored: Filters = "premultiplied" if takes == "premultiplied" else filters
    return Form(holds or takes, stored, stored == "premultiplied" and takes == "straight")


def stored_as(pixels: np.ndarray, form: Form) -> np.ndarray:
    """A picture (h, w, 4) uint8, sRGB codes and alpha, with its colours as a form stores them; itself where they are so already."""
    if form.holds == form.stored:
        return pixels
    colour, alpha = pixels[..., :3], pixels[..., 3:]
    light, a = DECODE_TABLE[colour].astype(np.float64), LINEAR_TABLE[alpha].astype(np.float64)
    with np.errstate(divide="ignore", invalid="ignore"):
        if form.holds == "premultiplied_codes":
            codes = np.clip(np.where(a > 0, colour / np.maximum(a, 1e-9), 0.0), 0.0, 255.0)
            light = np.interp(codes, np.arange(256), DECODE_TABLE)
            light = light * a if form.stored == "premultiplied" else light
        elif form.stored == "premultiplied":
            light = light * a
        else:
            light = np.where(a > 0, light / np.maximum(a, 1e-9), 0.0)
    return np.concatenate([(encode(light) * 255.0 + 0.5).astype(np.uint8), alpha], axis=2)
