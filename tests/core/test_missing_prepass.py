"""Solid things that are missing from the depth prepass (the worked case of netting that looks see-through), on nets over a
wall, a bank and the sky."""

import numpy as np
import pytest

from eddyfall.core.defects.depth_prepass import CODE
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request, render
from eddyfall.core.handover.package import setup_patch
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.model import Light, Material
from eddyfall.core.sweep import sweep
from scenes import Thing, build_of, flat, merged, net_build, wall

SIZE = (320, 180)
WALL, BANK, SKY = (60, 90), (160, 90), (260, 90)


def green(frame, at):
    return float(frame.linear[at[1], at[0], 1])


def found(build, **options):
    return [f for f in sweep(build, size=SIZE, **options).findings if f.code == CODE]


def test_net_takes_the_fog_of_what_is_behind_it():
    # The worked case of netting that looks see-through: T(12) = exp(-.36); correct .409; over the wall .413, over the bank
    # .632, over the sky .660.
    healthy = render(net_build(shaders={"net": {"passes": {"depth": True}}}), "eye", size=SIZE)
    built = render(net_build(), "eye", size=SIZE)
    assert [round(green(built, at), 3) for at in (WALL, BANK, SKY)] == [0.413, 0.632, 0.660]
    assert [round(green(healthy, at), 3) for at in (WALL, BANK, SKY)] == [0.409, 0.409, 0.409]


def test_finding_measures_errors_and_the_remedy_cures():
    build = net_build()
    (finding,) = found(build)
    s = finding.suspicion
    assert (s.cause_kind, s.cause, s.subjects) == ("shader", "net", ("fender_net",))
    value = {e.measure: e.value for e in s.evidence}
    assert value["fog distance too far, largest"] == pytest.approx(73, abs=0.1)
    assert value["pixels over the sky, distance unbounded"] > 1000
    assert finding.impact.kind == "measured"
    assert finding.severity == "blocking"
    assert finding.best is not None
    repaired = apply_change(build, finding.best.change)
    frame = render(repaired, "eye", size=SIZE)
    assert [round(green(frame, at), 3) for at in (WALL, BANK, SKY)] == [0.409] * 3
    assert found(repaired) == []
    # Everything else is as it was, and the patch of the user's own file is one hunk.
    before = render(build, "eye", size=SIZE)
    elsewhere = before.drawable != 0
    assert np.array_equal(before.linear[elsewhere], frame.linear[elsewhere])
    assert len([op for op in setup_patch(build, repaired) if op["op"] != "test"]) == 1


def test_fog_distance_errors_by_background():
    build = net_build()
    errors = []
    for at in (WALL, BANK, SKY):
        sample = core_sample(Renderer(), build, Request("eye", SIZE), *at)
        (fog,) = [layer for layer in sample.layers if layer.pass_name == "fog"]
        errors.append(fog.facts["distance_error_m"])
    assert errors[:2] == pytest.approx([0.6, 73], abs=0.05)
    assert np.isinf(errors[2])


@pytest.mark.parametrize("copy_from", ["none", "prepass", "opaque"])
@pytest.mark.parametrize("depth_pass", [True, False])
def test_only_a_prepass_copy_without_a_depth_pass_is_a_defect(copy_from, depth_pass):
    build = net_build(depth={"copy_from": copy_from}, shaders={"net": {"passes": {"depth": depth_pass}}})
    assert bool(found(build)) == (copy_from == "prepass" and not depth_pass)


def test_without_a_depth_copy_everything_drowns():
    frame = render(net_build(depth={"copy_from": "none"}), "eye", size=SIZE)
    assert frame.linear == pytest.approx(np.full(frame.linear.shape, 0.66), abs=1e-5)


@pytest.mark.parametrize("fog", [{"enabled": False}, {"fog_per_m": 0.0}])
def test_nothing_reads_the_copy_without_fog(fog):
    assert found(net_build(fog=fog)) == []


def test_one_finding_for_each_shader_with_all_its_materials():
    nets = [Thing(f"net_{i}", wall(10.0 + i, x0=-1.2 + 0.6 * i, x1=-0.7 + 0.6 * i), flat(f"rope_{i}", 0.3)) for i in range(4)]
    setup = {
        "fog": {"enabled": True, "fog_per_m": 0.02, "rgb": [1, 1, 1]},
        "shaders": {"weave": {"passes": {"depth": False}}, "mesh": {"passes": {"depth": False}}},
        "materials": {"rope_0": {"shader": "weave"}, "rope_1": {"shader": "weave"}, "rope_2": {"shader": "mesh"}},
    }
    findings = found(build_of(*nets, setup=setup))
    assert {f.suspicion.cause: f.suspicion.subjects for f in findings} == {"weave": ("net_0", "net_1"), "mesh": ("net_2",)}


def test_blended_things_do_not_belong_into_the_prepass():
    pane = flat("rope", 0.3, alpha=0.5, alpha_mode="BLEND")
    build = net_build()
    fog = {k: build.raw_setup[k] for k in ("fog", "depth", "shaders", "materials")}
    assert found(build_of(Thing("pane", wall(10.0), pane), Thing("bank", wall(85.0), flat("grass", 0.2)), setup=fog)) == []


def test_edit_role_that_hides_it_is_named_with_the_leaf():
    roles = {"play": {}, "edit": {"set": {"depth": {"copy_from": "opaque"}, "shadow": {"filter_px": 1}}}}
    (finding,) = found(net_build(roles=roles))
    (edit,) = finding.roles
    assert (edit.role, edit.seen, edit.leaf, edit.play_value, edit.role_value) == (
        "edit",
        False,
        "depth.copy_from",
        "prepass",
        "opaque",
    )


def test_role_that_shows_it_says_so():
    (finding,) = found(net_build(roles={"play": {}, "edit": {"set": {"shadow": {"filter_px": 1}}}}))
    assert [(r.role, r.seen) for r in finding.roles] == [("edit", True)]


def test_remedy_that_a_target_overrides_goes_where_the_winner_stands():
    # The copy is taken from the prepass on the device alone: the project is clean, the device is not.
    build = net_build(depth={"copy_from": "opaque"}, targets={"kiosk": {"set": {"depth": {"copy_from": "prepass"}}}})
    assert found(build) == []
    (finding,) = found(build, target="kiosk")
    assert finding.best is not None
    assert found(apply_change(build, finding.best.change), target="kiosk") == []


def test_cutout_nets_misread_only_where_they_are_solid():
    lamp = Light("lamp", "point", intensity=50.0)
    half = flat("rope", 0.3, alpha=0.4, alpha_mode="MASK")
    build = build_of(
        Thing("net", wall(10.0), half), Thing("bank", wall(85.0), Material("grass")), lamps=((lamp, (0, 0, 0)),),
        setup=merged(net_build().raw_setup, {}),
    )  # fmt: skip
    (finding,) = found(build)
    assert finding.suspicion.pixels == {}
    assert (finding.severity, finding.impact.kind) == ("latent", "none")
