"""What dials of bounce and reflection buy, exact counts, noise that falls with the root of rays; passes that are too noisy."""

import numpy as np
import pytest

from eddyfall.core.defects.noise_samples import FAMILY
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.lineup import line_up
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.dials import dials
from eddyfall.core.truth.pass_noise import added_noise
from light_rooms import VIEWS, mirror_room, shining_hall


def of(found, leaf, new=None):
    return next(d for d in found.turned if d.leaf == leaf and (new is None or d.new == new))


@pytest.mark.long
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


@pytest.mark.long
def test_dials_of_reflection_and_where_nothing_is_on():
    build = mirror_room(rough=0.2, depth={"copy_from": "opaque"}, reflect={"enabled": True, "rays": 2})
    found = dials(Renderer(), build, Request("eye"))
    assert [n for n, _ in found.now] == ["reflect"] and of(found, "fallback").price.off < 0.7 * found.now[0][1].off
    assert np.isfinite([d.price.off for d in found.turned]).all()
    assert dials(Renderer(), mirror_room(), Request("eye")).now == ()
    assert all(d.price.ms >= 0 for d in found.turned) and found.due == pytest.approx(found.due)


def level(rays, rounds=0, **setup):
    bounce = {"enabled": True, "steps": 64, "rays": rays, "rounds": rounds}
    return shining_hall(**{"bounce": bounce, "depth": {"copy_from": "opaque"}, "viewpoints": {"level": VIEWS["level"]}, **setup})


def test_noise_falls_with_the_root_of_rays_or_faster():
    """Independent rays: 1 / sqrt N; the rays of a bundle lie evenly, and do no worse. A filter of three rounds leaves little of it."""
    noise = {}
    for rays, rounds in ((1, 0), (4, 0), (16, 0), (4, 3)):
        uncut = Renderer().uncut(level(rays, rounds), Request("level", (480, 270)), "linear")
        rms, mean = added_noise(uncut, "bounce")
        noise[rays, rounds] = rms / mean
    assert noise[4, 0] < 0.6 * noise[1, 0] and noise[16, 0] < 0.6 * noise[4, 0] and noise[4, 3] < 0.6 * noise[4, 0]
    off = Renderer().uncut(shining_hall(), Request("level", (96, 54)), "linear")
    assert added_noise(off, "bounce") == (0.0, 0.0)


@pytest.mark.long
def test_noise_beyond_what_a_target_allows_is_told_and_cured_by_so_many_rays_and_a_line_up_finds_them():
    assert [s.code for s in FAMILY.inspect(Survey(level(1), Renderer()))] == []
    small = sweep(level(1, budget={"noise": 0.1}), size=(480, 270))
    (found,) = [f for f in small.findings if f.code == "noise.samples"]
    assert found.suspicion.cause == "bounce" and found.suspicion.subjects == ("floor",) and found.suspicion.value > 0.1
    verdicts = {r.change.title: r.verdict for r in found.remedies}
    assert any(v == "cures" for title, v in verdicts.items() if "rays" in title), verdicts
    result = line_up(level(1), "level", (400, 440, 120, 80), "noisy", renderer=Renderer())
    assert any(t.verdict == "clears it" for t in result.trials if "rounds" in t.title or "rays" in t.title)
