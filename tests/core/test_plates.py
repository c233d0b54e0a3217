"""Two plates behind things: k and b against hand and against the layers' own account; what kind they act as."""

import numpy as np
import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.layers.capture import captured
from eddyfall.core.layers.kernels import fold, ordered
from eddyfall.core.layers.plates import plates
from eddyfall.core.scene.model import Image, Material, TextureUse
from glass_scenes import behind_panes, clear, pane, two_panes
from layer_scenes import card, mist_and_cutter, unlit

SIZE = (240, 136)


def named(renderer, build, *names):
    return [i for i, d in enumerate(renderer.geometry(build).drawables) if d.name in names]


def test_the_mist_and_what_cuts_it(renderer):
    """Smith and Blinn 1996: two plates give what lies over them. Mist of .8 and .5 with 70 % cut out of it: b .12, k .85, so .12 and .97;
    the other way round the cut has nothing to cut: .40 and .50, so .40 and .90."""
    for at, b, k in ((-1.0, 0.40, 0.50), (1.0, 0.12, 0.85)):
        build = mist_and_cutter(at)
        two = plates(renderer, build, Request("eye", (960, 540)), named(renderer, build, "mist", "cutter"))
        found = np.unique(np.round(np.stack([two.b[..., 0], two.k[..., 0]], axis=-1)[two.covered], 5), axis=0)
        assert any(np.allclose(v, (b, k), atol=1e-5) for v in found), found


def test_they_agree_with_the_layers_own_account(renderer):
    """Folding all layers of a pixel over 0 and over 1 gives the same, where nothing is hidden."""
    build = mist_and_cutter(1.0, more=(card("glow", (-1, 1), (1, 2), -3.0, unlit("glow", 0.4, 0.3)),))
    things = named(renderer, build, "mist", "cutter", "glow")
    two = plates(renderer, build, Request("eye", SIZE), things)
    s = captured(renderer, build, Request("eye", SIZE)).shown
    over = []
    for f in (0.0, 1.0):
        out = np.empty((SIZE[0] * SIZE[1], 3))
        fold(s.starts, ordered(s.starts, len(s.far)), s.k, s.p, s.q, np.full_like(out, f), out)
        over.append(out.reshape(SIZE[1], SIZE[0], 3))
    np.testing.assert_allclose(two.b, over[0], atol=1e-6)
    np.testing.assert_allclose(two.k, over[1] - over[0], atol=1e-6)


def test_glass_before_plates_and_what_a_lost_pane_would_keep(renderer):
    request = Request("eye", SIZE)
    for layers, k in ((1, 0.9216), (2, 0.8493)):
        build = two_panes({"layers": layers}, fog={"enabled": True, "fog_per_m": 0.3})
        two = plates(renderer, build, request, named(renderer, build, "near_pane", "far_pane"))
        np.testing.assert_allclose(two.k[68, 120], k, atol=1e-4)  # fog is not in it
        assert np.abs(two.b[68, 120]).max() < 1e-6


def made(kind, rgb=(0.6, 0.5, 0.4), alpha=0.5, picture=None):
    use = None if picture is None else TextureUse(0)
    material = Material("made", (*rgb, alpha), unlit=True, alpha_mode="BLEND", double_sided=True, base_texture=use)
    images = (Image("made", freeze(picture)),) if picture is not None else ()
    return behind_panes(card("made", (-1, 1), (0.6, 2.6), -2.0, material), images=images, materials={"made": {"blend": kind}})


def spots():
    """Solid discs on nothing: what a cutout is for."""
    y, x = np.mgrid[:64, :64]
    alpha = np.where((x % 32 - 16) ** 2 + (y % 32 - 16) ** 2 < 100, 255, 0)
    return np.dstack([np.full((64, 64, 3), 180), alpha]).astype(np.uint8)


def glow_and_smoke():
    """Left half only adds light, right half only covers."""
    picture = np.zeros((64, 64, 4), np.uint8)
    picture[:, :32, :3], picture[:, 32:, 3] = 120, 160
    return picture


@pytest.mark.parametrize(
    "kind, alpha, picture, acts",
    [
        ("blended", 0.5, None, "blended"),
        ("blended", 0.99, None, "opaque"),
        ("opaque", 1.0, None, "opaque"),
        ("additive", 0.5, None, "additive"),
        ("multiply", 1.0, None, "multiply"),
        ("blended", 1.0, "spots", "cutout"),
        ("cutout", 1.0, "spots", "cutout"),
        ("premultiplied", 1.0, "both", "premultiplied"),
        ("destination_out", 0.5, None, "nothing"),
    ],
)
def test_a_thing_is_named_by_what_it_does(renderer, kind, alpha, picture, acts):
    """Common practice: what only adds light is additive, what only darkens multiply, hard edges a cutout. A card that cuts what lies behind
    does nothing to what is opaque."""
    build = made(kind, alpha=alpha, picture={"spots": spots(), "both": glow_and_smoke()}.get(picture))
    assert plates(renderer, build, Request("eye", SIZE), named(renderer, build, "made")).acts_as == acts


def test_a_crop_is_the_same_slice_and_nothing_is_refused():
    renderer = Renderer()
    build = behind_panes(pane("pane", -2.0, clear(roughness=0.4, thickness_m=0.05)))
    whole = plates(renderer, build, Request("eye", SIZE), [1])
    part = plates(renderer, build, Request("eye", SIZE, (60, 30, 180, 110)), [1])
    np.testing.assert_allclose(part.k, whole.k[30:110, 60:180], atol=1e-6)
    assert np.array_equal(part.covered, whole.covered[30:110, 60:180])
    near = behind_panes(pane("pane", -2.0, clear()), depth={"near_m": 0.1, "far_m": 2.2})
    np.testing.assert_allclose(plates(renderer, near, Request("eye", SIZE), [1]).k[68, 120], 0.9216, atol=1e-4)
    with pytest.raises(RequestError, match="say what"):
        plates(renderer, build, Request("eye", SIZE), [])
    away = behind_panes(pane("pane", 9.0, clear()))
    with pytest.raises(RequestError, match="pane is in view"):
        plates(renderer, away, Request("eye", SIZE), [1])
