"""sRGB, blending and fog against published values."""

import numpy as np
import pytest

from eddyfall.core.frame.render import render
from eddyfall.core.passes.display import encode_display
from eddyfall.core.shade.blend import KINDS, blend_channel, blend_plain
from eddyfall.core.shade.fog import fogged, transmittance
from eddyfall.core.shade.srgb import REC709_LUMA, decode, encode, to_bytes
from scenes import Thing, build_of, flat, wall


@pytest.mark.parametrize(
    ("function", "given", "wanted", "tolerance"),
    [  # IEC 61966-2-1:1999, section 5 (from memory; recomputed with colour-science and scikit-image)
        (decode, 0.5, 0.214041140482, 1e-9),
        (encode, 0.5, 0.735356983052, 1e-9),
        (decode, 128 / 255, 0.215860500114, 1e-9),
        (decode, 1 / 255, 0.000303526983549, 1e-12),
        (encode, 0.0031308, 0.040449936, 1e-9),
    ],
)
def test_srgb_curves(function, given, wanted, tolerance):
    assert float(function(given)) == pytest.approx(wanted, abs=tolerance)


def test_mean_of_black_and_white_in_linear_light_is_code_188():
    assert int(to_bytes(np.array(0.5))) == 188  # IEC 61966-2-1; a power of 2.2 would give 186


def test_display_encoding_is_within_a_code_of_the_standard():
    light = np.linspace(0, 1, 200_001)[:, None].repeat(3, 1)[None].astype(np.float32)
    exact = encode(light) * 255
    assert np.abs(encode_display(light).astype(float) - exact).max() <= 0.55


def test_luminance_weights():
    # Derived from the ITU-R BT.709-6 primaries and D65.
    assert list(REC709_LUMA) == pytest.approx([0.2126390059, 0.7151686788, 0.0721923154], abs=1e-9)


RED, GREEN, BLUE = np.eye(3)


def over(layers, backdrop):
    """Blend (kind, rgb, alpha) layers in draw order by the plain twin and lay them over a backdrop."""
    c, t = np.zeros(3), np.ones(3)
    for kind, rgb, alpha in layers:
        c, t = blend_plain(kind, c, t, np.asarray(rgb, float), alpha)
    return c + t * backdrop


@pytest.mark.parametrize(
    ("layers", "backdrop", "wanted"),
    [  # Porter & Duff 1984, table 1 (from memory; recomputed with Pillow)
        ([("blended", RED, 0.5)], BLUE, (0.5, 0, 0.5)),
        ([("blended", GREEN, 0.5), ("blended", RED, 0.5)], np.zeros(3), (0.5, 0.25, 0)),
        ([("blended", RED, 0.5), ("blended", GREEN, 0.5)], np.zeros(3), (0.25, 0.5, 0)),
        ([("blended", BLUE, 0.5), ("blended", GREEN, 0.5), ("blended", RED, 0.5)], np.zeros(3), (0.5, 0.25, 0.125)),
        ([("premultiplied", RED * 0.5, 0.5)], BLUE, (0.5, 0, 0.5)),
        ([("additive", np.full(3, 0.7), 1.0)], np.full(3, 0.6), (1.3, 1.3, 1.3)),
        ([("multiply", np.full(3, 0.5), 1.0)], np.full(3, 0.6), (0.3, 0.3, 0.3)),
    ],
)
def test_blend_equations(layers, backdrop, wanted):
    assert over(layers, backdrop) == pytest.approx(wanted, abs=1e-12)


def test_cut_behind_takes_from_the_layer_not_from_the_backdrop():
    # The worked case of blend kinds and cut-behind sorting: mist alpha .5 colour .8 over .2, cut .7 -> .29 (layer C .12, T .85).
    assert over([("blended", np.full(3, 0.8), 0.5), ("destination_out", np.zeros(3), 0.7)], 0.2) == pytest.approx([0.29] * 3)
    # Drawn first it has nothing to cut: .8 * .5 + .5 * .2.
    assert over([("destination_out", np.zeros(3), 0.7), ("blended", np.full(3, 0.8), 0.5)], 0.2) == pytest.approx([0.5] * 3)


def test_order_error_of_two_layers():
    # |A over B - B over A| = aA aB |cA - cB| (derived from Porter & Duff 1984).
    a, b = ("blended", RED, 0.6), ("blended", GREEN, 0.3)
    assert np.abs(over([a, b], 0) - over([b, a], 0)).max() == pytest.approx(0.6 * 0.3)


@pytest.mark.parametrize("kind", [k for k in KINDS if KINDS[k] >= 2])
def test_blend_kernel_equals_its_plain_twin(kind):
    rng = np.random.default_rng(3)
    for c, t, colour, alpha in rng.random((200, 4)):
        plain = blend_plain(kind, np.array([c]), np.array([t]), np.array([colour]), alpha)
        assert blend_channel(KINDS[kind], c, t, colour, alpha) == pytest.approx([plain[0][0], plain[1][0]], abs=1e-12)


def test_transmittance():
    # Beer-Lambert law: exp(-1) at sigma d = 1; 50, 10 and 1 % at tau = ln 2, ln 10, ln 100.
    assert float(transmittance(np.array(2.0), 0.5)) == pytest.approx(0.3678794412, abs=1e-9)
    tau = np.array([0.6931471806, 2.302585093, 4.605170186])
    assert transmittance(tau, 1.0) == pytest.approx([0.5, 0.1, 0.01], abs=1e-9)
    assert float(transmittance(np.array(np.inf), 0.0)) == 0.0


def test_fog_blend_follows_the_distance():
    assert fogged(np.array([0.3]), np.array(0.698), 0.66) == pytest.approx([0.698 * 0.3 + 0.302 * 0.66])


def test_fog_is_radial_not_planar():
    # Derived: at 45 degrees off axis, z = 50 m, sigma = .02: exp(-sigma z / cos 45) = .2431, not exp(-sigma z) = .3679.
    build = build_of(
        Thing("wall", wall(50.0), flat("black", 0.0)),
        setup={
            "fog": {"enabled": True, "fog_per_m": 0.02, "rgb": [1, 1, 1]},
            "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 90}},
        },
    )
    frame = render(build, "eye", size=(401, 401))
    assert 1 - frame.linear[200, 400, 0] == pytest.approx(0.2431167345, abs=2e-3)
    assert 1 - frame.linear[200, 200, 0] == pytest.approx(0.3678794412, abs=1e-5)


def test_mask_rule_at_the_threshold():
    # glTF 2.0, 3.9.4: alpha >= cutoff is opaque.
    for alpha, wanted in ((0.5, 1), (127 / 255, 0)):
        card = flat("card", 1.0, alpha=alpha, alpha_mode="MASK", alpha_cutoff=0.5)
        frame = render(build_of(Thing("card", wall(5.0), card)), "eye", size=(32, 18))
        assert (frame.drawable >= 0).mean() == wanted
