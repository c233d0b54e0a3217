"""Panes and slabs against another renderer (Mitsuba 3) and Fresnel's equations as it has them."""

import mitsuba as mi
import numpy as np
import pytest

from eddyfall.core.frame.render import Request
from eddyfall.core.layers.chain import chain_at
from eddyfall.core.layers.plates import plates
from eddyfall.core.shade.optics import fresnel, slab, stacked
from glass_scenes import behind_panes, clear, pane, two_panes

mi.set_variant("scalar_rgb")
SIZE = (240, 136)
EYE = Request("eye", SIZE)
RGB = (0.6, 0.85, 0.8)


def seen_through(*things, samples=16384):
    """(3,) share of a bank's light that comes through things, straight on."""
    T = mi.ScalarTransform4f
    scene = {
        "type": "scene",
        "integrator": {"type": "volpath", "max_depth": 64, "rr_depth": 1000},
        "sensor": {
            "type": "perspective", "fov": 1, "to_world": T().look_at([0, 1.6, 0], [0, 1.6, -1], [0, 1, 0]),
            "film": {"type": "hdrfilm", "width": 2, "height": 2, "rfilter": {"type": "box"}, "pixel_format": "rgb"},
            "sampler": {"type": "independent", "sample_count": samples},
        },
        "bank": {
            "type": "rectangle", "to_world": T().translate([0, 1.6, -12]).scale(40),
            "bsdf": {"type": "diffuse", "reflectance": {"type": "rgb", "value": 0.0}},
            "emitter": {"type": "area", "radiance": {"type": "rgb", "value": 1.0}},
        },
        **{f"thing{k}": thing for k, thing in enumerate(things)},
    }  # fmt: skip
    return np.asarray(mi.render(mi.load_dict(scene), seed=3)).mean(axis=(0, 1))


def thin(z):
    T = mi.ScalarTransform4f
    return {
        "type": "rectangle", "to_world": T().translate([0, 1.6, z]).scale(2),
        "bsdf": {"type": "thindielectric", "int_ior": 1.5, "ext_ior": 1.0},
    }  # fmt: skip


def body(z, thickness):
    """A slab with a body that only absorbs: Beer and Lambert's law in a medium without scattering."""
    T = mi.ScalarTransform4f
    sigma = [-float(np.log(c)) for c in RGB]  # per 100 mm
    return {
        "type": "cube", "to_world": T().translate([0, 1.6, z - thickness / 2]).scale([2, 2, thickness / 2]),
        "bsdf": {"type": "dielectric", "int_ior": 1.5, "ext_ior": 1.0},
        "interior": {
            "type": "homogeneous", "albedo": {"type": "rgb", "value": 0.0}, "sigma_t": {"type": "rgb", "value": sigma}, "scale": 10.0,
        },
    }  # fmt: skip


@pytest.mark.parametrize("panes", [1, 2])
def test_panes_keep_what_mitsuba_lets_through(renderer, panes):
    """The stand-in's (1 - r)^2 a pane lies within 1 % of all reflections inside and between; the account of a real one within noise."""
    theirs = seen_through(*[thin(-2.0 - k) for k in range(panes)])
    build = two_panes({"layers": 2}) if panes == 2 else behind_panes(pane("near_pane", -2.0, clear("near glass")))
    ours = plates(renderer, build, EYE, [1, 2][:panes]).k[68, 120]
    np.testing.assert_allclose(ours, theirs, rtol=0.01)
    np.testing.assert_allclose(stacked([slab(fresnel(1.0, 1.5))] * panes), theirs, atol=4e-3)


def test_a_tinted_slab_keeps_what_mitsuba_lets_through(renderer):
    """30 mm of a body of which (.6, .85, .8) are left after 100 mm: (.792, .879, .863)."""
    theirs = seen_through(body(-2.0, 0.03))
    glass = clear(thickness_m=0.03, attenuation_m=0.1, attenuation_rgb=RGB)
    told = chain_at(renderer, behind_panes(pane("slab", -2.0, glass)), EYE, 120, 68)
    np.testing.assert_allclose(told.due, (0.792, 0.879, 0.863), atol=6e-4)
    np.testing.assert_allclose(told.due, theirs, atol=6e-3)
    np.testing.assert_allclose(told.keeps, theirs, rtol=0.01)


@pytest.mark.parametrize(
    ("angle", "value"), [(0, 0.04), (30, 0.0415226), (45, 0.0502399), (60, 0.0891867), (75, 0.2530606), (85, 0.6127996)]
)
def test_faces_mirror_by_fresnels_equations(angle, value):
    """Born and Wolf 1.5; Mitsuba's own."""
    cosine = float(np.cos(np.radians(angle)))
    assert fresnel(cosine, 1.5) == pytest.approx(value, abs=2e-6)
    assert fresnel(cosine, 1.5) == pytest.approx(mi.fresnel(cosine, 1.5)[0], abs=1e-6)
    if angle > 41.9:
        assert (
            fresnel(cosine, 1 / 1.5) == 1.0 == mi.fresnel(-cosine, 1.5)[0]
        )  # from inside, beyond the critical angle of 41.81 degrees
