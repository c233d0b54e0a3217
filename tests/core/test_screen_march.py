"""Rays through a frame's depth, horizons in it and the filter over few rays: against plain twins, geometry and worked numbers."""

import math

import numpy as np
import pytest

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.passes.screen import screen_of
from eddyfall.core.scene.model import Material
from eddyfall.core.screen.a_trous import Guide, coarser, round_plain, smoothed, spread
from eddyfall.core.screen.bundles import even_rays, seeds_of
from eddyfall.core.screen.horizon import horizon_plain, horizons
from eddyfall.core.screen.march import march_plain, marched
from eddyfall.core.shade.columns import NORMAL_XYZ
from eddyfall.demo.shapes import Shape
from light_rooms import MATT, SPOT, looking, shining_hall
from scenes import Thing, build_of

SIZE = (480, 270)
NEAR_M = 0.1


def screen_before(build, view="eye", size=SIZE):
    """(frame, what a march is held against) of a view, by the depth after all that is opaque."""
    frame = Renderer().frame(build, Request(view, size), "surface")
    return frame, screen_of(frame.camera, frame.pixels, frame.view_depth, frame.buffers["surface"], NEAR_M, 0)


@pytest.fixture(scope="module")
def before_the_wall():
    return screen_before(shining_hall(), "near")


@pytest.fixture(scope="module")
def level():
    return screen_before(shining_hall(), "level")


def rays_to_the_wall(n):
    """Unit directions (n, 3) from SPOT, cosine-weighted, of which those are kept that end on the wall."""
    way, jitter = even_rays(np.tile([0.0, 1.0, 0.0], (n, 1)), seeds_of(np.arange(n), np.zeros(n), 0), 0)
    with np.errstate(divide="ignore"):
        end = np.array(SPOT) + way * np.where(way[:, 0] < 0, -SPOT[0] / way[:, 0], np.inf)[:, None]
    on = np.isfinite(end).all(axis=1) & (end[:, 1] < 3) & (end[:, 2] > 2.4) & (end[:, 2] < 9.6)
    return way[on], jitter[on], end[on]


def on_frame(camera, place):
    """(n,) bool: places (n, 3) that the frame shows if nothing hides them."""
    away, half = place - np.array(camera.eye), math.tan(camera.fov_y_rad / 2)
    depth = away @ camera.forward
    across, up = away @ camera.axes[0] / (depth * half * camera.aspect), away @ camera.axes[1] / (depth * half)
    return (depth > 0) & (np.abs(across) < 1) & (np.abs(up) < 1)


@pytest.mark.parametrize("steps, share", [(8, 0.36), (16, 0.71), (32, 0.95), (64, 0.97), (128, 0.99)])
def test_few_steps_find_few_of_the_rays_that_end_on_the_frame(level, steps, share):
    """Reach 20 m, thickness .5 m, steps even over the screen: shares worked out beforehand by a model of the same march."""
    frame, screen = level
    way, jitter, end = rays_to_the_wall(60_000)
    on = on_frame(frame.camera, end)
    found = marched(np.tile((SPOT[0], 1e-3, SPOT[2]), (len(way), 1)), way, jitter, screen, 20.0, 0.5, steps)
    assert (found[on] >= 0).mean() == pytest.approx(share, abs=0.05)


def test_what_is_not_on_the_frame_is_not_found_on_it(before_the_wall):
    frame, screen = before_the_wall
    way, jitter, end = rays_to_the_wall(20_000)
    off = ~on_frame(frame.camera, end)
    found = marched(np.tile((SPOT[0], 1e-3, SPOT[2]), (len(way), 1)), way, jitter, screen, 20.0, 0.5, 64)
    assert off.sum() > 100 and (found[off] >= 0).mean() < 0.03


def test_the_march_is_its_plain_twin(before_the_wall):
    _, screen = before_the_wall
    rng = np.random.default_rng(5)
    way = rng.normal(size=(400, 3))
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    place = rng.uniform((0.5, 0.1, 3), (5, 2.5, 9), (400, 3))
    jitter = rng.uniform(0.01, 1, 400)
    found = marched(place, way, jitter, screen, 8.0, 0.7, 24)
    plain = [march_plain(p, d, float(j), screen, 8.0, 0.7, 24) for p, d, j in zip(place, way, jitter)]
    assert (found == plain).mean() > 0.99 and (found >= 0).sum() > 50


def test_the_thicker_things_are_taken_to_be_the_more_is_met_wrongly():
    """A post before a wall: rays that pass behind it meet it where it is taken to be deep."""
    post = Thing("post", Shape().box((-0.2, 0, -2.1), (0.2, 3, -1.9)), Material("post", (0.5, 0.5, 0.5, 1), **MATT))
    wall = Thing("wall", Shape().quad((-4, 0, -6), (8, 0, 0), (0, 3, 0)), Material("wall", (0.5, 0.5, 0.5, 1), **MATT))
    frame, screen = screen_before(build_of(post, wall, setup={"viewpoints": {"eye": looking((0, 1.5, 2), (0, 1.5, 0))}}))
    y = np.linspace(0.6, 2.4, 50)
    # From the left across, 2.7 m behind the post's front, and a little away from the eye.
    place = np.stack([np.full(50, -2.0), y, np.full(50, -4.5)], axis=1)
    way = np.tile(np.array([1.0, 0.0, -0.1]) / math.hypot(1, 0.1), (50, 1))
    owner = frame.drawable.ravel()
    hits = []
    for thickness in (0.1, 0.5, 4.0):
        found = marched(place, way, np.full(50, 0.5), screen, 5.0, thickness, 128)
        hits.append(int((owner[found[found >= 0]] == 0).sum()))
    assert hits[:2] == [0, 0] and hits[2] == 50


@pytest.mark.parametrize("rounds, left", [(1, 0.273), (2, 0.123), (3, 0.060)])
def test_rounds_of_the_filter_leave_what_its_kernel_says_of_white_noise(rounds, left):
    """sum of squares of the 5 x 5 B-spline kernel: (70 / 256) = .273; with holes the second and third leave .123 and .060."""
    rng = np.random.default_rng(3)
    y, x = np.mgrid[0:200, 0:200] * 0.01
    place = np.stack([x, y, np.zeros_like(x)], axis=2)
    guide = Guide(place, np.tile([0.0, 0.0, 1.0], (200, 200, 1)), np.full((200, 200), 5.0), np.ones((200, 200), bool))
    noise = rng.normal(size=(200, 200, 1))
    kept = smoothed(noise, guide, rounds)[20:-20, 20:-20].std()
    assert kept == pytest.approx(left, abs=0.006)


def test_a_round_of_the_filter_is_its_plain_twin():
    rng = np.random.default_rng(4)
    y, x = np.mgrid[0:24, 0:32] * 0.05
    normal = rng.normal(size=(24, 32, 3)) * 0.2 + (0, 0, 1)
    normal /= np.linalg.norm(normal, axis=2, keepdims=True)
    place = np.stack([x, y, rng.normal(size=x.shape) * 0.05], axis=2)
    guide = Guide(place, normal, rng.uniform(2, 5, x.shape), rng.random(x.shape) > 0.2)
    values = rng.random((24, 32, 2))
    once, twice = smoothed(values, guide, 1), smoothed(values, guide, 2)
    for at in [(0, 0), (5, 9), (31, 23), (16, 12), (2, 20)]:
        if guide.valid[at[1], at[0]]:
            assert once[at[1], at[0]] == pytest.approx(round_plain(values, guide, 1, *at), rel=1e-9)
            assert twice[at[1], at[0]] == pytest.approx(round_plain(once, guide, 2, *at), rel=1e-9)


def test_the_filter_stops_at_edges_and_a_coarse_picture_is_spread_along_its_own_surface():
    y, x = np.mgrid[0:64, 0:64]
    right = x >= 32
    place = np.stack([x * 0.01, y * 0.01, np.where(right, -1.0, 0.0)], axis=2)
    guide = Guide(place, np.tile([0.0, 0.0, 1.0], (64, 64, 1)), np.where(right, 3.0, 2.0), np.ones((64, 64), bool))
    values = right[..., None].astype(float)
    assert np.abs(smoothed(values, guide, 3) - values).max() < 1e-6
    for divisor in (2, 4):
        coarse = coarser(guide, divisor)
        small = (coarse.place[..., 2] < -0.5)[..., None].astype(float)
        assert np.abs(spread(small, coarse, guide, divisor) - values).max() < 1e-6


def corner(far_eye=False):
    """A floor and a high wall that meets it at z = 0, and a viewpoint that sees both, or one past the wall that sees the floor alone."""
    wall = Thing("wall", Shape().quad((-200, 0, 0), (400, 0, 0), (0, 200, 0)), Material("wall", (0.5, 0.5, 0.5, 1), **MATT))
    floor = Thing("floor", Shape().quad((-200, 0, 200), (400, 0, 0), (0, 0, -200)), Material("floor", (0.5, 0.5, 0.5, 1), **MATT))
    view = looking((0, 6, 1.0), (0, 0, 0.99), 3) if far_eye else looking((0, 30, 40), (0, 0.0, 0.0), 110)
    return build_of(wall, floor, setup={"viewpoints": {"eye": view}})


def seen_at(build, place):
    """(screen, normal, pixel) of what a frame shows of a place."""
    frame, screen = screen_before(build)
    place = np.array(place, float)
    away = place - np.array(frame.camera.eye)
    half, depth = math.tan(frame.camera.fov_y_rad / 2), away @ frame.camera.forward
    x = int(((away @ frame.camera.axes[0]) / (depth * half * frame.camera.aspect) + 1) / 2 * SIZE[0])
    y = int((1 - (away @ frame.camera.axes[1]) / (depth * half)) / 2 * SIZE[1])
    return screen, frame.buffers["surface"][y, x][NORMAL_XYZ].astype(float), y * SIZE[0] + x


def open_share(build, place, reach=1e4, steps=96, slices=48):
    screen, normal, pixel = seen_at(build, place)
    given = np.array([place], float), normal[None], np.array([pixel]), seeds_of(np.array([3]), np.array([7]), 3)
    return float(horizons(*given, screen, reach, steps, slices)[0])


@pytest.mark.parametrize("place", [(0, 0, 0.4), (0, 0, 3.0), (5.0, 2.0, 0.0)])
def test_horizons_are_their_plain_twin(place):
    """The twin sums each slice's arc up by its angle; the kernel has the closed form."""
    screen, normal, pixel = seen_at(corner(), place)
    seed = seeds_of(np.array([3]), np.array([7]), 3)
    given = np.array([place], float), normal[None], np.array([pixel])
    key = mixed_plain(int(seed[0]))
    numbers = np.array([[random_plain(key, 2 * s), random_plain(key, 2 * s + 1)] for s in range(6)])
    plain = horizon_plain(np.array(place, float), normal, pixel, numbers, screen, 50.0, 24)
    assert horizons(*given, seed, screen, 50.0, 24, 6)[0] == pytest.approx(plain, abs=2e-4)


def mixed_plain(x):
    """SplitMix64, as Steele, Lea and Flood 2014 have it."""
    mask = 2**64 - 1
    x = (x + 0x9E3779B97F4A7C15) & mask
    x = ((x ^ (x >> 30)) * 0xBF58476D1CE4E5B9) & mask
    x = ((x ^ (x >> 27)) * 0x94D049BB133111EB) & mask
    return x ^ (x >> 31)


def random_plain(key, dimension):
    return (mixed_plain((key + dimension * 0xD1342543DE82EF95) & (2**64 - 1)) >> 11) / 2**53


def test_half_of_the_light_is_left_at_the_foot_of_a_high_wall_and_all_of_it_where_the_wall_is_off_the_frame():
    # A wall without end takes half of the hemisphere, and by the cosine half of its light.
    assert open_share(corner(), (0, 0, 0.4)) == pytest.approx(0.5, abs=0.05)
    assert open_share(corner(), (0, 0, 30.0), reach=1.0) == pytest.approx(1.0, abs=0.01)
    off = open_share(corner(far_eye=True), (0, 0, 1.0))
    assert off == pytest.approx(1.0, abs=0.01), "one stop brighter than at the foot of the wall"
