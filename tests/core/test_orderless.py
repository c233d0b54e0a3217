"""Layers put together without sorting things: averages, lists, peeling, by worked numbers; what each leaves off is found and told."""

import numpy as np
import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.moves import path_of
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.frame.schedule import bytes_of
from eddyfall.core.layers.along_move import walked
from eddyfall.core.layers.capture import captured
from eddyfall.core.layers.floor import floor_map
from eddyfall.core.layers.pairs import wrong_pairs
from eddyfall.core.layers.strata import strata_at
from eddyfall.core.passes import blended
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.shade.orderless import average_plain
from eddyfall.core.sweep import sweep
from layer_scenes import card, crossing_cards, mist_and_cutter, seen_from, slats, unlit

SIZE = (240, 136)
EYE = Request("eye", SIZE)


def six(method="sorted", layers=4, alpha=0.5):
    """Six cards over black, the nearest white, then black, white ..; drawn nearest first, as far from right as can be."""
    cards = [card(f"c{k}", (-9, 9), (-9, 9), -2.0 - k, unlit(f"c{k}", 1.0 - k % 2, alpha)) for k in range(6)]
    ranks = {f"c{k}": {"draw_rank": k} for k in range(6)}
    return seen_from((0, 0, 0), (0, 0, -1), *cards, nodes=ranks, order={"method": method, "layers": layers})


@pytest.mark.parametrize(
    ("method", "layers", "value"),
    [("peeled", 6, 0.65625), ("list", 1, 0.69375), ("list", 2, 0.6171875), ("list", 4, 0.6484375), ("weighted", 4, 0.4921875),
     ("list", 6, 0.65625), ("peeled", 2, 0.5)],
)  # fmt: skip
def test_six_layers_by_hand(renderer, method, layers, value):
    """Porter and Duff 1984 over 0: .5 + .125 + .03125. An average of all covers 1 - 1/64 at .5 (McGuire and Bavoil 2013, weights 1); a list
    keeps its nearest and averages the rest: .5 + .5 .4 (1 - 1/32) and so on; peeling leaves the rest out."""
    linear = renderer.frame(six(method, layers), EYE, "linear").linear
    np.testing.assert_allclose(linear[68, 120], value, atol=1e-6)


def test_memory_of_each_is_counted(renderer):
    """16 B for a pixel and a layer that is kept: 31.64 MiB at 1080p, 126.6 for a list of four."""
    for method, layers, mib in (("weighted", 4, 31.64), ("list", 4, 126.56), ("peeled", 4, 31.64), ("sorted", 4, 0)):
        stage = renderer.frame(six(method, layers), EYE, "linear").stage
        plain = renderer.frame(six(), EYE, "linear").stage
        more = bytes_of(blended.PASS, (1920, 1080), stage) - bytes_of(blended.PASS, (1920, 1080), plain)
        assert more / 2**20 == pytest.approx(mib, abs=0.01)


def test_crossing_cards_averaged_are_off_by_an_eighth_everywhere(renderer):
    """Red and green of alpha .5 over one another: .5 and .25; averaged .375 each, off by .125 on all 48,568 px; peeled they are exact."""
    request = Request("eye", (960, 540))
    build = crossing_cards()
    truth = captured(renderer, build, request).sorted
    for method, off in (("weighted", 48_568), ("peeled", 0), ("list", 0)):
        changed = {"order": {"method": method}}
        other = crossing_cards().with_setup(parse_with(build, changed))
        linear = renderer.frame(other, request, "linear").linear
        wrong = np.abs(linear - truth).max(axis=2)
        assert int((wrong > 1e-3).sum()) == pytest.approx(off, rel=0.01)
        if off:
            assert wrong.max() == pytest.approx(0.125, abs=1e-5)


def parse_with(build, more):
    return parse_setup({**build.raw_setup, **more})


def mixed(method, layers):
    """Cards of every kind behind one another, fogged."""
    things = [card(f"t{k}", (-2, 2), (-1, 2), -6.0 + 0.7 * k, unlit(f"t{k}", 0.2 + 0.1 * k, 0.3 + 0.05 * k)) for k in range(7)]
    kinds = ("blended", "premultiplied", "additive", "multiply", "destination_out", "blended", "blended")
    return seen_from(
        (0, 0.5, 0), (0, 0.5, -1), *things, materials={f"t{k}": {"blend": kind} for k, kind in enumerate(kinds)},
        order={"method": method, "layers": layers}, fog={"enabled": True, "fog_per_m": 0.05},
    )  # fmt: skip


@pytest.mark.parametrize(("method", "layers"), [("weighted", 1), ("list", 3), ("peeled", 2), ("peeled", 9)])
def test_twins_and_replays_are_the_pass(renderer, method, layers):
    build = mixed(method, layers)
    linear = renderer.frame(build, EYE, "linear").linear
    layered = captured(renderer, build, EYE)
    np.testing.assert_allclose(layered.drawn, linear, atol=1e-6)
    for x, y in ((120, 68), (100, 50), (60, 80), (5, 5)):
        sample = core_sample(renderer, build, EYE, x, y)
        np.testing.assert_allclose(sample.sum, linear[y, x], rtol=1e-4, atol=1e-6)
    if layers == 9:
        np.testing.assert_allclose(linear, layered.sorted, atol=1e-6)
    assert wrong_pairs(layered) == []


@pytest.mark.parametrize(("method", "layers"), [("weighted", 1), ("list", 3), ("peeled", 2)])
def test_the_log_of_a_pixel_says_what_is_averaged_and_left_out(renderer, method, layers):
    """Shares add up to what is drawn, less what is left of the wall; nothing is too early or too late where nothing is sorted."""
    build = six(method, layers)
    told = strata_at(captured(renderer, build, EYE), 120, 68)
    assert [s.drawable for s in told.strata] == ["c5", "c4", "c3", "c2", "c1", "c0"] and told.true == tuple(range(6))
    rest = 6 if method == "weighted" else 6 - layers
    word = "left out: too deep" if method == "peeled" else "averaged with others"
    assert [s.place for s in told.strata] == [word] * rest + ["in place"] * (6 - rest)
    assert sum(s.share[0] for s in told.strata) == pytest.approx(told.drawn[0], rel=1e-6)  # drawn in float32
    move = {"walk": {"keys": {"a": {"t_s": 0, "viewpoint": "eye"}, "b": {"t_s": 1, "eye": [0.5, 0, 0], "target": [0.5, 0, -1]}}}}
    going = six(method, layers).with_setup(parse_with(build, {"moves": move}))
    seen = walked(renderer, going, path_of(going, "walk", SIZE[0] / SIZE[1]), EYE)
    assert seen.lanes == () and seen.pops == ()


def test_what_cuts_has_no_place_in_an_average(renderer):
    """Averaged, the mist is not cut: .4 + .5 .2 = .50 wherever one stands, for .29 in its true order."""
    linear = renderer.frame(mist_and_cutter(1.0, order={"method": "weighted"}), Request("eye", SIZE), "linear").linear
    assert set(np.round(np.unique(linear), 4)) == {np.float32(0.2), np.float32(0.5)}


def test_an_average_in_plain_numbers():
    k, p = np.array([[0.5] * 3, [1.0] * 3, [0.25] * 3]), np.array([[0.4] * 3, [0.3] * 3, [0.0] * 3])
    c, t = average_plain(k, p, np.zeros(3), np.array([False, False, True]))
    np.testing.assert_allclose((c, t), ([(0.8 * 0.5 + 0.3) * 0.25] * 3, [0.5 * 0.25] * 3))


def found(build):
    return {f.code: f for f in sweep(build, size=(320, 180)).findings if f.code.startswith("order")}


@pytest.mark.parametrize("scene", [crossing_cards, slats])
def test_what_has_no_order_is_peeled_or_listed(scene):
    """Nowhere do more than two of them lie over one another. An average ends the ring, too, and is told for what it is."""
    (one,) = found(scene()).values()
    told = {r.change.title: r for r in one.remedies}
    assert told["peel 2 layers"].verdict == told["keep a list of 2 layers"].verdict == "cures"
    assert not told["peel 2 layers"].new_findings
    assert told["average layers by their coverage"].new_findings == ("layers put together as weighted are off at eye",)


@pytest.mark.long
def test_an_average_that_is_off_is_a_finding_and_a_floor_is_refused():
    told = found(six("weighted", alpha=0.4))
    assert told.keys() == {"order.approximate", "order.leftover"}, "an average asks for no ranks"
    one = told["order.approximate"]
    assert one.code == "order.approximate" and one.suspicion.cause == "order.method" and one.severity == "blocking"
    assert {r.change.title: r.verdict for r in one.remedies}["peel 6 layers"] == "cures"
    assert found(six("peeled", 6)).keys() == {"order.leftover"}
    frame = Renderer().frame(six("weighted"), EYE, "linear")
    with pytest.raises(RequestError, match="not sorted"):
        floor_map(frame, (-1, -1, 1, 1), 1.6)
