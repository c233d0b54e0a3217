"""sRGB transfer functions and luminance (IEC 61966-2-1:1999; weights from the BT.709 primaries)."""

import numpy as np

REC709_LUMA = np.array([0.2126390059, 0.7151686788, 0.0721923154])


def decode(v: np.ndarray) -> np.ndarray:
    """Linear light of sRGB-encoded values 0..1, any shape."""
    v = np.asarray(v, np.float64)
    return np.where(v <= 0.04045, v / 12.92, ((np.maximum(v, 0.0) + 0.055) / 1.055) ** 2.4)


def encode(light: np.ndarray) -> np.ndarray:
    """sRGB-encoded values of linear light, clamped to 0..1 first."""
    x = np.clip(np.asarray(light, np.float64), 0.0, 1.0)
    return np.where(x <= 0.0031308, 12.92 * x, 1.055 * x ** (1 / 2.4) - 0.055)


def to_bytes(light: np.ndarray) -> np.ndarray:
    """8-bit sRGB codes of linear light."""
    return (encode(light) * 255.0 + 0.5).astype(np.uint8)


def luminance(rgb: np.ndarray) -> np.ndarray:
    """Luminance of linear Rec.709 rgb (..., 3)."""
    return np.asarray(rgb, np.float64) @ REC709_LUMA


DECODE_TABLE = decode(np.arange(256) / 255.0).astype(np.float32)
LINEAR_TABLE = (np.arange(256) / 255.0).astype(np.float32)
