"""Depth buffer formats: view depth to stored code and back. Keys are stored codes with the sign turned so that smaller is nearer."""

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numba import njit


class DepthCode(NamedTuple):
    """For kernels: bits 16, 24 or 32 (float); sign -1 when reversed; lowest and highest d that is inside near and far."""

    bits: int
    sign: float


@dataclass(frozen=True)
class DepthFormat:
    """d = a + b / z for view depth z > 0; far_m None is infinite."""

    format: str
    reversed: bool
    near_m: float
    far_m: float | None

    @property
    def bits(self) -> int:
        return {"unorm16": 16, "unorm24": 24, "float32": 32}[self.format]

    @property
    def ab(self) -> tuple[float, float]:
        """Projection terms: standard d = f/(f-n)(1 - n/z), reversed d = n/(f-n)(f/z - 1) (Upchurch & Desbrun 2012, from memory)."""
        n, f = self.near_m, self.far_m
        if f is None:
            return (0.0, n) if self.reversed else (1.0, -n)
        return (-n / (f - n), n * f / (f - n)) if self.reversed else (f / (f - n), -n * f / (f - n))

    @property
    def code(self) -> DepthCode:
        return DepthCode(self.bits, -1.0 if self.reversed else 1.0)

    @property
    def far_key(self) -> np.float32:
        """Key of a cleared pixel."""
        top = 0.0 if self.reversed else 1.0
        return np.float32((top if self.bits == 32 else top * (2**self.bits - 1)) * self.code.sign)

    def key_of(self, z: np.ndarray) -> np.ndarray:
        """Key at view depth z (metres)."""
        a, b = self.ab
        d = np.clip(a + b / np.asarray(z, np.float64), 0.0, 1.0)
        if self.bits < 32:
            d = np.floor(d * (2**self.bits - 1) + 0.5)
        return np.asarray(d * self.code.sign, np.float32)

    def view_depth(self, key: np.ndarray) -> np.ndarray:
        """View depth in metres (float64) of stored keys; infinity where an infinite far plane was hit."""
        a, b = self.ab
        d = np.asarray(key, np.float64) * self.code.sign
        if self.bits < 32:
            d = d / (2**self.bits - 1)
        gap = d - a
        with np.errstate(divide="ignore"):
            z = np.where(gap == 0.0, np.inf, b / np.where(gap == 0.0, 1.0, gap))
        return np.where(z <= 0, np.inf, z)

    def step_m(self, z: np.ndarray | float) -> np.ndarray:
        """Smallest view-depth difference that always gives another code at depth z: dz = z^2 / |b| * step of d.

        Unorm: 1/(2^b - 1); float32: the spacing of d itself (Akeley & Su 2006, from memory).
        """
        a, b = self.ab
        z = np.asarray(z, np.float64)
        d = np.clip(a + b / z, 0.0, 1.0)
        step = np.spacing(d.astype(np.float32)).astype(np.float64) if self.bits == 32 else 1.0 / (2**self.bits - 1)
        return np.asarray(z * z / abs(b) * step)

    def separable_to_m(self, gap_m: float, floor_height_m: float | None = None) -> float:
        """Depth up to which a gap is told apart: facing z = sqrt(g n 2^b), floor seen from height h: z = g n 2^b / h."""
        bits = 24 if self.bits == 32 else self.bits
        if self.bits == 32 and self.reversed:
            return math.inf if gap_m > 0 else 0.0
        if floor_height_m is None:
            return math.sqrt(gap_m * self.near_m * 2.0**bits)
        return gap_m * self.near_m * 2.0**bits / floor_height_m


@njit("float32(float32, int64, float64)", cache=True, inline="always")
def depth_key(d, bits, sign):
    """Stored key of interpolated depth d in 0..1."""
    if bits == 32:
        return np.float32(d * np.float32(sign))
    top = float((1 << bits) - 1)
    clamped = min(max(np.float64(d), 0.0), 1.0)
    return np.float32(np.floor(clamped * top + 0.5) * sign)
