"""The sky's light and the exposure, against closed forms and the standards of photography."""

import numpy as np
import pytest

from eddyfall.core.passes.display import encode_display, exposure_scale
from eddyfall.core.shade.sky import SkyLight, ambient_at, sky_plain, sky_radiance
from eddyfall.core.shade.srgb import decode, encode

SKY = SkyLight(np.array([200.0, 400.0, 900.0]), np.array([800.0, 700.0, 600.0]), np.array([120.0, 100.0, 80.0]))
EVEN = SkyLight(*(np.full(3, 250.0),) * 3)


def surface_row(albedo=0.5, f0=0.0, rough=1.0, normal=(0.0, 1.0, 0.0)):
    """A row of the surface buffer: diffuse albedo, reflectance at normal incidence, roughness, normal."""
    row = np.zeros((1, 15), np.float32)
    row[0, 14] = 1.0
    row[0, :3], row[0, 3:6], row[0, 6], row[0, 7:10] = albedo, f0, rough, normal
    return row


def ambient(row, view, sky):
    view = np.asarray(view, float) / np.linalg.norm(view)
    return np.array(ambient_at(row, 0, *view, sky))


@pytest.mark.parametrize("seed", range(3))
def test_the_sky_is_its_plain_twin(seed):
    for direction in np.random.default_rng(seed).normal(size=(50, 3)):
        up = direction[1] / np.linalg.norm(direction)
        assert [sky_radiance(up, c, SKY) for c in range(3)] == pytest.approx(sky_plain(direction, SKY))


def test_the_sky_has_its_three_colours_where_they_are_named():
    assert sky_plain(np.array([0, 1.0, 0]), SKY) == pytest.approx(SKY.zenith)
    assert sky_plain(np.array([1.0, 0, 0]), SKY) == pytest.approx(SKY.horizon)
    assert sky_plain(np.array([0, -1.0, 0]), SKY) == pytest.approx(SKY.ground)
    assert sky_plain(np.array([1.0, 1e-6, 0]), SKY) == pytest.approx(sky_plain(np.array([1.0, -1e-9, 0]), SKY), rel=1e-2)


def test_four_fifths_of_the_way_up_is_the_mean_an_upward_face_sees():
    # Cosine-weighted mean of horizon + (zenith - horizon) sqrt(sin elevation): 2 * integral s^1.5 ds = 4/5.
    rng = np.random.default_rng(8)
    up = np.sqrt(rng.random(400_000))  # cosine-weighted directions (Pharr et al., Physically Based Rendering, A.5)
    wanted = SKY.horizon + (SKY.zenith - SKY.horizon) * np.sqrt(up).mean()
    assert np.sqrt(up).mean() == pytest.approx(0.8, abs=2e-3)
    assert ambient(surface_row(albedo=1.0), (0, 1, 0), SKY) == pytest.approx(wanted, rel=2e-3)


@pytest.mark.parametrize("albedo", [0.0, 0.18, 0.8])
@pytest.mark.parametrize("normal", [(0, 1, 0), (0, -1, 0), (0.6, 0.8, 0), (1, 0, 0)])
def test_a_matt_surface_under_an_even_sky_has_its_share(albedo, normal):
    # White furnace, common practice with no source: L = albedo * L_sky whichever way it faces.
    assert ambient(surface_row(albedo, normal=normal), normal, EVEN) == pytest.approx(albedo * 250)


@pytest.mark.parametrize("rough", [0.0, 0.3, 1.0])
@pytest.mark.parametrize("degrees", [0, 45, 80])
def test_no_surface_gives_more_than_an_even_sky(rough, degrees):
    angle = np.radians(degrees)
    for f0 in (0.02, 0.04, 0.9):
        got = ambient(surface_row(1.0, f0, rough), (np.sin(angle), np.cos(angle), 0), EVEN)
        assert (got <= 250 * (1 + 1e-6)).all() and (got > 0).all()


def test_a_mirror_shows_the_sky_it_faces():
    # 45 degrees of elevation, seen in a level mirror from 45 degrees.
    got = ambient(surface_row(0.0, 1.0, 0.0), (1, 1, 0), SKY)
    assert got == pytest.approx(sky_plain(np.array([-1.0, 1.0, 0]), SKY), rel=1e-5)


@pytest.mark.parametrize(("ev100", "lmax"), [(0, 1.2), (10, 1228.8), (15, 39321.6)])
def test_exposure_saturates_where_iso_12232_says(ev100, lmax):
    # ISO 12232:2006 saturation based speed with q = .65; Lagarde and de Rousiers 2014.
    assert 1 / exposure_scale("manual", ev100) == pytest.approx(lmax)
    assert exposure_scale("off", ev100) == 1.0


def test_metered_luminance_lands_at_a_tenth_of_saturation():
    # ISO 2720 with K = 12.5: L = 2^EV K / 100; of L_max that is 10.4 %, not 18 %.
    for ev100 in (0, 7, 15):
        assert 2.0**ev100 * 0.125 * exposure_scale("manual", ev100) == pytest.approx(0.1041667, abs=1e-6)


def test_a_stop_is_a_factor_of_two():
    assert exposure_scale("manual", 9) / exposure_scale("manual", 10) == pytest.approx(2)


def test_codes_are_those_of_the_standard():
    # IEC 61966-2-1: decode and encode of all codes come back; light beyond 0..1 is cut off.
    codes = np.arange(256)
    assert encode_display(decode(codes / 255.0)).tolist() == codes.tolist()
    light = np.random.default_rng(1).random(20_000)
    exact = encode(light) * 255
    assert np.abs(encode_display(light) - exact).max() <= 0.5 + 0.05
    assert encode_display(np.array([-1.0, 0.0, 1.0, 40.0])).tolist() == [0, 0, 255, 255]
