"""Boxes of mist beside sheets that lie before, in and behind them: worked out by hand, and by what is due of each part.

Extinction is Beer and Lambert's law; that a volume's parts multiply to the whole follows from it."""

import math

import numpy as np
import pytest

from eddyfall.core.defects.volume_order import CODE
from eddyfall.core.errors import SetupError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.layers.capture import captured
from eddyfall.core.layers.plates import plates
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.scene.setup.sections.order import Order
from eddyfall.core.shade.volumes import way_through, way_through_plain
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.demo.shapes import Shape
from layer_scenes import EXACT, card, unlit
from scenes import GREY, Thing, build_of
from volume_scenes import LONG, NEAR, PER_M, mist_and_sheet

RENDERER, SIZE = Renderer(), (97, 55)
T, L, BANK, SHEET, A = math.exp(-PER_M * LONG), 0.66, 0.2, 0.8, 0.4


def middle(build, upto="linear"):
    frame = RENDERER.frame(build, Request("eye", SIZE), upto)
    return float(frame.linear[27, 48, 0])


def over(below, keeps, lays):
    return keeps * below + lays


def test_a_sheet_before_behind_and_midway():
    """Optical depth 2.4 of .66 nit, a sheet of .8 and alpha .4, over .2: .691 with the sheet ahead, .640 behind, .652 midway."""
    ahead = over(over(BANK, T, L * (1 - T)), 1 - A, A * SHEET)
    behind = over(over(BANK, 1 - A, A * SHEET), T, L * (1 - T))
    half = math.sqrt(T)
    within = over(over(over(BANK, half, L * (1 - half)), 1 - A, A * SHEET), half, L * (1 - half))
    assert (round(ahead, 3), round(behind, 3), round(within, 3)) == (0.691, 0.640, 0.652)
    assert middle(mist_and_sheet(5.0)) == pytest.approx(ahead, abs=1e-5)
    assert middle(mist_and_sheet(80.0)) == pytest.approx(behind, abs=1e-5)
    for sort, due in (("object", ahead), ("none", behind), ("split", within)):
        assert middle(mist_and_sheet(NEAR + LONG / 2, sort)) == pytest.approx(due, abs=1e-5)
    assert middle(mist_and_sheet(5.0, "none")) == pytest.approx(behind, abs=1e-5), (
        "drawn over all, also over what stands before it"
    )
    assert middle(mist_and_sheet(5.0, "split")) == pytest.approx(ahead, abs=1e-5)


@pytest.mark.parametrize(("per_m", "t"), [(0.06, 0.0907), (0.03, 0.3012)])
def test_what_mist_keeps_by_two_plates(per_m, t):
    """40 m at .06 and .03 a metre: optical depth 2.4 and 1.2."""
    build = mist_and_sheet(80.0, volumes={"m": {"node": "mist", "per_m": per_m, "rgb": [L] * 3}})
    told = plates(RENDERER, build, Request("eye", SIZE), [1])
    assert told.k[27, 48, 0] == pytest.approx(t, abs=1e-4) and told.b[27, 48, 0] == pytest.approx(L * (1 - t), abs=1e-4)
    assert told.acts_as == "blended"


def test_mist_ends_at_what_is_solid_and_starts_at_an_eye_inside():
    post = Thing("post", Shape().box((-5, -5, -31), (5, 5, -30)), unlit("post", 0.1))
    build = mist_and_sheet(80.0, more=(post,))
    t = math.exp(-PER_M * 20)
    assert middle(build) == pytest.approx(0.1 * t + L * (1 - t), abs=1e-5)
    inside = {"eye": {"eye": [0, 0, -30], "target": [0, 0, -31], "fov_y_deg": 30}}
    t = math.exp(-PER_M * 20)
    assert middle(mist_and_sheet(5.0, viewpoints=inside)) == pytest.approx(BANK * t + L * (1 - t), abs=1e-5)
    aside = {"eye": {"eye": [0, 0, 0], "target": [0, 0, 1], "fov_y_deg": 30}}
    frame = RENDERER.frame(mist_and_sheet(5.0, viewpoints=aside), Request("eye", SIZE), "linear")
    assert not len(captured(RENDERER, mist_and_sheet(5.0, viewpoints=aside), Request("eye", SIZE)).shown.far)
    assert np.ptp(frame.linear[..., 0]) < 1.0


@pytest.mark.parametrize("seed", range(3))
def test_rays_through_boxes_are_their_plain_twins(seed):
    rng = np.random.default_rng(seed)
    for _ in range(200):
        low = rng.uniform(-5, 4, 3)
        high = low + rng.uniform(0.1, 6, 3)
        eye, way = rng.uniform(-8, 8, 3), rng.normal(size=3) * rng.choice([0, 1, 1], 3)
        if not way.any():
            continue
        way /= np.linalg.norm(way)
        limit = float(rng.uniform(0.5, 30))
        ours = way_through(*eye, *way, low[None], high[None], 0, limit)
        plain = way_through_plain(eye, way, low, high, limit)
        assert max(ours[1] - ours[0], 0) == pytest.approx(max(plain[1] - plain[0], 0), abs=1e-9)
        if ours[1] > ours[0]:
            at = eye + way * (ours[0] + ours[1]) / 2
            assert (at >= low - 1e-9).all() and (at <= high + 1e-9).all()


def random_mist(seed, sort=None):
    """Boxes of mist, some in one another, sheets before, in and behind them, posts, fog."""
    rng = np.random.default_rng(seed)
    things, volumes = [card("bank", (-90, 90), (-90, 90), -60.0, unlit("bank", float(rng.random())))], {}
    kinds = {}
    for k in range(int(rng.integers(1, 4))):
        low = rng.uniform((-6, -4, -30), (0, 0, -8))
        high = low + rng.uniform(2, 9, 3)
        things.append(Thing(f"mist_{k}", Shape().box(tuple(low), tuple(high)), GREY))
        volumes[f"m{k}"] = {
            "node": f"mist_{k}", "per_m": float(rng.uniform(0.01, 0.5)), "rgb": [float(v) for v in rng.random(3)],
            "sort": sort or str(rng.choice(["object", "none", "split"])),
        }  # fmt: skip
    for k in range(int(rng.integers(1, 5))):
        x, y, z = rng.uniform((-6, -4, -28), (2, 1, -4))
        things.append(card(f"sheet_{k}", (x, x + 6), (y, y + 5), z, unlit(f"s{k}", [float(v) for v in rng.random(3)], 0.4)))
        kinds[f"s{k}"] = {"blend": str(rng.choice(["blended", "premultiplied", "additive", "multiply"]))}
    things.append(Thing("post", Shape().box((-1, -4, -15), (0, 3, -14)), unlit("post", 0.3)))
    return build_of(
        *things,
        setup={
            "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 50}}, "volumes": volumes, "materials": kinds,
            "order": {"key": "range"}, "fog": {"enabled": bool(rng.random() < 0.5), "fog_per_m": 0.02}, **EXACT,
        },
    )  # fmt: skip


@pytest.mark.parametrize("seed", range(24))
def test_random_mist_is_drawn_captured_and_told_alike(seed):
    """Replay is the pass, pairs are the difference, core samples are its pixels; with every volume in parts nothing of them is off."""
    build = random_mist(seed)
    request = Request("eye", SIZE)
    frame, layers = RENDERER.frame(build, request, "linear"), captured(RENDERER, build, request)
    assert np.abs(layers.drawn - frame.linear).max() < 1e-5
    wrong = np.zeros((SIZE[0] * SIZE[1], 3))
    np.add.at(wrong, layers.swaps.pixel, layers.swaps.wrong)
    assert np.abs(wrong.reshape(frame.linear.shape) - (layers.drawn - layers.sorted)).max() < 1e-5
    rng = np.random.default_rng(seed)
    for x, y in zip(rng.integers(0, SIZE[0], 4), rng.integers(0, SIZE[1], 4)):
        sample = core_sample(RENDERER, build, request, int(x), int(y))
        assert np.abs(sum(np.array(v.colour) * np.array(v.weight) for v in sample.layers) - frame.linear[y, x]).max() < 1e-4
    crop = RENDERER.frame(build, Request("eye", SIZE, (20, 10, 60, 40)), "linear")
    assert np.abs(crop.linear - frame.linear[10:40, 20:60]).max() < 1e-6


@pytest.mark.parametrize("seed", range(6))
def test_parts_show_what_marching_shows(seed):
    """One volume in parts among sheets is what a fine march along each ray gives: thin slices of mist laid with the sheets by depth."""
    build = random_mist(seed, "split")
    volumes = dict(list(build.setup.volumes.items())[:1])
    build = build.with_setup(build.setup.model_copy(update={"volumes": volumes}))
    request = Request("eye", (33, 19))
    layers = captured(RENDERER, build, request)
    f = layers.shown
    for pixel in range(0, 33 * 19, 7):
        mine = np.arange(f.starts[pixel], f.starts[pixel + 1])
        rows = []
        for n in mine:
            if f.long[n] == 0:
                rows.append((f.far[n], f.k[n], f.p[n]))
                continue
            for s in range(64):
                k = f.k[n] ** (1 / 64)
                rows.append((f.far[n] + ((s + 0.5) / 64 - 0.5) * f.long[n], k, f.p[n] * (1 - k) / np.maximum(1 - f.k[n], 1e-12)))
        value = layers.opaque[pixel].copy()
        for _, k, p in sorted(rows, key=lambda r: -r[0]):
            value = k * value + p
        assert np.abs(value - layers.drawn.reshape(-1, 3)[pixel]).max() < 2e-5


def findings(build):
    return [f for f in sweep(build, renderer=RENDERER).findings if f.code.startswith(("volume.", "order."))]


@pytest.mark.long
def test_a_sheet_in_mist_is_told_and_parts_cure_it():
    (found,) = findings(mist_and_sheet(NEAR + LONG / 2 - 5.0, sheet=0.02))
    assert found.code == CODE and found.suspicion.subjects == ("mist", "sheet") and found.suspicion.value > 10_000
    verdicts = {r.change.title: r.verdict for r in found.remedies}
    assert verdicts["draw what lies in mist between its parts"] == "cures" and found.best.verdict == "cures"
    assert not findings(apply_change(mist_and_sheet(NEAR + LONG / 2 - 5.0, sheet=0.02), found.best.change))


@pytest.mark.long
def test_mist_that_is_not_sorted_is_right_for_what_lies_behind_and_wrong_for_what_stands_before():
    """Switching a volume's sorting off has to be followed by a look at spray before the mist and behind it."""
    assert not findings(mist_and_sheet(80.0, "none", sheet=0.02))
    (found,) = findings(mist_and_sheet(5.0, "none", sheet=0.02))
    assert {r.change.title: r.verdict for r in found.remedies} == {
        "sort mist as one thing": "cures", "draw what lies in mist between its parts": "cures",
    }  # fmt: skip


def test_mist_alone_is_left_alone():
    assert not findings(mist_and_sheet(5.0, sheet=0.02)) and not findings(mist_and_sheet(80.0, sheet=0.02))


def test_a_line_up_on_the_sheet_finds_the_parts():
    told = line_up(
        mist_and_sheet(NEAR + LONG / 2 - 5.0),
        "eye",
        (200, 100, 80, 60),
        "drawn over what is nearer",
        size=(480, 270),
        renderer=RENDERER,
    )
    by = {t.title: t.verdict for t in told.trials}
    assert by["draw what lies in mist between its parts"] == "clears it"


@pytest.mark.parametrize(("volume", "says"), [
    ({"node": "mist", "per_m": float("nan")}, "per_m"), ({"node": "mist", "per_m": -1}, "per_m"), ({"per_m": 0.1}, "node"),
    ({"node": "mist", "sort": "maybe"}, "sort"),
])  # fmt: skip
def test_hostile_volumes_are_one_line(volume, says):
    with pytest.raises(SetupError, match=says):
        parse_setup({"eddyfall_setup": 1, "volumes": {"m": volume}})


def test_two_volumes_in_one_node_are_refused_and_a_node_that_is_not_there_is_noted():
    two = {"a": {"node": "mist"}, "b": {"node": "mist"}}
    with pytest.raises(SetupError, match="bounds 'a' already"):
        mist_and_sheet(5.0, volumes=two)
    build = mist_and_sheet(5.0, volumes={"a": {"node": "nothing"}})
    assert any("volumes.a names node 'nothing'" in n for n in build.notes)


def test_the_reference_has_no_solid_box_where_mist_is():
    """Paths go through what fills a box as through air: its faces are not drawn, and so are none of the reference's."""
    build = mist_and_sheet(120.0)
    frame = RENDERER.frame(build, Request("eye", (24, 14)))
    scene = path_scene(RENDERER, build, frame)
    triangle, away = scene.met.first_hit(np.zeros((1, 3)), np.array([[0.0, 0.0, -1.0]]))
    assert frame.geometry.drawables[frame.geometry.owner[triangle[0]]].name == "bank" and away[0] == pytest.approx(100, rel=1e-5)


@pytest.mark.parametrize("method", ["weighted", "list", "peeled"])
@pytest.mark.parametrize("seed", range(4))
def test_methods_without_an_order_take_parts_for_layers(method, seed):
    build = random_mist(seed)
    build = build.with_setup(build.setup.with_section(build.setup[Order].model_copy(update={"method": method, "layers": 2})))
    request = Request("eye", SIZE)
    frame, layers = RENDERER.frame(build, request, "linear"), captured(RENDERER, build, request)
    assert np.abs(layers.drawn - frame.linear).max() < 1e-5
    for x, y in ((10, 10), (48, 27), (80, 40)):
        sample = core_sample(RENDERER, build, request, x, y)
        total = sum(np.array(v.colour) * np.array(v.weight) for v in sample.layers)
        assert np.abs(total - frame.linear[y, x]).max() < 1e-4


@pytest.mark.parametrize("seed", range(8))
def test_drawn_by_their_own_turns_volumes_in_parts_stay_as_they_are(seed):
    """What pops, and what the eyes make of a pair, is told by turns: those that are drawn have to give what is drawn."""
    build = random_mist(seed, "split")
    layers = captured(RENDERER, build, Request("eye", SIZE))
    turn = np.full(len(layers.frame.geometry.drawables), len(layers.order), np.int64)
    turn[layers.order] = np.arange(len(layers.order))
    assert np.abs(layers.by_drawable(turn) - layers.drawn).max() < 1e-9


def test_mist_that_changes_places_with_a_sheet_on_the_way_pops():
    keys = {k: {"t_s": t, "eye": [0, 0, z], "target": [0, 0, -200]} for k, t, z in (("a", 0, 0), ("b", 2, 24.0))}
    tall = Thing("tall", Shape().box((-6, -6, -50), (6, 6, -10)), GREY)
    tilted = card("veil", (-3, 3), (-20, 4), -31.0, unlit("veil", 0.02, 0.6))
    build = mist_and_sheet(
        90.0, more=(tall, tilted), moves={"walk": {"keys": keys}},
        volumes={"m": {"node": "tall", "per_m": 0.06, "rgb": [0.66] * 3}},
        nodes={"mist": {"drawn": False}, "sheet": {"drawn": False}},
    )  # fmt: skip
    found = {f.code for f in sweep(build, renderer=RENDERER).findings}
    assert CODE in found and "order.wrong" not in found
