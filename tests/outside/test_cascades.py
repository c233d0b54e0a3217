"""Cascade splits against Zhang, Sun, Xu & Lu 2006 (from memory), spheres against a minimisation, texels of the worked case of
shadows that disappear with distance."""

import math

import numpy as np
import pytest
from scipy.optimize import minimize_scalar

from eddyfall.core.shade.cascades import cascade_slices, slice_sphere, splits


@pytest.mark.parametrize(
    ("near", "far", "count", "blend", "inner"),
    [
        (0.1, 100, 4, 1.0, (0.5623413252, 3.16227766, 17.7827941)),
        (0.1, 100, 4, 0.0, (25.075, 50.05, 75.025)),
        (0.1, 100, 4, 0.5, (12.81867066, 26.60613883, 46.40389705)),
        (1, 500, 3, 0.75, (47.7860872782, 130.663706038)),
    ],
)
def test_splits(near, far, count, blend, inner):
    assert splits(near, far, count, blend)[1:-1] == pytest.approx(inner, abs=1e-7)


@pytest.mark.parametrize(
    ("near", "far", "centre", "radius"),
    [
        (0.1, 12.81867066, 12.81867066, 15.0957537695),
        (12.81867066, 26.60613883, 26.60613883, 31.3324003079),
        (26.60613883, 46.40389705, 46.40389705, 54.6469928427),
        (46.40389705, 100, 100, 117.763800708),
    ],
)
def test_slice_spheres(near, far, centre, radius):
    assert slice_sphere(near, far, math.radians(60), 16 / 9) == pytest.approx((centre, radius), abs=1e-4)


def test_spheres_are_the_smallest_for_a_long_lens_too():
    fov, aspect, near, far = math.radians(12), 16 / 9, 90.0, 360.0
    t = math.tan(fov / 2)
    corners = np.array([(s * z * t * aspect, u * z * t, z) for z in (near, far) for s in (-1, 1) for u in (-1, 1)])
    best = minimize_scalar(lambda c: np.linalg.norm(corners - [0, 0, c], axis=1).max(), bounds=(0, far), method="bounded")
    assert slice_sphere(near, far, fov, aspect)[1] == pytest.approx(best.fun, rel=1e-6)


@pytest.mark.parametrize(("reach", "first_mm", "last_mm"), [(360, 43.4, 414), (450, 53.8, 517.5), (2400, 279, 2760)])
def test_texels_of_each_cascade(reach, first_mm, last_mm):
    slices = cascade_slices(0.5, reach, 4, 0.6, 2048, math.radians(60), 16 / 9)
    assert slices[0].texel_m * 1000 == pytest.approx(first_mm, rel=2e-3)
    assert slices[-1].texel_m * 1000 == pytest.approx(last_mm, rel=2e-3)


def test_far_tier_carries_on_where_the_cascades_end():
    slices = cascade_slices(0.5, 360, 4, 0.6, 2048, math.radians(60), 16 / 9, 420, 1024)
    assert [s.far_m for s in slices][-2:] == pytest.approx([360, 420])
    assert slices[0].near_m == 0.0
    assert [s.near_m for s in slices[1:]] == [s.far_m for s in slices[:-1]]
