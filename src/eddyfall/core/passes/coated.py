"""What passes have in common that light surfaces under clear coats: each is shaded twice, as it lies below and as its coat."""

import numpy as np

from eddyfall.core.passes.contract import Values


def is_coated(inputs: Values) -> bool:
    """Whether anything visible lies under a clear coat."""
    share = inputs["coat_share"]
    return bool(share.shape == inputs["visible"].shape and share.any())  # of a frame of one pixel the shape alone says nothing


def under_coat(light: np.ndarray, share: np.ndarray) -> np.ndarray:
    """Light (..., 3) of surfaces with what coats of these shares (...) leave of it."""
    return np.asarray((light * (1.0 - share[..., None])).astype(np.float32))


def as_coats(inputs: Values) -> Values:
    """The same, with clear coats in the place of the surfaces under them."""
    return {**inputs, "surface": inputs["coat_rows"]}
