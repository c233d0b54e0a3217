"""What a build gets that brings no setup: everything in view and lit at any size, each choice said, and nothing invented."""

from dataclasses import replace
from math import dist

import numpy as np
import pytest

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.intake import default_setup_path, fit_build, open_build
from eddyfall.core.scene.model import Camera, Light, Material, Node
from eddyfall.core.scene.setup.sections.depth import Depth
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.visibility import caster_scene, sun_visibility, sunlit_candidates
from eddyfall.demo.shapes import Shape
from scenes import GREY, Thing, flat, scene_of, write_build

SIZE = (320, 180)
RENDERER = Renderer()


def box(low, high):
    return Shape().box(low, high)


def still_life(size=1.0, place=(0.0, 0.0, 0.0)):
    """A plinth with a post and a block beside it, `size` metres across."""
    s = size
    return scene_of(
        Thing("plinth", box((-0.5 * s, -0.1 * s, -0.4 * s), (0.5 * s, 0.0, 0.4 * s)), place=place),
        Thing("post", box((-0.25 * s, 0.0, -0.1 * s), (-0.1 * s, 0.6 * s, 0.05 * s)), place=place),
        Thing("block", box((0.1 * s, 0.0, -0.05 * s), (0.35 * s, 0.25 * s, 0.2 * s)), place=place),
    )


def frames(build):
    return {v: RENDERER.frame(build, Request(v, SIZE), "linear") for v in build.setup.viewpoints}


def cut(frame):
    """Whether anything drawn touches the border of the frame."""
    met = frame.drawable >= 0
    return bool(met[0].any() or met[-1].any() or met[:, 0].any() or met[:, -1].any())


def disagreement(frame):
    """Share of pixels turned to the sun whose shadow map says otherwise than rays do."""
    mask = sunlit_candidates(frame)
    truth = sun_visibility(frame, caster_scene(frame), np.argwhere(mask)[:, ::-1])
    return float(((frame.buffers["sun_visibility"][mask] >= 0.5) != truth.lit).mean())


@pytest.mark.parametrize("size", [0.001, 0.1, 1.0, 100.0, 10_000.0])
def test_from_a_millimetre_to_ten_kilometres_all_is_in_the_frame_and_its_shadow_is_where_rays_say(size):
    build = fit_build(still_life(size), RENDERER)
    seen = set()
    for frame in frames(build).values():
        assert not cut(frame)
        assert 0.05 < (frame.drawable >= 0).mean() < 0.8
        assert disagreement(frame) < 0.02
        seen |= set(np.unique(frame.drawable[frame.drawable >= 0]).tolist())
    assert seen == {0, 1, 2}
    assert sweep(build, size=SIZE, renderer=RENDERER).findings == ()
    assert np.isclose(build.setup[Shadow].reach_m / size, fit_build(still_life(), RENDERER).setup[Shadow].reach_m, rtol=0.02)


def test_a_ball_needs_its_radius_over_the_sine_of_half_the_field_of_view():
    # 1 / sin(25 deg) = 2.366 radii at a vertical field of 50 degrees (plain trigonometry, derived).
    points = np.random.default_rng(3).normal(size=(20_000, 3))
    from eddyfall.core.intake.poses import MARGIN, direction, pose_around

    pose = pose_around("p", points / np.linalg.norm(points, axis=1, keepdims=True), direction(33, 12))
    assert 2.366 < dist(pose.eye, pose.target) < 2.366 / MARGIN * 1.01


def test_every_choice_is_said():
    notes = "\n".join(fit_build(still_life(), RENDERER).notes)
    for choice in ("viewpoints: fitted_front", "depth.near_m", "shadow.reach_m", "60 000 lx", "EV100"):
        assert choice in notes


def test_a_sheet_is_looked_at_from_its_front():
    # Both ways round: the default poses stand before one and behind the other.
    for turn in (1, -1):
        sheet = Shape().quad((-turn, 0, 0), (2 * turn, 0, 0), (0, 2, 0))
        build = fit_build(scene_of(Thing("sheet", sheet)), RENDERER)
        assert sweep(build, size=SIZE, renderer=RENDERER).findings == ()
        assert all((f.drawable == 0).sum() > 100 for f in frames(build).values())


def test_a_tank_without_inner_faces_is_still_seen_from_above():
    tank = Shape().box((-1, 0, -1), (1, 1, 1), faces="xXyzZ")
    found = sweep(fit_build(scene_of(Thing("tank", tank)), RENDERER), size=SIZE, renderer=RENDERER).findings
    assert [f.code for f in found] == ["face.seen-from-behind"]


def turned_inwards(shape):
    turned = Shape()
    p = shape.primitive(0)
    turned.add(p.positions, -p.attributes["NORMAL"], p.attributes["TEXCOORD_0"], p.indices[:, ::-1])
    return turned


@pytest.mark.parametrize("unlit", [True, False])
def test_within_a_dome_the_rest_is_looked_at_from_inside(unlit):
    dome = turned_inwards(box((-60, -60, -60), (60, 60, 60)))
    skin = flat("heaven", 0.6) if unlit else replace(GREY, name="heaven")
    scene = still_life()
    scene = scene_of(*[Thing(n.name, shape_of(scene, i)) for i, n in enumerate(scene.nodes)], Thing("dome", dome, skin))
    build = fit_build(scene, RENDERER)
    names = set()
    for frame in frames(build).values():
        names |= {frame.geometry.drawables[i].name for i in np.unique(frame.drawable[frame.drawable >= 0])}
        assert max(np.abs(frame.camera.eye)) < 60
        if sunlit_candidates(frame).any():
            assert disagreement(frame) < 0.02
    assert names == {"plinth", "post", "block", "dome"}
    assert "stands around the rest" in "\n".join(build.notes)
    assert sweep(build, size=SIZE, renderer=RENDERER).findings == ()


def shape_of(scene, mesh):
    shape, p = Shape(), scene.meshes[mesh].primitives[0]
    shape.add(p.positions, p.attributes["NORMAL"], p.attributes["TEXCOORD_0"], p.indices)
    return shape


def test_a_room_is_looked_at_from_inside_and_has_no_sun_that_could_not_get_in():
    room = turned_inwards(box((-4, 0, -3), (4, 3, 3)))
    build = fit_build(scene_of(Thing("room", room), Thing("table", box((-0.6, 0, -0.4), (0.6, 0.8, 0.4)))), RENDERER)
    assert sweep(build, size=SIZE, renderer=RENDERER).findings == ()
    for frame in frames(build).values():
        assert (frame.drawable >= 0).mean() > 0.9
    assert "no sun" in "\n".join(build.notes) and not build.setup.lights


def test_unlit_and_emissive_things_are_not_black_beside_the_fitted_sun():
    for skin in (flat("sign", 0.8), Material("sign", base_rgba=(0, 0, 0, 1), metallic=0.0, emissive=(0.9, 0.9, 0.9))):
        wall = Thing("wall", box((-1, 0, -1), (2, 2, -0.5)))
        build = fit_build(scene_of(Thing("sign", box((0, 0, 0), (1, 1, 0.1)), skin), wall), RENDERER)
        shown = {name: [] for name in ("sign", "wall")}
        for view in build.setup.viewpoints:
            frame = RENDERER.frame(build, Request(view, SIZE))
            for name, levels in shown.items():
                mine = frame.drawable == frame.geometry.names[name]
                if mine.any():
                    levels.append(frame.display[mine].max())
        assert min(max(levels) for levels in shown.values()) > 80, shown


def test_unlit_things_beside_the_lights_of_a_file_are_exposed_for_and_it_is_said():
    scene = scene_of(
        Thing("sign", box((0, 0, 0), (1, 1, 0.1)), flat("sign", 0.8)), Thing("wall", box((-1, 0, -1), (2, 2, -0.5))),
        lamps=((Light("day", "directional", intensity=60_000.0), (0.0, 5.0, 5.0)),),
    )  # fmt: skip
    build = fit_build(scene, RENDERER)
    frame = RENDERER.frame(build, Request("fitted_front", SIZE))
    assert frame.display[frame.drawable == 0].mean() > 30
    assert "unlit things would be black" in "\n".join(build.notes)


def with_camera(scene, eye, near):
    matrix = np.eye(4)
    matrix[:3, 3] = eye
    return replace(scene, nodes=(*scene.nodes, Node("cam", freeze(matrix), camera=0)), cameras=(Camera("cam", 0.8, near),))


def test_the_near_plane_of_a_files_camera_is_kept():
    # Two plates 20 mm apart at 60 m: with the file's 10 m they are told apart (step 2e-5 m), with .5 m they would not be at 400 m.
    plates = scene_of(Thing("a", box((-20, -20, -60.5), (20, 20, -60))), Thing("b", box((-10, -10, -60), (10, 10, -59.98))))
    build = fit_build(with_camera(plates, (0, 0, 0), 10.0), RENDERER)
    assert build.setup[Depth].near_m == 10.0
    assert sweep(build, size=SIZE, renderer=RENDERER).findings == ()


def test_a_second_set_of_uvs_is_not_taken_for_a_lightmap():
    scene = scene_of(Thing("sheet", Shape().quad((-1, 0, 0), (2, 0, 0), (0, 2, 0)), lightmap=np.zeros((4, 2))))
    build = fit_build(scene, RENDERER)
    assert sweep(build, size=SIZE, renderer=RENDERER).findings == ()
    assert "meshes.sheet.lightmap_uv" in "\n".join(build.notes)


def test_a_name_with_a_dot_has_its_own_setup(tmp_path):
    build = fit_build(still_life(), RENDERER)
    path = write_build(build, tmp_path, "pump.v2")
    (tmp_path / "pump.setup.json").write_text("{ this is none of pump.v2's business")
    assert default_setup_path(path).name == "pump.v2.setup.json"
    assert open_build(path).setup.viewpoints.keys() == build.setup.viewpoints.keys()
