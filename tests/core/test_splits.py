"""Blended things split at the planes of others, drawn as one mesh, or ranked: what each puts right, what it costs, what it reaches."""

import numpy as np
import pytest
import trimesh

from eddyfall.core.defects.edge_faults import FAMILY as EDGES
from eddyfall.core.defects.order_ways import reach_of_rank
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import SetupError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.intake import finish_build
from eddyfall.core.layers.best import fixed_order
from eddyfall.core.layers.capture import captured
from eddyfall.core.layers.pairs import wrong_pairs
from eddyfall.core.scene.changes import apply_change, set_leaves
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.scene.splits import Piece, Plane, cut, plane_through
from eddyfall.core.sweep import sweep
from eddyfall.core.sweep.proving import _leaves_set
from eddyfall.demo.shapes import Shape
from layer_scenes import EXACT, box_of_six_colours, card, crossing_cards, mist_and_cutter, seen_from, slats, unlit
from scenes import Thing

FRAME, SMALL = Request("eye", (960, 540)), (480, 270)
RENDERER = Renderer()


def split(build, **planes):
    leaves = {("nodes", node, "split_at"): list(at) for node, at in planes.items()}
    return apply_change(build, set_leaves(build, leaves, scope="node", title="split"))


def off_px(build, request=FRAME):
    layers = captured(RENDERER, build, request)
    return int((np.abs(layers.drawn - layers.sorted).max(axis=2) > 1e-6).sum())


def piece_of(mesh):
    blank = np.zeros((len(mesh.vertices), 2), np.float32)
    up = np.asarray(mesh.vertex_normals, np.float32)
    columns = {"positions": np.asarray(mesh.vertices, np.float32), "normals": up, "uv0": np.asarray(mesh.vertices[:, :2], np.float32),
               "uv1": blank}  # fmt: skip
    return Piece(columns, np.asarray(mesh.faces, np.int32))


def area(piece):
    return trimesh.Trimesh(piece.positions.astype(float), piece.triangles, process=False).area


def test_a_cut_ball_has_the_sides_that_trimesh_cuts_from_it():
    ball, rng = trimesh.creation.icosphere(subdivisions=2), np.random.default_rng(4)
    for _ in range(20):
        normal = rng.normal(size=3)
        normal /= np.linalg.norm(normal)
        plane = Plane(normal, float(rng.uniform(-0.8, 0.8)))
        above, below = cut(piece_of(ball), [plane])
        for side, sign in ((above, 1), (below, -1)):
            there = trimesh.intersections.slice_mesh_plane(ball, normal * sign, normal * plane.at)
            assert area(side) == pytest.approx(there.area, rel=1e-5)
            assert (plane.above(side.positions) * sign >= -1e-6).all()
            np.testing.assert_allclose(side.columns["uv0"], side.positions[:, :2], atol=1e-6)  # UVs that follow places still do
            np.testing.assert_allclose(np.linalg.norm(side.columns["normals"], axis=1), 1, atol=1e-6)
        # No crack opens: both sides together are closed where corners at one place are one.
        corners = np.concatenate([side.positions[side.triangles].reshape(-1, 3) for side in (above, below)])
        whole = trimesh.Trimesh(corners.astype(float), np.arange(len(corners)).reshape(-1, 3), process=False)
        whole.merge_vertices(digits_vertex=6)
        assert whole.is_watertight


def test_what_no_plane_crosses_stays_as_it_is_and_flat_is_what_lies_in_one_plane():
    ball = piece_of(trimesh.creation.icosphere(subdivisions=1))
    (same,) = cut(ball, [Plane(np.array([0.0, 1.0, 0.0]), 2.0)])
    assert same is ball and plane_through(ball.positions) is None
    assert plane_through(np.array([(0, 0, 0), (1, 0, 0), (2, 0, 0)], np.float32)) is None, "in more than one"
    floor = plane_through(np.array([(0, 1, 0), (1, 1, 0), (0, 1, -1)], np.float32))
    np.testing.assert_allclose((*floor.normal, floor.at), (0, 1, 0, 1), atol=1e-9)
    assert len(cut(ball, [floor, Plane(np.array([0.0, 1.0, 0.0]), 0.0)])) == 2, "it touches the one and crosses the other"
    many = cut(ball, [Plane(np.eye(3)[axis], 0.01) for axis in range(3)])
    assert len(many) == 8 and sum(area(p) for p in many) == pytest.approx(area(ball), rel=1e-5)


def test_split_where_they_cross_nothing_is_off_and_the_picture_is_the_one_that_is_due():
    """Of two crossing cards 24,284 px are off whatever is drawn first; either split at the plane of the other, none is."""
    whole = captured(RENDERER, crossing_cards(), FRAME)
    for planes in ({"red": ["green"]}, {"green": ["red"]}, {"red": ["green"], "green": ["red"]}):
        build = split(crossing_cards(), **planes)
        assert off_px(build) == 0
        np.testing.assert_allclose(captured(RENDERER, build, FRAME).drawn, whole.sorted, atol=1e-5)
    names = [d.name for d in pack(build.scene, build.setup).drawables]
    assert names == ["black", "red", "green", "red~2", "green~2", "(plate)"], "what is cut off comes last: no number changes"
    assert off_px(split(slats(), green=["red"])) == 0 and off_px(split(slats(), blue=["red"])) > 0, "not every cut breaks a ring"


def test_splits_are_offered_with_what_they_cost_and_the_sweep_says_which_of_them_cure():
    (crossed,) = [f for f in sweep(crossing_cards(), renderer=RENDERER).findings if f.code == "order.no-valid-order"]
    outcome = {r.change.title: (r.verdict, {c.name: c.value for c in r.costs}) for r in crossed.remedies}
    verdict, costs = outcome["split red at the plane of green"]
    assert verdict == "cures" and costs == {"sorted draws": 1, "triangles": 4, "corners and indices": 6 * 40 + 4 * 12}
    assert "split red and green at each other's planes" in outcome
    (ring,) = [f for f in sweep(slats(), renderer=RENDERER).findings if f.code == "order.no-valid-order"]
    outcome = {r.change.title: (r.verdict, r.new_findings) for r in ring.remedies}
    assert outcome["split green at the plane of red"] == ("cures", ())
    assert ring.best.change.title == "peel 2 layers", "a split has to be made anew whenever one of them moves"
    verdict, new = outcome["split blue at the plane of red"]
    assert verdict == "cures" and "is drawn over" in new[0], "no ring any more, and an order that the key gets wrong"


@pytest.mark.parametrize(
    ("planes", "says"),
    [
        ({"mist": [0, 0]}, "nodes.mist.triangle_order: it has to name each of 0 .. 1 once"),
        ({"mist": [1, 0, 2]}, "nodes.mist.triangle_order: it has to name each of 0 .. 1 once"),
        ({"mist": ["mist"]}, "nodes.mist.split_at: a node cannot be split at itself"),
        ({"mist": ["ball"]}, "nodes.mist.split_at: node 'ball' is not flat"),
        ({"mist": ["a", "b", "c", "d", "e"]}, "nodes.mist.split_at"),
        ({"mist": [1]}, "nodes.mist.split_at"),
        ({"mapped": ["cutter"]}, "nodes.mapped.split_at: it has a lightmap"),
    ],
)
def test_what_cannot_be_split_is_refused_with_its_place(planes, says):
    ball = Thing("ball", Shape().box((-5, 0, -5), (-4, 1, -4)), unlit("ball", 0.1))
    scene = mist_and_cutter(more=(ball, card("mapped", (0, 1), (0, 1), -6, unlit("m", 0.5, 0.5)))).scene
    raw = {
        "eddyfall_setup": 1,
        "nodes": {n: {"triangle_order" if 0 in at else "split_at": at} for n, at in planes.items()},
        "meshes": {"mapped": {"lightmap_uv": 0}},
    }
    with pytest.raises(SetupError) as error:
        finish_build(scene, parse_setup(raw), raw, [])
    assert says in str(error.value)


def test_a_plane_that_is_not_there_is_noted_and_cuts_nothing():
    scene = mist_and_cutter().scene
    raw = {"eddyfall_setup": 1, "nodes": {"mist": {"split_at": ["gone"]}}}
    build = finish_build(scene, parse_setup(raw), raw, [])
    assert any("nodes.mist.split_at names node 'gone'" in note for note in build.notes)
    assert len(pack(build.scene, build.setup).things) == 3


def comb(name, places, rgb, seen=unlit):
    """Cards one behind the other, of one mesh."""
    shape = Shape()
    for z in places:
        shape.quad((-1, 0.5, z), (2, 0, 0), (0, 2, 0))
    return Thing(name, shape, seen(name, rgb, 0.5))


def test_of_two_meshes_that_reach_into_each_other_triangles_are_in_order_where_they_are_one():
    """Cards at 3 and 5 m of one mesh, at 4 and 6 m of another: no order of the two meshes is right, that of all triangles is."""
    things = comb("one", (-5, -3), (1, 0, 0)), comb("other", (-6, -4), (0, 1, 0))
    assert off_px(seen_from((0, 1.5, 0), (0, 1.5, -1), *things)) > 10_000
    shared = {"both": {"place_m": [0, 1.5, -4.5], "members": ["one", "other"]}}
    assert off_px(seen_from((0, 1.5, 0), (0, 1.5, -1), *things, sort_points=shared)) > 10_000
    shared["both"]["one_mesh"] = "sorted"
    assert off_px(seen_from((0, 1.5, 0), (0, 1.5, -1), *things, sort_points=shared)) == 0


def test_one_mesh_is_offered_for_a_pair_and_says_what_it_takes():
    """Two cards as one mesh, the mist's triangles first; by the middles of all triangles some are still wrong."""
    (told,) = [f for f in sweep(mist_and_cutter(-1.0), renderer=RENDERER).findings if f.code == "order.wrong"]
    (one,) = [r for r in told.remedies if r.change.title == "draw mist and cutter as one mesh, in this order"]
    assert one.verdict == "cures"
    assert {c.name: c.value for c in one.costs} == {"sorted draws": -1, "materials that have to be one": 2}
    point = {"both": {"place_m": [0, 1.5, -4], "members": ["mist", "cutter"], "one_mesh": "sorted"}}
    assert 0 < off_px(mist_and_cutter(-1.0, sort_points=point)) < off_px(mist_and_cutter(-1.0))
    meshes = comb("one", (-5, -3), (1, 0, 0)), comb("other", (-6, -4), (0, 1, 0))
    (told,) = [
        f for f in sweep(seen_from((0, 1.5, 0), (0, 1.5, -1), *meshes), renderer=RENDERER).findings if f.code.startswith("order.")
    ]
    outcome = {r.change.title: r.verdict for r in told.remedies}
    (title,) = [t for t in outcome if t.endswith("as one mesh, farthest triangles first")]
    assert outcome[title] == "cures"


def test_one_order_of_triangles_is_listed_where_there_is_one():
    """From one side faces of a box have an order that is right; from both sides of it what is behind here is before there."""
    (told,) = [f for f in sweep(box_of_six_colours(), renderer=RENDERER).findings if f.code == "order.inside-mesh"]
    (listed,) = [r for r in told.remedies if r.change.title == "list triangles of box in one order for all"]
    assert listed.verdict == "cures" and off_px(apply_change(box_of_six_colours(), listed.change)) == 0
    view = {"eye": {"eye": [1.2, 2.4, 0], "target": [0, 1.5, -4], "fov_y_deg": 55},
            "back": {"eye": [-1.2, 0.6, -8], "target": [0, 1.5, -4], "fov_y_deg": 55}}  # fmt: skip
    both = finish_build(box_of_six_colours().scene, parse_setup({"eddyfall_setup": 1, "viewpoints": view, **EXACT}), {}, [])
    layers = [captured(RENDERER, both, Request(v, SMALL)) for v in view]
    assert fixed_order(layers, 1) is None and fixed_order(layers[:1], 1) is not None and fixed_order([], 1) is None
    assert not [r for f in sweep(both, renderer=RENDERER).findings for r in f.remedies if r.change.title.startswith("list ")]


def test_a_rank_names_all_that_it_reaches():
    """A pane before both, and one behind: cutter is drawn after the mist, and after the pane, too; what lay behind stays behind."""
    pane = card("pane", (-1.5, 1.5), (0.5, 2.5), -2.0, unlit("pane", 0.6, 0.1))
    behind = card("behind", (-1.5, 1.5), (0.5, 2.5), -7.0, unlit("behind", 0.6, 0.1))
    build = mist_and_cutter(-1.0, more=(pane, behind))
    survey = Survey(build, RENDERER)
    assert reach_of_rank(survey, "eye", "cutter", 1, [survey.frame("eye").camera]) == ["mist", "pane"]
    told = next(f for f in sweep(build, renderer=RENDERER).findings if f.code == "order.wrong")
    (rank,) = [r for r in told.remedies if r.change.title == "draw rank 1 for cutter"]
    assert "it changes places with pane too" in rank.predicts and rank.costs[0].value == 1


def test_a_pair_that_a_rank_turns_round_is_told_as_its_reach_and_others_are_not():
    ranked = mist_and_cutter(1.0, nodes={"mist": {"draw_rank": 1}})
    assert wrong_pairs(captured(RENDERER, ranked, FRAME))
    (told,) = [f for f in sweep(ranked, renderer=RENDERER).findings if f.code.startswith("order.")]
    assert told.code == "order.rank-reach" and told.suspicion.title.endswith("at eye, by the draw rank of mist")
    assert any(r.verdict == "cures" and r.change.title == "take out the draw rank of mist" for r in told.remedies)
    plain = sweep(mist_and_cutter(-1.0), renderer=RENDERER).findings
    assert [f.code for f in plain if f.code.startswith("order.")] == ["order.wrong"]


@pytest.mark.long
def test_a_rank_that_changes_no_pixel_is_left_over_and_one_that_does_is_not():
    """At x = 1 the mist is farther by its key as well: a rank below changes nothing there. At x = -1 it does what it was set for."""
    idle = sweep(mist_and_cutter(1.0, nodes={"mist": {"draw_rank": -1}}), renderer=RENDERER).findings
    (left,) = [f for f in idle if f.code == "order.leftover"]
    assert left.suspicion.title == "nodes.mist.draw_rank = -1 changes no pixel" and left.remedies[0].verdict == "cures"
    needed = sweep(mist_and_cutter(-1.0, nodes={"mist": {"draw_rank": -1}}), renderer=RENDERER).findings
    assert not [f for f in needed if f.code.startswith("order.")]
    views = {n: {"eye": [x, 1.6, 0.0], "target": [x, 1.6, -1.0], "fov_y_deg": 55} for n, x in (("left", -3), ("right", 3))}
    keys = {"a": {"t_s": 0, "viewpoint": "right"}, "b": {"t_s": 3, "viewpoint": "left"}}
    walk = mist_and_cutter(viewpoints={"right": views["right"], "left": views["left"]}, moves={"walk": {"keys": keys}},
                           nodes={"mist": {"draw_rank": -1}})  # fmt: skip
    assert not [f for f in sweep(walk, renderer=RENDERER).findings if f.code == "order.leftover"], "it is needed on the way"


def test_a_name_with_a_number_that_is_there_already_is_given_to_nothing_else():
    """A thing that the scene calls red~2 keeps its name; what is cut off red is the third."""
    red = Thing("red", Shape().quad((-1, 0.5, -5), (2, 0, 2), (0, 2, 0)), unlit("red", (1, 0, 0), 0.5))
    build = seen_from((0, 1.5, 0), (0, 1.5, -1), red, card("red~2", (-1, 1), (0, 1), -6.0, unlit("other", 0.5, 0.5)),
                      nodes={"red": {"split_at": ["red~2"]}})  # fmt: skip
    assert [d.name for d in pack(build.scene, build.setup).drawables] == ["black", "red", "red~2", "(plate)"], (
        "a plane it does not cross"
    )
    crossed = seen_from((0, 1.5, 0), (0, 1.5, -1), red, card("red~2", (-1, 1), (0, 1), -4.0, unlit("other", 0.5, 0.5)),
                        nodes={"red": {"split_at": ["red~2"]}})  # fmt: skip
    assert [d.name for d in pack(crossed.scene, crossed.setup).drawables] == ["black", "red", "red~2", "red~3", "(plate)"]


def test_a_rank_that_is_wrong_on_the_way_only_is_told_by_where_it_is_wrong():
    """At both ends of the walk the two do not lie over one another; in its middle the rank puts the mist over what is nearer."""
    views = {n: {"eye": [x, 1.6, 0.0], "target": [x, 1.6, -1.0], "fov_y_deg": 40} for n, x in (("left", -8), ("right", 8))}
    keys = {"a": {"t_s": 0, "viewpoint": "left"}, "b": {"t_s": 4, "viewpoint": "right"}}
    build = mist_and_cutter(viewpoints=views, moves={"walk": {"keys": keys}}, nodes={"mist": {"draw_rank": 1}})
    told = [f for f in sweep(build, renderer=RENDERER).findings if f.code.startswith("order.")]
    assert [f.code for f in told] == ["order.rank-reach"] and "along walk" in told[0].suspicion.title


def test_a_listed_order_that_changes_nothing_is_left_over_too():
    idle = mist_and_cutter(1.0, nodes={"mist": {"triangle_order": [1, 0]}})
    assert [f.suspicion.cause for f in sweep(idle, renderer=RENDERER).findings] == ["nodes.mist.triangle_order"]


def test_colours_alone_are_looked_at_alone():
    """A trial that sets a leaf of colours looks at its own subjects; anything more, and what it may uncover is looked at as well."""
    build = mist_and_cutter()
    of = {
        title: _leaves_set(set_leaves(build, leaves, scope="material", title=title))
        for title, leaves in {
            "colours": {("materials", "mist", "filtered"): "premultiplied", ("materials", "cutter", "colours_hold"): "straight"},
            "kind": {("materials", "cutter", "blend"): "premultiplied"},
        }.items()
    }
    assert of["colours"] <= EDGES.colours and not of["kind"] <= EDGES.colours and of["kind"]
