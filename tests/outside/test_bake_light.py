"""Gathered light against closed formulas, handbook view factors and another renderer.

Howell's catalogue, Goral et al. 1984 and the Lambert polygon formula are cited from memory; the values were reproduced by quadrature and
by other renderers before this code was written.
"""

import numpy as np
import pytest

from bake_scenes import UNIT_PAGE, baked_setup, box_inside, closed_box, matt, panel
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.scene.model import Light
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

FACES = ("floor", "ceiling", "north", "south", "west", "east")


def irradiance(build, name):
    return bake(build, [name], everything=True).raws[name, None].mean[..., 0]


def speck(size=0.02):
    """A tiny receiver at the origin that faces up."""
    half = size / 2
    return panel("spot", (-half, 0, half), (size, 0, 0), (0, 0, -size), matt("spot", 0.0), UNIT_PAGE)


def shining(corner, along, up, radiance=1.0):
    return panel("light", corner, along, up, matt("light", 0.0, radiance))


@pytest.mark.parametrize(
    ("light", "expected"),
    [
        # B15: below the middle of a unit square at height 1, L = 1 (Lambert 1760 polygon formula).
        (shining((-0.5, 1, -0.5), (1, 0, 0), (0, 0, 1)), 0.752274688454),
        # B16: a vertical unit square at distance 1, from .5 to 1.5 above the floor.
        (shining((1, 0.5, -0.5), (0, 0, 1), (0, 1, 0)), 0.226063337614),
        # B10: below a corner of a unit square at distance 1: pi times the view factor (Howell B-3).
        (shining((0, 1, 0), (1, 0, 0), (0, 0, 1)), np.pi * 0.138531606),
    ],
)
def test_area_lights_match_the_polygon_formula(light, expected):
    build = build_of(speck(), light, setup=baked_setup([speck()], resolution=8, samples=4096, bounces=0))
    assert irradiance(build, "spot").mean() == pytest.approx(expected, rel=0.015)


def disc(name, centre, radius, radiance, sides=256):
    """A level disc that faces down, as a fan (its area is a 256-gon's: .01 % short)."""
    turn = np.linspace(0, 2 * np.pi, sides, endpoint=False)
    rim = np.stack([np.cos(turn) * radius, np.zeros(sides), np.sin(turn) * radius], axis=1)
    places = np.concatenate([[[0, 0, 0]], rim]) + centre
    fan = np.stack([np.zeros(sides, int), 1 + np.arange(sides), 1 + (np.arange(sides) + 1) % sides], axis=1)
    shape = Shape().add(places, np.tile([0, -1.0, 0], (sides + 1, 1)), np.zeros((sides + 1, 2)), fan)
    return Thing(name, shape, matt(name, 0.0, radiance))


def ball(name, centre, radius, radiance):
    """A ball of 5120 triangles whose corners lie on it."""
    import trimesh

    mesh = trimesh.creation.icosphere(subdivisions=4, radius=radius)
    shape = Shape().add(mesh.vertices + centre, mesh.vertex_normals, np.zeros((len(mesh.vertices), 2)), mesh.faces)
    return Thing(name, shape, matt(name, 0.0, radiance))


def at_speck(*things, samples=4096, bounces=0, **setup):
    return irradiance(
        build_of(speck(), *things, setup={**baked_setup([speck()], resolution=8, samples=samples, bounces=bounces), **setup}),
        "spot",
    ).mean()


@pytest.mark.parametrize(
    ("light", "factor"),
    [
        (disc("light", (0, 1, 0), 1.0, 1.0), 0.5),  # B09, Howell B-12: r^2 / (r^2 + h^2)
        (disc("light", (0, 2, 0), 0.5, 1.0), 0.25 / 4.25),
        (shining((1, 0, -1), (0, 0, 1), (0, 1, 0)), 0.0557341970026),  # B11, Howell B-4: wall, the element at its foot's corner
        (ball("light", (0, 2, 0), 1.0, 1.0), 0.25),  # B12, Howell B-43: cos a (R / d)^2
        (ball("light", (np.sqrt(3), 1, 0), 0.5, 1.0), 0.5 * 0.0625),  # the same, 60 degrees from the normal
    ],
)
def test_view_factors_of_an_element(light, factor):
    assert at_speck(light) / np.pi == pytest.approx(factor, rel=0.02)


def test_a_ball_sees_as_much_of_a_disc_whatever_its_size():
    # B08, Howell C-121: a sphere's view factor to a coaxial disc, r = h = 1, is .1464, its solid angle over 4 pi.
    import trimesh

    for radius in (0.1, 0.5):
        mesh = trimesh.creation.icosphere(subdivisions=2, radius=radius)
        corners = mesh.vertices[mesh.faces]
        faces = np.concatenate([[[0, 0], [1, 0], [1, 1]]] * len(corners)).reshape(-1, 3, 2) * 0.06
        cell = np.stack(np.divmod(np.arange(len(corners)), 18), axis=1)[:, None] / 18.0
        shape = Shape().add(
            corners.reshape(-1, 3), np.repeat(mesh.face_normals, 3, axis=0), np.zeros((3 * len(corners), 2)),
            np.arange(3 * len(corners)).reshape(-1, 3),
        )  # fmt: skip
        thing = Thing("ball", shape, matt("ball", 0.0), lightmap=(faces * 0.8 + cell).reshape(-1, 2))
        light = disc("light", (0, 1, 0), 1.0, 1.0)
        build = build_of(thing, light, setup=baked_setup([thing], resolution=36, samples=96, bounces=0))
        raw = bake(build, ["ball"], everything=True).raws["ball", None]
        assert raw.mean[raw.covered][:, 0].mean() / np.pi == pytest.approx(0.1464466094, rel=0.03)


@pytest.mark.parametrize(("bounces", "expected"), [(0, 1.0), (2, 1.64), (4, 2.0496)])
def test_light_between_two_wide_planes_goes_by_even_bounces(bounces, expected):
    # B26: rho = .8 on both, the upper one emits M = 1: after k round trips the dark one gets the sum of rho^2k. Planes of 2 km, 1 m apart.
    wide = 1000.0
    lower = panel("lower", (-wide, 0, wide), (2 * wide, 0, 0), (0, 0, -2 * wide), matt("lower", 0.8))
    upper = panel("upper", (-wide, 1, -wide), (2 * wide, 0, 0), (0, 0, 2 * wide), matt("upper", 0.8, 1 / np.pi))
    spot = panel("spot", (-0.5, 0.0005, 0.5), (1, 0, 0), (0, 0, -1), matt("spot", 0.8), UNIT_PAGE)
    build = build_of(lower, upper, spot, setup=baked_setup([spot], resolution=8, samples=512, bounces=bounces))
    assert irradiance(build, "spot").mean() == pytest.approx(expected, rel=0.01)


def test_half_the_sky_at_the_foot_of_a_wall():
    # B30: symmetry. A black wall without end takes one half of an even sky.
    wall = panel("wall", (0.02, 0, 500), (0, 0, -1000), (0, 500, 0), matt("wall", 0.0))
    ground = Thing("ground", Shape().quad((-900, -0.001, 900), (1800, 0, 0), (0, 0, -1800)), matt("ground", 0.0))
    sky = {"sky": {"zenith_rgb": [3, 3, 3], "horizon_rgb": [3, 3, 3], "ground_rgb": [0, 0, 0]}}
    assert at_speck(wall, ground, samples=2048, **sky) / (3 * np.pi) == pytest.approx(0.5, rel=0.03)


def test_view_factor_of_opposite_and_of_adjacent_faces():
    # B03 and B05: unit squares, gap 1, and with a common edge (Howell C-11, C-14): mean irradiance = pi L F.
    build = closed_box(0.0, {"ceiling": 1.0}, resolution=16, samples=512, bounces=0)
    maps = bake(build, everything=True).raws
    assert maps["floor", None].mean[..., 0].mean() / np.pi == pytest.approx(0.1998248957, rel=0.015)
    assert maps["north", None].mean[..., 0].mean() / np.pi == pytest.approx(0.2000437761, rel=0.015)


def test_a_point_lamp_and_a_sun_are_exact():
    # KHR_lights_punctual: candela / d^2 times the cosine; lux of a sun times the cosine.
    sun = {"lights": {"sun": {"kind": "sun", "towards": [0, 1, 1], "illuminance_lux": 100.0}}}
    build = build_of(speck(), setup={**baked_setup([speck()], resolution=8, samples=4, bounces=0), **sun},
                     lamps=((Light("lamp", "point", intensity=90.0), (0, 3, 0)),))  # fmt: skip
    assert irradiance(build, "spot").mean() == pytest.approx(90 / 9 + 100 * np.sqrt(0.5), rel=1e-4)


@pytest.mark.parametrize(("bounces", "expected"), [(0, 0.36), (1, 0.488), (2, 0.5904), (7, 0.865782272)])
def test_a_furnace_fills_as_the_geometric_series_says(bounces, expected):
    # B21: every surface emits 1 - rho and reflects rho = .8; after n bounces L = 1 - rho^(n + 1). The map holds what arrives, one less.
    build = closed_box(0.8, dict.fromkeys(FACES, 0.2), resolution=8, samples=16, bounces=bounces)
    assert 0.2 + 0.8 * irradiance(build, "floor").mean() / np.pi == pytest.approx(expected, abs=0.001)


def test_bounced_light_in_a_closed_cube():
    # B28: ceiling emits M = 1, rho = .5: true mean irradiance of the floor .3427; one zone a face (B27) says .3635 and is 6 % off.
    build = closed_box(0.5, {"ceiling": 1 / np.pi}, resolution=16, samples=256, bounces=14)
    maps = bake(build, everything=True).raws
    assert maps["floor", None].mean[..., 0].mean() == pytest.approx(0.3427, abs=0.003)
    # Energy: flux that is absorbed everywhere equals what is emitted: mean E over all faces = M_total / (1 - rho) / 6.
    everywhere = np.mean([maps[n, None].mean[..., 0].mean() for n in FACES])
    assert everywhere == pytest.approx(1 / (1 - 0.5) / 6, rel=0.02)


def test_bounce_of_a_hall_is_flux_rho_over_area_times_one_less_rho():
    # The worked case of older scene converted to baked bounce: flux rho / (A (1 - rho)) is the mean over all faces of a closed
    # hall, 480,000 x .35 / (992 x .65) = 260.5 lx for 20 x 12 x 8 m; the floor alone gets about 209 of it.
    x, y, z = 20.0, 8.0, 12.0
    sides = {
        "floor": ((0, 0, z), (x, 0, 0), (0, 0, -z)), "ceiling": ((0, y, 0), (x, 0, 0), (0, 0, z)),
        "north": ((0, 0, 0), (x, 0, 0), (0, y, 0)), "south": ((x, 0, z), (-x, 0, 0), (0, y, 0)),
        "west": ((0, 0, z), (0, 0, -z), (0, y, 0)), "east": ((x, 0, 0), (0, 0, z), (0, y, 0)),
    }  # fmt: skip
    glow = 480_000 / (x * z) / np.pi  # nit: flux over area is what a Lambertian roof gives off, pi times its radiance
    things = [panel(n, *s, matt(n, 0.35, glow if n == "ceiling" else 0.0), UNIT_PAGE) for n, s in sides.items()]
    area = {n: np.linalg.norm(np.cross(s[1], s[2])) for n, s in sides.items()}

    def mean(bounces, *lamps):
        build = build_of(*things, setup=baked_setup(things, resolution=8, samples=192, bounces=bounces), lamps=lamps)
        raws = bake(build, everything=True).raws
        maps = {n: raws[n, None].mean[..., 0].mean() for n in sides}
        return sum(maps[n] * area[n] for n in sides) / sum(area.values()), maps["floor"]

    (direct, floor_direct), (all_of_it, floor) = mean(0), mean(12)
    bounced = all_of_it - direct
    assert bounced == pytest.approx(480_000 * 0.35 / (992 * 0.65), rel=0.02)
    assert floor - floor_direct == pytest.approx(209, rel=0.05)
    # A fill that gave 250 lx everywhere (whatever its place: 992 m2 catch all its lumens) made up for it. It bounces as well: with both
    # there are 260.5 + 250 / .65 = 645.1 lx, 1.37 stops more than before; without the fill .06.
    with_fill, _ = mean(12, (Light("fill", "point", intensity=250 * 992 / (4 * np.pi)), (10.0, 4.0, 6.0)))
    assert with_fill - direct == pytest.approx(645.1, rel=0.02)
    assert np.log2((with_fill - direct) / 250) == pytest.approx(1.37, abs=0.03)
    assert np.log2(bounced / 250) == pytest.approx(0.06, abs=0.03)


def test_sky_in_a_trench():
    # B29: floor middle of a long trench as wide as deep: sin(atan(w / 2h)) of the open sky's pi L (Oke 1987, from memory).
    side = {"west": ((-0.5, 0, 100), (0, 0, -200), (0, 1, 0)), "east": ((0.5, 0, -100), (0, 0, 200), (0, 1, 0))}
    walls = [panel(n, *s, matt(n, 0.0)) for n, s in side.items()]
    ground = Thing("ground", Shape().quad((-0.5, -0.001, 100), (1, 0, 0), (0, 0, -200)), matt("ground", 0.0))
    setup = baked_setup([speck()], resolution=8, samples=2048, bounces=0)
    sky = {"sky": {"zenith_rgb": [1, 1, 1], "horizon_rgb": [1, 1, 1], "ground_rgb": [0, 0, 0]}}
    build = build_of(speck(), ground, *walls, setup={**setup, **sky})
    assert irradiance(build, "spot").mean() / np.pi == pytest.approx(0.4472135955, rel=0.015)


def test_noise_falls_with_the_root_of_the_samples():
    # O11: slope -1/2 of the error over the number of samples, on a cube lit by its ceiling.
    counts, errors = [16, 64, 256, 1024], []
    truth = irradiance(closed_box(0.0, {"ceiling": 1.0}, resolution=8, samples=16384, bounces=0), "floor")
    for n in counts:
        got = irradiance(closed_box(0.0, {"ceiling": 1.0}, resolution=8, samples=n, bounces=0), "floor")
        errors.append(np.sqrt(((got - truth) ** 2).mean()))
    slope = np.polyfit(np.log(counts), np.log(errors), 1)[0]
    assert slope == pytest.approx(-0.5, abs=0.06)


def test_a_furnished_box_against_mitsuba():
    """Irradiance on the floor of a box with a block in it, texel by texel, against mitsuba's path tracer on the same texels."""
    mi = pytest.importorskip("mitsuba")
    mi.set_variant("scalar_rgb")
    block = Thing("block", Shape().box((0.25, 0, 0.3), (0.55, 0.4, 0.6)), matt("block", 0.6))
    things = box_inside(0.5, {"ceiling": 1 / np.pi})
    edge, bounces = 8, 6
    build = build_of(*things, block, setup=baked_setup(things, resolution=edge, samples=16384, bounces=bounces))
    mine = irradiance(build, "floor")
    scene = {"type": "scene", "integrator": {"type": "path", "max_depth": bounces + 1, "rr_depth": 100}}
    for thing in [*things, block]:
        part = thing.shape.primitive(0)
        for k, tri in enumerate(part.indices[::2]):
            a, b, c = part.positions[tri].astype(float)
            d = a + c - b
            to = np.eye(4)
            to[:3, 0], to[:3, 1], to[:3, 2], to[:3, 3] = (b - a) / 2, (d - a) / 2, np.cross(b - a, d - a), (a + c) / 2
            shape = {
                "type": "rectangle", "to_world": mi.ScalarTransform4f(to),
                "bsdf": {"type": "diffuse", "reflectance": {"type": "rgb", "value": list(thing.material.base_rgba[:3])}},
            }  # fmt: skip
            if max(thing.material.emissive) > 0:
                shape["emitter"] = {"type": "area", "radiance": {"type": "rgb", "value": list(thing.material.emissive)}}
            scene[f"{thing.name}_{k}"] = shape
    spots = []
    for row in range(edge):
        for column in range(edge):
            if (column + 1) / edge >= 0.25 and column / edge <= 0.55 and (row + 1) / edge >= 0.3 and row / edge <= 0.6:
                continue
            spots.append((row, column))
    theirs = {}
    for row, column in spots[::3]:
        x, z = (column + 0.5) / edge, (row + 0.5) / edge
        to = np.array([[0.5 / edge, 0, 0, x], [0, 0, 1, 1e-4], [0, -0.5 / edge, 0, z], [0, 0, 0, 1]])
        sensor = {
            "type": "rectangle", "to_world": mi.ScalarTransform4f(to),
            "sensor": {"type": "irradiancemeter", "sampler": {"type": "independent", "sample_count": 4096},
                       "film": {"type": "hdrfilm", "width": 1, "height": 1, "rfilter": {"type": "box"}, "pixel_format": "rgb"}},
        }  # fmt: skip
        loaded = mi.load_dict({**scene, "meter": sensor})
        theirs[row, column] = float(np.array(mi.render(loaded, sensor=0, seed=row * edge + column))[0, 0, 0])
    difference = np.array([mine[k] - v for k, v in theirs.items()])
    rmse = float(np.sqrt((difference**2).mean()) / np.mean(list(theirs.values())))
    # Both are random: with these samples each is worth about 1.5 %; the mean tells whether one of them is biased.
    assert rmse < 0.03, rmse
    assert abs(difference.mean()) < 0.006 * np.mean(list(theirs.values()))
