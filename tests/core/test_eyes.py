"""Two eyes that draw a mist card and what cuts it in different orders: worked out by hand, against plain keys, and by the sweep."""

import numpy as np
import pytest

from eddyfall.core.defects.eyes_differ import CODE
from eddyfall.core.frame.moves import path_of
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.layers.eyes import bands, differing, eye_of
from eddyfall.core.passes.draw_order import blended_in, draw_order, sorting
from eddyfall.core.sweep import sweep
from layer_scenes import card, mist_and_cutter, unlit
from sizes import of_many

RENDERER, SIZE, GAP = Renderer(), (240, 136), 0.064


def walk(**setup):
    """From x = -1.5 to 1.5 m in 3 s, past the mist and its cutter."""
    keys = {
        "from": {"t_s": 0, "eye": [-1.5, 1.6, 0], "target": [-1.5, 1.6, -1]},
        "to": {"t_s": 3, "eye": [1.5, 1.6, 0], "target": [1.5, 1.6, -1]},
    }
    return mist_and_cutter(0.0, moves={"walk": {"keys": keys}}, **setup)


def stretches(build, gap=GAP):
    frame = RENDERER.frame(build, Request("eye", SIZE), "linear")
    path = path_of(build, "walk", SIZE[0] / SIZE[1])
    return frame, path, bands(frame.geometry, path, sorting(frame.stage), blended_in(frame.stage.state), gap, SIZE)


def test_the_eyes_differ_for_as_long_as_one_of_them_is_past_the_flip():
    """The keys change places at x = -.2633 m: eyes 64 mm apart differ from x = -.295 to -.231."""
    _, path, (band,) = stretches(walk())
    assert (band.from_eye[0], band.to_eye[0]) == (pytest.approx(-0.2953, abs=1e-3), pytest.approx(-0.2313, abs=1e-3))
    assert band.to_eye[0] - band.from_eye[0] == pytest.approx(GAP, abs=1e-4)
    middle = path.at((band.from_s + band.to_s) / 2)
    (seen,) = differing(RENDERER, walk(), Request("eye", SIZE), middle, GAP, False)
    assert seen.pixels > 800 and seen.worst > 10
    outside = path.at(band.from_s - 0.01)
    assert not differing(RENDERER, walk(), Request("eye", SIZE), outside, GAP, False)


def test_sorting_from_between_or_by_depth_along_the_view_gives_both_the_same():
    _, path, (band,) = stretches(walk())
    middle = path.at((band.from_s + band.to_s) / 2)
    assert not differing(RENDERER, walk(), Request("eye", SIZE), middle, GAP, True)
    assert not stretches(walk(order={"key": "view_depth"}))[2]


@pytest.mark.parametrize("seed", range(of_many(4, 1)))
def test_no_stretch_is_missed_at_random_cards(seed):
    """At 1,500 moments of the walk the plain orders of both eyes differ just where a band says so."""
    rng = np.random.default_rng(seed)
    more = []
    for k in range(4):
        x, y, z = rng.uniform((-2, 0.5, -6), (1.0, 1.2, -3))
        more.append(card(f"c{k}", (x, x + 1.5), (y, y + 1.2), float(z), unlit(f"c{k}", 0.5, 0.5)))
    build = walk()
    build = mist_and_cutter(0.0, more=tuple(more), moves=build.raw_setup["moves"])
    frame, path, found = stretches(build)
    by, view = sorting(frame.stage), np.arange(len(frame.geometry.drawables) - 1)
    for t in np.linspace(0, 3, 1500):
        left, right = (
            list(draw_order(frame.geometry, view, eye_of(path.at(float(t)), s, GAP, False), by)) for s in ("left", "right")
        )
        apart = {
            frozenset((a, b)) for a in left for b in left if left.index(a) < left.index(b) and right.index(a) > right.index(b)
        }
        told = {frozenset((b.first, b.second)) for b in found if b.from_s + 1e-4 < t < b.to_s - 1e-4}
        assert told <= apart, t
        from eddyfall.core.layers.flips import overlap_at

        for pair in apart - told:
            near = any({b.first, b.second} == pair and b.from_s - 2e-3 < t < b.to_s + 2e-3 for b in found)
            assert near or not overlap_at(frame.geometry, path.at(float(t)), SIZE, *pair), (t, pair)


@pytest.mark.long
def test_a_headset_is_told_of_and_one_eye_is_not():
    assert not [f for f in sweep(walk(), renderer=RENDERER).findings if f.code == CODE]
    build = walk(order={"eye_gap_mm": 64.0, "key": "range"})
    (found,) = [f for f in sweep(build, renderer=RENDERER).findings if f.code == CODE]
    assert found.suspicion.subjects == ("cutter", "mist") and "x = -0.29" in found.suspicion.title
    verdicts = {r.change.title: r.verdict for r in found.remedies}
    assert verdicts["sort for both eyes from between them"] == "cures" == verdicts["sort by depth along the view"]
