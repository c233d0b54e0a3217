"""Light from all around: a furnace gives what the BRDF's own integral gives, for dielectrics, metals, lightmaps and bakes."""

from dataclasses import replace

import numpy as np
import pytest

from bake_scenes import UNIT_PAGE, baked_setup, box_inside, panel
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.shade.brdf import reflected
from eddyfall.core.shade.coat import AVERAGE, SIZE, diffuse_edge, specular_split
from scenes import Thing, build_of, wall

WHITE_SKY = {"zenith_rgb": [1, 1, 1], "horizon_rgb": [1, 1, 1], "ground_rgb": [1, 1, 1]}


def integral(albedo, f0, roughness, n_dot_v, n=400, around=160):
    """The BRDF times n.l over the hemisphere under radiance 1: midpoints in the cosine and in the angle about the normal."""
    view = np.array([np.sqrt(1 - n_dot_v**2), 0.0, n_dot_v])
    normal = np.array([0.0, 0.0, 1.0])
    total = np.zeros(3)
    for c in (np.arange(n) + 0.5) / n:
        for phi in (np.arange(around) + 0.5) / around * np.pi:  # half of it: the BRDF is even in phi
            light = np.array([np.sqrt(1 - c * c) * np.cos(phi), np.sqrt(1 - c * c) * np.sin(phi), c])
            total += reflected(np.full(3, albedo), np.full(3, f0), roughness, normal, view, light)
    return float(total[0]) * 2 * np.pi / (n * around)


def furnace(material, at_deg=0.0):
    """What a card of a material, turned by an angle, shows under a sky of 1 nit all around."""
    turn = np.radians(at_deg)
    card = Thing("card", wall(10.0, half=20.0), material)
    eye = [10 * np.sin(turn), 0, -10 + 10 * np.cos(turn)]
    build = build_of(card, setup={"sky": WHITE_SKY, "viewpoints": {"eye": {"eye": eye, "target": [0, 0, -10], "fov_y_deg": 2}}})
    return float(Renderer().frame(build, Request("eye", (9, 9)), "linear").linear[4, 4, 0])


def dielectric(albedo, roughness):
    return Material("d", base_rgba=(albedo,) * 3 + (1.0,), metallic=0.0, roughness=roughness)


def metal(f0, roughness):
    return Material("m", base_rgba=(f0,) * 3 + (1.0,), metallic=1.0, roughness=roughness)


@pytest.mark.parametrize("at_deg", [0.0, 60.0])
@pytest.mark.parametrize("roughness", [0.5, 0.9])
def test_a_dielectric_under_an_even_sky_shows_the_integral_of_its_brdf(roughness, at_deg):
    wanted = integral(0.2, 0.04, roughness, np.cos(np.radians(at_deg)))
    assert furnace(dielectric(0.2, roughness), at_deg) == pytest.approx(wanted, rel=0.01)


def test_a_rough_metal_loses_what_single_scattering_loses():
    # At alpha 1, seen along the normal, a single-scattering GGX reflects 1 - ln 2 = .307 (derived; Heitz 2014 gives the model).
    assert furnace(metal(1.0, 1.0)) == pytest.approx(1 - np.log(2), abs=0.004)
    assert furnace(metal(1.0, 0.6)) == pytest.approx(integral(0.0, 1.0, 0.6, 1.0), rel=0.01)
    assert furnace(metal(1.0, 0.05)) == pytest.approx(1.0, abs=0.01)


def test_the_tables_are_the_integrals_they_stand_for():
    a, b = specular_split(np.array(0.5), np.array(0.7), 1 << 14)
    coarse = specular_split(np.array(0.5), np.array(0.7))
    np.testing.assert_allclose(coarse, [a, b], rtol=0.004)
    assert diffuse_edge(np.array(1.0), 1 << 14) == pytest.approx(float(diffuse_edge(np.array(1.0))), rel=0.01)
    assert AVERAGE.shape == (SIZE, 2) and (AVERAGE.sum(axis=1) <= 1.0 + 1e-3).all()


def lightmapped(material):
    """The same card in a furnace of a lightmap: pi lx all over, no sky."""
    card = panel("card", (-1, -1, -10), (2, 0, 0), (0, 2, 0), material, UNIT_PAGE)
    glow = panel(
        "glow", (-300, -300, -9), (0, 600, 0), (600, 0, 0), Material("g", base_rgba=(0, 0, 0, 1), emissive=(1, 1, 1), ior=1.0)
    )
    setup = {
        **baked_setup([card], resolution=8, samples=64, bounces=0),
        "viewpoints": {"eye": {"eye": [0, 0, -9.5], "target": [0, 0, -10], "fov_y_deg": 2}},
    }
    baked = bake(build_of(card, glow, setup=setup), everything=True).build
    return float(Renderer().frame(baked, Request("eye", (9, 9)), "linear").linear[4, 4, 0])


@pytest.mark.parametrize("material", [metal(0.9, 0.4), metal(0.9, 0.9), dielectric(0.2, 0.9)])
def test_a_lightmap_lights_metals_and_dielectrics_as_an_even_sky_does(material):
    assert lightmapped(material) == pytest.approx(furnace(material), rel=0.01)


def test_light_that_metals_reflect_goes_on_in_a_bake():
    # A closed box that shines .2 nit all over and reflects R of what arrives: radiance .2 / (1 - R) in the end (geometric series).
    shining = dict.fromkeys(("floor", "ceiling", "north", "south", "west", "east"), 0.2)
    rough, f0 = 0.5, 0.6
    walls = [
        replace(t, material=replace(t.material, base_rgba=(f0,) * 3 + (1.0,), metallic=1.0, roughness=rough))
        for t in box_inside(0.0, shining)
    ]
    build = build_of(*walls, setup=baked_setup(walls, resolution=8, samples=32, bounces=24))
    a, b = (np.interp(rough, np.arange(SIZE) / (SIZE - 1), AVERAGE[:, k]) for k in (0, 1))
    wanted = 0.2 * np.pi / (1 - (f0 * a + 1.0 * b))
    assert bake(build, ["floor"], everything=True).raws["floor", None].mean[..., 0].mean() == pytest.approx(wanted, rel=0.01)


@pytest.mark.parametrize("strength", [1.0, 0.4])
def test_the_occlusion_texture_dims_light_from_around_and_no_other(strength):
    # glTF 2.0, occlusionTextureInfo: 1 + strength * (red - 1), on indirect light only.
    half = Image("half", freeze(np.full((2, 2, 4), 128, np.uint8)))
    plain = dielectric(0.5, 0.9)
    dim = replace(plain, occlusion_texture=TextureUse(0), occlusion_strength=strength)
    sun = {"lights": {"sun": {"kind": "sun", "illuminance_lux": 2.0, "towards": [0, 0, 1]}}, "shadow": {"enabled": False}}

    def shown(material, **setup):
        build = build_of(Thing("card", wall(10.0, half=20.0), material), setup=setup, images=(half,))
        return float(Renderer().frame(build, Request("eye", (9, 9)), "linear").linear[4, 4, 0])

    assert shown(dim, sky=WHITE_SKY) == pytest.approx(shown(plain, sky=WHITE_SKY) * (1 + strength * (128 / 255 - 1)), rel=1e-4)
    assert shown(dim, **sun) == shown(plain, **sun) > 0
