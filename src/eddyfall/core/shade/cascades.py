"""Sun cascades: where the splits lie, what sphere each slice needs, how large a texel becomes.

Splits: Zhang, Sun, Xu & Lu 2006 (practical scheme). Spheres: c = min(f, (n + f)/2 (1 + k^2)), k^2 = tan^2(fov/2)(1 + aspect^2).
"""

import math
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Slice:
    """One cascade: depths it serves, centre of its sphere along the view, radius, texel edge, view depth at which its slice of the frustum
    starts; all in metres."""

    near_m: float
    far_m: float
    centre_m: float
    radius_m: float
    texel_m: float
    starts_m: float


def splits(near_m: float, far_m: float, count: int, blend: float) -> np.ndarray:
    """(count + 1,) view depths: lambda n (f/n)^(i/N) + (1 - lambda)(n + (f - n) i/N)."""
    i = np.arange(count + 1) / count
    return np.asarray(blend * near_m * (far_m / near_m) ** i + (1 - blend) * (near_m + (far_m - near_m) * i))


def slice_sphere(near_m: float, far_m: float, fov_y_rad: float, aspect: float) -> tuple[float, float]:
    """(distance of the centre along the view, radius) of the smallest sphere around a frustum slice, in metres."""
    k2 = math.tan(fov_y_rad / 2) ** 2 * (1 + aspect**2)
    centre = min(far_m, (near_m + far_m) / 2 * (1 + k2))
    return centre, math.sqrt((far_m - centre) ** 2 + far_m**2 * k2)


def cascade_slices(
    near_m: float, reach_m: float, count: int, blend: float, resolution: int, fov_y_rad: float, aspect: float,
    far_reach_m: float = 0.0, far_resolution: int = 2048, by_range: bool = False,
) -> list[Slice]:  # fmt: skip
    """The cascades from near to reach, then the far tier if it reaches further. The first one serves from depth 0.

    by_range: they are told apart by range to the eye, so that in the frame's corners a slice starts at less view depth."""
    edges = splits(near_m, reach_m, count, blend)
    spread = math.sqrt(1 + math.tan(fov_y_rad / 2) ** 2 * (1 + aspect**2)) if by_range else 1.0
    ends = [(float(edges[i]), float(edges[i + 1]), resolution) for i in range(count)]
    if far_reach_m > reach_m:
        ends.append((reach_m, far_reach_m, far_resolution))
    result = []
    for i, (start, end, texels) in enumerate(ends):
        centre, radius = slice_sphere(start / spread, end, fov_y_rad, aspect)
        result.append(Slice(0.0 if i == 0 else start, end, centre, radius, 2 * radius / texels, start / spread))
    return result


def lambda_for_first_texel(
    near_m: float, reach_m: float, count: int, resolution: int, fov_y_rad: float, aspect: float, texel_m: float, least: float
) -> float | None:
    """The smallest split_lambda, in hundredths and not below `least`, whose first cascade has a texel no larger than texel_m; None if even
    equal ratios do not give it. Greater reach at the same first texel costs nothing but coarser middle cascades."""
    for hundredths in range(math.ceil(least * 100 - 1e-9), 101):
        blend = hundredths / 100
        if cascade_slices(near_m, reach_m, count, blend, resolution, fov_y_rad, aspect)[0].texel_m <= texel_m:
            return blend
    return None
