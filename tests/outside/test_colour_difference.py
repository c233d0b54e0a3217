"""The CIEDE2000 kernel against Sharma, Wu & Dalal 2005 and against scikit-image."""

import numpy as np
import pytest
from skimage.color import deltaE_ciede2000, rgb2lab

from eddyfall.core.compare.ciede2000 import TO_RELATIVE_XYZ, changed_share, ciede2000, delta_e_2000, lab_of
from eddyfall.core.shade.srgb import DECODE_TABLE


@pytest.mark.parametrize(
    ("first", "second", "wanted"),
    [  # Sharma, Wu & Dalal 2005, table 1: pairs 1, 17, 25, 34 (copy shipped inside colour-science's tests)
        ((50, 2.6772, -79.7751), (50, 0, -82.7485), 2.0425),
        ((50, 2.5, 0), (73, 25, -18), 27.1492),
        ((60.2574, -34.0099, 36.2677), (60.4626, -34.1751, 39.4387), 1.2644),
        ((2.0776, 0.0795, -1.135), (0.9033, -0.0636, -0.5514), 0.9082),
    ],
)
def test_published_pairs(first, second, wanted):
    assert ciede2000(*map(float, first), *map(float, second)) == pytest.approx(wanted, abs=1e-4)
    assert ciede2000(*map(float, second), *map(float, first)) == pytest.approx(wanted, abs=1e-4)


def test_pictures_agree_with_scikit_image():
    rng = np.random.default_rng(5)
    first = rng.integers(0, 256, (40, 50, 3)).astype(np.uint8)
    near = np.clip(first.astype(int) + rng.integers(-12, 13, first.shape), 0, 255).astype(np.uint8)
    for second in (near, rng.integers(0, 256, first.shape).astype(np.uint8)):
        theirs = deltaE_ciede2000(rgb2lab(first), rgb2lab(second))
        # scikit-image rounds the sRGB matrix and white point, which moves Lab by up to .02.
        assert np.abs(delta_e_2000(first, second) - theirs).max() < 0.05


def test_lightness_of_mid_grey():
    # CIE 15:2004 with IEC 61966-2-1: L* of code 128 is 53.585.
    assert lab_of(128, 128, 128, TO_RELATIVE_XYZ, DECODE_TABLE)[0] == pytest.approx(53.585, abs=1e-3)


def test_equal_pictures_do_not_differ():
    picture = np.random.default_rng(1).integers(0, 256, (9, 9, 3)).astype(np.uint8)
    assert changed_share(picture, picture) == 0.0
    with pytest.raises(ValueError, match="shape"):
        delta_e_2000(picture, picture[:4])
