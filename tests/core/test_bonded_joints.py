"""A print bonded under acrylic shines by itself where its file has it mirror as in air; with air between, both highlights are right."""

from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.defects import families
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.materials.gloss import ior_of
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.model import Light, Material
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.bonded import joint_f0, joints_in, mirrors_f0
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

SIZE = (240, 240)
EYE = Request("eye", SIZE)
FAMILY = next(f for f in families() if f.name == "inner gloss")
RENDERER = Renderer()
PRINT = Material("print", base_rgba=(0.15, 0.02, 0.02, 1), metallic=0.0, roughness=0.25, ior=1.47)
ACRYLIC = Material("acrylic", base_rgba=(1, 1, 1, 1), metallic=0.0, roughness=0.05, ior=1.49, transmission=1.0, thickness_m=0.004)


def dial(gap_m=0.0001, of=PRINT, shell=ACRYLIC, size=1.0):
    """A round dial's square twin, flat on its back, a slab over it, a lamp that both mirror to the eye."""
    s = size
    face = Shape().quad((-0.05 * s, 0, 0.05 * s), (0.1 * s, 0, 0), (0, 0, -0.1 * s))
    slab = Shape().box((-0.06 * s, gap_m, -0.06 * s), (0.06 * s, gap_m + 0.004 * s, 0.06 * s), 1.0)
    views = {"eye": {"eye": [0, 0.3 * s, 0.3 * s], "target": [0, 0, 0], "fov_y_deg": 22}}
    setup = {"viewpoints": views, "refract": {"enabled": True, "layers": 2}, "exposure": {"mode": "fixed", "ev100": 2}}
    lamp = Light("lamp", "point", intensity=4.0 * s * s)
    return build_of(Thing("dial", face, of), Thing("glass", slab, shell), setup=setup, lamps=((lamp, (0, 0.35 * s, -0.35 * s)),))


def found_in(build):
    return FAMILY.inspect(Survey(build, RENDERER, size=SIZE))


def test_what_a_joint_mirrors_is_fresnels():
    # Derived: (.02 / 2.96)^2 = 4.565e-5 against .0387 of acrylic in air; a plain .04 is 876 times as much.
    assert joint_f0(1.47, 1.49) == pytest.approx(4.565e-5, rel=1e-3) and joint_f0(1.0, 1.49) == pytest.approx(0.0387, abs=5e-5)
    plain = mirrors_f0(Material("m"))
    assert plain == pytest.approx(0.04) and plain / joint_f0(1.47, 1.49) == pytest.approx(876, abs=1)
    assert joint_f0(1.47, 1.49) / plain == pytest.approx(0.001141, abs=1e-6)
    assert mirrors_f0(Material("m", ior=ior_of(4.565e-5))) == pytest.approx(4.565e-5, rel=1e-6)


@pytest.mark.parametrize(
    ("gap_mm", "bonded"), [(0.0, True), (0.1, True), (0.45, True), (0.6, False), (3.0, False), (-0.5, True), (-2.5, True)]
)
def test_the_gap_is_measured_and_what_lies_within_is_bonded(gap_mm, bonded):
    build = dial(gap_mm / 1000)
    [joint] = joints_in(RENDERER, build, RENDERER.frame(build, EYE))
    assert joint.bonded == bonded
    if gap_mm >= 0:
        assert joint.gap_mm == pytest.approx(gap_mm, abs=0.01)


def test_a_bonded_print_is_found_with_its_numbers_and_an_air_gap_is_silent():
    [found] = found_in(dial())
    assert (found.cause, found.subjects) == ("print", ("dial", "glass"))
    drawn = ((1.47 - 1) / (1.47 + 1)) ** 2
    assert found.value == pytest.approx(drawn / joint_f0(1.47, 1.49), rel=1e-3) and max(found.pixels.values()) >= 16
    assert found_in(dial(gap_m=0.003)) == []
    assert found_in(dial(of=replace(PRINT, specular=0.001))) == []
    assert found_in(dial(of=replace(PRINT, metallic=1.0))) == [] and found_in(dial(of=replace(PRINT, unlit=True))) == []


def test_specular_and_ior_cure_it_and_roughness_only_masks_it():
    build = dial()
    [finding] = [f for f in sweep(build, renderer=RENDERER, size=SIZE).findings if f.code == "material.inner-gloss"]
    verdicts = {r.change.operation.params["role"]: r.verdict for r in finding.remedies}
    assert verdicts["specular"] == verdicts["ior"] == "cures" and verdicts["roughness"] != "cures"
    share = next(r.change.operation.params["value"] for r in finding.remedies if r.change.operation.params["role"] == "specular")
    assert share == pytest.approx(joint_f0(1.47, 1.49) / ((1.47 - 1) / (1.47 + 1)) ** 2, rel=1e-6)
    for remedy in finding.remedies:
        if remedy.verdict == "cures":
            after = apply_change(build, remedy.change)
            assert found_in(after) == []


def test_the_excess_is_what_the_plain_dial_loses_of_its_highlight():
    """Against a dial that mirrors nothing: what is too much is all of its highlight but a thousandth."""
    [found] = found_in(dial())
    build, dull = dial(), dial(of=replace(PRINT, specular=0.0))
    a, b = (RENDERER.frame(x, EYE).linear @ np.array([0.2126, 0.7152, 0.0722]) for x in (build, dull))
    peak = next(e.value for e in found.evidence if e.unit == "nit")
    assert peak == pytest.approx(float((a - b).max()), rel=0.02)


def test_sizes_do_not_matter_but_to_the_bond():
    assert len(found_in(dial(size=10.0))) == 1 and len(found_in(dial(size=0.3))) == 1
