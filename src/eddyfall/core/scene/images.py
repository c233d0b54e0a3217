"""PNG and JPEG to pixels, sizes checked from the header before anything is decoded."""

import io
import warnings
from dataclasses import dataclass

import numpy as np
from PIL import Image as PillowImage
from PIL import UnidentifiedImageError

from eddyfall.core.errors import SceneError

MAX_PIXELS_EACH = 64_000_000
MAX_PIXELS_ALL = 512_000_000


@dataclass
class ImageBudget:
    """Pixels decoded so far in this file."""

    pixels: int = 0


def decode_image(data: bytes, budget: ImageBudget, where: str) -> np.ndarray:
    """uint8 (height, width, 4). FileNotFoundError if the bytes are no readable PNG or JPEG; SceneError over budget."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            picture = PillowImage.open(io.BytesIO(data), formats=("PNG", "JPEG"))
            size = picture.width * picture.height
            if size > MAX_PIXELS_EACH:
                raise SceneError(f"{picture.width} x {picture.height} pixels, more than {MAX_PIXELS_EACH}", where)
            budget.pixels += size
            if budget.pixels > MAX_PIXELS_ALL:
                raise SceneError(f"all images together have more than {MAX_PIXELS_ALL} pixels", where)
            if picture.mode.startswith("I;16") or picture.mode == "I":
                wide = np.asarray(picture, dtype=np.int64)
                grey = (wide // 257).clip(0, 255).astype(np.uint8)
                return np.dstack([grey, grey, grey, np.full_like(grey, 255)])
            return np.asarray(picture.convert("RGBA"), dtype=np.uint8)
        except PillowImage.DecompressionBombError:
            raise SceneError(f"more than {MAX_PIXELS_EACH} pixels", where) from None
        except (UnidentifiedImageError, OSError, SyntaxError, ValueError, EOFError) as error:
            raise FileNotFoundError(f"no readable PNG or JPEG ({type(error).__name__})") from None
