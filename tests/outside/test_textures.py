"""Mip chains, level selection, addressing (OpenGL ES 3.0, 3.8.10; Williams 1983)."""

import math

import numpy as np
import pytest
from PIL import Image as Pillow

from eddyfall.core.raster.rasterise import neighbours, wrap
from eddyfall.core.shade.srgb import decode, encode
from eddyfall.core.shade.textures import mip_chain, mip_level

REPEAT, CLAMP, MIRROR = 0, 1, 2


@pytest.mark.parametrize(("width", "height", "levels", "size"), [(1024, 1024, 11, 5592404), (1000, 600, 10, 3199588)])
def test_levels_and_bytes_of_a_chain(width, height, levels, size):
    chain = mip_chain(np.zeros((height, width, 4), np.uint8), True)
    assert len(chain) == levels == math.floor(math.log2(max(width, height))) + 1
    assert sum(level.nbytes for level in chain) == size


def test_box_filter_halves_a_white_corner():
    # Williams 1983: 1, 1, 1, 0 -> .75.
    pixels = np.zeros((2, 2, 4), np.uint8)
    pixels[..., :3].reshape(-1, 3)[:3] = 255
    assert mip_chain(pixels, False)[1][0, 0, 0] == pytest.approx(0.75 * 255, abs=1)


def test_data_textures_average_as_pillow_boxes_them():
    pixels = np.random.default_rng(1).integers(0, 256, (64, 32, 4)).astype(np.uint8)
    theirs = np.asarray(Pillow.fromarray(pixels[..., 0]).resize((16, 32), Pillow.Resampling.BOX))
    assert np.abs(mip_chain(pixels, False)[1][..., 0].astype(int) - theirs).max() <= 1


def test_colours_average_in_linear_light():
    # Black and white average to code 188 (IEC 61966-2-1), not 128.
    pixels = np.zeros((1, 2, 4), np.uint8)
    pixels[0, 1] = 255
    assert mip_chain(pixels, True)[1][0, 0, 0] == 188
    rng = np.random.default_rng(4)
    pixels = rng.integers(0, 256, (16, 16, 4)).astype(np.uint8)
    linear = decode(pixels[..., :3] / 255.0)
    wanted = encode((linear[0::2, 0::2] + linear[1::2, 0::2] + linear[0::2, 1::2] + linear[1::2, 1::2]) / 4) * 255
    assert np.abs(mip_chain(pixels, True)[1][..., :3] - wanted).max() <= 1.01


@pytest.mark.parametrize(("footprint", "level"), [(8.0, 3.0), (1.5, 0.5849625007), (1.0, 0.0)])
def test_level_from_the_footprint(footprint, level):
    step = footprint / 2048
    assert mip_level(step, 0.0, 0.0, step, 2048, 2048, 0.0, 1)[0] == pytest.approx(level, abs=1e-9)


def test_grazing_ground_takes_the_long_axis_alone_and_the_short_one_with_taps():
    # Camera 1.7 m up, 60 degrees, 1080 rows, 512 texels a metre, 20 m away: 10.9482 and 128.802 texels; 7.009 and 3.424.
    across, along = 10.9482 / 4096, 128.802 / 4096
    assert mip_level(across, 0.0, 0.0, along, 4096, 4096, 0.0, 1)[0] == pytest.approx(7.009, abs=2e-3)
    level, taps, *_ = mip_level(across, 0.0, 0.0, along, 4096, 4096, 0.0, 16)
    assert taps == math.ceil(128.802 / 10.9482) and level == pytest.approx(math.log2(128.802 / taps), abs=1e-4)
    assert level == pytest.approx(3.424, abs=2e-3)


@pytest.mark.parametrize(
    ("i", "repeat", "clamp", "mirror"),
    [(0, 0, 0, 0), (3, 3, 3, 3), (4, 0, 3, 3), (5, 1, 3, 2), (-1, 3, 0, 0), (-2, 2, 0, 1), (8, 0, 3, 0)],
)
def test_wrap_modes(i, repeat, clamp, mirror):
    from eddyfall.core.shade.textures import WRAPS

    found = {name: wrap(i, 4, code) for name, code in WRAPS.items()}
    assert found == {"repeat": repeat, "clamp": clamp, "mirror": mirror}


def test_texel_centres():
    # The centre of texel 0 of 4 is u = .125: no blend there; halfway between two texels both count alike.
    from eddyfall.core.shade.textures import WRAPS

    first, _, share = neighbours(0.125, 4, WRAPS["clamp"])
    assert (first, share) == (0, pytest.approx(0))
    a, b, share = neighbours(0.5, 2, WRAPS["clamp"])
    assert (a, b) == (0, 1) and share == pytest.approx(0.5)
