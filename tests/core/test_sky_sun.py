"""The sun of a sky picture, against skies made with a known one; files that are cut, infinite, too small or lie."""

import json
import math

import numpy as np
import OpenEXR
import pytest

from eddyfall.cli import main
from eddyfall.core.errors import SceneError
from eddyfall.core.scene.model import SkyPicture
from eddyfall.core.scene.sky_pictures import read_hdr, read_sky
from eddyfall.core.shade.sky_maps import directions_of, solid_angles
from eddyfall.core.truth.sky_sun import level_lux, sun_of
from skies import SUN_RAD, TOWARDS, made


def sky(radiance, half=False):
    return SkyPicture("made", radiance, half)


def off_deg(found, towards=TOWARDS):
    return math.degrees(math.acos(min(float(np.dot(found.towards, towards / np.linalg.norm(towards))), 1.0)))


def test_solid_angles_are_a_sphere_and_an_even_sky_gives_pi_times_its_luminance():
    # Lambert's law: an even sky of luminance L gives pi L on level ground.
    solid, directions = solid_angles(256, 512), directions_of(256, 512)
    assert solid.sum() == pytest.approx(4 * math.pi)
    assert level_lux(np.full((256, 512, 3), 1000.0)) == pytest.approx(math.pi * 1000, rel=1e-4)
    assert directions[128, 256] == pytest.approx([0, 0, -1], abs=0.01) and directions[128, 384][0] > 0.99


def test_a_sun_of_68_000_lux_is_found_with_what_is_left():
    """By hand: the disc is 68 000 / (pi sin^2 0.2665 deg) = 1.0005e9 nit; level ground gets 37 374 lx of it, 14 661 of the sky: 71.8 %
    would throw no shadow, and its shade is due at -1.83 stops."""
    assert 68_000 / (math.pi * math.sin(SUN_RAD) ** 2) == pytest.approx(1.0005e9, rel=1e-4)
    found = sun_of(sky(made()))
    assert found.verdict == "sun" and off_deg(found) < 0.005
    assert found.lux == pytest.approx(68_000, rel=0.01) and found.radius_deg == pytest.approx(0.2665, rel=0.05)
    assert found.sun_lux == pytest.approx(37_374, rel=0.01) and found.sky_lux == pytest.approx(14_661, rel=0.005)
    assert found.unshadowed_share == pytest.approx(0.718, abs=0.004) and found.stops == pytest.approx(-1.83, abs=0.02)
    small = sun_of(sky(made(256)))
    assert off_deg(small) < 0.1 and small.radius_deg is None


def test_sun_and_what_is_left_give_what_the_picture_gave():
    for height in (128, 512):
        picture = made(height)
        found = sun_of(sky(picture))
        whole = level_lux(picture)
        assert found.sun_lux + found.sky_lux == pytest.approx(whole, rel=2e-3)
        assert found.sky.max() < 7000


def test_fifty_made_skies_are_found_within_a_fifth_of_a_pixel_and_two_per_cent():
    rng = np.random.default_rng(12)
    for _ in range(50):
        height, elevation, azimuth = int(rng.choice([256, 512])), rng.uniform(0.1, 1.4), rng.uniform(-math.pi, math.pi)
        towards = np.array(
            [math.cos(elevation) * math.sin(azimuth), math.sin(elevation), -math.cos(elevation) * math.cos(azimuth)]
        )
        lux = float(10 ** rng.uniform(4, 5.1))
        found = sun_of(sky(made(height, towards, lux, fine=16384 // height)))
        assert found.verdict == "sun", (height, elevation, lux, found.why)
        assert off_deg(found, towards) < 0.2 * 180 / height and found.lux == pytest.approx(lux, rel=0.02)


def test_overcast_and_eight_bit_skies_are_never_sold_as_a_sun():
    rng = np.random.default_rng(4)
    for n in range(20):
        clouds = made(256, lux=0.0) * rng.uniform(0.8, 1.25, (256, 512, 1)).astype(np.float32)
        assert sun_of(sky(clouds)).verdict == "none"
        lit = made(256, lux=10 ** rng.uniform(3, 5))
        eight_bit = np.round(np.clip(lit / 8000, 0, 1) * 255) / 255
        assert sun_of(sky(eight_bit.astype(np.float32))).verdict != "sun", n
        glare = np.clip(lit, 0, float(rng.uniform(2e4, 3e5)))
        assert sun_of(sky(glare.astype(np.float32))).verdict != "sun"


def test_half_floats_end_before_the_sun_does():
    """1.0005e9 nit in half floats is infinite; cut at 65504 it is a lower bound of a few lux, thirteen stops too little."""
    with np.errstate(over="ignore"):
        infinite = made(256, fine=16).astype(np.float16).astype(np.float32)
    found = sun_of(sky(infinite, half=True))
    assert np.isinf(infinite).any() and found.verdict == "clipped" and "not finite" in found.why
    cut = sun_of(sky(np.minimum(made(1024), 65504), half=True))
    assert cut.verdict == "clipped" and math.log2(cut.lux / 68_000) < -12 and off_deg(cut) < 0.2


def test_a_moon_too_faint_for_shadows_is_none():
    assert sun_of(sky(made(512, lux=400.0))).verdict == "none"
    assert sun_of(sky(np.zeros((64, 128, 3), np.float32))).verdict == "none"


def write_exr(path, radiance, half=False, **header):
    kind = np.float16 if half else np.float32
    with np.errstate(over="ignore"):
        planes = {c: np.ascontiguousarray(radiance[..., i].astype(kind)) for i, c in enumerate("RGB")}
    with OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage, **header}, planes) as file:
        file.write(str(path))
    return path


def hdr_bytes(radiance, coded=True):
    """A Radiance picture: each line in four run-length coded channels, or plain."""
    largest = np.maximum(radiance.max(axis=2), 1e-30)
    mantissa, exponent = np.frexp(largest)
    scale = mantissa * 256 / largest
    rgbe = np.concatenate([radiance * scale[..., None], (exponent + 128)[..., None]], axis=2)
    rgbe = np.clip(rgbe, 0, 255).astype(np.uint8)
    height, width = radiance.shape[:2]
    lines = b""
    for row in rgbe:
        if not coded:
            lines += row.tobytes()
            continue
        lines += bytes([2, 2, width >> 8, width & 255])
        for channel in row.T:
            for start in range(0, width, 100):
                part = channel[start : start + 100]
                lines += bytes([128 + len(part), part[0]]) if (part == part[0]).all() else bytes([len(part)]) + part.tobytes()
    return b"#?RADIANCE\n# made\nFORMAT=32-bit_rle_rgbe\n\n" + f"-Y {height} +X {width}\n".encode() + lines


def test_files_hold_what_was_written(tmp_path):
    picture = made(64)
    exact = read_sky(write_exr(tmp_path / "full.exr", picture))
    assert np.array_equal(exact.radiance, picture) and not exact.half
    assert read_sky(write_exr(tmp_path / "half.exr", picture, half=True)).half
    for coded in (True, False):
        (tmp_path / "sky.hdr").write_bytes(hdr_bytes(picture, coded))
        read = read_sky(tmp_path / "sky.hdr").radiance
        assert read == pytest.approx(picture, rel=1 / 128)


def test_hdr_is_read_as_mitsuba_reads_it(tmp_path):
    # Mitsuba 3's Bitmap, a general-purpose reader of Radiance pictures.
    mitsuba = pytest.importorskip("mitsuba")
    mitsuba.set_variant("scalar_rgb")
    rng = np.random.default_rng(2)
    picture = (10 ** rng.uniform(-3, 6, (16, 32, 3))).astype(np.float32)
    picture[:, 4:20] = picture[:, 4:5]  # runs
    for coded in (True, False):
        data = hdr_bytes(picture, coded)
        (tmp_path / "noise.hdr").write_bytes(data)
        theirs = np.array(mitsuba.Bitmap(str(tmp_path / "noise.hdr")))
        ours = read_hdr(data, "noise.hdr")
        # A code stands for the lower end of its step (Radiance) or for its middle: half a step apart at most.
        assert ours == pytest.approx(theirs[..., :3], rel=1 / 128, abs=float(ours.max()) * 1e-9)


def test_the_command_says_what_it_found_and_writes_the_sky_without_it(tmp_path, capsys):
    path = write_exr(tmp_path / "sky.exr", made(256, fine=64))
    assert main(["sun-of", str(path), "--out", str(tmp_path / "without.exr"), "--json", "-"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["verdict"] == "sun" and told["light"]["illuminance_lux"] == told["lux"] == pytest.approx(68_000, rel=0.03)
    left = read_sky(tmp_path / "without.exr").radiance
    assert left.max() < 7000 and sun_of(sky(left)).verdict == "none"
    assert main(["sun-of", str(write_exr(tmp_path / "half.exr", made(256, fine=16), half=True))]) == 1
    assert "lower bounds" in capsys.readouterr().out
    assert main(["sun-of", str(write_exr(tmp_path / "grey.exr", made(64, lux=0.0)))]) == 1
    assert "no sun to trust" in capsys.readouterr().out
    assert main(["sun-of", str(tmp_path / "nowhere.hdr")]) == 2 and main(["sun-of", str(path), "--out", str(path)]) == 2
    assert np.array_equal(read_sky(path).radiance, made(256, fine=64)), "what was read is not written over"


def test_what_is_no_sky_is_one_error_that_says_so(tmp_path):
    good = hdr_bytes(made(16))
    files = {
        "cut.hdr": (good[:-40], "cut off in line 1[0-9] of 16"), "head.hdr": (good[:30], "ends in its header"),
        "none.hdr": (b"GIF89a", "not a Radiance picture"), "xyz.hdr": (good.replace(b"rle_rgbe", b"rle_xyze"), "32-bit_rle_rgbe"),
        "huge.hdr": (good.replace(b"-Y 16 +X 32", b"-Y 99999 +X 199998"), "million"),
        "lies.hdr": (good.replace(b"-Y 16 +X 32", b"-Y 20 +X 40"), "in line [0-9]+ of 20"),
        "square.hdr": (good.replace(b"+X 32", b"+X 16"), "twice as wide"),
        "minus.hdr": (good.replace(b"-Y 16", b"+Y 16"), "not of the form"),
        "one.hdr": (b"#?RADIANCE\n\n-Y 1 +X 2\n\1\1\1\1\1\1\1\1", "no directions"),
        "cut.exr": (write_exr(tmp_path / "w.exr", made(32)).read_bytes()[:-60], "cut.exr"), "not.exr": (b"nothing", "not an OpenEXR file"),
        "sky.png": (b"", "OpenEXR"),
    }  # fmt: skip
    for name, (data, words) in files.items():
        (tmp_path / name).write_bytes(data)
        with pytest.raises(SceneError, match=words) as caught:
            read_sky(tmp_path / name)
        assert str(caught.value).count("\n") == 0 and name in str(caught.value)
    with pytest.raises(SceneError, match="1 x 1 px"):
        read_sky(write_exr(tmp_path / "one.exr", np.ones((1, 1, 3))))
    nothing = np.full((16, 32, 3), np.nan, np.float32)
    assert sun_of(read_sky(write_exr(tmp_path / "nan.exr", nothing))).verdict != "sun"
