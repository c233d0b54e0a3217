"""A walk past posts: snapped maps stand still, unsnapped ones swim, joins and the reach's end are told apart from that."""

import numpy as np
import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.changes import apply_change, set_leaves
from eddyfall.core.scene.model import Light
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.walk import shadow_walk
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, floor, merged

SIZE = (480, 270)
RENDERER = Renderer()
REQUEST = Request("eye", SIZE)


def posts(lamps=(), **setup):
    """Sixty posts of 100 mm on a floor, in maps of 512 texels."""
    rng = np.random.default_rng(3)
    shape = Shape()
    for number in range(60):
        x, z = (number % 10 - 4.5) * 1.6 + rng.uniform(-0.3, 0.3), -6.0 - (number // 10) * 3.0 + rng.uniform(-0.5, 0.5)
        shape.box((x - 0.05, 0, z - 0.05), (x + 0.05, 1.6, z + 0.05), 1.0)
    raw = {
        "viewpoints": {"eye": {"eye": [0, 2.2, 0], "target": [0, 0.4, -9], "fov_y_deg": 50}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": [0.45, 0.6, 0.3]}},
        "shadow": {"reach_m": 60.0, "resolution": 512},
    }
    ground = Thing("floor", floor(0.0, near=-6.0, far=80.0))
    return build_of(ground, Thing("posts", shape), setup=merged(raw, setup), lamps=lamps)


def shadow(build, **leaves):
    return apply_change(build, set_leaves(build, {("shadow", k): v for k, v in leaves.items()}, scope="project", title="t"))


@pytest.mark.parametrize("move", ["aside", "retreat"])
def test_snapped_cascades_stand_still_and_unsnapped_ones_swim(move):
    still = shadow_walk(RENDERER, posts(), REQUEST, move, every=1)
    assert still.swims == 0 and still.points > 80_000 and still.dark > 1000, (still.swims, still.dark)
    swims = shadow_walk(RENDERER, shadow(posts(), snap=False), REQUEST, move, every=1)
    assert swims.share > 0.1 and swims.swims == int(swims.swimming.sum()), (swims.swims, swims.dark)
    assert [c.name for c in swims.casters] == ["posts"] and 0.3 * swims.swims < swims.casters[0].swims <= swims.swims


def test_a_turn_swims_where_the_fit_follows_the_view():
    for fit, snap, moves in (("sphere", True, False), ("tight", True, True), ("sphere", False, True)):
        walk = shadow_walk(RENDERER, shadow(posts(), fit=fit, snap=snap), REQUEST, "turn", step=0.4)
        assert (walk.share > 0.1) == moves and (moves or walk.swims == 0), (fit, snap, walk.swims, walk.dark)


def test_a_paged_map_stands_still():
    walk = shadow_walk(RENDERER, shadow(posts(), technique="paged"), REQUEST)
    assert walk.technique == "paged" and walk.dark > 300 and walk.share <= 0.01, (walk.swims, walk.dark)


def test_flips_at_a_join_and_at_the_end_of_the_reach_are_told_apart():
    walk = shadow_walk(RENDERER, shadow(posts(), cascades=2, reach_m=24.0), REQUEST, "retreat", step=0.6, steps=10)
    assert walk.swims == 0 and walk.joined > 0 and walk.dropped > 0
    assert sum(s.dropped for s in walk.steps) >= walk.dropped and walk.steps[-1].at == pytest.approx(6.0)


def test_a_caster_drops_out_where_its_reach_ends():
    wall = Thing("wall", Shape().box((-2, 0, -40.3), (2, 3.0, -40), 1.0))
    raw = {
        "viewpoints": {"eye": {"eye": [0, 2.2, 0], "target": [0, 1.0, -40], "fov_y_deg": 20}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": [0.1, 0.6, -0.5]}},
        "shadow": {"reach_m": 50.0, "resolution": 2048},
    }
    build = build_of(Thing("floor", floor(0.0, near=-6.0, far=120.0)), wall, setup=raw)
    walk = shadow_walk(RENDERER, build, REQUEST, "retreat", step=1.0, steps=20)
    caster = next(c for c in walk.casters if c.name == "wall")
    # Its shadow lies 0 to 2.5 m before it: the middle of it leaves the reach when the wall stands a good metre beyond.
    assert caster.drops_out_m == pytest.approx(51.5, abs=1.6) and caster.dark >= 30
    near = shadow_walk(RENDERER, build, REQUEST, "retreat", step=0.25, steps=8)
    assert next(c for c in near.casters if c.name == "wall").drops_out_m is None


def test_walks_that_make_no_sense_are_refused():
    lamp = (Light("lamp", "point", intensity=50.0), (0.0, 3.0, -8.0))
    build = posts(lamps=(lamp,), lights={"lamp": {"casts": True}})
    assert shadow_walk(RENDERER, build, REQUEST, light="lamp").swims == 0, "a lamp's map stands with the lamp"
    for wrong, words in (
        ({"steps": 0}, "1 to 64 steps"), ({"step": float("nan")}, "finite"), ({"light": "moon"}, "there are: sun, lamp"),
    ):  # fmt: skip
        with pytest.raises(RequestError, match=words):
            shadow_walk(RENDERER, build, REQUEST, **wrong)
    with pytest.raises(RequestError, match="nothing of it can swim"):
        shadow_walk(RENDERER, shadow(posts(), technique="rays"), REQUEST, light="sun")


def test_swimming_cascades_are_a_finding_that_snapping_cures_and_the_twin_is_silent():
    build = shadow(posts(), snap=False)
    found = [f for f in sweep(build, size=SIZE, renderer=RENDERER).findings if f.code == "shadow.swims"]
    assert [f.suspicion.cause for f in found] == ["sun: shadow.snap"] and found[0].suspicion.value > 0.1
    assert [(r.change.title, r.verdict) for r in found[0].remedies] == [("cascades snap to whole texels", "cures")]
    assert {c.name: c.value for c in found[0].best.costs}["memory"] == 0
    tight = [f for f in sweep(shadow(posts(), fit="tight"), size=SIZE, renderer=RENDERER).findings if f.code == "shadow.swims"]
    assert [f.suspicion.cause for f in tight] == ["sun: shadow.fit"] and tight[0].best is not None
    assert not [f for f in sweep(posts(), size=SIZE, renderer=RENDERER).findings if f.code == "shadow.swims"]


def test_a_line_up_on_swimming_shadows_finds_the_snap():
    result = line_up(shadow(posts(), snap=False), "eye", (150, 120, 160, 100), "shadow swims", subject="floor", size=SIZE)
    assert result.base_score > 0.1
    assert "cascades snap to whole texels" in [t.title for t in result.trials if t.verdict == "clears it"]
