"""Repairs of charts and faces keep the surface, and do what they say: cut, align, join, pack, rewind, double, delete what is hidden."""

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from bake_scenes import matt
from eddyfall.core.bake.faces import faces_to_turn
from eddyfall.core.defects import families  # noqa: F401  (registers the operations)
from eddyfall.core.errors import ChangeError
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.model import Image, Material, Primitive, TextureUse
from eddyfall.core.uv.charts import measure_charts
from eddyfall.core.uv.gutters import narrowest_gap, padding_for_mip
from eddyfall.core.uv.overlap import measure_overlap
from eddyfall.core.uv.packing import pack_charts
from eddyfall.core.uv.repair import cut_part, joined_charts, turn_matrix
from eddyfall.demo.shapes import Shape, grid_charts
from scenes import Thing, build_of


def operate(build, name, **params):
    return apply_change(build, Change(id="x", scope="mesh", operation=Operation(name=name, params=params)))


def of_mesh(build, name="box"):
    """(uv (t, 3, 2), corners (t, 3, 3)) of a mesh."""
    mesh = build.scene.meshes[build.scene.mesh_keys.index(name)]
    uv = [p.attributes["TEXCOORD_1"].astype(float)[p.indices] for p in mesh.primitives]
    corners = [p.positions.astype(float)[p.indices] for p in mesh.primitives]
    return np.concatenate(uv), np.concatenate(corners)


def area(corners):
    return np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum() / 2


def box_build(turn_deg=0.0, resolution=128, **things):
    """A box whose six charts lie on a grid, turned if wanted."""
    shape = Shape().box((0, 0, -4), (2, 1, -3))
    page = (grid_charts(shape) - 0.5) * 0.7 @ turn_matrix(turn_deg).T + 0.5
    setup = {"meshes": {"box": {"lightmap_uv": 1}}, "bake": {"resolution": resolution, "gutter_texels": 4}}
    return build_of(Thing("box", shape, lightmap=page, **things), setup=setup)


# -- cutting --


def random_part(seed, n=12):
    rng = np.random.default_rng(seed)
    positions = rng.uniform(-1, 1, (3 * n, 3)).astype(np.float32)
    turn = rng.normal(size=(3, 2))
    attributes = {
        "POSITION": positions,
        "NORMAL": np.tile(np.array([0, 1, 0], np.float32), (3 * n, 1)),
        "TEXCOORD_1": (positions @ turn).astype(np.float32),  # linear in place, so that any point on a face has a known UV
    }
    return Primitive(attributes, np.arange(3 * n, dtype=np.int32).reshape(n, 3), None), turn


@given(st.integers(0, 10_000))
@settings(max_examples=40, deadline=None)
def test_a_cut_keeps_the_surface_and_parts_it_at_the_plane(seed):
    part, turn = random_part(seed)
    rng = np.random.default_rng(seed + 1)
    point, normal = rng.uniform(-0.3, 0.3, 3), rng.normal(size=3)
    cut, side = cut_part(part, point, normal)
    corners = cut.positions.astype(float)[cut.indices]
    height = (corners - point) @ normal / np.linalg.norm(normal)
    assert (height[side] >= -1e-5).all() and (height[~side] <= 1e-5).all()
    assert area(corners) == pytest.approx(area(part.positions.astype(float)[part.indices]), rel=1e-5)
    # trimesh cuts the same surface: area on the normal's side.
    mesh = trimesh.Trimesh(part.positions.astype(float), part.indices, process=False)
    kept = trimesh.intersections.slice_mesh_plane(mesh, normal, point)
    assert area(corners[side]) == pytest.approx(kept.area, rel=1e-4, abs=1e-5)
    # What is made on an edge has what lies there.
    assert cut.attributes["TEXCOORD_1"] == pytest.approx(cut.positions @ turn, abs=1e-5)
    assert np.linalg.norm(cut.attributes["NORMAL"], axis=1) == pytest.approx(1.0, abs=1e-6)


def test_neighbours_share_the_corners_a_cut_makes():
    square = Shape().quad((0, 0, 0), (1, 0, 0), (0, 1, 0)).primitive(0)
    cut, side = cut_part(square, np.array([0.3, 0, 0]), np.array([1.0, 0, 0]))
    # Three edges are crossed: the outer two, and the diagonal, which both triangles share.
    assert len(cut.positions) == 4 + 3 and cut.triangles == 6 and side.sum() == 3


@pytest.mark.parametrize(("at", "both"), [(0.0, False), (1.0, False), (0.5, True), (-2.0, False)])
def test_a_plane_along_an_edge_cuts_nothing(at, both):
    square = Shape().quad((0, 0, 0), (1, 0, 0), (0, 1, 0)).primitive(0)
    cut, side = cut_part(square, np.array([at, 0, 0]), np.array([1.0, 0, 0]))
    assert (side.any() and not side.all()) == both
    assert cut.triangles == (6 if both else 2)


@pytest.mark.parametrize(("move", "scale"), [((0, 0, 0), (1, 1, 1)), ((3, -1, 2), (2, 0.5, 1))])
def test_a_split_is_made_where_the_plane_stands_in_the_world(move, scale):
    from dataclasses import replace

    from eddyfall.core.hashing import freeze

    build = box_build()
    matrix = np.diag([*scale, 1.0])
    matrix[:3, 3] = move
    node = replace(build.scene.nodes[0], matrix=freeze(matrix))
    build = replace(build, scene=replace(build.scene, nodes=(node, *build.scene.nodes[1:])))
    at = move[0] + 0.6 * scale[0]
    after = operate(build, "uv.split", mesh="box", node="box", point_m=[at, 0, 0], normal=[1, 0, 0])
    uv, corners = of_mesh(after)
    x = corners[..., 0] * scale[0] + move[0]
    assert ((x <= at + 1e-5).all(axis=1) | (x >= at - 1e-5).all(axis=1)).all()
    page = measure_charts(uv, corners, 128)
    for k in range(len(page.charts)):
        mine = x[page.chart == k]
        assert (mine <= at + 1e-5).all() or (mine >= at - 1e-5).all(), "no chart holds both sides"
    assert area(corners) == pytest.approx(2 * (2 + 2 + 1))
    assert measure_overlap(uv, np.ones(len(uv)), 128).pairs == 0


# -- charts --


@pytest.mark.parametrize("degrees", [7.0, -12.0, 33.0])
def test_aligned_charts_lie_on_the_grid_at_one_density(degrees):
    build = box_build(degrees)
    before = measure_charts(*of_mesh(build), 128)
    assert max(abs(c.skew_deg) for c in before.charts) == pytest.approx(abs(degrees), abs=0.01)
    uv, corners = of_mesh(operate(build, "uv.align", mesh="box"))
    page = measure_charts(uv, corners, 128)
    assert len(page.charts) == len(before.charts)
    assert max(abs(c.skew_deg) for c in page.charts) < 0.01
    densities = [c.density for c in page.charts]
    assert max(densities) == pytest.approx(min(densities), rel=0.04)  # the packer rounds sizes to whole texels
    assert measure_overlap(uv, np.ones(len(uv)), 128).pairs == 0


@pytest.mark.parametrize(("mip", "texels"), [(0, 2), (1, 4), (2, 10)])
def test_packing_for_a_mip_leaves_what_that_mip_needs_on_both_sides(mip, texels):
    # 1.5 * 2^k - 1 texels a side (brute-forced in test_chart_measures): 1, 2, 5.
    assert 2 * padding_for_mip(mip) == texels
    uv, corners = of_mesh(operate(box_build(), "uv.pack", mesh="box", safe_mip=mip))
    page = measure_charts(uv, corners, 128)
    assert narrowest_gap(uv, page).texels >= texels - 1e-3


def test_packing_at_a_density_gives_that_density():
    uv, corners = of_mesh(operate(box_build(), "uv.pack", mesh="box", texels_per_m=20.0))
    page = measure_charts(uv, corners, 128)
    assert [c.density for c in page.charts] == pytest.approx([20.0] * len(page.charts), rel=0.04)
    with pytest.raises(ChangeError, match="do not fit one page"):
        operate(box_build(), "uv.pack", mesh="box", texels_per_m=200.0)


@pytest.fixture(scope="module")
def many_boxes():
    """400 charts of many sizes: boards on a wall. (uv (800, 3, 2), corners (800, 3, 3) m)."""
    size = np.random.default_rng(1).uniform(0.2, 1.0, (400, 2))
    square = np.array([[[0, 0], [1, 0], [1, 1]], [[0, 0], [1, 1], [0, 1]]], float)
    flat = (square[None] * size[:, None, None]).reshape(-1, 3, 2)
    x = np.repeat(np.arange(400) * 2.0, 2)[:, None]
    corners = np.stack([flat[..., 0] + x, flat[..., 1], np.zeros(flat.shape[:2])], axis=-1)
    uv = np.stack([corners[..., 0], 800 - corners[..., 1]], axis=-1) / 800
    return uv, corners


def test_many_charts_fill_most_of_their_page(many_boxes):
    # 70 % of the page and more by the charts themselves is common practice for boxes; no source.
    packed = pack_charts(*many_boxes, 1024, 4)
    page = measure_charts(packed, many_boxes[1], 1024)
    assert len(page.charts) == 400
    assert sum(abs(c.uv_area) for c in page.charts) > 0.7
    assert packed.min() >= 0 and packed.max() <= 1
    assert narrowest_gap(packed, page).texels >= 4 - 1e-3
    assert measure_overlap(packed, np.ones(len(packed)), 1024).pairs == 0
    assert page.density_spread == pytest.approx(1.0, rel=1e-6)
    assert all(c.uv_area * before.uv_area > 0 for c, before in zip(page.charts, measure_charts(*many_boxes, 1024).charts))
    # The density that was found is met when it is asked for.
    again = pack_charts(*many_boxes, 1024, 4, texels_per_m=page.density * 0.999)
    assert measure_charts(again, many_boxes[1], 1024).density == pytest.approx(page.density, rel=0.002)


def test_charts_that_interlock_are_still_packed_by_their_shapes():
    # Two right triangles of one size make a square, so bounds can fill half of a page at most: shapes must win.
    turned = np.array([[[0, 0], [1, 0], [0, 1]], [[1, 1], [0, 1], [1, 0]]], float)
    flat = np.concatenate([turned] * 40)
    x = np.arange(80)[:, None] * 2.0
    corners = np.stack([flat[..., 0] + x, flat[..., 1], np.zeros((80, 3))], axis=-1)
    page = measure_charts(
        pack_charts(np.stack([corners[..., 0], 160 - corners[..., 1]], -1) / 160, corners, 512, 2), corners, 512
    )
    assert len(page.charts) == 80 and sum(abs(c.uv_area) for c in page.charts) > 0.5


@given(st.floats(-170, 170), st.floats(0.3, 3.0), st.floats(-2, 2))
@settings(max_examples=30, deadline=None)
def test_a_split_chart_is_joined_whatever_was_done_to_its_other_half(degrees, size, shift):
    left = np.array([[[0, 0], [0.1, 0], [0.1, 0.1]], [[0, 0], [0.1, 0.1], [0, 0.1]]])
    right = left @ turn_matrix(degrees).T * size + shift + 0.5
    uv = np.concatenate([left, right])
    a, b, c, d, e, f = ((0, 0, 0), (1, 0, 0), (2, 0, 0), (2, 1, 0), (1, 1, 0), (0, 1, 0))
    corners = np.array([[a, b, e], [a, e, f], [b, c, d], [b, d, e]], float)
    assert len(measure_charts(uv, corners, 64).charts) == 2
    joined = joined_charts(uv, corners, 64, 1.0)
    page = measure_charts(joined, corners, 64)
    assert len(page.charts) == 1
    # Both halves have one density: the joined chart is the surface's picture, a square beside a square.
    assert page.charts[0].stretch_l2 == pytest.approx(1.0, abs=1e-4)


@pytest.mark.parametrize(
    ("name", "params", "says"),
    [
        ("uv.pack", {"mesh": "no"}, "mesh 'no' does not exist"),
        ("uv.pack", {"mesh": "box", "safe_mip": 9}, "safe_mip must be a whole number from 0 to 6"),
        ("uv.pack", {"mesh": "box", "safe_mip": 1.5}, "safe_mip must be a whole number"),
        ("uv.pack", {"mesh": "box", "gutter_texels": -1}, "gutter_texels must be"),
        ("uv.pack", {"mesh": "box", "texels_per_m": 0}, "texels_per_m must be a number above 0"),
        ("uv.pack", {"mesh": "box", "texels_per_m": "many"}, "texels_per_m must be a number above 0"),
        ("uv.join", {"mesh": "box", "flat_deg": 91}, "flat_deg must lie between 0 and 90"),
        ("uv.split", {"mesh": "box", "point_m": [0, 0], "normal": [1, 0, 0]}, "point_m must be three numbers"),
        ("uv.split", {"mesh": "box", "point_m": [0, 0, 0], "normal": [0, 0, 0]}, "normal must not be zero"),
        ("uv.split", {"mesh": "box", "point_m": [9, 0, 0], "normal": [1, 0, 0]}, "does not cut the mesh"),
        ("uv.split", {"mesh": "box", "node": "shed", "point_m": [0, 0, 0], "normal": [1, 0, 0]}, "node 'shed' does not carry"),
        ("face.add_backs", {"mesh": "no"}, "does not exist"),
        ("face.delete_hidden", {"mesh": "box", "node": "shed"}, "does not carry"),
    ],
)
def test_what_cannot_be_done_says_why(name, params, says):
    with pytest.raises(ChangeError, match=says):
        operate(box_build(), name, **params)


def test_a_lightmap_on_the_textures_own_uvs_is_not_moved_but_may_get_uvs_of_its_own():
    shape = Shape().box((0, 0, -4), (2, 1, -3))
    build = build_of(Thing("box", shape), setup={"meshes": {"box": {"lightmap_uv": 0}}})
    with pytest.raises(ChangeError, match="shares TEXCOORD_0"):
        operate(build, "uv.pack", mesh="box")
    after = operate(build, "uv.repack", mesh="box")
    assert after.setup.meshes["box"].lightmap_uv == 1
    part, before = after.scene.meshes[0].primitives[0], build.scene.meshes[0].primitives[0]
    uv, corners = of_mesh(after)
    assert measure_overlap(uv, np.ones(len(uv)), 128).pairs == 0 and area(corners) == pytest.approx(10)
    # The textures stay where they were.
    flat = lambda p: np.unique(np.c_[p.positions, p.attributes["TEXCOORD_0"]].round(5), axis=0)  # noqa: E731
    assert flat(part) == pytest.approx(flat(before))


def test_textures_that_use_the_second_set_are_not_unwrapped_over():
    shape = Shape().box((0, 0, -4), (2, 1, -3))
    image = Image("tiles", np.full((4, 4, 4), 200, np.uint8))
    material = Material("tiled", base_texture=TextureUse(0, uv_set=1))
    build = build_of(Thing("box", shape, material, lightmap=grid_charts(shape)), images=(image,))
    with pytest.raises(ChangeError, match="textures of 'box' use TEXCOORD_1"):
        operate(build, "uv.repack", mesh="box")


# -- faces --


def sphere_faces(subdivisions=2):
    ball = trimesh.creation.icosphere(subdivisions=subdivisions)
    return ball.vertices[ball.faces]


@given(st.integers(0, 10_000))
@settings(max_examples=15, deadline=None)
def test_faces_turned_at_random_are_turned_back(seed):
    corners = sphere_faces()
    wrong = np.random.default_rng(seed).random(len(corners)) < 0.3
    corners[wrong] = corners[wrong][:, [0, 2, 1]]
    turned = faces_to_turn(corners)
    assert (turned == wrong).all()


def test_each_piece_keeps_the_side_of_its_larger_part():
    first, second = sphere_faces(1), sphere_faces(1) + np.array([5.0, 0, 0])
    second = second[:, [0, 2, 1]]  # wholly inside out: its own edges agree, so nothing is wrong with it
    first[7] = first[7][[0, 2, 1]]
    turned = faces_to_turn(np.concatenate([first, second]))
    assert np.flatnonzero(turned).tolist() == [7]


def test_rewound_faces_have_normals_on_their_new_side():
    shape = Shape().box((0, 0, -4), (2, 1, -3))
    build = box_build()
    part = build.scene.meshes[0].primitives[0]
    indices = part.indices.copy()
    indices[3] = indices[3][[0, 2, 1]]
    broken = Primitive(part.attributes, indices, part.material, part.source_index)
    from dataclasses import replace

    from eddyfall.core.scene.model import Mesh

    build = replace(build, scene=build.scene.with_mesh(0, Mesh("box", (broken,))))
    made = operate(build, "face.rewind", mesh="box").scene.meshes[0].primitives[0]
    corners = made.positions.astype(float)[made.indices]
    facing = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    outward = corners.mean(axis=1) - [1, 0.5, -3.5]
    assert ((facing * outward).sum(axis=1) > 0).all()
    assert made.triangles == shape.primitive(0).triangles


def test_backs_are_the_same_faces_from_behind():
    build = box_build()
    before = build.scene.meshes[0].primitives[0]
    made = operate(build, "face.add_backs", mesh="box").scene.meshes[0].primitives[0]
    n, t = len(before.positions), before.triangles
    assert made.triangles == 2 * t and len(made.positions) == 2 * n
    corners = made.positions.astype(float)[made.indices]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    assert normal[t:] == pytest.approx(-normal[:t])
    assert made.attributes["NORMAL"][n:] == pytest.approx(-before.attributes["NORMAL"])
    uv, corners = of_mesh(operate(build, "face.add_backs", mesh="box"))
    # They lie on the charts of the fronts: all of the surface shares texels then (the worked case of missing inner faces).
    assert measure_overlap(uv, np.ones(len(uv)), 128).surface_share == pytest.approx(1.0)


def test_only_what_nothing_can_see_is_deleted():
    # A box on a slab: its floor is hidden. Shut into a crate: all of it is.
    stand = Shape().box((0, 0, -4), (2, 1, -3))
    slab = Shape().box((-9, -0.3, -9), (9, 0, 9))
    setup = {"meshes": {"box": {"lightmap_uv": 1}}}
    build = build_of(
        Thing("box", stand, lightmap=grid_charts(stand)),
        Thing("slab", slab, matt("slab", 0.3)),
        setup=setup,
    )
    made = operate(build, "face.delete_hidden", mesh="box", node="box").scene.meshes[0].primitives[0]
    corners = made.positions.astype(float)[made.indices]
    assert made.triangles == 10, "the two triangles it stands on are gone"
    assert corners[..., 1].max(axis=1).min() > 0
    crate = Shape().box((-0.01, -0.01, -4.01), (2.01, 1.01, -2.99))
    closed = build_of(Thing("box", stand, lightmap=grid_charts(stand)), Thing("crate", crate, matt("crate", 0.3)), setup=setup)
    with pytest.raises(ChangeError, match="every face of 'box' is hidden"):
        operate(closed, "face.delete_hidden", mesh="box")
