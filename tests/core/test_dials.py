"""What dials of bounce and reflection buy: held against frames drawn one by one, exact counts, noise that falls with rays."""

import numpy as np
import pytest

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.truth.dials import dials
from light_rooms import VIEWS, mirror_room, shining_hall


def of(found, leaf, new=None):
    return next(d for d in found.turned if d.leaf == leaf and (new is None or d.new == new))


def test_dials_of_bounce_before_the_shining_wall():
    """At the level view 8 of 128 steps find a third of what is on the frame: steps buy light; all that is behind the eye no dial finds."""
    setup = {"bounce": {"enabled": True, "steps": 8, "rays": 4}, "depth": {"copy_from": "opaque"}}
    build = shining_hall(**{**setup, "viewpoints": {"level": VIEWS["level"], "before": VIEWS["before the wall"]}})
    found = dials(Renderer(), build, Request("level"))
    ((name, now),) = found.now
    assert name == "bounce" and 0 < now.nits < found.due and now.noise > 0
    steps = of(found, "steps")
    assert (steps.old, steps.new) == (8, 16) and steps.price.off < now.off - 0.02 * found.due
    assert steps.price.steps == 2 * now.steps and steps.price.bytes == now.bytes
    # 1920 x 1080 px, four rays each of eight steps; two half RGBA targets at a quarter as many texels with divisor 2.
    assert now.steps == 1920 * 1080 * 4 * 8 and of(found, "divisor").price.bytes < now.bytes
    assert of(found, "fallback").price.rays == 1920 * 1080 * 4 and of(found, "fallback").price.off < steps.price.off
    assert of(found, "rays", 8).price.noise < now.noise < of(found, "rays", 2).price.noise
    blind = dials(Renderer(), build, Request("before"))
    best = min(d.price.off for d in blind.turned if d.leaf in ("steps", "rays", "reach_m", "thickness_m", "rounds"))
    assert best > 0.9 * blind.now[0][1].off > 0, "behind the eye no dial helps"
    assert of(blind, "fallback").price.off < 0.6 * blind.now[0][1].off


def test_dials_of_reflection_and_where_nothing_is_on():
    build = mirror_room(rough=0.2, depth={"copy_from": "opaque"}, reflect={"enabled": True, "rays": 2})
    found = dials(Renderer(), build, Request("eye"))
    assert [n for n, _ in found.now] == ["reflect"] and of(found, "fallback").price.off < 0.7 * found.now[0][1].off
    assert np.isfinite([d.price.off for d in found.turned]).all()
    assert dials(Renderer(), mirror_room(), Request("eye")).now == ()
    assert all(d.price.ms >= 0 for d in found.turned) and found.due == pytest.approx(found.due)
