"""What lets light through: k of panes and slabs by hand, how far it bends, what is in no copy, what the setup says of each."""

import json
import math

import numpy as np
import pytest

from eddyfall.core.errors import SceneError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.passes import refract
from eddyfall.core.passes.refract import panes_of
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.shade.glass import levels_of
from eddyfall.demo.shapes import Shape
from glass_scenes import behind_panes, clear, pane, slab_at_45, two_panes
from layer_scenes import card, unlit
from scenes import Thing, build_of, glb_bytes

SIZE = (240, 136)
MIDDLE = (68, 120)
EYE = Request("eye", SIZE)
F0 = 0.04  # ((1.5 - 1) / (1.5 + 1))^2


def seen(renderer, build, at=MIDDLE, bank=0.5, request=EYE):
    """Share of the bank's light at a pixel."""
    return renderer.frame(build, request, "linear").linear[at] / bank


def panes_in(frame):
    inputs = {name: frame.buffers[name] for name in refract.PASS.reads}
    return panes_of(inputs, refract.section(frame.stage))


def test_a_pane_keeps_what_two_faces_let_in(renderer):
    """F0 of an index of 1.5 is .04 (Fresnel; Born and Wolf 1.5); two faces keep (1 - F0)^2 = .9216, two panes that squared: .8493. One copy
    holds no other pane: there only the near one is drawn, too bright by 8.5 %."""
    one = two_panes()
    np.testing.assert_allclose(seen(renderer, one), (1 - F0) ** 2, rtol=1e-4)
    two = two_panes({"layers": 2})
    np.testing.assert_allclose(seen(renderer, two), (1 - F0) ** 4, rtol=1e-4)
    np.testing.assert_allclose(seen(renderer, one) / seen(renderer, two) - 1, 0.085, atol=5e-4)
    alone = seen(renderer, two, (68, 190))
    np.testing.assert_allclose(alone, (1 - F0) ** 2, atol=2e-3)


def test_an_inner_pane_laid_straight_is_in_the_copy(renderer):
    """One layer is enough if the far pane is laid before the copy is taken."""
    build = two_panes(materials={"far glass": {"inside": "blend"}})
    np.testing.assert_allclose(seen(renderer, build), (1 - F0) ** 4, rtol=1e-4)
    near = two_panes(
        materials={"near glass": {"inside": "blend"}}
    )  # seen through the far one, which of two clear panes makes no odds
    np.testing.assert_allclose(seen(renderer, near), (1 - F0) ** 4, rtol=1e-4)


def test_a_body_takes_its_share_by_the_way_through_it(renderer):
    """Beer and Lambert as KHR_materials_volume has it: (.6, .85, .8) are left after 100 mm, to the power .3 after 30 mm."""
    rgb = (0.6, 0.85, 0.8)
    glass = clear(thickness_m=0.03, attenuation_m=0.1, attenuation_rgb=rgb)
    got = seen(renderer, behind_panes(pane("slab", -2.0, glass)))
    np.testing.assert_allclose(got, np.array(rgb) ** 0.3 * (1 - F0) ** 2, rtol=1e-3)
    half = Image("half", freeze(np.full((4, 4, 4), (0, 128, 0, 255), np.uint8)))
    use = {"thickness_texture": TextureUse(0), "transmission_texture": None}
    mapped = behind_panes(
        pane("slab", -2.0, clear(thickness_m=0.03, attenuation_m=0.1, attenuation_rgb=rgb, **use)), images=(half,)
    )
    np.testing.assert_allclose(seen(renderer, mapped), np.array(rgb) ** (0.3 * 128 / 255) * (1 - F0) ** 2, rtol=1e-3)


def test_the_way_through_a_box_is_told_by_its_back_faces(renderer):
    """A box 30 mm deep, one-sided, whose file says 500 mm: by its back faces it is 30 mm."""
    rgb, box = (0.6, 0.85, 0.8), Shape().box((-1, 0.6, -2.03), (1, 2.6, -2.0))
    glass = clear("box glass", thickness_m=0.5, attenuation_m=0.1, attenuation_rgb=rgb, double_sided=False)
    by_value = behind_panes(Thing("box", box, glass))
    by_faces = behind_panes(Thing("box", box, glass), materials={"box glass": {"thickness": "back_faces"}})
    np.testing.assert_allclose(seen(renderer, by_value), np.array(rgb) ** 5 * (1 - F0) ** 2, rtol=1e-2)
    np.testing.assert_allclose(seen(renderer, by_faces), np.array(rgb) ** 0.3 * (1 - F0) ** 2, rtol=2e-3)
    missing = behind_panes(Thing("box", box, glass), materials={"box glass": {"thickness": "missing"}})
    assert seen(renderer, missing).max() == 0  # what is not wired reads as far: nothing comes through


def test_a_slab_bends_as_one_at_its_own_distance(renderer):
    """A slab of 10 mm at 45 degrees shifts the ray by 3.2914 mm (Hecht, Optics 4; t sin (1 - cos / sqrt(n^2 - sin^2))). Read where the ray
    leaves it, 2 m off, that is 1.53 px of 1080 rows over 60 degrees; at the bank, 12 m off, it would be .257 px."""
    frame = renderer.frame(slab_at_45(), Request("eye", (1920, 1080)), "linear")
    panes = panes_in(frame)
    n = int(np.flatnonzero(panes.pixel == 540 * 1920 + 960)[0])
    f_px = 540 / math.tan(math.radians(30))
    shift_m = 0.01 * math.sin(math.pi / 4) * (1 - math.cos(math.pi / 4) / math.sqrt(1.5**2 - 0.5))
    assert shift_m * 1000 == pytest.approx(3.291423, abs=1e-6)
    assert panes.at[n, 0] - 960.5 == pytest.approx(1.531, abs=0.002)
    assert shift_m / 12 * f_px == pytest.approx(0.257, abs=1e-3)
    assert panes.at[n, 2] == 0


def test_what_the_copy_does_not_hold_is_not_seen(renderer):
    """Without a copy what is behind reads black; a card of mist behind the pane is blended later, and hidden by the pane's depth; if the
    pane hides nothing, the mist lies over it as if it were before it."""
    mist = card("mist", (-1, 1), (0.6, 2.6), -4.0, unlit("mist", 0.9, 0.5))
    assert seen(renderer, two_panes({"copy_from": "none"})).max() == 0
    hidden = behind_panes(pane("pane", -2.0, clear()), mist)
    np.testing.assert_allclose(seen(renderer, hidden), (1 - F0) ** 2, rtol=1e-4)
    over = behind_panes(pane("pane", -2.0, clear()), mist, materials={"clear": {"hides": False}})
    np.testing.assert_allclose(seen(renderer, over) * 0.5, 0.5 * 0.9 + 0.5 * 0.5 * (1 - F0) ** 2, rtol=1e-4)


@pytest.mark.parametrize(
    "says",
    [
        {"refract": {"enabled": False}},
        {"refract": {"enabled": True, "roughest": 0.2}},
        {"materials": {"clear": {"transmits": "none"}}},
        {"materials": {"clear": {"transmission": 0.0}}},
        {"shaders": {"stock_opaque": {"passes": {"refract": False}}}},
    ],
)
def test_each_switch_leaves_it_opaque(renderer, says):
    """Rough glass with one of its switches off: nothing of the bank is seen."""
    build = behind_panes(pane("pane", -2.0, clear(roughness=0.3)), **says)
    assert seen(renderer, build).max() == 0
    on = behind_panes(pane("pane", -2.0, clear(roughness=0.3)))
    np.testing.assert_allclose(seen(renderer, on), (1 - F0) ** 2, rtol=1e-3)


def test_rough_glass_spreads_and_keeps_the_mean(renderer):
    """Levels of the copy keep its mean, so that rough glass blurs an edge and loses no light."""
    left = card("left", (-30, 0), (-20, 22), -11.9, unlit("left", 0.1))
    for rough, spread in ((0.0, 2), (0.5, 12)):
        build = behind_panes(pane("pane", -2.0, clear(roughness=rough)), left)
        row = renderer.frame(build, EYE, "linear").linear[68, 80:160, 0] / (1 - F0) ** 2
        assert ((row > 0.12) & (row < 0.48)).sum() >= spread - 2 and np.all(np.diff(row) >= -1e-3)
        assert row.mean() == pytest.approx(0.3, abs=0.02)
    picture = np.random.default_rng(4).random((37, 50, 3))
    texels, levels = levels_of(np.pad(picture, ((0, 27), (0, 14), (0, 0)), mode="wrap"))
    assert texels[-1] == pytest.approx(np.pad(picture, ((0, 27), (0, 14), (0, 0)), mode="wrap").mean(axis=(0, 1)), rel=1e-5)
    assert len(levels) == 7 and tuple(levels[-1][1:]) == (1, 1)


def lit_hall(layers=2):
    """A lit room of textured panes and slabs, one behind the other, with mist."""
    rng = np.random.default_rng(11)
    pictures = tuple(Image(f"p{k}", freeze(rng.integers(0, 256, (8, 8, 4), np.uint8))) for k in range(2))
    maps = {"transmission_texture": TextureUse(0), "thickness_texture": TextureUse(1), "base_texture": TextureUse(1)}
    things = [
        card("wall", (-6, 6), (-2, 6), -8.0, Material("wall", (0.6, 0.5, 0.4, 1), metallic=0.0, base_texture=TextureUse(0))),
        pane("one", -2.0, clear("a", (0.9, 0.8, 0.7), roughness=0.2, **maps)),
        pane(
            "two", -2.6, clear("b", roughness=0.0, thickness_m=0.05, attenuation_m=0.1, attenuation_rgb=(0.4, 0.6, 0.9), **maps)
        ),
        Thing(
            "box",
            Shape().box((-0.6, 1.0, -3.6), (0.9, 2.2, -3.1)),
            clear("c", transmission=0.8, thickness_m=0.1, double_sided=False),
        ),
        pane("laid", -4.0, clear("d", transmission=0.6)),
        card("mist", (-2, 2), (0, 3), -1.7, unlit("mist", 0.3, 0.25)),
    ]
    return build_of(
        *things,
        images=pictures,
        setup={
            "viewpoints": {"eye": {"eye": [0.2, 1.5, 0], "target": [0, 1.6, -4], "fov_y_deg": 55}},
            "refract": {"enabled": True, "layers": layers},
            "materials": {"c": {"thickness": "back_faces"}, "d": {"inside": "blend"}},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [0.3, 0.8, 0.6]}},
            "sky": {"ambient": True},
            "fog": {"enabled": True, "fog_per_m": 0.05},
        },
    )  # fmt: skip


@pytest.mark.parametrize("layers", [1, 3])
def test_its_plain_twin_adds_up(renderer, layers):
    build = lit_hall(layers)
    linear, rng = renderer.frame(build, EYE, "linear").linear, np.random.default_rng(layers)
    states = set()
    for _ in range(40):
        x, y = int(rng.integers(20, 220)), int(rng.integers(10, 126))
        sample = core_sample(renderer, build, EYE, x, y)
        np.testing.assert_allclose(sample.sum, linear[y, x], rtol=1e-4, atol=1e-5)
        states |= {layer.state.split(" ")[0] for layer in sample.layers if layer.pass_name == "refract"}
    assert {"reads", "laid"} <= states and ("lost:" in states) == (layers == 1)


def test_a_crop_is_the_same_slice(renderer):
    build = lit_hall()
    whole = renderer.frame(build, EYE, "linear").linear
    part = renderer.frame(build, Request("eye", SIZE, (90, 40, 150, 100)), "linear").linear
    np.testing.assert_allclose(part, whole[40:100, 90:150], atol=1e-6)


def test_glass_is_read_and_written_back(tmp_path):
    build = lit_hall()
    path = tmp_path / "hall.glb"
    path.write_bytes(write_glb(build.scene))
    again = {m.name: m for m in read_scene(path).materials}
    for m in build.scene.materials:
        for field in (
            "transmission",
            "transmission_texture",
            "thickness_m",
            "thickness_texture",
            "attenuation_m",
            "attenuation_rgb",
        ):
            if m.thickness_m or not field.startswith(("attenuation", "thickness")):
                assert getattr(again[m.name], field) == getattr(m, field), (m.name, field)


@pytest.mark.parametrize(
    "extension, says",
    [
        ({"KHR_materials_transmission": {"transmissionFactor": 1.5}}, "transmissionFactor must be a number from 0 to 1"),
        ({"KHR_materials_transmission": {"transmissionTexture": {"index": 7}}}, "7"),
        ({"KHR_materials_volume": {"attenuationDistance": 0}}, "attenuationDistance must be more than 0"),
        ({"KHR_materials_volume": {"attenuationColor": [1, 2, 0]}}, "attenuationColor must be 3 numbers from 0 to 1"),
        ({"KHR_materials_volume": {"thicknessFactor": "thick"}}, "thicknessFactor"),
        ({"KHR_materials_volume": {"thicknessTexture": {"index": -1}}}, "texture -1"),
    ],
)
def test_hostile_glass_is_one_line(tmp_path, extension, says):
    path = tmp_path / "g.glb"
    document = {"asset": {"version": "2.0"}, "materials": [{"name": "g", "extensions": extension}]}
    path.write_bytes(glb_bytes(json.loads(json.dumps(document))))
    with pytest.raises(SceneError) as told:
        read_scene(path)
    assert says in str(told.value) and "\n" not in str(told.value) and "material 0" in str(told.value)


def test_a_jittered_frame_is_as_sharp_through_a_pane(renderer):
    """A texel of the copy is where its own pixel was drawn: through a clear pane every pixel keeps .9216 of what it was, an edge too."""
    left = card("left", (-30, 0.013), (-20, 22), -11.9, unlit("left", 0.1))
    jittered = Request("eye", SIZE, jitter=(0.31, -0.27))
    bare, through = (
        renderer.frame(b, jittered, "linear").linear
        for b in (behind_panes(left), behind_panes(left, pane("pane", -2.0, clear(), (-9, 9), (-9, 9))))
    )
    np.testing.assert_allclose(through[60:76, 112:128], bare[60:76, 112:128] * (1 - F0) ** 2, rtol=1e-4)


def test_without_glass_the_pass_hands_on_what_it_was_given(tiny):
    renderer = Renderer()
    frame = renderer.frame(tiny, Request("front", (160, 90)), "linear")
    before = renderer.frame(tiny, Request("front", (160, 90)), "with_sky", before="refract")
    assert np.array_equal(before.buffers["with_sky"], frame.buffers["with_sky"])
    assert np.array_equal(frame.buffers["over_depth"], frame.buffers["depth"]) and frame.pane.max() == -1
