"""How irradiance is stored in a lightmap: 8-bit sRGB codes, 16-bit linear codes, or half floats (whose bits a 16-bit PNG carries)."""

import numpy as np

from eddyfall.core.scene.setup.sections.bake import Encoding
from eddyfall.core.shade.srgb import decode, encode

BYTES_PER_TEXEL: dict[str, int] = {"srgb8": 4, "linear16": 8, "half": 8}
FINENESS: tuple[Encoding, ...] = ("srgb8", "linear16", "half")


def exact_codes(values: np.ndarray, encoding: Encoding, scale: float) -> np.ndarray:
    """Codes of values before rounding, float64: 0..255 (srgb8, IEC 61966-2-1) or 0..65535 (linear16) for values 0..scale."""
    unit = np.clip(np.asarray(values, np.float64) / scale, 0.0, 1.0)
    return encode(unit) * 255.0 if encoding == "srgb8" else unit * 65535.0


def to_codes(values: np.ndarray, encoding: Encoding, scale: float, dither: bool = False) -> np.ndarray:
    """uint8 (srgb8) or uint16 codes of values (h, w, c). Dithering adds a fixed pattern of +-half a code before rounding."""
    if encoding == "half":
        return np.asarray(np.clip(values, 0, 65504), np.float16).view(np.uint16)
    exact = exact_codes(values, encoding, scale)
    if dither:
        exact = exact + (_pattern(exact.shape[:2]) - 0.5)[..., None]
    limit = 255 if encoding == "srgb8" else 65535
    return np.clip(np.rint(exact), 0, limit).astype(np.uint8 if encoding == "srgb8" else np.uint16)


def from_codes(codes: np.ndarray, encoding: Encoding, scale: float) -> np.ndarray:
    """float32 values of codes."""
    if encoding == "half":
        return np.ascontiguousarray(codes, np.uint16).view(np.float16).astype(np.float32)
    unit = decode(codes / 255.0) if encoding == "srgb8" else codes / 65535.0
    return np.asarray(unit * scale, np.float32)


def stored(values: np.ndarray, encoding: Encoding, scale: float, dither: bool = False) -> np.ndarray:
    """What is left of values after they were stored and read again."""
    return from_codes(to_codes(values, encoding, scale, dither), encoding, scale)


def _pattern(shape: tuple[int, int]) -> np.ndarray:
    """An even, dense threshold pattern in 0..1: the R2 sequence laid over the grid (Roberts 2018, from memory)."""
    y, x = np.mgrid[0 : shape[0], 0 : shape[1]]
    return np.asarray((0.7548776662466927 * x + 0.5698402909980532 * y) % 1.0)
