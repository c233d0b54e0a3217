"""A scene of an older release: what its set-up leaves out, fills that bounce doubles, lamps that reach farther than they need."""

import numpy as np
import pytest

from eddyfall.core.defects.older_lights import FAMILY
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.scene.model import Light, Material
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.older.fills import fills
from eddyfall.core.truth.older.migrate import migration
from eddyfall.core.truth.older.reach import least_range, reaches, window
from eddyfall.demo.shapes import Shape
from light_rooms import MATT, glow, looking
from scenes import Thing, build_of


@pytest.fixture(scope="module")
def renderer():
    return Renderer()


# Reach


def test_the_least_range_of_a_lamp_by_hand():
    """At 5 m, cut from 20 m to 8 m: [1 - (5/8)^4] / [1 - (5/20)^4] = .8508, -.233 stops; a quarter of a stop is reached at 7.88 m."""
    assert np.log2(window(5.0, 8.0) / window(5.0, 20.0)) == pytest.approx(-0.2332, abs=1e-4)
    least = least_range(np.array([5.0]), np.array([1.0]), 20.0)
    assert least == pytest.approx(5 / (1 - (1 - (5 / 20) ** 4) * 2**-0.25) ** 0.25) == pytest.approx(7.876, abs=1e-3)
    assert np.log2(window(5.0, least) / window(5.0, 20.0)) == pytest.approx(-0.25, abs=1e-9)
    # Where another lamp gives nine tenths, this one may go dark altogether: log2(.9) is -.152.
    assert least_range(np.array([5.0]), np.array([0.1]), 20.0) == 0.0
    assert least_range(np.array([5.0]), np.array([0.5]), 0.0) == pytest.approx(5 / (1 - (1 - (1 - 2**-0.25) / 0.5)) ** 0.25)
    assert least_range(np.zeros(0), np.zeros(0), 20.0) == 0.0


def lit_floor(range_m=20.0, more=(), **setup):
    """A wide floor under a lamp 2 m up."""
    lamp = Light("lamp", "point", intensity=900.0, range_m=range_m)
    return build_of(
        Thing("floor", Shape().quad((-12, 0, 12), (24, 0, 0), (0, 0, -24)), Material("floor", (0.6, 0.6, 0.6, 1), **MATT)),
        setup={"viewpoints": {"eye": looking((0, 7, 9), (0, 0, 0))}, "sky": {"ambient": False}, **setup},
        lamps=((lamp, (0.0, 2.0, 0.0)), *more),
    )  # fmt: skip


def test_the_least_range_is_rendered_and_keeps_what_it_says(renderer):
    (lamp,) = reaches(renderer, lit_floor(), ["eye"])
    assert lamp.light == "lamp" and lamp.range_m == 20 and 5 < lamp.least_m < 20
    assert 0.95 <= lamp.kept < 0.97 and lamp.pixels_then <= lamp.pixels
    # A lamp without an end, of its own range in the set-up: the leaf wins over the file.
    endless = lit_floor(lights={"lamp": {"range_m": 0.0}})
    assert reaches(renderer, endless, ["eye"])[0].range_m == 0.0


def test_lamps_that_crowd_a_pixel_are_told_where_a_target_counts_them():
    others = tuple((Light(f"lamp {k}", "point", intensity=300.0, range_m=40.0), (4.0 * k - 6, 1.5, -3.0)) for k in range(4))
    assert [s.code for s in FAMILY.inspect(Survey(lit_floor(more=others), Renderer()))] == []
    (crowded,) = FAMILY.inspect(Survey(lit_floor(more=others, budget={"lights": 4}), Renderer()))
    assert crowded.code == "light.reach" and (crowded.value, crowded.limit) == (5, 4)
    assert [c.change.title for c in crowded.candidates] == ["lamps reach as far as they need"]
    assert len(crowded.candidates[0].change.patch) == 5


# Fills


def room(fill=0.0, bounce=True, **setup):
    """A shining strip beside a floor, and a fill that was hung to make up for the light that came from it."""
    lamps = ((Light("fill", "point", intensity=fill), (3.0, 2.5, 6.0)),) if fill else ()
    return build_of(
        Thing("wall", Shape().quad((0, 0, 9.6), (0, 0, -7.2), (0, 3, 0)), glow("wall", 1400 / np.pi)),
        Thing("floor", Shape().quad((0, 0, 12), (12, 0, 0), (0, 0, -12)), Material("floor", (0.5, 0.5, 0.5, 1), **MATT)),
        setup={
            "viewpoints": {"eye": looking((9.0, 4.0, 6.0), (2.0, 0, 6.0))}, "sky": {"ambient": False}, "depth": {"copy_from": "opaque"},
            "bounce": {"enabled": bounce, "fallback": "world", "rays": 16},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 2.0, "towards": [0, 1, 0]}}, **setup,
        },
        lamps=lamps,
    )  # fmt: skip


def test_a_fill_that_bounce_doubles_is_told_and_taken_out(renderer):
    """The fill gave what the strip does now; with both the frame is a stop above what it was, by the fill alone and by bounce alone it is
    the same."""
    told = fills(renderer, room(fill=2200.0), "eye")
    assert told[0].light == "fill" and told[0].doubles and 0.7 < told[0].above < 1.3 and abs(told[0].without) < 0.25
    (found,) = [f for f in sweep(room(fill=2200.0)).findings if f.code == "bounce.double-fill"]
    assert found.suspicion.cause == "fill"
    assert [(r.change.title, r.verdict) for r in found.remedies] == [("take out the fill fill", "cures")]


def test_a_fill_is_told_at_any_size_of_frame():
    """Its pixels are worked out on a small frame and laid on the survey's."""
    (found,) = FAMILY.inspect(Survey(room(fill=2200.0), Renderer(), size=(320, 180)))
    x, y, w, h = found.regions["eye"]
    assert x + w <= 320 and y + h <= 180 and w > 20 and found.evidence[0].picture.shape == (180, 320, 3)


def test_a_lamp_that_is_no_fill_and_a_frame_without_bounce_are_silent(renderer):
    for build in (room(fill=40.0), room(fill=20_000.0), room(), room(fill=2200.0, bounce=False)):
        assert [s.code for s in FAMILY.inspect(Survey(build, Renderer(), pictures=False))] == []
    weak = fills(renderer, room(fill=20_000.0), "eye")
    assert weak[0].light == "fill" and not weak[0].doubles and weak[0].without < -1, "without it all is far darker: it is needed"


# What an old document leaves out


def test_what_an_old_set_up_does_not_say_arrives_off_and_is_measured(renderer):
    build = room(fill=2200.0, bounce=False)
    raw = {k: v for k, v in build.raw_setup.items() if k != "bounce"}
    old = apply_change(build, set_leaf(build, ("bounce", "fallback"), "world", scope="project", title="rays"))
    told = migration(renderer, old.__class__(old.scene, old.setup, raw), ["eye"])
    by_section = {a.section: a for a in told.absent}
    assert by_section["bounce"].whole and not by_section["bounce"].on and dict(by_section["bounce"].leaves)["enabled"] is False
    assert not by_section["depth"].whole and "copy_from" not in dict(by_section["depth"].leaves)
    step = next(s for s in told.steps if s.section == "bounce")
    ((view, stops, surfaces),) = step.seen
    frames = [
        renderer.frame(b, Request("eye", (240, 135)), "linear").linear.mean() for b in (old, apply_change(old, step.change))
    ]
    assert view == "eye" and stops == pytest.approx(np.log2(frames[1] / frames[0]), abs=0.02) and surfaces[0][0] == "floor"
    assert [f.light for f in told.fills if f.doubles] == ["fill"]
    assert [r.light for r in told.reaches] == ["fill"]
