"""Where a caster's bar ends, frames on either side of it: drawn dark just inside, not drawn just beyond."""

import numpy as np
import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.truth.bar_ends import bar_end
from eddyfall.core.truth.long_section import long_section
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, floor, merged

RENDERER = Renderer()
REQUEST = Request("eye", (960, 540))


def post(**setup):
    """A post of 2 m 40 m off on a level floor, the sun aside."""
    raw = {
        "viewpoints": {"eye": {"eye": [0, 9, 0], "target": [0, 0.5, -40], "fov_y_deg": 25}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [-0.7, 0.6, 0.2]}},
        "shadow": {"reach_m": 60.0, "resolution": 2048},
    }
    things = (Thing("floor", floor(0.0, near=-90, far=300)), Thing("post", Shape().box((-1, 0, -41), (1, 4, -39), 1.0)))
    return build_of(*things, setup=merged(raw, setup))


@pytest.mark.long
@pytest.mark.parametrize(
    "shadow",
    [
        {}, {"reach_m": 30.0}, {"reach_by": "range"}, {"far_reach_m": 90.0}, {"technique": "paged", "paged_limit_deg": 2.0},
        {"technique": "rays", "ray_limit_deg": 2.0},
    ],
)  # fmt: skip
def test_the_shadow_is_drawn_just_inside_its_end_and_not_beyond(shadow):
    build = post(shadow=shadow)
    inside, beyond = (bar_end(RENDERER, build, REQUEST, "post", beyond=b) for b in (False, True))
    assert inside.due_px > 100 and inside.dark > 0.9, inside.dark
    assert beyond.due_px > 100 and beyond.dark < 0.05, beyond.dark
    assert beyond.retreat_m > inside.retreat_m
    [bar] = [c for c in long_section(RENDERER, build, REQUEST).casters if c.name == "post"]
    # As far as a bar says that the shadow is inside its end, so far back the eye can go.
    reach = bar.range_m if shadow.get("technique") else bar.far_m
    assert inside.retreat_m == pytest.approx(bar.ends_m - reach, abs=0.03 * bar.ends_m)
    for side in (inside, beyond):
        assert side.picture.dtype == np.uint8 and side.picture.shape[1] * 3 == pytest.approx(side.picture.shape[0] * 4, abs=8)


def test_what_has_no_end_is_said():
    for build, caster, words in (
        (post(), "moon", "no shadow of 'moon'"), (post(shadow={"technique": "rays", "ray_limit_deg": 0.0}), "post", "at any distance"),
        (post(shadow={"enabled": False}), "post", "at no distance"),
    ):  # fmt: skip
        with pytest.raises(RequestError, match=words):
            bar_end(RENDERER, build, REQUEST, caster)
