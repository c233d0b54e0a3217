"""The reference by itself: closed rooms, view factors, coverage, fog; the same bits however it is cut; its noise."""

import math
from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Light, Material, SkyPicture
from eddyfall.core.shade.coat import even_plain
from eddyfall.core.shade.columns import ALBEDO_RGB, F0_RGB, ROUGH, ROW
from eddyfall.core.shade.lobes import furnace
from eddyfall.core.truth.reference.noise import noise_of, noted
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.core.truth.reference.tally import BACKGROUND, BOUNCE, EMISSION, FOG, LAYERS, REFLECTION, SKY_UNDER, Tally
from eddyfall.core.truth.reference.trace import Asked, grow, rounds
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of
from skies import SKY_LUX, SUN_LUX, made

LAMBERT = {"metallic": 0.0, "ior": 1.0}
SIZE = (24, 14)


def glow(name, nits, alpha=1.0, **more):
    """A black surface that shines."""
    return Material(name, (0, 0, 0, alpha), emissive=(nits,) * 3, **LAMBERT, **more)


def looking(eye, target, fov=60.0, **more):
    return {"viewpoints": {"eye": {"eye": list(eye), "target": list(target), "fov_y_deg": fov}}, **more}


def box_room(low, high, material):
    """The six walls of a room, seen from within, each of material(name)."""
    (x0, y0, z0), (x1, y1, z1) = low, high
    w, h, d = x1 - x0, y1 - y0, z1 - z0
    faces = {
        "floor": ((x0, y0, z1), (w, 0, 0), (0, 0, -d)), "ceiling": ((x0, y1, z0), (w, 0, 0), (0, 0, d)),
        "far": ((x0, y0, z0), (w, 0, 0), (0, h, 0)), "near": ((x1, y0, z1), (-w, 0, 0), (0, h, 0)),
        "left": ((x0, y0, z1), (0, 0, -d), (0, h, 0)), "right": ((x1, y0, z0), (0, 0, d), (0, h, 0)),
    }  # fmt: skip
    return [Thing(name, Shape().quad(*face), material(name)) for name, face in faces.items()]


def frame_and_scene(build, size=SIZE, upto="traced"):
    renderer = Renderer()
    frame = renderer.frame(build, Request("eye", size), upto)
    return frame, path_scene(renderer, build, frame)


def all_pixels(size):
    return np.stack(np.meshgrid(np.arange(size[0]), np.arange(size[1])), -1).reshape(-1, 2)


def traced(build, samples, size=SIZE, pixels=None, **asked) -> Tally:
    frame, scene = frame_and_scene(build, size)
    empty = Tally.empty(scene.light_names, all_pixels(size) if pixels is None else np.array(pixels), size, "")
    return grow(scene, frame.camera, empty, Asked(**asked), samples)


@pytest.mark.parametrize("metal, rough, cosine", [(0.0, 0.5, 0.7), (0.0, 0.9, 0.2), (1.0, 0.3, 0.7), (1.0, 0.8, 0.3)])
def test_drawn_directions_add_up_to_the_integral_of_the_brdf(metal, rough, cosine):
    row = np.zeros(ROW)
    row[ALBEDO_RGB], row[F0_RGB], row[ROUGH] = 0.6 * (1 - metal), 0.04 + 0.7 * metal, rough
    under, coat = furnace(row[None, ALBEDO_RGB], row[None, F0_RGB], rough, cosine, np.random.default_rng(1).random((100_000, 3)))
    want_under, want_coat = even_plain(row, cosine)
    assert under == pytest.approx(want_under, abs=2e-3) and coat == pytest.approx(want_coat, abs=6e-3)


def test_a_white_coat_at_full_roughness_loses_what_single_scattering_loses():
    # 1 - ln 2 of GGX at alpha 1, seen along the normal (derived; checked by quadrature elsewhere): not one.
    _, coat = furnace(np.zeros((1, 3)), np.ones((1, 3)), 1.0, 1.0, np.random.default_rng(1).random((200_000, 3)))
    assert coat == pytest.approx(np.full(3, 1 - math.log(2)), abs=3e-3)


@pytest.mark.parametrize("bounces", [0, 1, 3])
def test_a_closed_room_that_shines_evenly_is_a_geometric_series(bounces):
    # Emission e, reflectance r: e (1 + r + r^2 + ...), whatever the room's shape (energy balance).
    walls = box_room(
        (-2, 0, -3), (2, 2.8, 2.5), lambda name: Material(name, (0.5, 0.5, 0.5, 1), emissive=(2.0, 1.0, 0.5), **LAMBERT)
    )
    tally = traced(build_of(*walls, setup=looking((0.4, 1.6, 1.8), (-0.2, 1.1, -2), sky={"ambient": False})), 64, bounces=bounces)
    series = sum(0.5**k for k in range(bounces + 2))
    assert tally.radiance.mean(axis=0) == pytest.approx(series * np.array([2.0, 1.0, 0.5]), rel=4e-3)
    assert tally.part(EMISSION) == pytest.approx(np.tile([2.0, 1.0, 0.5], (len(tally.pixels), 1)))


def test_a_floor_gets_the_view_factor_of_a_shining_wall():
    # A floor point 3 m from a wall 7.2 m long and 3 m high, half of it to each side: F = .12048 (Lambert's polygon formula), and 40 lx.
    wall = Shape().quad((0, 0, 9.6), (0, 0, -7.2), (0, 3, 0))
    floor = Shape().quad((0, 0, 12), (10, 0, 0), (0, 0, -12))
    build = build_of(
        Thing("wall", wall, glow("wall", 1400 / math.pi)),
        Thing("floor", floor, Material("floor", (0.5, 0.5, 0.5, 1), **LAMBERT)),
        setup=looking(
            (3.0, 4.0, 6.0), (3.0, 0.0, 5.999), 1.0, sky={"ambient": False},
            lights={"sun": {"kind": "sun", "illuminance_lux": 40.0, "towards": [0, 1, 0]}},
        ),
    )  # fmt: skip
    tally = traced(build, 16_384, size=(3, 3), pixels=[[1, 1]])
    lux = tally.radiance[0] / 0.5 * math.pi
    assert tally.part(BOUNCE)[0] / 0.5 * math.pi == pytest.approx(np.full(3, 0.12048 * 1400), rel=0.01)
    assert lux == pytest.approx(np.full(3, 208.7), rel=0.01)


def test_a_hall_under_a_shining_roof_gets_its_bounces():
    # 20 x 12 x 8 m, reflectance .35, a roof that gives 480 000 lm: over the whole hall flux rho / (A (1 - rho)) = 260.5 lx are bounced
    # (energy balance); the floor, which sees no other of it than walls and roof, gets about 209 of it, and 1 - rho^3 of all after three.
    room = box_room((-10, 0, -6), (10, 8, 6), lambda name: Material(name, (0.35,) * 3 + (1.0,), emissive=roof(name), **LAMBERT))
    down = looking((0, 7.999, 0), (0, 0, -0.001), math.degrees(2 * math.atan(6 / 7.999)), sky={"ambient": False})
    lux = {}
    for bounces in (0, 3, 16):
        tally = traced(build_of(*room, setup=down), 192, size=(20, 12), bounces=bounces)
        lux[bounces] = float(tally.part(BOUNCE)[:, 0].mean()) / 0.35 * math.pi
    assert lux[16] - lux[0] == pytest.approx(209, rel=0.03)
    assert (lux[3] - lux[0]) / (lux[16] - lux[0]) == pytest.approx(1 - 0.35**3, abs=0.02)


def roof(name):
    return (480_000 / 240 / math.pi,) * 3 if name == "ceiling" else (0.0, 0.0, 0.0)


def test_a_mirror_shows_what_lies_behind_the_eye_and_keeps_it_apart():
    build = build_of(
        Thing("panel", Shape().quad((-1, 0, 0), (2, 0, 0), (0, 2, 0)), Material("panel", metallic=1.0, roughness=0.0)),
        Thing(
            "sign",
            Shape().quad((5, -5, 8), (-10, 0, 0), (0, 10, 0)),
            Material("sign", (0, 0, 0, 1), emissive=(3, 2, 1), **LAMBERT),
        ),
        setup=looking((0, 1, 4), (0, 1, 0), 20.0, sky={"ambient": False}),
    )
    tally = traced(build, 16, size=(9, 5))
    assert tally.part(REFLECTION)[22] == pytest.approx([3, 2, 1], rel=1e-3)
    assert tally.part(BOUNCE).max() == 0


def test_a_blended_card_lets_by_what_its_alpha_leaves_and_is_a_part_of_its_own():
    build = build_of(
        Thing("card", Shape().quad((-9, -9, 1), (18, 0, 0), (0, 18, 0)), glow("card", 10, 0.3, alpha_mode="BLEND")),
        Thing("back", Shape().quad((-9, -9, 0), (18, 0, 0), (0, 18, 0)), glow("back", 1)),
        setup=looking((0, 0, 4), (0, 0, 0), 30.0, sky={"ambient": False}, fog={"enabled": True, "fog_per_m": 0.1, "rgb": [5, 5, 5]}),
    )  # fmt: skip
    tally = traced(build, 800, size=(5, 3), pixels=[[2, 1]])
    near, far = math.exp(-0.3), math.exp(-0.4)
    assert tally.part(LAYERS)[0] == pytest.approx(np.full(3, 0.3 * (10 * near + 5 * (1 - near))), rel=0.08)
    assert tally.part(EMISSION)[0] == pytest.approx(np.full(3, 0.7 * far), rel=0.04)
    assert tally.part(FOG)[0] == pytest.approx(np.full(3, 0.7 * 5 * (1 - far)), rel=0.04)


def test_where_nothing_is_the_sky_is_seen_and_lit_surfaces_get_it():
    sky = {"ambient": True, "zenith_rgb": [1, 1, 1], "horizon_rgb": [1, 1, 1], "ground_rgb": [1, 1, 1]}
    build = build_of(
        Thing("ball", Shape().box((-0.3, -0.3, -0.3), (0.3, 0.3, 0.3)), Material("ball", (0.5, 0.5, 0.5, 1), **LAMBERT)),
        setup=looking((0, 0, 3), (0, 0, 0), 30.0, sky=sky),
    )
    tally = traced(build, 64, size=(9, 5))
    assert tally.part(BACKGROUND)[0] == pytest.approx(np.ones(3))
    assert tally.radiance[22] == pytest.approx(np.full(3, 0.5), rel=0.02)


def test_level_ground_gets_all_the_light_of_a_sky_picture():
    # By hand: 37 374 lx of its sun, in a disc of half a degree, and 14 661 of the rest.
    floor = Thing("floor", Shape().quad((-9, 0, 9), (18, 0, 0), (0, 0, -18)), Material("floor", (0.5, 0.5, 0.5, 1), **LAMBERT))
    build = build_of(floor, setup=looking((0, 4, 0), (0, 0, -0.001), 1.0, sky={"picture": "noon.exr"}))
    build = replace(build, scene=replace(build.scene, skies=(SkyPicture("noon.exr", freeze(made(256, fine=16))),)))
    tally = traced(build, 8192, size=(3, 3), pixels=[[1, 1]], bounces=0)
    lux = tally.part(SKY_UNDER)[0] / 0.5 * math.pi
    assert lux == pytest.approx(np.full(3, SUN_LUX + SKY_LUX), rel=0.03)
    assert tally.error[0] / tally.luminance[0] < 0.015


@pytest.fixture(scope="module")
def lamp_room():
    """A matt room with a lamp and a shining panel."""
    things = box_room((-2, 0, -3), (2, 2.8, 2.5), lambda name: Material(name, (0.6, 0.5, 0.4, 1), **LAMBERT))
    panel = Shape().quad((-0.5, 2.75, -1.5), (1, 0, 0), (0, 0, 1))
    things.append(Thing("panel", panel, glow("panel", 300)))
    return build_of(
        *things, lamps=((Light("lamp", "point", intensity=40.0), (1.2, 1.0, -1.0)),),
        setup=looking((0.4, 1.6, 1.8), (-0.2, 1.1, -2), sky={"ambient": False}),
    )  # fmt: skip


def test_the_same_bits_however_it_is_cut_put_away_and_taken_up(lamp_room, tmp_path):
    frame, scene = frame_and_scene(lamp_room)
    asked, empty = Asked(bounces=2), Tally.empty(scene.light_names, all_pixels(SIZE), SIZE, "room")
    whole = grow(scene, frame.camera, empty, asked, 12)
    half = grow(scene, frame.camera, empty, asked, 5)
    half.save(tmp_path / "half.npz")
    taken_up = grow(scene, frame.camera, Tally.load(tmp_path / "half.npz"), asked, 7)
    few = np.arange(40, 60)
    crop = grow(scene, frame.camera, Tally.empty(scene.light_names, all_pixels(SIZE)[few], SIZE, "room"), asked, 12)
    for name in ("sums", "squares", "shining", "clear", "fades", "first"):
        assert np.array_equal(getattr(whole, name), getattr(taken_up, name)), name
        assert np.array_equal(getattr(whole, name)[few], getattr(crop, name)), name
    assert np.array_equal(whole.bins, taken_up.bins) and whole.count == taken_up.count == 12


def test_what_is_stopped_keeps_what_it_had(lamp_room):
    frame, scene = frame_and_scene(lamp_room)
    had = grow(scene, frame.camera, Tally.empty(scene.light_names, all_pixels(SIZE), SIZE, ""), Asked(bounces=1), 4)
    before = had.sums.copy()

    def stop():
        raise InterruptedError

    with pytest.raises(InterruptedError):
        grow(scene, frame.camera, had, Asked(bounces=1), 4, between=stop)
    assert had.count == 4 and np.array_equal(had.sums, before)


def test_a_torn_or_lying_file_is_one_error(lamp_room, tmp_path):
    _, scene = frame_and_scene(lamp_room)
    path = tmp_path / "room.npz"
    Tally.empty(scene.light_names, all_pixels(SIZE), SIZE, "").save(path)
    whole = path.read_bytes()
    for content in (whole[:400], b"", b"PK\x03\x04 nothing", whole.replace(b"squares", b"sqvares")):
        path.write_bytes(content)
        with pytest.raises(RequestError, match=r"room\.npz: not a reference"):
            Tally.load(path)


def test_noise_of_a_matt_room_is_forecast_within_a_quarter(lamp_room):
    frame, scene = frame_and_scene(lamp_room)
    asked, tally = Asked(bounces=2, spread=True), Tally.empty(scene.light_names, all_pixels(SIZE), SIZE, "")
    for step in rounds(tally, 32):
        tally = noted(grow(scene, frame.camera, tally, asked, step))
    told = noise_of(tally)
    assert told.refused == "" and told.slope == pytest.approx(-0.5, abs=0.05)
    wanted = told.value / 2
    n = told.samples_for(wanted)
    assert n == pytest.approx(128, abs=1)  # half the noise takes four times the samples
    best = grow(scene, frame.camera, tally, Asked(bounces=2, spread=True), n - 32)
    truth = grow(
        scene,
        frame.camera,
        Tally.empty(scene.light_names, all_pixels(SIZE), SIZE, ""),
        Asked(bounces=2, spread=True, seed=9),
        2048,
    )
    calm = ~truth.silhouette
    real = np.sqrt(np.mean((best.luminance - truth.luminance)[calm] ** 2)) / truth.luminance[calm].mean()
    assert real == pytest.approx(wanted, rel=0.25)


def test_no_forecast_is_given_for_light_that_a_mirror_throws():
    # A small bright panel that only a polished floor shows to the wall: rare samples carry most of the light.
    things = [
        Thing("wall", Shape().quad((-3, 0, -3), (6, 0, 0), (0, 4, 0)), Material("wall", (0.8, 0.8, 0.8, 1), **LAMBERT)),
        Thing("floor", Shape().quad((-3, 0, 3), (6, 0, 0), (0, 0, -6)), Material("floor", (1, 1, 1, 1), metallic=1.0, roughness=0.02)),
        Thing("panel", Shape().quad((-0.1, 1.0, -0.2), (0.2, 0, 0), (0, 0, 0.2)), glow("panel", 5000)),
    ]  # fmt: skip
    build = build_of(*things, setup=looking((0, 2, 2.5), (0, 1.5, -3), 40.0, sky={"ambient": False}))
    frame, scene = frame_and_scene(build)
    tally = Tally.empty(scene.light_names, all_pixels(SIZE), SIZE, "")
    for step in rounds(tally, 64):
        tally = noted(grow(scene, frame.camera, tally, Asked(), step))
    told = noise_of(tally)
    assert "not 1/sqrt N here" in told.refused and told.samples_for(0.02) is None
