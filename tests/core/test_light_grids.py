"""Light grids: spherical harmonics against closed forms, what a thing between their points gets, and what is told of faulty ones."""

import numpy as np
import pytest
from scipy.integrate import quad
from scipy.special import sph_harm_y

from eddyfall.core.bake.captures.grid import capture_grids, grid_fits
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.errors import SetupError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.scene.model import Material
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.shade.grids import (
    BAND,
    COSINE_BANDS,
    DEPTH_SIDE,
    Grids,
    bands_of,
    gathered,
    harmonics,
    points_of,
    projected,
)
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.reflections.gridded import gridded
from eddyfall.demo.shapes import Shape, grid_charts
from light_rooms import MATT, glow, looking
from scenes import Thing, build_of

UP = np.array([[0.0, 1.0, 0.0]])
EYE = Request("eye", (480, 270))


def grid_of(numbers, low=(-1, -1, -1), high=(1, 1, 1), counts=(2, 2, 2), sees=False, depths=None, smoothed=0.0):
    """A grid whose points hold numbers (points, 9, 3), or all of them the same (9, 3)."""
    n = int(np.prod(counts))
    numbers = np.broadcast_to(numbers, (n, 9, 3)).astype(np.float32)
    far = np.broadcast_to(np.array([1e4, 1e8]) if depths is None else depths, (n, DEPTH_SIDE**2, 2)).astype(np.float32)
    return Grids(
        np.array(numbers), np.array(far), np.zeros(1, np.int64), np.array([counts]), np.array([low], float), np.array([high], float),
        np.array([int(sees)], np.uint8), bands_of(smoothed)[None],
    )  # fmt: skip


def from_one_side(lux, around=0.0):
    """Numbers of light of so many lx from straight above, and of even light of so many nits."""
    numbers = harmonics(UP)[0][:, None] * np.full(3, float(lux))
    numbers[0] += around * np.sqrt(4 * np.pi)
    return numbers


def irradiance(numbers, normal, **ways):
    lux, which = gathered(grid_of(numbers, **ways), np.zeros((1, 3)), np.array([normal], float))
    assert which[0] == 0
    return float(lux[0, 0])


# Harmonics


def test_harmonics_are_those_of_the_books_and_cosines_have_their_bands():
    """SciPy's complex harmonics made real; bands of a clamped cosine pi, 2 pi / 3, pi / 4 (Ramamoorthi and Hanrahan 2001, eq. 8)."""
    rng = np.random.default_rng(1)
    ways = rng.normal(size=(40, 3))
    ways /= np.linalg.norm(ways, axis=1, keepdims=True)
    theta, phi = np.arccos(ways[:, 2]), np.arctan2(ways[:, 1], ways[:, 0])
    pairs = [(0, 0), (1, -1), (1, 0), (1, 1), (2, -2), (2, -1), (2, 0), (2, 1), (2, 2)]
    for k, (band, order) in enumerate(pairs):
        value = sph_harm_y(band, abs(order), theta, phi) * (-1) ** order
        due = value.real if order == 0 else np.sqrt(2) * (value.real if order > 0 else value.imag)
        assert harmonics(ways)[:, k] == pytest.approx(due, abs=1e-12), (band, order)
        assert BAND[k] == band
    legendre = (lambda x: 1.0, lambda x: x, lambda x: (3 * x * x - 1) / 2)
    for band, of in enumerate(legendre):
        assert 2 * np.pi * quad(lambda x, of=of: x * of(x), 0, 1)[0] == pytest.approx(COSINE_BANDS[band], abs=1e-9)
    assert projected(ways, np.ones((40, 3)), np.full(40, 4 * np.pi / 40))[:, 0] == pytest.approx(
        (harmonics(ways) * (4 * np.pi / 40)).sum(axis=0)
    )


def test_light_from_one_side_is_a_sixteenth_too_bright_and_rings_behind():
    """By the series: 1.0625 of it facing the light; least -.0396 of it, 122.2 degrees away. A place gets no less than nothing."""
    angles = np.radians(np.linspace(0, 180, 1801))
    ways = np.stack([np.sin(angles), np.cos(angles), 0 * angles], axis=1)
    series = (harmonics(ways) * np.array(COSINE_BANDS)[BAND]) @ harmonics(UP)[0]
    assert series[0] == pytest.approx(1.0625, abs=1e-6) and series.min() == pytest.approx(-0.0396, abs=1e-4)
    assert np.degrees(angles[series.argmin()]) == pytest.approx(122.2, abs=0.2)
    numbers = from_one_side(1.0)
    assert irradiance(numbers, (0, 1, 0)) == pytest.approx(1.0625, rel=1e-5)
    assert irradiance(numbers, ways[1222]) == 0.0
    assert irradiance(numbers, (1, 0, 0)) == pytest.approx(0.09375, rel=1e-4)
    # Drawn towards even light by .137, the dip is gone: .25 - .2896 (1 - s) >= 0.
    assert ((harmonics(ways) * bands_of(0.137)[BAND]) @ harmonics(UP)[0]).min() == pytest.approx(0.0, abs=2e-4)
    assert irradiance(numbers, (0, 1, 0), smoothed=0.137) == pytest.approx(0.25 + 0.863 * 0.8125, rel=1e-4)


def test_a_mover_under_one_lamp_is_half_a_stop_too_bright_at_its_sides():
    """300 lx from above and 20 nits all around: 362.8 lx due on top, 62.8 at the sides; order 2 gives +.07 and +.53 stops."""
    numbers = from_one_side(300.0, around=20.0)
    top, side = irradiance(numbers, (0, 1, 0)), irradiance(numbers, (0, 0, 1))
    even = 20 * np.pi
    assert np.log2(top / (300 + even)) == pytest.approx(0.07, abs=0.005)
    assert np.log2(side / even) == pytest.approx(0.53, abs=0.005)


def test_points_on_both_sides_of_a_thin_wall_mix():
    """1000 lx on the one side, 50 on the other, points a metre from the wall: .2 m behind it a place gets 430 lx, 3.10 stops too much; it
    is within a quarter of a stop from .98 m on. Points that leave alone what they do not see give 50."""
    even = np.zeros((8, 9, 3))
    even[:, 0] = (
        np.where(points_of(np.full(3, -1.0), np.full(3, 1.0), (2, 2, 2))[:, :1] < 0, 1000.0, 50.0) / np.pi * np.sqrt(4 * np.pi)
    )
    grid = grid_of(even)

    def at(x, of=grid):
        return float(gathered(of, np.array([[x, 0.0, 0.0]]), UP)[0][0, 0])

    assert at(0.2) == pytest.approx(430.0, rel=1e-4) and np.log2(at(0.2) / 50) == pytest.approx(3.10, abs=0.01)
    assert np.log2(at(0.97) / 50) > 0.25 > np.log2(at(0.985) / 50)
    near = np.broadcast_to(np.array([1.3, 1.8]), (8, DEPTH_SIDE**2, 2))
    assert at(0.9, grid_of(even, sees=True, depths=near)) == pytest.approx(50, rel=0.2)


# In a room


def room(grids=None, captured=True, place=(1.2, 0, 0), **setup):
    """Two rooms with a wall between at x = 0, the left one lit by a strip; a crate that moves stands in the dark one, or elsewhere."""
    grey = Material("grey", (0.5, 0.5, 0.5, 1), **MATT)
    faces = {
        "floor": ((-3, 0, 3), (6, 0, 0), (0, 0, -6)), "ceiling": ((-3, 3, -3), (6, 0, 0), (0, 0, 6)),
        "left": ((-3, 0, 3), (0, 0, -6), (0, 3, 0)), "right": ((3, 0, -3), (0, 0, 6), (0, 3, 0)),
        "back": ((3, 0, 3), (-6, 0, 0), (0, 3, 0)), "front": ((-3, 0, -3), (6, 0, 0), (0, 3, 0)),
        "wall, lit side": ((-0.05, 0, -3), (0, 0, 6), (0, 3, 0)), "wall, dark side": ((0.05, 0, 3), (0, 0, -6), (0, 3, 0)),
    }  # fmt: skip
    crate = Shape().box((-0.25, 0.02, -0.25), (0.25, 0.5, 0.25))
    shelf = Shape().box((1.6, 0.0, -2.4), (2.2, 0.5, -1.8))
    build = build_of(
        *(Thing(name, Shape().quad(*face), grey) for name, face in faces.items()),
        Thing("strip", Shape().quad((-2.99, 0.5, 1), (0, 0, -2), (0, 2, 0)), glow("strip", 400)),
        Thing("dim", Shape().quad((2.99, 0.5, -1), (0, 0, 2), (0, 2, 0)), glow("dim", 8)),
        Thing("crate", crate, grey, place), Thing("shelf", shelf, grey, lightmap=grid_charts(shelf)),
        setup={
            "viewpoints": {"eye": looking((place[0] + 1.2, 1.4, 2.6), (place[0], 0.2, -0.6))}, "sky": {"ambient": False},
            "nodes": {"crate": {"moves": True}}, "grids": grids or {}, **setup,
        },
    )  # fmt: skip
    return capture_grids(build)[0] if captured else build


HOUSE = {"low_m": [-2.9, 0.2, -2.9], "high_m": [2.9, 2.8, 2.9], "counts": [4, 3, 3]}
DARK = {"low_m": [0.15, 0.1, -2.9], "high_m": [2.9, 2.9, 2.9], "counts": [4, 4, 5]}


def found_in(build):
    return [f for f in sweep(build).findings if f.code.startswith("grid.")]


def test_a_mover_gets_what_arrives_where_it_stands():
    """Against paths: a grid of the dark room, fine enough, gives the crate within a quarter of a stop what is due."""
    build = room({"dark": DARK})
    (crate,) = gridded(Renderer(), build, EYE)
    assert crate.grids == ("dark",) and crate.uncovered == 0 and crate.unseen < 0.05
    assert crate.due > 1 and abs(crate.off_stops) < 0.25
    sample_at = np.argwhere(Renderer().frame(build, EYE, "drawable").drawable == 8 + 2)[40]
    renderer = Renderer()
    sample = core_sample(renderer, build, EYE, int(sample_at[1]), int(sample_at[0]))
    assert any(layer.state == "light from a grid" for layer in sample.layers)
    assert sample.sum == pytest.approx(renderer.frame(build, EYE, "linear").linear[sample_at[0], sample_at[1]], rel=1e-4)
    assert found_in(build) == []


def test_a_coarse_grid_through_a_wall_leaks_and_is_cured():
    (leak,) = found_in(room({"house": HOUSE}, place=(0.6, 0, 0)))
    assert (leak.code, leak.suspicion.cause, leak.suspicion.subjects) == (
        "grid.leak",
        "house",
        ("crate",),
    ) and leak.suspicion.value > 1
    assert any(r.verdict == "cures" for r in leak.remedies), [(r.change.title, r.verdict) for r in leak.remedies]


def test_what_moves_where_no_grid_is_is_told_and_gets_one():
    """In the lit room: without a grid the crate gets nothing from around."""
    (bare,) = found_in(room(place=(-1.2, 0, 0)))
    assert (bare.code, bare.suspicion.cause) == ("grid.uncovered", "crate") and bare.suspicion.value == 1
    assert [(r.change.title, r.verdict) for r in bare.remedies] == [("a light grid around crate", "cures")]


def test_a_mover_beside_baked_things_of_its_material_stands_out_by_so_much():
    """The shelf has a lightmap; a grid so coarse that it takes the other room's light makes the crate stand out from it."""
    build = room({"dark": DARK}, meshes={"shelf": {"lightmap_uv": 1}}, bake={"resolution": 16, "samples": 64, "bounces": 3})
    baked = bake(build).build
    (crate,) = gridded(Renderer(), baked, EYE)
    assert crate.neighbour == "shelf" and crate.seam_stops < 0.25
    dimmer = apply_change(baked, set_leaf(baked, ("grids", "dark", "smoothed"), 1.0, scope="project", title="smoothed"))
    assert gridded(Renderer(), dimmer, EYE)[0].seam_stops != pytest.approx(crate.seam_stops, abs=1e-6)


def test_what_moves_is_in_no_bake_and_no_capture_and_what_changed_is_told():
    build = room({"dark": DARK})
    renderer = Renderer()
    moved = apply_change(build, set_leaf(build, ("nodes", "crate", "casts"), False, scope="node", title="casts"))
    assert [f.fresh for f in grid_fits(moved, renderer.geometry(moved), renderer)] == [True], "the crate is no part of it"
    dimmed = apply_change(build, set_leaf(build, ("nodes", "dim", "drawn"), False, scope="node", title="lamp out"))
    (fit,) = grid_fits(dimmed, renderer.geometry(dimmed), renderer)
    assert fit.why == ("dim is gone",)


def test_grids_that_make_no_sense_are_refused():
    for grid, says in (
        ({"low_m": [1, 0, 0], "high_m": [1, 1, 1]}, "no room along x"),
        ({"counts": [1, 2, 2]}, "not within 2 to 64"),
    ):
        with pytest.raises(SetupError, match=says):
            parse_setup({"eddyfall_setup": 1, "grids": {"g": grid}})
