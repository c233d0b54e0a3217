"""The reflection model against published values: Fresnel, GGX, the single-scattering furnace, lights of KHR_lights_punctual."""

import math

import numpy as np
import pytest
from scipy.integrate import quad

from eddyfall.core.scene.model import Material
from eddyfall.core.shade.brdf import ggx_d, lobes, reflected, schlick, smith_v
from eddyfall.core.shade.lights import DIRECTIONAL, POINT, SPOT, Lights, incoming
from eddyfall.core.shade.surface import material_factors

UP = np.array([0.0, 0.0, 1.0])


def direction(mu, phi=0.0):
    s = math.sqrt(max(1 - mu * mu, 0.0))
    return np.array([s * math.cos(phi), s * math.sin(phi), mu])


@pytest.mark.parametrize(("ior", "f0"), [(1.5, 0.04), (1.333, 0.020373), (2.417, 0.1719698)])
def test_normal_reflectance_of_a_dielectric(ior, f0):
    # Born & Wolf, Principles of Optics, 1.5.
    assert material_factors((Material("m", ior=ior),))[0, 10] == pytest.approx(f0, abs=1e-6)


@pytest.mark.parametrize(
    ("degrees", "wanted"), [(30, 0.0400414365431), (45, 0.0420692731244), (60, 0.07), (75, 0.254729884087), (85, 0.648491718236)]
)
def test_schlick(degrees, wanted):
    # Schlick 1994, eq. 15, F0 = .04.
    assert schlick(0.04, 1.0, math.cos(math.radians(degrees))) == pytest.approx(wanted, abs=1e-9)


def test_hemispherical_schlick_reflectance():
    # F0 + (1 - F0) / 21 = .0857143 for n = 1.5.
    value = quad(lambda mu: 2 * schlick(0.04, 1.0, mu) * mu, 0, 1)[0]
    assert value == pytest.approx(0.0857143, abs=2e-5)


@pytest.mark.parametrize(("alpha", "peak"), [(0.1, 31.8309886184), (0.5, 1.27323954474), (1.0, 0.318309886184)])
def test_ggx_is_normalised(alpha, peak):
    # Walter et al. 2007, eqs 33 and 34: the projected distribution integrates to 1, its peak is 1 / (pi alpha^2).
    total = quad(lambda mu: 2 * math.pi * ggx_d(mu, alpha) * mu, 0, 1, limit=400)[0]
    assert total == pytest.approx(1, abs=1e-6)
    assert ggx_d(1.0, alpha) == pytest.approx(peak, rel=1e-9)


@pytest.mark.parametrize(
    ("alpha", "mu", "albedo"),
    [
        (0.25, 1, 0.915811876372),
        (0.5, 1, 0.687848572691),
        (1, 1, 0.306852833329),
        (1, 0.5, 0.450693864573),
        (1, 0.1, 0.760209262206),
    ],
)
def test_white_furnace_of_single_scattering_ggx(alpha, mu, albedo):
    # Heitz 2014 (JCGT 3(2)): what single scattering with height-correlated Smith keeps of a white furnace.
    view = direction(mu)
    nodes, weights = np.polynomial.legendre.leggauss(400)
    mus, phis = (nodes + 1) / 2, (nodes + 1) * math.pi
    total = 0.0
    for m, wm in zip(mus, weights):
        for p, wp in zip(phis, weights):
            n_dot_l, spec, _ = lobes(*UP, *view, *direction(m, p), math.sqrt(alpha))
            total += n_dot_l * spec * wm / 2 * wp * math.pi
    assert total == pytest.approx(albedo, abs=0.002)


def test_smith_is_symmetric_and_bounded():
    rng = np.random.default_rng(2)
    for _ in range(50):
        a, b, alpha = rng.random(3) * 0.98 + 0.01
        assert smith_v(a, b, alpha) == pytest.approx(smith_v(b, a, alpha), rel=1e-12)
        assert smith_v(a, b, alpha) * 4 * a * b <= 1 + 1e-12


def test_reflection_is_reciprocal_and_matt_surfaces_are_lambert():
    rng = np.random.default_rng(3)
    for _ in range(40):
        light, view = (
            direction(rng.random() * 0.9 + 0.05, rng.random() * 6),
            direction(rng.random() * 0.9 + 0.05, rng.random() * 6),
        )
        there = reflected(np.full(3, 0.5), np.full(3, 0.04), 0.4, UP, view, light) / light[2]
        back = reflected(np.full(3, 0.5), np.full(3, 0.04), 0.4, UP, light, view) / view[2]
        np.testing.assert_allclose(there, back, rtol=1e-9)
    # A matt surface reflects albedo / pi into every direction (Lambert).
    matt = reflected(np.full(3, 0.5), np.zeros(3), 1.0, UP, direction(0.3), direction(0.8))
    np.testing.assert_allclose(matt / 0.8, 0.5 / math.pi, rtol=1e-9)


def lights_of(kind, **fields):
    values = {
        "place": (0, 4, 0), "towards": (0, -1, 0), "power": (1, 1, 1), "range_m": 0.0, "cone": (0, 1), **fields,
    }  # fmt: skip
    rows = lambda v, n: np.array(v, np.float64).reshape(1, n)  # noqa: E731
    return Lights(
        np.array([kind], np.int32), rows(values["place"], 3), rows(values["towards"], 3), rows(values["power"], 3),
        np.array([values["range_m"]], np.float64), rows(values["cone"], 2), np.zeros(1, np.int32), np.zeros(1, np.int32),
        np.zeros(1, np.uint8), np.zeros(1, np.int32),
    )  # fmt: skip


@pytest.mark.parametrize("distance", [0.5, 1.0, 4.0, 20.0])
def test_point_lights_fall_off_with_the_square(distance):
    # KHR_lights_punctual: candela / d^2.
    *_, share, seen = incoming(0, 0.0, 4.0 - distance, 0.0, lights_of(POINT))
    assert (share, seen) == (pytest.approx(1 / distance**2), pytest.approx(distance))


@pytest.mark.parametrize(("distance", "window"), [(5.0, 1 - (5 / 8) ** 4), (7.9, 1 - (7.9 / 8) ** 4), (8.0, 0), (12.0, 0)])
def test_range_ends_a_point_light(distance, window):
    # KHR_lights_punctual: max(min(1 - (d / range)^4, 1), 0) / d^2.
    share = incoming(0, 0.0, 4.0 - distance, 0.0, lights_of(POINT, range_m=8.0))[3]
    assert share == pytest.approx(window / distance**2, abs=1e-12)


@pytest.mark.parametrize("degrees", [0, 10, 20, 25, 30, 35])
def test_spot_cones(degrees):
    # KHR_lights_punctual: scale = 1 / max(.001, cos inner - cos outer), offset = -cos outer * scale; the square of the ramp.
    inner, outer = math.cos(math.radians(20)), math.cos(math.radians(30))
    scale = 1 / max(0.001, inner - outer)
    lights = lights_of(SPOT, cone=(scale, -outer * scale))
    a = math.radians(degrees)
    share = incoming(0, 4 * math.tan(a), 0.0, 0.0, lights)[3]
    ramp = min(max((math.cos(a) - outer) / (inner - outer), 0), 1)
    assert share == pytest.approx(ramp**2 / (4 / math.cos(a)) ** 2, abs=1e-12)


def test_the_sun_does_not_fall_off():
    lights = lights_of(DIRECTIONAL, towards=(0, 1, 0))
    assert incoming(0, 9.0, -70.0, 3.0, lights)[:4] == (0, 1, 0, 1)
