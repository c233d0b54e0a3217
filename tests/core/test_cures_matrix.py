"""The cures matrix on the worked pier of 385 m: each technique is cured by its own remedies alone; and what leftovers are."""

import math

import numpy as np
import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.lineup.cures import cures_matrix
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.leftovers import leftovers
from eddyfall.core.truth.shadow_classes import Lost
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, floor, merged

RENDERER = Renderer()
TALL = math.sqrt(3.2**2 - 2 * 0.8**2)  # so that the ball around the pier has a radius of 1.6 m


def far_pier(**setup):
    """A pier .8 m wide and 385 m off before a pale wall, with a near twin; the sun stands aside behind the viewer."""
    pier = Shape().box((-0.4, -TALL / 2, -385.4), (0.4, TALL / 2, -384.6), 1.0)
    near = Shape().box((-40.4, -TALL / 2, -300.4), (-39.6, TALL / 2, -299.6), 1.0)
    raw = {
        "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 60}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": [0.45, 0.25, 0.86]}},
        "shadow": {"reach_m": 360.0, "near_m": 0.5, "split_lambda": 0.6, "resolution": 2048},
    }
    walls = Shape().quad((-30, -20, -389), (60, 0, 0), (0, 40, 0)).quad((-70, -20, -304), (50, 0, 0), (0, 40, 0))
    return build_of(Thing("wall", walls), Thing("pier", pier), Thing("near_pier", near), setup=merged(raw, setup))


SIZE = (1920, 1080)


@pytest.fixture(scope="module")
def matrix():
    return cures_matrix(RENDERER, far_pier(), "eye", "pier", size=SIZE)


def test_fifteen_cells_and_six_cures(matrix):
    found = {(c.technique, c.remedy): c.verdict for c in matrix.cells}
    assert len(found) == 15
    cures = {k for k, v in found.items() if v == "cures"}
    assert cures == {
        ("cascades", "reach"), ("cascades", "far tier"), ("paged", "dense"), ("paged", "padding"), ("rays", "padding"),
        ("rays", "no size limit"),
    }, [(c.technique, c.remedy, c.verdict, c.lost_before, c.lost, c.drawn) for c in matrix.cells]  # fmt: skip
    assert sum(v == "no effect" for v in found.values()) == 9


def test_the_base_is_the_same_after_every_cell(matrix):
    assert matrix.base == far_pier().content_hash


def test_critical_values_are_those_worked_out_by_hand(matrix):
    critical = {(c.technique, c.remedy): c.critical for c in matrix.cells}
    assert critical["rays", "padding"] == critical["paged", "padding"] == pytest.approx(0.080, abs=1e-3)
    assert critical["rays", "no size limit"] == pytest.approx(math.degrees(2 * math.atan(1.6 / 385)), rel=1e-4)
    assert 385 < critical["cascades", "reach"] < 390, "the wall behind the pier receives it"


def test_costs_are_counted(matrix):
    cost = {(c.technique, c.remedy): c.cost for c in matrix.cells}
    assert cost["cascades", "far tier"].bytes == 16 * 2**20 and cost["cascades", "reach"].bytes == 0
    assert cost["paged", "dense"].bytes == 0 and cost["paged", "dense"].draws > 0


def missing(build, size=SIZE, **setup):
    for path, value in setup.items():
        build = apply_change(build, set_leaf(build, tuple(path.split("__")), value, scope="project", title="t"))
    frame = RENDERER.frame(build, Request("eye", size), "lit")
    [sun] = disagreement(RENDERER, frame).lights
    mine = sun.caster == frame.geometry.names["pier"]
    return int((mine & np.isin(sun.lost, [Lost.CULLED, Lost.REACH])).sum())


@pytest.mark.parametrize(("technique", "leaf"), [("paged", "paged_limit_deg"), ("rays", "ray_limit_deg")])
def test_critical_padding_and_angle_hold_on_either_side(technique, leaf):
    base = far_pier(shadow={"technique": technique})
    critical = 385 * math.tan(math.radians(0.25)) - 1.6
    lost, kept = (missing(base, nodes__pier__bounds_padding_m=critical * share) for share in (0.98, 1.02))
    assert lost > 5 and kept <= 3, (lost, kept)
    angle = math.degrees(2 * math.atan(1.6 / 385))
    lost, kept = (missing(base, **{f"shadow__{leaf}": angle * share}) for share in (1.002, 0.998))
    assert lost > 5 and kept <= 3, (lost, kept)


def test_padding_of_a_quarter_metre_serves_to_424_m_and_fails_at_425():
    assert 1.85 / math.tan(math.radians(0.25)) == pytest.approx(424.0, abs=0.05)
    base = far_pier(shadow={"technique": "rays"}, nodes={"pier": {"bounds_padding_m": 0.25}})
    for back, there in ((423.9 - 385, True), (425 - 385, False)):
        eye = {"eye": [0, 0, back], "target": [0, 0, back - 1], "fov_y_deg": 60}
        moved = base.with_setup(
            base.setup.model_copy(
                update={
                    "viewpoints": {
                        "eye": type(base.setup.viewpoints["eye"])(
                            **{**eye, "eye": tuple(map(float, eye["eye"])), "target": tuple(map(float, eye["target"]))}
                        )
                    }
                }
            )
        )
        assert (missing(moved) <= 3) == there, back


def test_a_caster_without_a_shadow_in_view_is_refused():
    with pytest.raises(RequestError, match="does not exist"):
        cures_matrix(RENDERER, far_pier(), "eye", "crane")
    with pytest.raises(RequestError, match="throws no shadow"):
        cures_matrix(RENDERER, far_pier(), "eye", "wall", size=(480, 270))


def yard(**setup):
    raw = {
        "viewpoints": {"eye": {"eye": [0, 3, 0], "target": [0, 0, -9], "fov_y_deg": 50}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": [0.3, 0.6, -0.5]}},
        "shadow": {"reach_m": 60.0},
    }
    wall = Thing("wall", Shape().box((-2, 0, -10.3), (2, 1.5, -10), 1.0))
    pebble = Thing("pebble", Shape().box((3, 0, -8.5), (3.6, 0.5, -8), 1.0))
    return build_of(Thing("floor", floor(0.0, near=-6.0, far=60.0)), wall, pebble, setup=merged(raw, setup))


def test_leftovers_are_found_and_nothing_needed_is_named():
    build = yard(
        shadow={"ray_limit_deg": 0.0, "page_pool": 64, "bias_texels": 0.4},
        nodes={"wall": {"bounds_padding_m": 0.25}},
        roles={"play": {}, "edit": {"set": {"shadow": {"reach_m": 30.0, "far_resolution": 512}}}},
    )
    found = leftovers(RENDERER, build, size=(320, 180))
    spare = {".".join(s.path) for s in found.settings if not s.needed}
    needed = {".".join(s.path) for s in found.settings if s.needed}
    assert spare == {
        "shadow.ray_limit_deg", "shadow.page_pool", "nodes.wall.bounds_padding_m", "roles.edit.set.shadow.far_resolution",
    }  # fmt: skip
    assert needed == {"shadow.reach_m", "shadow.bias_texels", "roles.edit.set.shadow.reach_m"}
    clean = apply_change(build, found.change)
    a, b = (RENDERER.frame(x, Request("eye", (320, 180)), "linear").linear for x in (build, clean))
    np.testing.assert_array_equal(a, b)
    assert leftovers(RENDERER, clean, size=(320, 180)).change is None


def test_two_settings_that_stand_in_for_each_other_are_not_both_leftovers():
    # Dense, or padded: either keeps the wall in the paged map; one of them can go. The limit is needed: it leaves the pebble out.
    build = yard(
        shadow={"technique": "paged", "paged_limit_deg": 40.0}, nodes={"wall": {"bounds_padding_m": 3.0}},
        meshes={"wall": {"dense": True}},
    )  # fmt: skip
    found = leftovers(RENDERER, build, size=(320, 180))
    spare = [s for s in found.settings if not s.needed]
    assert len([s for s in spare if s.path[0] in ("nodes", "meshes")]) == 1
    assert any(s.where == "together with the others" for s in found.settings)
