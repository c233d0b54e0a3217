"""What averages of straight and multiplied colours show along an edge, held against papers and other libraries.

Porter and Duff, "Compositing digital images", 1984; Blinn, "Compositing, part 1: theory", 1994; both from memory."""

import numpy as np
import pytest
from PIL import Image as PillowImage

from eddyfall.core.compare.ciede2000 import delta_e_of_light
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.shade.alpha_forms import Form, form_of, stored_as
from eddyfall.core.shade.srgb import decode
from eddyfall.core.shade.textures import build_store, mip_chain, sample, sample_plain
from edge_scenes import LEAF, WHITE, codes, one_card

RENDERER = Renderer()


def before(picture, bank=0.2, size=(9, 9), **material):
    """Nits in the middle of `one_card`."""
    frame = RENDERER.frame(one_card(picture, bank, **material), Request("eye", size), "linear")
    return frame.linear[size[1] // 2, size[0] // 2]


def test_midway_between_a_leaf_and_white_that_is_clear():
    # A leaf next to a clear white texel, looked up midway: alpha .5 and a colour between both, where half of the leaf alone is due.
    picture = [[codes(LEAF, 1), codes(WHITE, 0)]]
    straight = before(picture)
    assert straight == pytest.approx([0.375, 0.4125, 0.365], abs=2e-3)
    due = before(picture, filtered="premultiplied")
    assert due == pytest.approx([0.15, 0.225, 0.13], abs=2e-3)
    assert float(delta_e_of_light(*(v.reshape(1, 1, 3) for v in (straight, due)))[0, 0]) == pytest.approx(18.3, abs=0.15)


def test_red_beside_clear_green_over_white():
    # Porter and Duff 1984, Blinn 1994: straight averages let the green of nothing through.
    picture = [[[255, 0, 0, 255], [0, 255, 0, 0]]]
    assert before(picture, bank=1.0) == pytest.approx([0.75, 0.75, 0.5], abs=3e-3)
    assert before(picture, bank=1.0, filtered="premultiplied") == pytest.approx([1.0, 0.5, 0.5], abs=3e-3)


def test_pictures_read_as_what_they_are_not():
    # Derived: a multiplied picture blended as straight is multiplied twice, a dark rim; a straight one laid as multiplied adds all of it.
    a = 128 / 255
    multiplied = [[[188, 0, 0, 128]]]  # red .5 in light
    assert before(multiplied, bank=1.0)[0] == pytest.approx(float(decode(188 / 255)) * a + 1 - a, abs=2e-3)  # .75 for 1
    assert before(multiplied, bank=1.0, colours_hold="premultiplied")[0] == pytest.approx(1.0, abs=5e-3)
    laid_as = before([[[255, 0, 0, 128]]], bank=1.0, blend="premultiplied")
    assert laid_as == pytest.approx([1 + 1 - a, 1 - a, 1 - a], abs=3e-3)
    assert before([[[255, 0, 0, 128]]], bank=1.0, blend="premultiplied", colours_hold="straight") == pytest.approx(
        [1.0, 1 - a, 1 - a], abs=5e-3
    )


@pytest.mark.parametrize("blend, hold, due", [
    ("premultiplied", None, 0.316), ("premultiplied", "premultiplied_codes", 0.6), ("blended", "premultiplied_codes", 0.6),
])  # fmt: skip
def test_white_multiplied_as_codes(blend, hold, due):
    # Half white multiplied before decoding is 128, .216 in light: over .2 it makes .316 where .6 is due.
    material = {"blend": blend, "colours_hold": hold}
    assert before([[[128, 128, 128, 128]]], **material) == pytest.approx([due] * 3, abs=4e-3)


def test_mips_of_multiplied_colours_are_pillows():
    # Pillow multiplies a picture with alpha before it resizes it, by codes; data, not colour, is compared: no decoding in between.
    rng = np.random.default_rng(4)
    pixels = rng.integers(0, 256, (16, 16, 4), dtype=np.uint8)
    pixels[..., 3] = rng.choice([0, 64, 200, 255], (16, 16))
    multiplied = np.concatenate([np.rint(pixels[..., :3] * (pixels[..., 3:] / 255)), pixels[..., 3:]], axis=2).astype(np.uint8)
    ours = mip_chain(multiplied, False)[1].astype(float)
    theirs = np.asarray(PillowImage.fromarray(pixels).resize((8, 8), PillowImage.BOX)).astype(float)
    straight = ours[..., :3] / np.maximum(ours[..., 3:] / 255, 1e-9)
    there = ours[..., 3] > 40
    assert np.abs(straight - theirs[..., :3])[there].max() <= 255 * 1.5 / 40  # both round, ours before the division
    assert np.abs(ours[..., 3] - theirs[..., 3]).max() <= 1


@pytest.mark.parametrize("seed", range(4))
def test_divided_look_ups_of_the_kernel_and_its_twin(seed):
    rng = np.random.default_rng(seed)
    pixels = rng.integers(0, 256, (8, 16, 4), dtype=np.uint8)
    pixels[rng.random((8, 16)) < 0.4, 3] = 0
    material = Material("m", base_texture=TextureUse(0))
    store, _ = build_store((Image("p", freeze(pixels)),), (material,), True, (form_of("blended", None, "premultiplied"),))
    for _ in range(40):
        uv, dx, dy = rng.uniform(-1, 2, 2), rng.normal(0, 0.2, 2), rng.normal(0, 0.05, 2)
        plain = sample_plain(store, 0, uv, dx, dy, 0.0, 8)[0]
        kernel = sample(*uv, *dx, *dy, store.slots, 0, store.levels, store.tables, store.texels, 0.0, 8)
        assert kernel == pytest.approx(plain, abs=1e-6)
        assert min(kernel) >= 0 and max(kernel) <= 1.01


def test_what_is_converted_comes_back_but_for_rounding():
    rng = np.random.default_rng(9)
    pixels = rng.integers(0, 256, (32, 32, 4), dtype=np.uint8)
    pixels[..., 3] = rng.integers(128, 256, (32, 32))
    there = stored_as(pixels, Form("straight", "premultiplied", False))
    back = stored_as(there, Form("premultiplied", "straight", False))
    assert np.abs(back.astype(int) - pixels).max() <= 2
    assert stored_as(pixels, Form("straight", "straight", False)) is pixels
