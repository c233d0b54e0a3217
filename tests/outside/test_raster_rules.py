"""Triangles to pixels: the coverage rule of graphics hardware, areas of plane geometry, hits of a general ray caster."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import Delaunay
from shapely import Polygon

from eddyfall.core.raster.depth_format import DepthFormat
from eddyfall.core.raster.layers import two_nearest
from eddyfall.core.raster.project import SUBPIXEL, project
from eddyfall.core.raster.rasterise import Cutouts, fragments_at, rasterise
from plain_rays import plain_hits

SIZE = (48, 32)
CODE = DepthFormat("float32", False, 0.1, 100.0).code
SOLID = Cutouts(
    np.array([-1], np.int32), np.zeros(1, np.float32), np.ones(1, np.float32), np.zeros((1, 6), np.int32),
    np.array([[0, 1, 1]], np.int64), np.full(1, 255, np.uint8), np.zeros(1, np.float32),
)  # fmt: skip


def on_screen(places, triangles, matrix=None, cull=0, window=None):
    """Screen triangles of places (n, 3), given in clip space unless there is a matrix."""
    triangles = np.asarray(triangles, np.int32)
    chosen = np.arange(len(triangles), dtype=np.int32)
    matrix = np.eye(4, dtype=np.float32) if matrix is None else np.asarray(matrix, np.float32)
    positions = np.asarray(places, np.float32)
    return project(
        positions, np.zeros((len(positions), 2), np.float32), triangles, chosen, np.full(len(chosen), cull, np.int8), matrix, SIZE,
        window or (0, 0, *SIZE),
    )  # fmt: skip


def in_pixels(points, depth=0.5):
    """Places in clip space of points (n, 2) given in pixels, rows running down."""
    points = np.asarray(points, float)
    z = np.broadcast_to(depth, len(points))
    return np.stack([points[:, 0] / SIZE[0] * 2 - 1, 1 - points[:, 1] / SIZE[1] * 2, z], axis=1)


def drawn(screen, window=(0, 0, *SIZE)):
    """(depth keys, visible) of solid triangles of one drawable."""
    shape = (window[3] - window[1], window[2] - window[0])
    depth, visible = np.full(shape, 1.0, np.float32), np.full(shape, -1, np.int32)
    owner = np.zeros(max(len(screen.ids), 1) + 64, np.int32)
    rasterise(screen, owner, np.ones(1, np.uint8), SOLID, CODE, depth, visible, window[:2])
    return depth, visible


def covering(screen, x, y):
    return fragments_at(screen, np.zeros(len(screen.ids) + 64, np.int32), SOLID, CODE, x, y)


@given(st.integers(0, 10_000))
@settings(max_examples=25, deadline=None)
def test_a_mesh_covers_each_pixel_exactly_once(seed):
    # The top-left rule (Vulkan 1.3, 27.9 Polygon rasterization; from memory): no pixel of a shared edge twice, none left out.
    rng = np.random.default_rng(seed)
    # Points on whole and half pixels put as many edges as can be through pixel centres.
    inner = rng.integers(0, 2 * np.array(SIZE), (20, 2)) / 2
    border = np.array([[0, 0], [SIZE[0], 0], [0, SIZE[1]], SIZE])
    points = np.unique(np.concatenate([inner, border]), axis=0)
    screen = on_screen(in_pixels(points), Delaunay(points).simplices)
    for x in range(0, SIZE[0], 3):
        for y in range(0, SIZE[1], 3):
            assert len(covering(screen, x, y)) == 1, (x, y)
    assert (drawn(screen)[1] >= 0).all()


@pytest.mark.parametrize(
    ("corners", "owned"),
    [
        ([(0.5, 0.5), (4.5, 0.5), (0.5, 4.5)], 4 * 5 / 2),  # top and left edge through centres: both are drawn
        ([(4.5, 4.5), (0.5, 4.5), (4.5, 0.5)], 3 * 4 / 2),  # bottom and right edge through centres: neither is
    ],
)
def test_top_and_left_edges_own_their_pixels(corners, owned):
    _, visible = drawn(on_screen(in_pixels(corners), [[0, 1, 2]]))
    assert (visible >= 0).sum() == owned


@given(st.integers(0, 10_000))
@settings(max_examples=40, deadline=None)
def test_pixels_drawn_are_the_area_within_the_border(seed):
    # A lattice counts an area to within its perimeter (Gauss circle argument); positions snap to 1/256 of a pixel.
    corners = np.random.default_rng(seed).uniform(-8, 56, (3, 2))
    polygon = Polygon(corners).intersection(Polygon([(0, 0), (SIZE[0], 0), SIZE, (0, SIZE[1])]))
    _, visible = drawn(on_screen(in_pixels(corners), [[0, 1, 2]]))
    assert abs((visible >= 0).sum() - polygon.area) <= polygon.length + 1


def test_positions_snap_to_a_256th_of_a_pixel():
    screen = on_screen(in_pixels([(1.0013, 2.0), (30.4987, 3.0), (7.0, 20.2501)]), [[0, 1, 2]])
    assert screen.fixed[0].tolist() == [256, 512, round(30.4987 * SUBPIXEL), 768, 1792, round(20.2501 * SUBPIXEL)]


def test_back_faces_are_removed_where_asked():
    front = in_pixels([(4, 20), (20, 20), (4, 4)])  # counter-clockwise as one looks at it
    for order, cull, wanted in [((0, 1, 2), 1, 1), ((0, 2, 1), 1, 0), ((0, 2, 1), 0, 1)]:
        assert len(on_screen(front, [order], cull=cull).ids) == wanted


@given(st.integers(0, 10_000))
@settings(max_examples=25, deadline=None)
def test_kernels_agree_with_the_list_of_fragments(seed):
    rng = np.random.default_rng(seed)
    points = rng.uniform(-10, 60, (30, 2))
    places = in_pixels(points, rng.uniform(0.05, 0.95, 30))
    screen = on_screen(places, np.arange(30).reshape(10, 3))
    depth, visible = drawn(screen)
    owner = np.zeros(64, np.int32)
    keys, found = two_nearest(screen, owner, np.ones(1, np.uint8), SOLID, CODE, (SIZE[1], SIZE[0]), (0, 0))
    for x in range(0, SIZE[0], 5):
        for y in range(0, SIZE[1], 5):
            fragments = sorted(covering(screen, x, y), key=lambda f: f.key)
            if not fragments:
                assert visible[y, x] == -1 and (found[y, x] == -1).all()
                continue
            assert depth[y, x] == fragments[0].key and keys[y, x, 0] == fragments[0].key
            assert found[y, x].tolist()[: len(fragments)] == [f.index for f in fragments[:2]]


def test_depth_is_a_plane_over_the_screen():
    # z / w is linear over the screen (any text on projective geometry).
    corners, z = np.array([(2.0, 3.0), (45.0, 5.0), (12.0, 30.0)]), np.array([0.2, 0.9, 0.5])
    depth, visible = drawn(on_screen(in_pixels(corners, z), [[0, 1, 2]]))
    plane = np.linalg.solve(np.c_[corners, np.ones(3)], z)
    y, x = np.nonzero(visible >= 0)
    assert len(x) > 300
    assert depth[y, x] == pytest.approx(np.c_[x + 0.5, y + 0.5, np.ones(len(x))] @ plane, abs=2e-5)


def test_coincident_faces_of_other_corners_do_not_agree_to_the_last_bit():
    # Common practice, no source: two meshes in one plane speckle, since depth is interpolated from other corners.
    rng = np.random.default_rng(4)
    normal = np.array([0.21, -0.13])
    flat = lambda p: 0.5 + (p / np.array(SIZE)) @ normal  # noqa: E731
    a, b = np.array([(1.3, 2.1), (44.2, 3.7), (9.4, 29.9)]), rng.uniform(0, 46, (3, 2))
    b = np.array([(3.1, 1.2), (46.3, 2.2), (14.4, 31.0)])
    first, second = (drawn(on_screen(in_pixels(p, flat(p)), [[0, 1, 2]])) for p in (a, b))
    both = (first[1] >= 0) & (second[1] >= 0)
    gap = first[0][both] - second[0][both]
    assert np.abs(gap).max() < 3e-5 and (gap > 0).any() and (gap < 0).any()


@pytest.mark.parametrize("seed", range(6))
def test_pixels_are_where_a_ray_caster_hits(seed):
    # Through pixel centres; triangles cross the near plane, the far plane and the guard band.
    near, far, tall = 0.5, 40.0, 1.2
    rng = np.random.default_rng(seed)
    places = rng.uniform([-9, -6, -30], [9, 6, 3], (24, 3))
    places[:3, :2] *= 40  # one triangle leaves the guard band
    wide = tall * SIZE[0] / SIZE[1]
    a, b = DepthFormat("float32", False, near, far).ab
    matrix = np.array([[1 / wide, 0, 0, 0], [0, 1 / tall, 0, 0], [0, 0, -a, b], [0, 0, -1, 0]], np.float32)
    screen = on_screen(places, np.arange(24).reshape(8, 3), matrix)
    depth, visible = drawn(screen)
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]].reshape(2, -1)
    rays = np.stack([((x + 0.5) / SIZE[0] * 2 - 1) * wide, (1 - (y + 0.5) / SIZE[1] * 2) * tall, -np.ones(len(x))], axis=1)
    wanted, nearest = plain_hits(places.reshape(8, 3, 3), np.zeros(3), rays, near, far)
    got = np.where(visible >= 0, screen.ids[visible], -1)[y, x]
    same = got == wanted
    assert same.mean() > 0.985, f"{(~same).sum()} pixels of {len(same)} differ; only borders may"
    hit = same & (wanted >= 0)
    assert hit.sum() > 30
    found = b / (depth[y, x][hit].astype(float) - a)
    error = np.abs(found / nearest[hit] - 1)
    assert np.median(error) < 3e-4 and (error < 2e-3).mean() > 0.98  # snapped corners tilt steep triangles a little


@given(st.integers(0, 10_000))
@settings(max_examples=20, deadline=None)
def test_a_window_is_a_slice_of_the_frame(seed):
    rng = np.random.default_rng(seed)
    places = in_pixels(rng.uniform(-20, 70, (24, 2)), rng.uniform(0.05, 0.95, 24))
    triangles = np.arange(24).reshape(8, 3)
    x0, y0 = rng.integers(0, 30), rng.integers(0, 20)
    window = (int(x0), int(y0), int(x0) + 15, int(y0) + 11)
    whole, part = on_screen(places, triangles), on_screen(places, triangles, window=window)
    depth, visible = drawn(whole)
    crop, seen = drawn(part, window)
    cut = np.s_[window[1] : window[3], window[0] : window[2]]
    assert (crop == depth[cut]).all()
    ids = np.append(part.ids, -1)[seen], np.append(whole.ids, -1)[visible[cut]]
    assert (ids[0] == ids[1]).all()
