"""Core sample: the strata of a pixel add up to the picture, on every viewpoint and pass state."""

import numpy as np
import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request, render
from eddyfall.core.scene.changes import apply_change, set_leaf
from scenes import Thing, build_of, flat, net_build, wall
from sizes import of_many

SIZE = (960, 540)


def assert_adds_up(sample, linear):
    wanted = linear[sample.y, sample.x]
    np.testing.assert_allclose(sample.sum, sample.linear, rtol=1e-9, atol=1e-12)
    np.testing.assert_allclose(sample.linear, wanted, rtol=1e-4, atol=1e-4 * max(float(wanted.max()), 1e-3))


@pytest.mark.parametrize("viewpoint", ["quay", "landing", "gallery", "far_pier", "reed_bed", "editing"])
def test_layers_add_up_on_random_pixels_of_the_demo(demo, renderer, viewpoint):
    if viewpoint not in demo.setup.viewpoints:
        viewpoint = next(v for v in demo.setup.viewpoints if demo.setup.viewpoints[v].role == "edit")
    linear = renderer.frame(demo, Request(viewpoint, SIZE), "linear").linear
    rng = np.random.default_rng(len(viewpoint))
    for _ in range(of_many(30, 8)):
        x, y = int(rng.integers(0, SIZE[0])), int(rng.integers(0, SIZE[1]))
        assert_adds_up(core_sample(renderer, demo, Request(viewpoint, SIZE), x, y), linear)


def test_layers_add_up_with_lamps_panes_cutouts_and_normal_maps(tiny):
    renderer = Renderer()
    for copy_from in ("none", "prepass", "opaque"):
        build = apply_change(tiny, set_leaf(tiny, ("depth", "copy_from"), copy_from, scope="project", title="t"))
        linear = renderer.frame(build, Request("front", (160, 90))).linear
        for y in range(3, 90, 7):
            for x in range(2, 160, 11):
                assert_adds_up(core_sample(renderer, build, Request("front", (160, 90)), x, y), linear)


@pytest.mark.parametrize("kind", ["blended", "premultiplied", "additive", "multiply", "destination_out"])
def test_layers_add_up_through_stacks_of_every_blend_kind(kind):
    panes = [Thing(f"pane{i}", wall(3 + i, half=1), flat(f"glass{i}", (0.2 + 0.2 * i, 0.5, 0.7 - 0.1 * i), alpha=0.4))
             for i in range(3)]  # fmt: skip
    build = build_of(
        *panes,
        Thing("wall", wall(9), flat("white", 0.8)),
        setup={
            "materials": {"glass0": {"blend": "blended"}, "glass1": {"blend": kind}, "glass2": {"blend": "blended"}},
            "fog": {"enabled": True, "fog_per_m": 0.05, "rgb": [0.3, 0.4, 0.5]},
        },
    )
    sample = core_sample(Renderer(), build, Request("eye", (64, 36)), 32, 18)
    assert_adds_up(sample, render(build, "eye", size=(64, 36)).linear)
    assert [v.drawable for v in sample.layers if v.pass_name == "blended"] == ["pane2", "pane1", "pane0"], "farthest first"


def test_a_net_without_prepass_depth_reads_the_depth_behind_it():
    # The worked case of netting that looks see-through: the fog reads the wall 0.6 m behind, the bank 73 m behind and no end of
    # sky behind the net at 12 m.
    build = net_build()
    for x, error in ((20, 0.6), (140, 73.0), (235, np.inf)):
        sample = core_sample(Renderer(), build, Request("eye", (320, 180)), x, 90)
        fog = next(v for v in sample.layers if v.pass_name == "fog")
        assert sample.drawable == "fender_net"
        read, own = fog.facts["copy_distance_m"], fog.facts["surface_distance_m"]
        assert own == pytest.approx(12, rel=2e-3)
        assert read - own == pytest.approx(error, rel=0.02) or (np.isinf(error) and np.isinf(read))


def test_each_light_says_whether_it_reaches_the_pixel(tiny):
    renderer = Renderer()
    frame = renderer.frame(tiny, Request("front", (160, 90)))
    sun = frame.buffers["sun_visibility"]
    for y, x in [tuple(p) for p in np.argwhere(frame.drawable >= 0)[::900]]:
        layer = next(v for v in core_sample(renderer, tiny, Request("front", (160, 90)), int(x), int(y)).layers if v.weight.any())
        seen = {light["light"]: light["visible"] for light in layer.facts["lights"]}
        assert set(seen) == {"sun", "lamp"}
        assert seen["sun"] == pytest.approx(float(sun[y, x]), abs=0.12)


def test_a_pixel_outside_the_frame_is_refused(tiny):
    with pytest.raises(RequestError, match="outside"):
        core_sample(Renderer(), tiny, Request("front", (160, 90)), 160, 0)
