"""Background that bleeds into charts at mip levels: coverage against shapely, dilation against scipy, means against Pillow."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from scipy.ndimage import binary_dilation
from shapely import Polygon, contains_xy

from eddyfall.core.shade.srgb import decode
from eddyfall.core.shade.textures import mip_chain
from eddyfall.core.uv.bleed import coverage, dilate_picture, mean_of_cell, measure_bleed, painted_padding
from eddyfall.core.uv.gutters import mip_distance_m, padding_for_mip, safe_mip

SQUARE = np.ones((3, 3), bool)


def quad(x0, y0, x1, y1):
    a, b, c, d = (x0, y0), (x1, y0), (x1, y1), (x0, y1)
    return np.array([[a, b, c], [a, c, d]], float)


@given(st.integers(0, 10_000))
@settings(max_examples=30, deadline=None)
def test_texels_whose_centre_a_chart_holds_are_shapelys(seed):
    uv = np.random.default_rng(seed).uniform(0.05, 0.95, (1, 3, 2))
    y, x = np.mgrid[0:24, 0:32]
    wanted = contains_xy(Polygon(uv[0] * [32, 24]), x + 0.5, y + 0.5)
    got = coverage(uv, 32, 24)
    assert (got != wanted).sum() <= 1  # a centre on the very border


def test_what_leaves_the_tile_comes_in_on_the_other_side():
    assert (coverage(quad(0.75, 0.0, 1.25, 1.0), 16, 4) == ((np.arange(16) >= 12) | (np.arange(16) < 4))[None]).all()


@given(st.integers(0, 10_000), st.integers(1, 6))
@settings(max_examples=20, deadline=None)
def test_dilation_reaches_as_many_texels_as_it_says(seed, texels):
    rng = np.random.default_rng(seed)
    covered = np.zeros((24, 24), bool)
    covered[6:10, 5:12] = covered[15:18, 14:20] = True
    pixels = np.where(covered[..., None], rng.integers(100, 256, (24, 24, 4)), 0).astype(np.uint8)
    out = dilate_picture(pixels, covered, texels)
    assert ((out[..., 3] > 0) == binary_dilation(covered, SQUARE, iterations=texels)).all()
    assert (out[covered] == pixels[covered]).all()
    assert painted_padding(out, covered) >= texels


def test_padding_is_measured_from_the_picture_alone():
    covered = np.zeros((64, 64), bool)
    covered[24:40, 24:40] = True
    pixels = np.zeros((64, 64, 4), np.uint8)
    pixels[...] = (20, 30, 200, 255)
    pixels[covered] = (180, 170, 60, 255)
    for texels in (0, 1, 2, 5, 11):
        assert painted_padding(dilate_picture(pixels, covered, texels) if texels else pixels, covered) == texels


@pytest.mark.parametrize(("padding", "level"), [(0, -1), (1, 0), (2, 1), (4, 1), (5, 2), (10, 2), (11, 3), (23, 4), (47, 5)])
def test_padding_holds_up_to_a_level(padding, level):
    # 1.5 * 2^k - 1 texels a side: derived and brute-forced in test_chart_measures, no published source.
    assert safe_mip(padding) == level
    assert level < 0 or padding_for_mip(level) <= padding < padding_for_mip(level + 1)


@pytest.mark.parametrize(("level", "clean"), [(1, True), (2, True), (3, False)])
def test_a_chart_with_five_texels_of_padding_is_clean_to_level_two(level, clean):
    # Look-ups on the chart's rim in levels made by box filtering never take background while the padding holds.
    worst = 0.0
    for shift in range(8):
        covered = np.zeros((128, 128), bool)
        covered[40 + shift : 80 + shift, 40 + shift : 80 + shift] = True
        pixels = np.zeros((128, 128, 4), np.uint8)
        pixels[covered] = 255
        out = dilate_picture(pixels, covered, 5)
        mips = mip_chain(out, False)[level][..., 0] / 255.0
        # Bilinear taps at the chart's corner (40 + shift, in texels of the base).
        at = (40 + shift) / 2**level - 0.5
        i, f = int(np.floor(at)), at - np.floor(at)
        row = mips[i : i + 2, i : i + 2]
        value = (row[0, 0] * (1 - f) + row[0, 1] * f) * (1 - f) + (row[1, 0] * (1 - f) + row[1, 1] * f) * f
        worst = max(worst, 1 - value)
    assert (worst < 0.01) == clean, worst


def test_means_of_cells_are_pillows_in_linear_light():
    pixels = np.random.default_rng(3).integers(0, 256, (32, 48, 4), dtype=np.uint8)
    for level in (1, 2, 3):
        wanted = np.stack(
            [np.asarray(Image.fromarray(decode(pixels[..., c] / 255.0).astype(np.float32)).reduce(2**level)) for c in range(3)],
            axis=2,
        )
        assert mean_of_cell(pixels, level) == pytest.approx(wanted, abs=1e-6)


def test_the_bleed_horizon_follows_from_padding_density_and_lens():
    # Perspective: a surface square on at z spans f / z pixels a metre, so level = log2(density z / f).
    covered = coverage(quad(0.25, 0.25, 0.75, 0.75), 256, 256)
    pixels = np.zeros((256, 256, 4), np.uint8)
    pixels[covered] = (200, 120, 40, 255)
    pixels = dilate_picture(pixels, covered, 5)
    bleed = measure_bleed(pixels, quad(0.25, 0.25, 0.75, 0.75), 512.0, 935.3)
    assert (bleed.padding, bleed.safe) == (5, 2)
    assert bleed.first_bad_m == pytest.approx(4 * 935.3 / 512)
    assert bleed.first_bad_nearest_m == pytest.approx(2**2.5 * 935.3 / 512)
    assert bleed.shimmer_m == pytest.approx(mip_distance_m(0, 512.0, 935.3)) == pytest.approx(935.3 / 512)
    # A full chain of a square costs a third more (sum of quarters).
    assert bleed.mip_chain_bytes / bleed.base_bytes == pytest.approx(4 / 3, abs=1e-4)


def test_a_page_without_charts_or_background_bleeds_nowhere():
    pixels = np.full((8, 8, 4), 90, np.uint8)
    assert painted_padding(pixels, np.zeros((8, 8), bool)) == 64
    assert painted_padding(pixels, np.ones((8, 8), bool)) == 64
