"""Texture and lightmap look-ups against scipy's interpolation of the same grids."""

import math

import numpy as np
import pytest
from scipy.ndimage import map_coordinates

from eddyfall.core.raster.rasterise import sample_alpha
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.shade.lightmaps import LightmapStore, irradiance_plain, mip_levels, texel_at
from eddyfall.core.shade.textures import build_store, sample, sample_plain

MODES = {"repeat": "grid-wrap", "mirror": "reflect", "clamp": "nearest"}


def picture(width=16, height=8, seed=1):
    return np.random.default_rng(seed).integers(0, 256, (height, width, 4), dtype=np.uint8)


def data_store(pixels, mips=True, **use):
    """A store whose slot 0 is the picture as data, not as colour."""
    material = Material("m", metallic_roughness_texture=TextureUse(0, **use))
    return build_store((Image("p", pixels),), (material,), mips)[0]


def scipy_bilinear(channel, u, v, mode):
    h, w = channel.shape
    return map_coordinates(channel.astype(float), [v * h - 0.5, u * w - 0.5], order=1, mode=MODES[mode])


@pytest.mark.parametrize("wrap", MODES)
def test_bilinear_look_ups_are_scipys(wrap):
    pixels = picture()
    store = data_store(pixels, wrap_u=wrap, wrap_v=wrap)
    u, v = np.random.default_rng(2).uniform(-0.9, 1.9, (2, 200))
    got = np.array([sample_plain(store, 0, np.array([a, b]), np.zeros(2), np.zeros(2), 0.0, 1)[0] for a, b in zip(u, v)])
    for c in range(4):
        assert got[:, c] == pytest.approx(scipy_bilinear(pixels[..., c], u, v, wrap) / 255, abs=1e-6)


@pytest.mark.parametrize("seed", range(3))
def test_the_kernel_samples_as_its_plain_twin(seed):
    rng = np.random.default_rng(seed)
    for wrap in MODES:
        for nearest in (False, True):
            store = data_store(picture(seed=seed), wrap_u=wrap, wrap_v=wrap, nearest=nearest)
            for _ in range(12):
                uv, dx, dy = rng.uniform(-1, 2, 2), rng.normal(0, 0.2, 2), rng.normal(0, 0.05, 2)
                for taps in (1, 8):
                    plain = sample_plain(store, 0, uv, dx, dy, 0.25, taps)[0]
                    kernel = sample(*uv, *dx, *dy, store.slots, 0, store.levels, store.tables, store.texels, 0.25, taps)
                    assert kernel == pytest.approx(plain, abs=1e-6)


def test_halfway_between_two_levels_is_half_of_each():
    # Trilinear filtering (OpenGL ES 3.0, 3.8.10.4; from memory): linear between the two nearest levels.
    store = data_store(picture(16, 16))
    uv = np.array([0.31, 0.62])
    at = [sample_plain(store, 0, uv, np.array([2**k / 16, 0]), np.array([0, 2**k / 16]), 0.0, 1)[0] for k in (0, 1)]
    between, level = sample_plain(store, 0, uv, np.array([2**0.5 / 16, 0]), np.array([0, 2**0.5 / 16]), 0.0, 1)
    assert level == pytest.approx(0.5)
    assert between == pytest.approx((at[0] + at[1]) / 2, abs=1e-9)


def test_more_taps_along_the_long_axis_read_a_finer_level():
    # EXT_texture_filter_anisotropic: a footprint of 8 x 1 texels reads level 3 with one tap and level 0 with eight.
    store = data_store(picture(16, 16))
    uv, dx, dy = np.array([0.4, 0.4]), np.array([8 / 16, 0]), np.array([0, 1 / 16])
    assert sample_plain(store, 0, uv, dx, dy, 0.0, 1)[1] == pytest.approx(3)
    value, level = sample_plain(store, 0, uv, dx, dy, 0.0, 8)
    assert level == pytest.approx(0)
    steps = ((np.arange(8) + 0.5) / 8 - 0.5) * 8 / 16
    mean = np.mean([sample_plain(store, 0, uv + np.array([s, 0]), np.zeros(2), np.zeros(2), 0.0, 1)[0] for s in steps], axis=0)
    assert value == pytest.approx(mean, abs=1e-9)


@pytest.mark.parametrize("wrap", [0, 1, 2])
def test_alpha_of_a_cutout_is_read_as_the_texture_is(wrap):
    alpha = picture()[..., 3]
    table = np.array([[0, 1, wrap, wrap, 0, 1]], np.int32)
    levels = np.array([[0, 16, 8]], np.int64)
    u, v = np.random.default_rng(3).uniform(-0.9, 1.9, (2, 100))
    got = [sample_alpha(a, b, 0.0, table, 0, levels, alpha.reshape(-1)) for a, b in zip(u, v)]
    assert got == pytest.approx(scipy_bilinear(alpha, u, v, list(MODES)[wrap]) / 255, abs=1e-6)


def map_store(values, wraps):
    chain = mip_levels(values)
    offsets = np.cumsum([0, *(c.shape[0] * c.shape[1] for c in chain)])
    return LightmapStore(
        np.concatenate([c.reshape(-1, 3) for c in chain]).astype(np.float32),
        np.array([[o, c.shape[1], c.shape[0]] for o, c in zip(offsets, chain)], np.int64),
        np.array([[0, len(chain), 1, int(wraps)]], np.int64),
        np.array([[0.0, 0.0, 1.0]]),
        np.zeros(1, np.int32),
    )


@pytest.mark.parametrize("wraps", [False, True])
def test_lightmaps_are_read_as_scipy_reads_a_grid(wraps):
    values = np.random.default_rng(4).uniform(0, 900, (16, 16, 3)).astype(np.float32)
    store = map_store(values, wraps)
    u, v = np.random.default_rng(5).uniform(-0.2, 1.2, (2, 150))
    for c in range(3):
        linear = [texel_at(store, 0, 0, a, b, False, c) for a, b in zip(u, v)]
        assert linear == pytest.approx(scipy_bilinear(values[..., c], u, v, "repeat" if wraps else "clamp"), rel=1e-6)
        nearest = [texel_at(store, 0, 0, a, b, True, c) for a, b in zip(u, v)]
        column, row = np.floor(u * 16).astype(int), np.floor(v * 16).astype(int)
        column, row = (column % 16, row % 16) if wraps else (column.clip(0, 15), row.clip(0, 15))
        assert nearest == pytest.approx(values[row, column, c])
    for a, b in zip(u[:20], v[:20]):
        for nearest in (False, True):
            kernel = [texel_at(store, 0, 0, a, b, nearest, c) for c in range(3)]
            assert kernel == pytest.approx(irradiance_plain(values, a, b, nearest, wraps), rel=1e-6)


def test_levels_of_a_lightmap_keep_its_mean():
    values = np.random.default_rng(6).uniform(0, 50, (32, 32, 3))
    for level in mip_levels(values):
        assert level.mean(axis=(0, 1)) == pytest.approx(values.mean(axis=(0, 1)), rel=1e-5)
    assert [level.shape[0] for level in mip_levels(values)] == [32, 16, 8, 4, 2, 1]


def test_alpha_tested_leaves_thin_out_with_distance():
    # Castano 2010, by the binomial law: 30 % of texels opaque at random; shares of a level's means at or above one half.
    from scipy.stats import binom

    from eddyfall.core.shade.textures import mip_chain

    pixels = np.zeros((1024, 1024, 4), np.uint8)
    pixels[..., 3] = np.where(np.random.default_rng(7).random((1024, 1024)) < 0.3, 255, 0)
    for level, mips in enumerate(mip_chain(pixels, False)[:4]):
        n = 4**level
        wanted = binom.sf(math.ceil(n / 2) - 1, n, 0.3)
        assert (mips[..., 3] >= 127).mean() == pytest.approx(wanted, abs=0.01)
        assert wanted == pytest.approx((0.3, 0.3483, 0.0743515500526, 0.000625483331362)[level], abs=1e-6)
