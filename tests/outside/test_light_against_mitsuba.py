"""Direct light and shadow against mitsuba's scalar renderer: a box on a floor under a sun, and under a point light."""

import math

import mitsuba as mi
import numpy as np
import pytest
from scipy.ndimage import maximum_filter, minimum_filter

from eddyfall.core.frame.render import Frame, render
from eddyfall.core.scene.model import Light, Material
from eddyfall.core.shade.sky import SkyLight, around_plain
from eddyfall.core.shade.sky_maps import directions_of, make_sky_maps
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

mi.set_variant("scalar_rgb")
SIZE = (240, 135)
EYE, TARGET, FOV_Y = (1.5, 2.5, 3.5), (0.3, 0.3, 0.0), 45.0
FLOOR_RGB, BOX_RGB = (0.6, 0.5, 0.4), (0.3, 0.5, 0.7)
SUN, LUX = np.array([-0.7, 0.8, 0.3]), 3.0
LAMP, CANDELA = (-1.5, 2.2, 1.0), 20.0


def ours(point: bool) -> Frame:
    """The scene in Eddyfall: Lambert only (index of refraction 1 has no coat)."""
    lambert = {"metallic": 0.0, "ior": 1.0}
    return render(
        build_of(
            Thing("floor", Shape().quad((-20, 0, 20), (40, 0, 0), (0, 0, -40)), Material("floor", (*FLOOR_RGB, 1.0), **lambert)),
            Thing("box", Shape().box((-0.5, 0, -0.5), (0.5, 1.0, 0.5)), Material("box", (*BOX_RGB, 1.0), **lambert)),
            lamps=((Light("lamp", "point", intensity=CANDELA), LAMP),) if point else (),
            setup={
                "viewpoints": {"eye": {"eye": list(EYE), "target": list(TARGET), "fov_y_deg": FOV_Y}},
                "shadow": {"reach_m": 30, "resolution": 4096, "light_resolution": 2048, "filter_px": 1, "bias_texels": 1.0},
                "lights": {"lamp": {"casts": True}}
                if point
                else {"sun": {"kind": "sun", "illuminance_lux": LUX, "towards": SUN.tolist()}},
            },
        ),
        "eye",
        size=SIZE,
    )


def theirs(point: bool) -> np.ndarray:
    """The same scene in mitsuba, direct light only."""
    t = mi.ScalarTransform4f
    diffuse = lambda rgb: {"type": "diffuse", "reflectance": {"type": "rgb", "value": list(rgb)}}  # noqa: E731
    emitter = (
        {"type": "point", "position": list(LAMP), "intensity": {"type": "rgb", "value": [CANDELA] * 3}}
        if point
        else {"type": "directional", "direction": (-SUN).tolist(), "irradiance": {"type": "rgb", "value": [LUX] * 3}}
    )
    scene = mi.load_dict(
        {
            "type": "scene",
            "integrator": {"type": "direct"},
            "sensor": {
                "type": "perspective", "fov": FOV_Y, "fov_axis": "y",
                "to_world": t().look_at(origin=list(EYE), target=list(TARGET), up=[0, 1, 0]),
                "film": {"type": "hdrfilm", "width": SIZE[0], "height": SIZE[1], "rfilter": {"type": "box"}, "pixel_format": "rgb"},
                "sampler": {"type": "independent", "sample_count": 16},
            },
            "floor": {
                "type": "rectangle", "bsdf": diffuse(FLOOR_RGB),
                "to_world": t().rotate([1, 0, 0], -90).scale([20, 20, 1]),
            },
            "box": {"type": "cube", "bsdf": diffuse(BOX_RGB), "to_world": t().translate([0, 0.5, 0]).scale([0.5, 0.5, 0.5])},
            "emitter": emitter,
        }
    )  # fmt: skip
    return np.array(mi.render(scene))[..., :3]


@pytest.mark.parametrize("point", [False, True], ids=["sun", "point light"])
def test_direct_light_and_shadow_agree(point):
    frame, reference = ours(point), theirs(point)
    # Away from edges, where a pixel holds a mixture: its neighbours see the same drawable and are all lit or all dark there.
    dark = (reference.max(axis=2) < 1e-4).astype(np.uint8)
    code = frame.drawable * 2 + dark
    calm = maximum_filter(code, 7) == minimum_filter(code, 7)
    normal = frame.buffers["surface"][..., 7:10].round(2) @ np.array([1.0, 10.0, 100.0])
    calm &= maximum_filter(normal, 5) == minimum_filter(normal, 5)
    assert calm.mean() > 0.6
    assert (dark[calm & (frame.drawable == 0)]).sum() > 150, "the floor must hold a shadow for the test to mean anything"
    error = np.abs(frame.linear - reference)[calm]
    assert error.max() < 0.01 * reference.max()
    lit = calm & (dark == 0)
    assert frame.linear[lit].mean(axis=0) == pytest.approx(reference[lit].mean(axis=0), rel=2e-3)


def test_floor_under_the_sun_is_lambert():
    # L = albedo / pi * E cos: Lambert's law.
    frame = ours(False)
    cosine = SUN[1] / np.linalg.norm(SUN)
    assert frame.linear[130, 5] == pytest.approx(np.array(FLOOR_RGB) / math.pi * LUX * cosine, rel=1e-4)


def test_even_light_of_a_sky_picture_on_a_ball():
    """A matt ball under an uneven sky, without shadows: each of its faces gets the sum of the picture over its own half."""
    height = 64
    d = directions_of(height, 2 * height)
    sky = np.where(d[..., 1] > 0, 6.0 - 2.0 * d[..., 1] + 3.0 * d[..., 0] + 1.5 * d[..., 2], 1.2)[..., None] * [1.0, 0.8, 0.6]
    light = SkyLight(*np.zeros((3, 3)))._replace(**make_sky_maps(sky, 1.0, 0.0)._asdict())
    # There the picture's middle column looks along +Z: it is turned by half.
    scene = mi.load_dict(
        {
            "type": "scene",
            "integrator": {"type": "direct"},
            "sensor": {
                "type": "orthographic",
                "to_world": mi.ScalarTransform4f().look_at(origin=[0, 0, 4], target=[0, 0, 0], up=[0, 1, 0]),
                "film": {"type": "hdrfilm", "width": 16, "height": 16, "rfilter": {"type": "box"}, "pixel_format": "rgb"},
                "sampler": {"type": "independent", "sample_count": 1024},
            },
            "ball": {"type": "sphere", "bsdf": {"type": "diffuse", "reflectance": {"type": "rgb", "value": 0.5}}},
            "sky": {
                "type": "envmap",
                "bitmap": mi.Bitmap(sky.astype(np.float32)),
                "to_world": mi.ScalarTransform4f().rotate([0, 1, 0], 180),
            },
        }
    )
    drawn = np.array(mi.render(scene)) / 0.5
    ratios = []
    for j in range(16):
        for i in range(16):
            x, y = (i + 0.5) / 8 - 1, 1 - (j + 0.5) / 8
            if x * x + y * y > 0.7:
                continue
            normal = np.array([x, y, math.sqrt(1 - x * x - y * y)])
            ratios.append(around_plain(normal, light) / drawn[j, i])
    # Its 1024 paths leave 2 % of noise in a pixel.
    assert len(ratios) > 100 and np.mean(ratios) == pytest.approx(1.0, abs=0.004) and np.ptp(ratios) < 0.16
