"""The camera: where a point of the world falls on the frame, by optics and by rotations of another library."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from eddyfall.core.passes.contract import Camera, Pixels, View
from eddyfall.core.raster.depth_format import DepthFormat

DEPTH = DepthFormat("float32", True, 0.1, 1000.0)


def camera(seed=None, fov_y_deg=60.0, aspect=16 / 9):
    if seed is None:
        return Camera((0.0, 0.0, 0.0), ((1.0, 0, 0), (0, 1.0, 0), (0, 0, 1.0)), np.radians(fov_y_deg), aspect)
    rng = np.random.default_rng(seed)
    turn = Rotation.random(random_state=seed).as_matrix()
    return Camera(tuple(rng.uniform(-20, 20, 3)), tuple(map(tuple, turn)), np.radians(fov_y_deg), aspect)


def on_frame(view, points, depth=DEPTH):
    """Pixel position (n, 2) and w (n,) of world points by the clip matrix."""
    clip = np.c_[points, np.ones(len(points))] @ view.clip_matrix(depth).astype(float).T
    ndc = clip[:, :3] / clip[:, 3:]
    width, height = view.pixels.size
    return np.stack([(ndc[:, 0] + 1) / 2 * width, (1 - ndc[:, 1]) / 2 * height], axis=1), clip[:, 3], ndc[:, 2]


@pytest.mark.parametrize(("focal_mm", "degrees"), [(50, 39.5977528), (35, 54.4322231), (24, 73.7397953)])
def test_a_lens_fills_the_width_of_its_film(focal_mm, degrees):
    # Pinhole optics, 36 mm wide film: 2 atan(18 / f). A point at half that angle falls on the frame's edge.
    aspect = 16 / 9
    fov_y = 2 * np.arctan(np.tan(np.radians(degrees) / 2) / aspect)
    view = View(Camera((0, 0, 0), ((1, 0, 0), (0, 1, 0), (0, 0, 1)), fov_y, aspect), Pixels((1920, 1080), (0, 0, 1920, 1080)))
    at, _, _ = on_frame(view, np.array([[18.0, 0, -focal_mm], [-18.0, 0, -focal_mm]]))
    assert at[:, 0] == pytest.approx([1920, 0], abs=1e-3) and at[:, 1] == pytest.approx([540, 540], abs=1e-3)


def test_width_from_height():
    # 2 atan(16/9 tan 30 degrees) = 91.4928 degrees, not 60 * 16/9 = 106.7.
    view = View(camera(), Pixels((1600, 900), (0, 0, 1600, 900)))
    edge = np.tan(np.radians(91.4928 / 2))
    assert on_frame(view, np.array([[edge, 0, -1.0]]))[0][0] == pytest.approx([1600, 450], abs=0.01)


def test_pixels_a_metre_spans():
    # A metre square on at 5 m, 60 degrees high, 1080 rows: 187.061 px.
    view = View(camera(), Pixels((1920, 1080), (0, 0, 1920, 1080)))
    at, _, _ = on_frame(view, np.array([[0, 0.5, -5.0], [0, -0.5, -5.0]]))
    assert at[1, 1] - at[0, 1] == pytest.approx(187.061, abs=1e-3)


@given(st.integers(0, 10_000))
@settings(max_examples=50, deadline=None)
def test_the_ray_of_a_pixel_leads_back_to_it(seed):
    own = camera(seed, fov_y_deg=20 + seed % 90)
    view = View(own, Pixels((960, 540), (0, 0, 960, 540)))
    rng = np.random.default_rng(seed)
    position, z = rng.uniform([0, 0], [960, 540], (20, 2)), rng.uniform(0.5, 200, 20)
    r = view.rays
    points = r.eye + (r.d0 + position[:, :1] * r.du + position[:, 1:] * r.dv) * z[:, None]
    at, w, _ = on_frame(view, points)
    assert at == pytest.approx(position, abs=0.02)
    assert w == pytest.approx(z, rel=1e-3) and own.view_depth(points) == pytest.approx(z, rel=1e-9)


def test_depth_along_the_view_is_not_distance_from_the_eye():
    own = camera(3)
    view = View(own, Pixels((64, 36), (0, 0, 64, 36)))
    r = view.rays
    x, y = np.meshgrid(np.arange(64) + 0.5, np.arange(36) + 0.5)
    directions = r.d0 + x[..., None] * r.du + y[..., None] * r.dv
    assert view.ray_lengths == pytest.approx(np.linalg.norm(directions, axis=2), rel=1e-9)
    assert view.ray_lengths.min() < 1.001
    # At the corner of 60 degrees at 16:9: sqrt(1 + tan^2 30 (1 + (16/9)^2)), half a pixel in.
    assert view.ray_lengths[0, 0] == pytest.approx(np.sqrt(1 + np.tan(np.radians(30)) ** 2 * (1 + (16 / 9) ** 2)), rel=0.02)


@pytest.mark.parametrize("reverse", [False, True])
def test_depth_runs_from_near_to_far(reverse):
    depth = DepthFormat("float32", reverse, 0.1, 1000.0)
    view = View(camera(), Pixels((64, 36), (0, 0, 64, 36)))
    _, _, d = on_frame(view, np.array([[0, 0, -0.1], [0, 0, -1000.0], [0, 0, -10.0]]), depth)
    assert d[:2] == pytest.approx([1, 0] if reverse else [0, 1], abs=1e-6)
    # d = f / (f - n) (1 - n / z), or n / (f - n) (f / z - 1).
    wanted = 0.1 / 999.9 * (1000 / 10 - 1) if reverse else 1000 / 999.9 * (1 - 0.1 / 10)
    assert d[2] == pytest.approx(wanted, rel=1e-4)


@pytest.mark.parametrize("jitter", [(0.25, -0.25), (-0.5, 0.375)])
def test_jitter_moves_the_picture_by_parts_of_a_pixel(jitter):
    points = np.array([[0.3, -0.2, -4.0], [-1.0, 0.5, -9.0]])
    still, moved = (View(camera(), Pixels((960, 540), (0, 0, 960, 540), j)) for j in ((0.0, 0.0), jitter))
    # Pixel centres look jitter to the right and down, so the picture moves left and up.
    assert on_frame(moved, points)[0] == pytest.approx(on_frame(still, points)[0] - jitter, abs=1e-3)


@given(st.integers(0, 10_000))
@settings(max_examples=25, deadline=None)
def test_right_up_and_back_are_those_of_the_rotation(seed):
    own = camera(seed)
    turn = Rotation.random(random_state=seed)
    # Rows are the camera's axes in the world: world to camera is the rotation itself.
    point = np.random.default_rng(seed).normal(size=3)
    seen = turn.apply(point - np.array(own.eye))
    assert own.view_depth(point) == pytest.approx(-seen[2])
    assert own.forward == pytest.approx(-turn.as_matrix()[2])
