"""What is worth a lightmap: area times contrast of light, for each triangle and texel it costs; and a forecast of noise that comes true."""

import numpy as np
import pytest

from bake_scenes import UNIT_PAGE, baked_setup, closed_box, matt, panel
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.bake.questions.shortlist import noise_forecast, shortlist, unwrap_rate
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Light
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

SUN = {"lights": {"sun": {"kind": "sun", "towards": [0, 1, 0], "illuminance_lux": 100.0}}}


def level(name, x, size, y=0.0, page=UNIT_PAGE):
    return panel(name, (x, y, size / 2), (size, 0, 0), (0, 0, -size), matt(name, 0.5), page)


def judged(*things, lamps=(), rate=1000.0, **setup):
    build = build_of(*things, lamps=lamps, setup=setup or {"bake": {"resolution": 32, "samples": 16, "bounces": 0}})
    found = shortlist(build, pack(build.scene, build.setup), triangles_per_s=rate)
    return found, {c.node: c for c in found.candidates}


def lamp(x, y=1.0, candela=50.0):
    return (Light("lamp", "point", intensity=candela), (x, y, 0.0))


def test_even_light_needs_no_map():
    # Nothing but a sun straight above: every point of the floor has the same light.
    found, by = judged(level("floor", 0, 4), **{**baked_setup([level("floor", 0, 4)], resolution=32, bounces=0), **SUN})
    assert by["floor"].contrast == pytest.approx(0, abs=1e-3)
    assert by["floor"].why == "its light is even: one value would do" and found.chosen == []


def test_contrast_is_the_spread_of_the_light_over_its_mean():
    # A lamp 1 m over a floor of 4 m: E = I h / (h^2 + r^2)^1.5. Spread and mean by quadrature over the square.
    _, by = judged(level("floor", -2, 4), lamps=(lamp(0.0),))
    x, z = np.meshgrid(*[(np.arange(200) + 0.5) / 50 - 2] * 2)
    light = (1 + x**2 + z**2) ** -1.5
    assert by["floor"].contrast == pytest.approx(light.std() / light.mean(), rel=0.15)
    assert by["floor"].area_m2 == pytest.approx(16)


def test_the_larger_of_two_alike_comes_first_by_its_area():
    # Both are lit alike at their own scale (lamp as high as half the side); light differs, contrast does not.
    things = level("small", -1, 2), level("large", 48, 4)
    lamps = (lamp(0.0, 1.0), (Light("far", "point", intensity=50.0), (50.0, 2.0, 0.0)))
    found, by = judged(*things, lamps=lamps)
    assert [c.node for c in found.candidates] == ["large", "small"]
    assert by["large"].contrast == pytest.approx(by["small"].contrast, rel=0.1)
    assert by["large"].value == 1 and by["small"].value == pytest.approx(4 / 16, rel=0.15)


def test_triangles_cost_as_texels_do():
    # The same floor cut into 2 x 24 x 24 triangles: cost 1152 * 100 + 32^2 against 2 * 100 + 32^2 (100 texels a triangle, common practice).
    fine = Shape()
    for i in range(24):
        for k in range(24):
            fine.quad((48 + i / 6, 0, 2 - k / 6), (1 / 6, 0, 0), (0, 0, -1 / 6))
    things = level("plain", -2, 4), Thing("fine", fine, matt("fine", 0.5))
    lamps = (lamp(0.0), (Light("far", "point", intensity=50.0), (50.0, 1.0, 0.0)))
    _, by = judged(*things, lamps=lamps)
    assert by["fine"].triangles == 1152 and by["plain"].triangles == 2
    assert by["fine"].value == pytest.approx((200 + 1024) / (115_200 + 1024), rel=0.15)
    assert by["fine"].why.startswith("too little for its cost") and "1152 triangles" in by["fine"].why


def test_unwrapping_takes_triangles_over_the_rate_and_maps_their_bytes():
    build = build_of(level("floor", -2, 4), lamps=(lamp(0.0),), setup={
        "bake": {"resolution": 64, "samples": 16, "bounces": 0, "encoding": "srgb8"}, "nodes": {"floor": {"lightmap_size": 128}},
        "targets": {"slate": {"set": {"bake": {"encoding": "half"}}}}})  # fmt: skip
    found = shortlist(build, pack(build.scene, build.setup), triangles_per_s=500.0)
    one = found.candidates[0]
    assert one.unwrap_s == pytest.approx(2 / 500) and found.triangles_per_s == 500
    assert one.resolution == 128 and one.bytes == 128 * 128 * 4
    assert one.bake_s == pytest.approx(128 * 128 / found.texels_per_s)
    assert found.bytes_on(build, None) == 128 * 128 * 4 and found.bytes_on(build, "slate") == 128 * 128 * 8


def test_what_is_mapped_already_says_so():
    with_map, without = level("with", -2, 4), level("without", 48, 4, page=None)
    _, by = judged(with_map, without, **baked_setup([with_map], resolution=16, bounces=0))
    assert by["with"].mapped and not by["without"].mapped


def test_the_rate_of_unwrapping_is_measured():
    assert unwrap_rate(600) > 100


@pytest.mark.parametrize("samples", [16, 64, 256])
def test_the_forecast_of_noise_comes_true(samples):
    # Error of a mean of N: 1 / sqrt(N) (any text on Monte Carlo); measured as the spread of texels about a converged bake.
    made = lambda n: closed_box(0.0, {"ceiling": 1.0}, resolution=16, samples=n, bounces=0)  # noqa: E731
    build = made(64)
    said = noise_forecast(build, pack(build.scene, build.setup), "floor", None, [16, 64, 256])
    assert said[16] / said[64] == pytest.approx(2) and said[64] / said[256] == pytest.approx(2)
    maps = [bake(made(n), ["floor"]).raws["floor", None].mean[..., 0] for n in (samples, 4096)]
    error = float(np.sqrt(((maps[0] - maps[1]) ** 2).mean()) / maps[1].mean())
    # Samples are spread evenly over each texel and hemisphere, so the error stays under that of free ones.
    assert 0.3 * said[samples] < error < 1.25 * said[samples]
