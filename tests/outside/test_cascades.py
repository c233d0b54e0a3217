"""Cascade splits against Zhang, Sun, Xu & Lu 2006 (from memory), spheres against a minimisation, texels of the worked case of
shadows that disappear with distance."""

import math

import numpy as np
import pytest
from scipy.optimize import minimize_scalar

from eddyfall.core.shade.cascades import cascade_slices, lambda_for_first_texel, slice_sphere, splits


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


def test_a_longer_reach_with_another_lambda_keeps_the_first_texel():
    # The worked case: 360 m at .6; 450 m at .69 has a finer first texel, no memory, coarser third and last cascades.
    fov, aspect = math.radians(60), 16 / 9
    before = [s.texel_m * 1000 for s in cascade_slices(0.5, 360, 4, 0.6, 2048, fov, aspect)]
    assert before == pytest.approx([43.4, 92.2, 172.2, 414.0], abs=0.06)
    assert [s.far_m for s in cascade_slices(0.5, 360, 4, 0.6, 2048, fov, aspect)] == pytest.approx(
        [37.7, 80.15, 149.7, 360], abs=0.05
    )
    blend = lambda_for_first_texel(0.5, 450, 4, 2048, fov, aspect, before[0] / 1000, 0.6)
    assert blend == pytest.approx(0.69)
    after = [s.texel_m * 1000 for s in cascade_slices(0.5, 450, 4, blend, 2048, fov, aspect)]
    assert after == pytest.approx([42.4, 92.2, 185.6, 517.5], abs=0.06)
    assert lambda_for_first_texel(0.5, 1e5, 4, 2048, fov, aspect, 0.001, 0.6) is None


def test_texels_a_pixel_past_each_end():
    # 1080 rows: a texel against the footprint of a pixel, 2 d tan(30 deg) / 1080.
    slices = cascade_slices(0.5, 360, 4, 0.6, 2048, math.radians(60), 16 / 9)
    pixel = 2 * math.tan(math.radians(30)) / 1080
    assert slices[0].texel_m / (2 * pixel) == pytest.approx(20.3, abs=0.05)
    assert [s.texel_m / (s.far_m * pixel) for s in slices] == pytest.approx([1.076] * 4, abs=2e-3)
    assert slices[1].texel_m / (slices[0].far_m * pixel) == pytest.approx(2.29, abs=0.01)


def test_the_worked_pier_in_texels_of_each_reach():
    fov, aspect = math.radians(60), 16 / 9
    last = {reach: cascade_slices(0.5, reach, 4, 0.6, 2048, fov, aspect)[-1].texel_m for reach in (450, 2400)}
    assert (0.8 / last[450], 0.8 / last[2400]) == (pytest.approx(1.55, abs=5e-3), pytest.approx(0.29, abs=5e-3))
    tier = cascade_slices(0.5, 360, 4, 0.6, 2048, fov, aspect, 450, 2048)[-1]
    assert tier.texel_m * 1000 == pytest.approx(517.5, abs=0.1) and 2048**2 * 4 == 16 * 2**20


def test_far_tier_carries_on_where_the_cascades_end():
    slices = cascade_slices(0.5, 360, 4, 0.6, 2048, math.radians(60), 16 / 9, 420, 1024)
    assert [s.far_m for s in slices][-2:] == pytest.approx([360, 420])
    assert slices[0].near_m == 0.0
    assert [s.near_m for s in slices[1:]] == [s.far_m for s in slices[:-1]]
