"""A thousand like findings cost about what one costs: remedies are proved together, within a budget, and what was not proved is said."""

from dataclasses import replace

import numpy as np
import pytest

from bake_scenes import under_a_partition
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.defects.registry import families
from eddyfall.core.frame.render import Renderer
from eddyfall.core.scene.changes import apply_change, apply_changes
from eddyfall.core.sweep import best_changes, sweep
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, flat

SIZE = (480, 270)


def decals(count, gap=0.0):
    """So many decals in the very plane of one wall, all in view."""
    side = int(np.ceil(np.sqrt(count)))
    things = [Thing("wall", Shape().quad((-20, -12, -20), (40, 0, 0), (0, 24, 0)), flat("white", 0.8))]
    for i in range(count):
        x, y = -19 + 38 * (i % side) / side, -11 + 22 * (i // side) / side
        card = Shape().quad((x, y, -20 + gap), (30 / side, 0, 0), (0, 16 / side, 0))
        things.append(Thing(f"decal{i}", card, flat("red", (0.8, 0.1, 0.1))))
    view = {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 60}}
    return build_of(*things, setup={"depth": {"near_m": 0.05}, "viewpoints": view})


@pytest.fixture
def looked(monkeypatch):
    """How often any family looks at a whole build to prove a remedy."""
    counts = []
    for family in families():
        original = family.inspect

        def counting(survey, original=original):
            counts.append(1)
            return original(survey)

        monkeypatch.setitem(family.__dict__, "inspect", counting)
    return counts


def test_a_thousand_are_proved_with_as_many_looks_as_one(looked):
    one = sweep(decals(1), size=SIZE)
    few = len(looked)
    looked.clear()
    many = sweep(decals(1000), size=SIZE)
    assert len(one.findings) == 1 and len(many.findings) == 1000
    assert few <= len(looked) < 3 * max(few, 1)
    for finding in many.findings:
        assert [r.verdict for r in finding.remedies] == [r.verdict for r in one.findings[0].remedies]
        assert finding.best.together == 1000
    # Each is judged by its own pixels, and none by the wall that all of them share.
    assert max(f.impact.share for f in many.findings) < 0.01


def test_what_is_proved_together_holds_by_itself():
    build = decals(12)
    renderer = Renderer()
    result = sweep(build, size=SIZE, renderer=renderer)
    first, second = result.findings[0], result.findings[-1]
    for finding in (first, second):
        alone = sweep(apply_change(build, finding.best.change), size=SIZE, renderer=renderer)
        assert finding.fingerprint not in {f.fingerprint for f in alone.findings} and len(alone.findings) == 11
    assert sweep(apply_changes(build, best_changes(build, result)), size=SIZE, renderer=renderer).findings == ()


def test_few_are_proved_one_by_one():
    assert {r.together for f in sweep(decals(8), size=SIZE).findings for r in f.remedies} == {1}


def test_what_the_budget_left_unproved_is_said():
    result = sweep(decals(3), size=SIZE, budget=2)
    verdicts = [r.verdict for f in result.findings for r in f.remedies]
    assert verdicts.count("not proved") == len(verdicts) - 2
    assert any(line.startswith("not proved: 4 remedies of") and "the budget is 2 proofs" in line for line in result.left_out)
    assert all(f.impact.kind == "exposed" for f in result.findings if f.best is None)


def test_the_budget_holds_for_many_at_once_too():
    result = sweep(decals(12), size=SIZE, budget=1)
    verdicts = {r.change.id.split(":")[0]: r.verdict for r in result.findings[0].remedies}
    assert verdicts["node.move"] == "cures" and "not proved" in verdicts.values()
    assert any("not proved: 12 remedies of 12 findings" in line for line in result.left_out)


def test_masks_means_that_the_look_came_nearer_while_the_measure_did_not():
    # A wall across a lightmapped floor: cutting the floor there ends the leak; a map twice as fine only narrows it (a fact of the trade,
    # no source), so it brings the look nearer to that of the cut floor and leaves the measure beyond its limit.
    build = under_a_partition(64, samples=64)
    pale = tuple(replace(m, base_rgba=(0.9, 0.9, 0.9, 1.0)) if m.name == "floor" else m for m in build.scene.materials)
    dark_side = {"eye": (3.9, 1.2, 0.3), "target": (3.1, 0.0, 0.2), "fov_y_deg": 20.0}
    views = {"eye": build.setup.viewpoints["eye"].model_copy(update=dark_side)}
    setup = build.setup.model_copy(update={"viewpoints": views})
    build = bake(replace(build, scene=replace(build.scene, materials=pale), setup=setup), everything=True).build
    [leak] = [f for f in sweep(build, size=SIZE).findings if f.code == "bake.leak"]
    assert [(r.change.title.split(" ")[0], r.verdict) for r in leak.remedies] == [("cut", "cures"), ("lightmap", "masks")]
