"""Casters thinner than a texel of the map that serves their shadow, and what makes the texels fine enough."""

import math

import numpy as np
import pytest

from eddyfall.core.defects import families
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.drawables import pack
from eddyfall.core.shade.shadow_maps import FAR_M, NEAR_M, TEXEL_M
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.disagreement import disagreement
from eddyfall.core.truth.judge import SHADOWED
from eddyfall.core.truth.shadow_classes import Lost
from eddyfall.core.truth.widths import outline_width_m
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, floor, merged

SIZE = (960, 540)
RENDERER = Renderer()
CODE = "shadow.thin"
FAMILY = next(f for f in families() if CODE in {c.code for c in f.codes})


def pier(wide=0.8, away=385.0, **setup):
    """A pier before a pale wall, seen along a level floor; the sun behind the eye, a little aside."""
    z = -away
    post = Shape().box((-wide / 2, 0, z - wide), (wide / 2, 9.0, z), 1.0)
    raw = {
        "viewpoints": {"eye": {"eye": [0, 6, 0], "target": [0, 4, z], "fov_y_deg": 4}},
        "lights": {"sun": {"kind": "sun", "illuminance_lux": 10.0, "towards": [-0.5, 0.45, 0.9]}},
        "shadow": {"near_m": 0.5, "reach_m": 2400.0, "resolution": 2048, "cascades": 4, "split_lambda": 0.6},
    }
    things = (Thing("floor", floor(0.0, near=20, far=500)), Thing("wall", Shape().box((-9, 0, z - 8), (9, 9, z - 6), 3.0)))
    return build_of(*things, Thing("pier", post), setup=merged(raw, setup))


def found(build):
    return [s for s in FAMILY.inspect(Survey(build, RENDERER, size=SIZE, pictures=False)) if s.code == CODE]


def texel_at(build, depth_m):
    info = RENDERER.frame(build, Request("eye", SIZE), SHADOWED).buffers["shadow_maps"].info
    return float(next(row[TEXEL_M] for row in info if row[NEAR_M] <= depth_m < row[FAR_M]))


def test_the_outline_is_as_wide_as_worked_out_by_hand():
    # A box of a x b is |a cos t| + |b sin t| wide from the side at angle t; a rod as wide as it is thick, however it leans.
    box = build_of(Thing("box", Shape().box((-1, 0, -0.25), (1, 6, 0.25), 1.0)))
    geometry = pack(box.scene, box.setup)
    for degrees in (0, 20, 45, 70, 90):
        t = math.radians(degrees)
        towards = np.array([math.sin(t), 0.0, math.cos(t)])
        due = 2 * math.cos(t) + 0.5 * math.sin(t)
        assert outline_width_m(geometry, 0, towards) == pytest.approx(due, rel=1e-6)
    assert outline_width_m(geometry, 0, np.array([0.0, 1.0, 0.0])) == pytest.approx(0.5)
    lean = Shape()
    for corner, along in (
        ((0, 0, 0), (0.1, 0, 0)),
        ((0, 0, 0.1), (0.1, 0, 0)),
        ((0, 0, 0), (0, 0, 0.1)),
        ((0.1, 0, 0), (0, 0, 0.1)),
    ):
        lean.quad(corner, along, (3.0, 4.0, 0.0))
    rod = build_of(Thing("rod", lean))
    width = outline_width_m(pack(rod.scene, rod.setup), 0, np.array([0.0, 0.0, 1.0]))
    assert width == pytest.approx(0.08, abs=1e-6)  # 0.1 x 4/5: across its lean of 3 : 4


def test_a_pier_thinner_than_a_texel_is_named_with_its_width():
    """Of a reach made so long that the pier at 385 m is inside it, but its texels are too coarse."""
    build = pier(wide=0.06)
    [suspicion] = found(build)
    assert (suspicion.cause_kind, suspicion.cause) == ("node", "pier")
    width = outline_width_m(RENDERER.geometry(build), 2, np.array([-0.5, 0.45, 0.9]))
    assert suspicion.value == pytest.approx(width / texel_at(build, 390.0), rel=0.01) and suspicion.limit == 1
    assert {"pier", "wall"} <= set(suspicion.subjects)


def test_wider_ones_and_finer_maps_are_silent():
    assert found(pier(wide=2.0)) == []
    assert found(pier(wide=0.06, shadow={"technique": "rays"})) == []
    assert found(pier(wide=0.06, nodes={"pier": {"casts": False}})) == []


def test_the_width_at_which_it_ends_is_drawn_on_either_side():
    """Resolutions on either side of the predicted one: found below it, silent above."""
    build = pier(wide=0.06)
    width = outline_width_m(RENDERER.geometry(build), 2, np.array([-0.5, 0.45, 0.9]))
    critical = 2048 * texel_at(build, 390.0) / width
    assert critical < 8192
    assert found(pier(wide=0.06, shadow={"resolution": math.floor(critical * 0.97)}))
    assert not found(pier(wide=0.06, shadow={"resolution": math.ceil(critical * 1.03)}))


def test_each_remedy_is_proved_and_counted():
    build = pier(wide=0.06)
    [finding] = [f for f in sweep(build, size=SIZE, renderer=RENDERER).findings if f.code == CODE]
    verdicts = {r.change.title: r.verdict for r in finding.remedies}
    assert verdicts["sun by rays"] == "cures"
    finer = next(r for r in finding.remedies if r.change.title.startswith("shadow maps of"))
    edge = int(finer.change.title.split()[3])
    [memory] = [c.value for c in finer.costs if c.name == "memory"]
    assert finer.verdict == "cures" and memory == 4 * 4 * (edge**2 - 2048**2)
    assert not found(apply_change(build, finer.change))


def test_the_chain_names_width_for_what_it_lost():
    frame = RENDERER.frame(pier(wide=0.06), Request("eye", SIZE), SHADOWED)
    [sun] = disagreement(RENDERER, frame).lights
    mine = sun.caster == 2
    assert mine.sum() > 16 and (sun.lost[mine] == Lost.WIDTH).mean() > 0.9
