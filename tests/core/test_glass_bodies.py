"""Bodies of glass: ways through them against Snell's law by hand, what too short a way leaves, where an unwired one shows things."""

import math

import numpy as np
import pytest

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.layers.bodies import bodies_in
from eddyfall.core.lineup.run import line_up
from eddyfall.core.sweep import sweep
from eddyfall.demo.shapes import Shape
from glass_scenes import behind_panes, clear
from scenes import Thing

SIZE = (320, 180)
RENDERER = Renderer()
TINTED = {"attenuation_rgb": (0.6, 0.85, 0.8), "attenuation_m": 0.1}


def block(how, *, thickness_m=0.2, turned_deg=0.0, body=TINTED, deep=0.2, views=None):
    """A block as deep as said, turned about the upright, 3 m before the eye."""
    shape, a = Shape().box((-0.5, 1.1, -3 - deep), (0.5, 2.1, -3)), math.radians(turned_deg)
    middle = np.array([0, 1.6, -3 - deep / 2])
    turn = np.array([[math.cos(a), 0, math.sin(a)], [0, 1, 0], [-math.sin(a), 0, math.cos(a)]])
    shape.positions = [(p - middle) @ turn.T + middle for p in shape.positions]
    shape.normals = [n @ turn.T for n in shape.normals]
    glass = clear("glass", thickness_m=thickness_m, double_sided=False, **body)
    return behind_panes(
        Thing("block", shape, glass), materials={"glass": {"thickness": how}},
        **({"views": views} if views else {}),
    )  # fmt: skip


def body_of(build):
    (body,) = bodies_in(RENDERER.frame(build, Request("eye", SIZE), "linear"))
    return body


def test_the_way_through_a_slab_is_its_depth_over_the_cosine_inside():
    """Snell: sin inside = sin outside / 1.5; by value the pass says so, too."""
    body = body_of(block("value"))
    dx, dy = (body.px - np.array(SIZE) / 2).T / (SIZE[1] / 2 / math.tan(math.radians(55) / 2))
    sine2 = (dx**2 + dy**2) / (1 + dx**2 + dy**2)
    by_hand = 0.2 / np.sqrt(1 - sine2 / 1.5**2)
    leaves_by_the_back = np.abs(body.true_m - by_hand) < 0.05  # at its rim rays leave by a side
    assert leaves_by_the_back.mean() > 0.9
    np.testing.assert_allclose(body.true_m[leaves_by_the_back], by_hand[leaves_by_the_back], rtol=1e-4)
    np.testing.assert_allclose(body.drawn_m, by_hand, rtol=1e-4)
    assert np.median(np.abs(body.stops)) < 1e-3 and not body.missing


@pytest.mark.parametrize(("thickness_m", "stops"), [(0.02, 0.18), (0.4, -0.2), (0.0002, 0.1998)])
def test_a_factor_of_another_body_is_told_in_stops(thickness_m, stops):
    """.6 is left of red after .1 m: .737 stops a decimetre. Too short by 18 cm leaves 1.33 stops too much, too long by 20 1.47 less."""
    build = block("value", thickness_m=thickness_m)
    (told,) = [f for f in sweep(build, renderer=RENDERER).findings if f.code.startswith("glass.")]
    by_hand = stops / 0.1 * -math.log2(0.6)
    assert told.code == "glass.tint" and told.suspicion.cause == "glass"
    assert told.suspicion.value == pytest.approx(abs(by_hand), rel=0.03)
    assert f"too {'little' if stops > 0 else 'much'}" in told.suspicion.title
    assert told.best is not None and told.best.change.title == "tell the way through glass by its back faces"


def test_where_nothing_is_wired_clear_glass_shows_what_is_behind_elsewhere():
    """Clear glass absorbs nothing: it is not black, it bends as if it were ten kilometres deep."""
    clear_glass = {"attenuation_m": math.inf}
    build = block("missing", body=clear_glass, turned_deg=20)
    (told,) = [f for f in sweep(build, renderer=RENDERER).findings if f.code.startswith("glass.")]
    assert told.code == "glass.no-thickness" and told.suspicion.value > 50
    assert told.best is not None
    wired = body_of(block("back_faces", body=clear_glass, turned_deg=20))
    assert np.nanmedian(wired.off_px) < 2 < np.nanmedian(body_of(build).off_px)


@pytest.mark.parametrize("how", ["value", "back_faces"])
def test_healthy_bodies_and_open_ones_are_silent(how):
    for build in (block(how), block(how, turned_deg=10), block(how, body={"attenuation_m": math.inf}, turned_deg=30)):
        assert not [f.code for f in sweep(build, renderer=RENDERER).findings if f.code.startswith("glass.")]
    sheet = Shape().quad((-0.5, 1.1, -3), (1, 0, 0), (0, 1, 0))
    glass = clear("glass", thickness_m=0.001, **TINTED)
    open_one = behind_panes(Thing("sheet", sheet, glass), materials={"glass": {"thickness": "value"}})
    assert bodies_in(RENDERER.frame(open_one, Request("eye", SIZE), "linear")) == [], "it has no inside"


def test_what_absorbs_and_is_not_wired_is_told_once_as_before():
    told = [f.code for f in sweep(block("missing"), renderer=RENDERER).findings if f.code.startswith("glass.")]
    assert told == ["glass.chain-broken"]


SHORT = block("value", thickness_m=0.02)
UNWIRED = block("missing", body={"attenuation_m": math.inf}, turned_deg=20)


@pytest.mark.parametrize(
    ("build", "symptom", "least"),
    [(SHORT, "see-through wrongly", 0.5), (UNWIRED, "bent wrongly", 20)],
    ids=["tint", "place"],
)
def test_a_case_of_it_is_worked_to_its_end(build, symptom, least):
    found = line_up(build, "eye", (470, 260, 20, 20), symptom, subject="block", renderer=RENDERER)
    assert found.base_score > least
    cures = [t.change.title for t in found.trials if t.verdict == "clears it"]
    assert "tell the way through glass by its back faces" in cures
