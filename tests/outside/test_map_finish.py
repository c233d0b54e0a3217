"""From gathered light to the stored map: gutters against scipy's morphology, the smoothing filter against its formula."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import binary_dilation

from eddyfall.core.bake.maps.finish import (
    DENOISE_RADIUS,
    DENOISE_TEXELS,
    NOISE_TOLERANCE,
    Finish,
    Raw,
    denoised,
    dilated,
    finished,
)  # fmt: skip
from eddyfall.core.shade.srgb import luminance

SQUARE = np.ones((3, 3), bool)


def raw_of(values, covered, *, hidden=None, chart=None, seen=None, variance=0.0, samples=64):
    mean = np.repeat(np.asarray(values, np.float32)[..., None], 3, axis=2)
    shape = covered.shape
    return Raw(
        mean,
        mean if seen is None else np.repeat(np.asarray(seen, np.float32)[..., None], 3, axis=2),
        np.full(shape, variance, np.float32),
        np.zeros(shape, np.float32) if hidden is None else np.asarray(hidden, np.float32),
        covered,
        np.where(covered, 0, -1).astype(np.int32) if chart is None else chart,
        np.full(shape, -1, np.int32),
        samples,
    )


@given(st.integers(0, 10_000), st.integers(0, 4))
@settings(max_examples=40, deadline=None)
def test_a_gutter_grows_as_morphology_says(seed, steps):
    # Dilation by a 3 x 3 square, repeated: Serra 1982, as scipy has it.
    rng = np.random.default_rng(seed)
    valid = rng.random((20, 24)) < 0.04
    valid[3, 3] = True
    values = np.where(valid[..., None], rng.uniform(1, 2, (20, 24, 3)), 0)
    grown = dilated(values, valid, valid, steps)[..., 0] > 0
    wanted = binary_dilation(valid, SQUARE, iterations=steps) if steps else valid
    missed = wanted & ~grown
    # The nearest texel in the plane may lie a step further by the square's measure than another: only diagonals may differ.
    assert not (grown & ~wanted).any() and missed.mean() < 0.05
    assert (grown | missed)[wanted].all()


def test_a_gutter_carries_the_nearest_texel():
    values, valid = np.zeros((5, 9, 3)), np.zeros((5, 9), bool)
    values[2, 2], values[2, 6] = (4, 2, 1), (1, 2, 4)
    valid[2, 2] = valid[2, 6] = True
    out = dilated(values, valid, valid, 2)
    assert out[2, 3].tolist() == [4, 2, 1] and out[1, 5].tolist() == [1, 2, 4]
    assert out[2, 0].tolist() == [4, 2, 1] and out[2, 8].tolist() == [1, 2, 4]


def test_hidden_texels_are_filled_however_far_but_gutters_end():
    covered = np.ones((1, 12), bool)
    covered[0, 10:] = False
    hidden = np.array([[0] * 3 + [1] * 7 + [0, 0]], float)
    values = np.where(hidden > 0, 0, 2.0)
    out = finished(raw_of(values, covered, hidden=hidden), Finish("mask", "off", 1))[..., 0]
    assert out[0, :10].tolist() == [2.0] * 10  # seven hidden texels in a row take the light of the third
    kept = finished(raw_of(values, covered, hidden=hidden), Finish("keep", "off", 1))[..., 0]
    assert kept[0].tolist() == [2, 2, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0]


def test_partly_hidden_texels_count_what_is_seen_of_them_alone():
    covered = np.ones((1, 3), bool)
    raw = raw_of([[1.0, 0.5, 1.0]], covered, hidden=[[0, 0.5, 0]], seen=[[1.0, 1.0, 1.0]])
    assert finished(raw, Finish("mask", "off", 0))[0, 1, 0] == pytest.approx(1.0)
    assert finished(raw, Finish("keep", "off", 0))[0, 1, 0] == pytest.approx(0.5)


def bilateral(values, noise, valid, chart):
    """The filter in plain words: Tomasi and Manduchi 1998, eq. 1 to 3, with the spread in value led by the noise."""
    height, width = valid.shape
    out = np.array(values)
    for y in range(height):
        for x in range(width):
            if not valid[y, x]:
                continue
            here = float(luminance(values[y, x]))
            spread = NOISE_TOLERANCE * noise[y, x] + 0.02 * here + 1e-12
            weights, total = 0.0, np.zeros(3)
            for j in range(max(y - DENOISE_RADIUS, 0), min(y + DENOISE_RADIUS + 1, height)):
                for i in range(max(x - DENOISE_RADIUS, 0), min(x + DENOISE_RADIUS + 1, width)):
                    if chart is not None and (not valid[j, i] or chart[j, i] != chart[y, x]):
                        continue
                    w = math.exp(-((j - y) ** 2 + (i - x) ** 2) / (2 * DENOISE_TEXELS**2))
                    if valid[j, i]:
                        w *= math.exp(-((float(luminance(values[j, i])) - here) ** 2) / (2 * spread**2))
                    weights += w
                    total += w * values[j, i]
            out[y, x] = total / weights
    return out


@pytest.mark.parametrize("across", [True, False])
@pytest.mark.parametrize("seed", range(4))
def test_the_filter_is_its_formula(seed, across):
    rng = np.random.default_rng(seed)
    valid = rng.random((12, 15)) < 0.8
    chart = np.where(valid, rng.integers(0, 2, valid.shape), -1).astype(np.int32)
    values = np.where(valid[..., None], rng.uniform(0.2, 2, (12, 15, 3)), 0).astype(np.float32)
    noise = rng.uniform(0, 0.5, valid.shape).astype(np.float32)
    wanted = bilateral(values, noise, valid, None if across else chart)
    assert denoised(values, noise, valid, None if across else chart) == pytest.approx(wanted, rel=1e-3, abs=1e-4)


def test_even_light_stays_as_it_is_within_charts_and_darkens_across_gaps():
    covered = np.zeros((9, 9), bool)
    covered[3:6, 3:6] = True
    values = np.where(covered, 1.0, 0.0)
    within = finished(raw_of(values, covered, variance=1.0), Finish("mask", "within_charts", 0))
    assert within[covered] == pytest.approx(1.0)
    across = finished(raw_of(values, covered, variance=1.0), Finish("mask", "across_gaps", 0))
    # Of a Gaussian of 1.2 texels over 5 x 5, the share that falls on a 3 x 3 chart: centre and corner, by its own sums.
    g = np.exp(-(np.arange(-2, 3) ** 2) / (2 * 1.2**2))
    assert across[4, 4, 0] == pytest.approx((g[1:4].sum() / g.sum()) ** 2, rel=1e-3)
    assert across[3, 3, 0] == pytest.approx((g[2:].sum() / g.sum()) ** 2, rel=1e-3)


def test_noise_falls_and_edges_stay():
    rng = np.random.default_rng(1)
    covered = np.ones((32, 32), bool)
    step = np.where(np.arange(32)[None] < 16, 1.0, 4.0) * np.ones((32, 1))
    noisy = step + rng.normal(0, 0.1, step.shape)
    got = finished(raw_of(noisy, covered, variance=0.01 * 64, samples=64), Finish("mask", "within_charts", 0))[..., 0]
    left, right = np.s_[4:28, 4:13], np.s_[4:28, 19:28]
    assert got[left].std() < 0.35 * noisy[left].std() and got[right].std() < 0.35 * noisy[right].std()
    assert got[:, 15].mean() == pytest.approx(1.0, abs=0.05) and got[:, 16].mean() == pytest.approx(4.0, abs=0.05)


def test_noise_of_a_texel_is_the_error_of_its_mean():
    raw = raw_of(np.ones((1, 1)), np.ones((1, 1), bool), variance=0.36, samples=144)
    assert raw.noise[0, 0] == pytest.approx(0.6 / 12)
