"""Too dark and too bright: stops off the reference, as a line-up is scored by them."""

import pytest

from eddyfall.core.frame.render import Renderer
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.model import Light, Material
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

MATT = {"metallic": 0.0, "ior": 1.0}
FLOOR = Thing("floor", Shape().quad((-20, 0, 20), (40, 0, 0), (0, 0, -40)), Material("floor", (0.6, 0.5, 0.4, 1), **MATT))
VIEW = {"viewpoints": {"eye": {"eye": [0, 3, 6], "target": [0, 0.5, 0], "fov_y_deg": 45}}, "sky": {"ambient": False}}
SIZE = (240, 135)


def trials(build, spot, symptom, **more):
    result = line_up(build, "eye", spot, symptom, renderer=Renderer(), size=SIZE, **more)
    return result, {t.title: t for t in result.trials}


def leaking():
    """A lamp beside a screen, whose shadow is not drawn."""
    screen = Thing("screen", Shape().box((-0.1, 0, -1.5), (0.1, 1.6, 1.5)), Material("screen", (0.3, 0.3, 0.3, 1), **MATT))
    lamps = (
        (Light("lamp", "point", intensity=60.0), (-1.0, 0.6, 0.0)),
        (Light("far_lamp", "point", intensity=6.0), (2.5, 1.5, 1.0)),
    )
    return build_of(FLOOR, screen, lamps=lamps, setup={**VIEW, "lights": {"far_lamp": {"casts": True}}})


def test_light_that_leaks_past_a_screen_is_too_bright_and_its_shadow_mends_it():
    result, found = trials(leaking(), (130, 70, 30, 24), "too bright", subject="floor")
    assert result.unit == "stops" and result.base_score > 0.5
    cast = found["let lamp cast"]
    assert cast.verdict.startswith("clears it") and cast.after < 0.25 * cast.before and "let far_lamp cast" not in found
    # Switched off it is gone from the spot, too, and from all that it lights rightly.
    assert result.trials[0].title == "let lamp cast" and found["lamp off"].verdict == "clears it but breaks something else"
    dark, _ = trials(leaking(), (130, 70, 30, 24), "too dark", subject="floor")
    assert dark.base_score == 0


def test_a_floor_beside_a_bright_wall_lacks_the_light_that_it_throws():
    wall = Thing("wall", Shape().quad((-3, 0, -0.5), (6, 0, 0), (0, 4, 0)), Material("wall", (0.9, 0.9, 0.9, 1), **MATT))
    sun = {"sun": {"kind": "sun", "illuminance_lux": 50.0, "towards": [0.0, 0.35, 0.94]}}
    build = build_of(FLOOR, wall, setup={**VIEW, "lights": sun, "shadow": {"reach_m": 20}})
    result, _ = trials(build, (100, 88, 40, 30), "too dark", subject="floor")
    assert 0.3 < result.base_score < 2.0
    again, _ = trials(build, (100, 88, 40, 30), "too dark", subject="floor")
    assert again.base_score == result.base_score, "the same noise every time"


@pytest.mark.parametrize("symptom", ["too dark", "too bright"])
def test_what_gets_the_light_that_is_due_is_neither(symptom):
    sun = {"sun": {"kind": "sun", "illuminance_lux": 50.0, "towards": [0.3, 0.8, 0.4]}}
    result, _ = trials(build_of(FLOOR, setup={**VIEW, "lights": sun}), (100, 88, 40, 30), symptom)
    assert result.base_score <= 0.02  # the floor of what the two differ by


def test_where_neither_has_light_nothing_is_off():
    result, _ = trials(build_of(FLOOR, setup=VIEW), (100, 88, 40, 30), "too dark")
    assert result.base_score == 0
