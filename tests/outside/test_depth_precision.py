"""Depth formats against Akeley & Su 2006 and Upchurch & Desbrun 2012 (both from memory; recomputed by bisection in NumPy)."""

import numpy as np
import pytest

from eddyfall.core.raster.depth_format import DepthFormat, depth_key


def test_standard_depth_values():
    d = DepthFormat("float32", False, 0.1, 1000.0)
    z = np.array([0.1, 0.2, 1.0, 100.0, 1000.0])
    assert d.key_of(z) == pytest.approx([0, 0.500050005001, 0.900090009, 0.99909991, 1], abs=1e-6)
    assert float(d.view_depth(np.float32(0.5))) == pytest.approx(0.199980002, abs=1e-7)


@pytest.mark.parametrize(
    ("name", "z", "step"),
    [
        ("unorm24", 10, 5.9599e-05),
        ("unorm24", 100, 0.00596022),
        ("unorm24", 500, 0.149041),
        ("unorm16", 10, 0.0152808),
        ("unorm16", 100, 1.54939),
    ],
)
def test_smallest_separable_step(name, z, step):
    d = DepthFormat(name, False, 0.1, 1000.0)
    assert float(d.step_m(z)) == pytest.approx(step, rel=0.03)


def test_steps_are_what_the_quantiser_really_does():
    d = DepthFormat("unorm24", False, 0.1, 1000.0)
    for z in (3.0, 47.0, 312.0):
        step = float(d.step_m(z))
        starts = z + np.random.default_rng(1).random(4000) * step
        assert (d.key_of(starts) != d.key_of(starts + 1.05 * step)).all()
        same = (d.key_of(starts) == d.key_of(starts + 0.5 * step)).mean()
        assert same == pytest.approx(0.5, abs=0.05)  # uniform phase: half of the pixels collide at half a step


def test_near_plane_matters_far_plane_hardly():
    step = lambda n, f: float(DepthFormat("unorm24", False, n, f).step_m(100.0))  # noqa: E731
    assert step(0.1, 10_000) / step(1.0, 10_000) == pytest.approx(10.0, rel=2e-3)
    assert step(0.1, 10_000) / step(0.1, 1000) == pytest.approx(1.00009, rel=1e-4)


def test_reversed_float_is_a_thousand_times_finer():
    d = DepthFormat("float32", True, 0.1, 1000.0)
    # rel .35: the published step is that of one phase, float steps vary by 2 within a binade
    assert float(d.step_m(100.0)) == pytest.approx(5.82e-06, rel=0.35)
    assert float(d.step_m(500.0)) == pytest.approx(1.819e-05, rel=0.35)
    infinite = DepthFormat("float32", True, 0.1, None)
    z = np.geomspace(0.2, 5000, 500)
    assert (infinite.step_m(z) / z).max() <= 1.1920929e-07 * 1.0001


def test_reversal_gains_nothing_for_integers():
    z = np.array([1.0, 10.0, 100.0, 900.0])
    assert DepthFormat("unorm24", True, 0.1, 1000.0).step_m(z) == pytest.approx(
        DepthFormat("unorm24", False, 0.1, 1000.0).step_m(z)
    )


def test_distance_up_to_which_a_millimetre_is_told_apart():
    far = lambda name, n: DepthFormat(name, False, n, None).separable_to_m(0.001)  # noqa: E731
    assert far("unorm24", 0.1) == pytest.approx(40.96, abs=0.05)
    assert far("unorm16", 0.1) == pytest.approx(2.56, abs=0.05)
    assert far("unorm24", 0.01) == pytest.approx(12.95, abs=0.05)
    # The worked case of flickering floors and oversized bake work: near .05 m, facing 28.96 m; floor seen from 1.7 m 493 m.
    d = DepthFormat("unorm24", False, 0.05, None)
    assert d.separable_to_m(0.001) == pytest.approx(28.96, abs=0.005)
    assert d.separable_to_m(0.001, 1.7) == pytest.approx(493, abs=0.6)
    assert float(d.step_m(6.0)) == pytest.approx(0.043e-3, abs=5e-7)
    assert float(d.step_m(12.0)) == pytest.approx(0.172e-3, abs=5e-7)


@pytest.mark.parametrize("name", ["unorm16", "unorm24", "float32"])
@pytest.mark.parametrize("reverse", [False, True])
def test_keys_grow_with_distance_and_come_back(name, reverse):
    d = DepthFormat(name, reverse, 0.1, 800.0)
    z = np.geomspace(0.11, 790, 400)
    keys = d.key_of(z)
    assert (np.diff(keys) >= 0).all()
    assert np.abs(d.view_depth(keys) - z).max() <= d.step_m(z).max() * 1.01
    a, b = d.ab
    kernel = [depth_key(np.float32(a + b / v), d.bits, d.code.sign) for v in z]
    assert np.abs(d.view_depth(np.array(kernel)) - z)[z < 50].max() <= 3 * d.step_m(50.0)
