"""Flat pictures: a barge before a buoy at one depth, drawn by where their feet are; stages that no direction reaches; a reversed one."""

import json

import numpy as np
import pytest

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.layers.capture import captured
from eddyfall.core.layers.level import in_turn, level_pairs, stage_pairs
from eddyfall.core.layers.lost import as_it_lies
from eddyfall.core.lineup.run import line_up
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.model import Material
from eddyfall.core.sweep import sweep
from eddyfall.demo.shapes import Shape
from layer_scenes import EXACT, card, unlit
from scenes import Thing, build_of, write_build

FEET = {"key": "direction", "direction": [0, 1, 0], "point": "nearest"}
BUOY, BARGE, QUAY = 0.8, 0.3, 0.1
RENDERER, FRAME = Renderer(), Request("eye", (480, 270))


def flat(name, value, kind):
    """One value all over, its alpha .9 where it is blended; a cutout's passes everywhere."""
    if kind == "cutout":
        return Material(name, (value,) * 3 + (1.0,), unlit=True, alpha_mode="MASK", double_sided=True)
    return unlit(name, value, 0.9)


def river(barge="blended", buoy="blended", order=FEET, first="barge", more=(), **setup):
    """Seen straight on: a barge whose foot is at y = -1.2 before a buoy whose foot is at -.96, both at z = 0."""
    things = {
        "barge": card("barge", (-1, 1), (-1.2, -0.6), 0.0, flat("barge", BARGE, barge)),
        "buoy": card("buoy", (-0.3, 0.3), (-0.96, 0.2), 0.0, flat("buoy", BUOY, buoy)),
    }
    order_of = [first, *(n for n in things if n != first)]
    views = {"eye": {"eye": [0.4, -0.5, 5], "target": [0.4, -0.5, 0], "fov_y_deg": 40}}
    return build_of(
        card("quay", (-9, 9), (-9, 9), -1.0, unlit("quay", QUAY)), *(things[n] for n in order_of), *more,
        setup={"viewpoints": views, "order": order, **EXACT, **setup},
    )  # fmt: skip


def shown(build, x=0.0, y=-0.8):
    """Nits where both lie over one another."""
    column, row = (
        240 + (x - 0.4) * 270 / (2 * 5 * np.tan(np.radians(20))),
        135 - (y + 0.5) * 270 / (2 * 5 * np.tan(np.radians(20))),
    )
    return float(RENDERER.frame(build, FRAME, "linear").linear[int(row), int(column)].mean())


@pytest.mark.parametrize("first", ["barge", "buoy"])
def test_what_stands_lower_is_in_front_whatever_the_file_says(first):
    """Over .1: the buoy leaves .1 of it and lays .72, of that the barge leaves .1 and lays .27: .343. The other way round .748."""
    assert shown(river(first=first)) == pytest.approx(0.1 * (0.1 * QUAY + 0.9 * BUOY) + 0.9 * BARGE, abs=1e-5)
    assert not [f.code for f in sweep(river(first=first), renderer=RENDERER).findings if f.code.startswith("order.")]


def test_without_a_direction_the_camera_decides_and_that_is_told():
    """Sorted by range to the middle of each: from here the barge's is farther, so it is drawn first."""
    build = river(order={"key": "range"})
    (pair,) = level_pairs(captured(RENDERER, build, FRAME))
    (told,) = [f for f in sweep(build, renderer=RENDERER).findings if f.code.startswith("order.")]
    assert told.code == "order.level" and set(told.suspicion.subjects) == {"barge", "buoy"} and pair.pixels > 1000
    repaired = apply_change(build, told.best.change)
    assert told.best.change.title == "sort by where things stand, the highest foot first"
    assert shown(repaired) == pytest.approx(shown(river()), abs=1e-5)
    assert not [f for f in sweep(repaired, renderer=RENDERER).findings if f.code.startswith("order.")]
    assert not level_pairs(captured(RENDERER, river(order={"key": "range"}, barge="cutout"), FRAME)), (
        "one of them is no blended thing"
    )


def test_a_tie_that_the_file_decides_is_no_finding():
    """By depth along the view both have one key, from wherever they are seen."""
    build = river(order={"key": "view_depth"})
    assert level_pairs(captured(RENDERER, build, FRAME))
    assert not [f for f in sweep(build, renderer=RENDERER).findings if f.code.startswith("order.")]


def test_a_cutout_is_drawn_before_what_stands_behind_it_until_it_is_blended():
    """The barge as a cutout is drawn with what is solid: the buoy behind it shows over it. Blended, by its alpha, it is in front again."""
    build = river(barge="cutout")
    assert shown(build) == pytest.approx(0.1 * BARGE + 0.9 * BUOY, abs=1e-5)
    (pair,) = stage_pairs(captured(RENDERER, build, FRAME))
    layers = captured(RENDERER, build, FRAME)
    lies = as_it_lies(RENDERER, build, layers, FRAME).reshape(-1, 3)[pair.where]
    np.testing.assert_allclose(lies, BARGE, atol=1e-5)
    assert pair.stages and float(np.abs(layers.drawn - in_turn(layers)).max()) == pytest.approx(0.9 * (BUOY - BARGE), abs=1e-5)
    (told,) = [f for f in sweep(build, renderer=RENDERER).findings if f.code.startswith("order.")]
    assert told.code == "order.stages" and "barge is a cutout" in told.suspicion.title
    assert told.best.change.title == "blend barge, by its alpha"
    repaired = apply_change(build, told.best.change)
    assert shown(repaired) == pytest.approx(BARGE, abs=1e-5)
    # That it is blended though its alpha is one is no fault here: only so a direction sorts it.
    assert not sweep(repaired, renderer=RENDERER).findings
    alone = river(barge="cutout", order={"key": "view_depth"})
    blended = sweep(apply_change(alone, told.best.change), renderer=RENDERER).findings
    assert [f.code for f in blended] == ["blend.unjustified"]
    other = river(buoy="cutout")
    assert shown(other) == pytest.approx(0.1 * BUOY + 0.9 * BARGE, abs=1e-5)
    assert not [f for f in sweep(other, renderer=RENDERER).findings if f.code.startswith("order.")], (
        "it stands behind: it is drawn before"
    )


@pytest.mark.parametrize("first", ["barge", "buoy"])
def test_of_two_cutouts_the_one_shows_that_the_file_has_last_or_first_and_blending_the_front_one_mends_it(first):
    """Whichever is written over the other: where it is the wrong one it is told, and only then."""
    build = river(barge="cutout", buoy="cutout", first=first)
    told = [f for f in sweep(build, renderer=RENDERER).findings if f.code.startswith("order.")]
    wrong = shown(build) == pytest.approx(BUOY, abs=1e-5)
    assert [f.code for f in told] == (["order.stages"] if wrong else [])
    if wrong:
        assert "both are drawn with what is solid" in told[0].suspicion.title
        assert shown(apply_change(build, told[0].best.change)) == pytest.approx(BARGE, abs=1e-5)


def test_a_rank_says_who_is_in_front_before_any_foot_does():
    """A glow that hangs before a cutout barge has a higher foot, and a rank for it: it shows over the barge as it is to; without, it is
    told. In their turn it is laid last, too."""
    glow = card("glow", (-0.3, 0.3), (-0.9, 0.2), 0.0, unlit("glow", 0.9, 0.5))
    for rank, codes in ((2, []), (0, ["order.stages"])):
        build = river(barge="cutout", buoy="cutout", first="buoy", more=(glow,), nodes={"glow": {"draw_rank": rank}})
        assert [f.code for f in sweep(build, renderer=RENDERER).findings if f.code == "order.stages"] == codes, rank
        layers = captured(RENDERER, build, FRAME)
        off = np.abs(layers.drawn - in_turn(layers)).max()
        assert (off < 1e-6) == (rank == 2)


def test_things_that_meet_in_a_line_are_not_level():
    """Boxes on a floor, sorted by a direction: along the lines in which they meet depths are alike, and nothing is told."""
    boxes = [Thing(f"box_{k}", Shape().box((k - 1.2, 0, -1), (k - 0.4, 0.8, 0)), unlit(f"b{k}", 0.3 + 0.2 * k)) for k in range(3)]
    floor = Thing("floor", Shape().quad((-4, 0, 4), (8, 0, 0), (0, 0, -8)), unlit("floor", 0.1))
    views = {"eye": {"eye": [0.4, 1.5, 5], "target": [0.4, 0.3, 0], "fov_y_deg": 40}}
    build = build_of(floor, *boxes, setup={"viewpoints": views, "order": FEET, **EXACT})
    assert not [f for f in sweep(build, renderer=RENDERER).findings if f.code.startswith("order.")]


def test_a_direction_back_to_front_is_one_finding():
    """Sheets one behind the other, sorted by where they lie along +z, so that the nearest is drawn first."""
    sheets = [card(f"sheet_{k}", (-1, 1), (-1, 1), -float(k), unlit(f"s{k}", 0.2 * k, 0.5)) for k in range(4)]
    views = {"eye": {"eye": [0, 0, 4], "target": [0, 0, 0], "fov_y_deg": 40}}
    for direction, codes in (([0, 0, 1], ["order.direction"]), ([0, 0, -1], [])):
        order = {"key": "direction", "direction": direction}
        build = build_of(*sheets, setup={"viewpoints": views, "order": order, **EXACT})
        told = [f for f in sweep(build, renderer=RENDERER).findings if f.code.startswith("order.")]
        assert [f.code for f in told] == codes
        if told:
            assert told[0].best.change.title == "turn the direction round" and told[0].suspicion.cause == "order.direction"
            assert set(told[0].suspicion.subjects) == {f"sheet_{k}" for k in range(4)}


BY_FEET = "sort by where things stand, the highest foot first"


@pytest.mark.parametrize(
    ("build", "cure"),
    [(river(barge="cutout"), "blend barge, by its alpha"), (river(order={"key": "range"}), BY_FEET)],
    ids=["stages", "level"],
)
def test_a_case_of_it_is_worked_to_its_end(build, cure):
    found = line_up(build, "eye", (400, 300, 60, 20), "out of turn", subject="barge", renderer=RENDERER)
    assert found.base_score > 0.1
    clears = [t.title for t in found.trials if t.verdict == "clears it"]
    assert cure in clears
    if build.setup.order.key == "direction":  # drawn with what is solid, the buoy still shows over the barge
        assert not {"alpha test off (buoy)", "blending off (buoy)"} & set(clears)


def test_the_command_tells_what_lies_at_one_depth(run, tmp_path):
    code, out, _ = run("order", write_build(river(barge="cutout"), tmp_path, "stages"), "--viewpoint", "eye", "--json", "-")
    (two,) = json.loads(out)["level"]
    assert code == 1 and (two["first"], two["second"], two["stages"]) == ("barge", "buoy", True)
    code, out, _ = run("order", write_build(river(order={"key": "range"}), tmp_path, "level"), "--viewpoint", "eye")
    assert code == 0 and "lie at one depth" in out
