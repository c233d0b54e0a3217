"""How materials answer light: values worked out by hand, rivals told apart by putting each right, two at once as a pair, maps by role."""

import math
from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.lineup import line_up
from eddyfall.core.materials.swap import swap_shader
from eddyfall.core.scene.changes import Change, apply_change, set_leaf
from eddyfall.core.scene.maps import drawn_maps, drawn_materials, overridden_maps
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.response.alone import alone
from eddyfall.core.truth.response.in_place import in_place, shown_of
from eddyfall.core.truth.response.rehearsal import rehearse
from eddyfall.core.truth.response.rivals import tried
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

SIZE = (240, 135)
RHO = 0.22  # of a cast gate
EVEN = [1.0, 1.0, 1.0]


def flat(value):
    return np.full((4, 4, 4), [value, value, value, 255], np.uint8)


GREY, DARK, CHECK = Image("grey", flat(128)), Image("dark", flat(8)), Image("check", flat(230))


def gate(material=None, images=(), shaders=None, sky=EVEN, ground=EVEN, mapped=False, **setup):
    """A gate in a frame under an even sky, beside a wall that shows what light there is."""
    cast = material or Material("cast", (RHO, RHO, RHO, 1), metallic=0.0, roughness=0.9, ior=1.0)
    wall = Material("wall", (0.5, 0.5, 0.5, 1), metallic=0.0, ior=1.0)
    shape = Shape().quad((-0.6, 0.2, 0.8), (1.2, 0, 0), (0, 0.2, -1.2))
    made = build_of(
        Thing("wall", Shape().quad((-6, 0, 6), (12, 0, 0), (0, 0, -12)), wall), Thing("gate", shape, cast),
        setup={
            "viewpoints": {"eye": {"eye": [0, 3.0, 2.2], "target": [0, 0.2, 0], "fov_y_deg": 45}},
            "sky": {"ambient": True, "zenith_rgb": sky, "horizon_rgb": sky, "ground_rgb": ground}, "shaders": shaders or {}, **setup,
        },
    )  # fmt: skip
    return replace(made, scene=replace(made.scene, images=images)) if images else made


def deaf(**more):
    """A base shader that does not answer light from around."""
    return {"plain": {"answers": {"ambient": False}, **more}}


@pytest.mark.parametrize("ior, nits, within", [(1.0, 12.61, 0.01), (1.5, 13.06, 0.02)])
def test_a_cast_gate_in_the_shade_answers_as_worked_out(ior, nits, within):
    """Albedo .22 under 180 lx from all around: .22 x 180 / pi; with a coat of F0 .04 and roughness .9 the coat's integral on top (Karis
    2013, from memory). In a sun of 40 000 lx: .22 x 40 000 / pi."""
    found = alone(Renderer(), gate(Material("cast", (RHO, RHO, RHO, 1), metallic=0.0, roughness=0.9, ior=ior)), "cast")
    assert found.ambient * 180 / math.pi == pytest.approx(nits, abs=within)
    assert found.answer == pytest.approx(1.0, abs=1e-3) and found.shader == "stock_opaque"
    if ior == 1.0:
        assert found.sun * 40_000 == pytest.approx(2801, abs=3)


def test_a_shader_that_does_not_answer_is_black_in_shade_and_right_in_the_sun():
    build = gate(shaders=deaf(), materials={"cast": {"shader": "plain"}})
    found = alone(Renderer(), build, "cast")
    assert found.ambient == 0 and found.answer == 0 and found.sun * 40_000 == pytest.approx(2801, abs=3)
    blind = gate(shaders={"plain": {"answers": {"direct": False}}}, materials={"cast": {"shader": "plain"}})
    found = alone(Renderer(), blind, "cast")
    assert found.sun == 0 and found.answer == pytest.approx(1.0, abs=1e-3)


def occluded(share):
    """The gate with an occlusion map that lets so much through."""
    image = Image("ao", flat(round(share * 255)))
    return Material("cast", (RHO, RHO, RHO, 1), metallic=0.0, roughness=0.9, ior=1.0, occlusion_texture=TextureUse(0)), (image,)


def test_an_occlusion_map_of_three_hundredths_dims_as_much():
    material, images = occluded(8 / 255)
    found = alone(Renderer(), gate(material, images), "cast")
    assert found.answer == pytest.approx(8 / 255, rel=0.02), "by R alone it looks like a shader that hardly answers"
    assert found.ambient * 180 / math.pi == pytest.approx(0.378 * (8 / 255) / 0.03, rel=0.02)


def judged(build):
    """What is dim in the frame, and what was tried of the gate."""
    request, renderer = Request("eye", SIZE), Renderer()
    names = [d.name for d in renderer.geometry(build).drawables]
    dim = [names[d] for d in shown_of(renderer.frame(build, request)).dim()]
    (before,) = in_place(renderer, build, request, [names.index("gate")])
    return dim, before, tried(renderer, build, request, before)


def metal(**more):
    return Material("cast", (0.6, 0.6, 0.6, 1), metallic=1.0, roughness=0.2, **more)


def black_lightmap():
    from eddyfall.core.bake.maps.run import bake

    dark = gate(bake={"resolution": 16, "samples": 16}, meshes={"gate": {"lightmap_uv": 0}}, sky=[0.0] * 3, ground=[0.0] * 3)
    baked = bake(dark).build
    lit = set_leaf(baked, ("sky", "zenith_rgb"), EVEN, scope="project", title="t")
    for leaf in ("horizon_rgb", "ground_rgb"):
        baked = apply_change(baked, set_leaf(baked, ("sky", leaf), EVEN, scope="project", title="t"))
    return apply_change(baked, lit)


def turned():
    """Under a sky over black ground, with its normals turned."""
    build = gate(ground=[0.0] * 3, sky=EVEN)
    change = {"id": "t", "scope": "mesh", "operation": {"name": "mesh.turn_normals", "params": {"mesh": "gate"}}}
    return apply_change(build, Change.model_validate(change))


REFLECT = {"enabled": True, "fallback": "nothing"}
RIVALS = {
    "its base shader does not answer light from around": lambda: gate(shaders=deaf(), materials={"cast": {"shader": "plain"}}),
    "its occlusion map lets next to nothing through": lambda: gate(*occluded(0.03)),
    "what it mirrors is not on the frame": lambda: gate(metal(), reflect=REFLECT),
    "its lightmap holds no light": black_lightmap,
    "its normals are turned": turned,
}


@pytest.mark.parametrize("what", RIVALS)
def test_rivals_are_told_apart_by_putting_each_right(what):
    dim, before, found = judged(RIVALS[what]())
    assert "gate" in dim and "wall" not in dim and before.answer < 0.5
    # A metal that mirrors nothing is cured by what it mirrors, and by being none.
    causes = {c.rivals[0].what for c in found.causes if len(c.rivals) == 1}
    assert what in causes and causes <= {what, "it is a metal, which has little to mirror"}
    assert all(r < 0.5 for rival, r in found.single if rival.what not in causes)


def test_two_at_once_are_found_as_a_pair():
    material, images = occluded(0.03)
    _, before, found = judged(gate(material, images, shaders=deaf(), materials={"cast": {"shader": "plain"}}))
    assert before.answer == 0 and all(r < 0.5 for _, r in found.single)
    (cause,) = found.causes
    assert {r.what for r in cause.rivals} == {
        "its base shader does not answer light from around", "its occlusion map lets next to nothing through",
    }  # fmt: skip
    assert cause.answer == pytest.approx(1.0, abs=0.1)


def test_what_answers_is_not_asked_about():
    dim, before, _ = judged(gate())
    assert dim == [] and before.answer == pytest.approx(1.0, abs=0.06)


def pictured(**more):
    return Material("cast", (1, 1, 1, 1), TextureUse(0), metallic=0.0, roughness=0.9, ior=1.0, **more)


def test_a_map_that_is_bound_but_not_on_draws_the_default():
    images = (GREY, DARK, CHECK)
    plain = gate(pictured(), images)
    assert overridden_maps(plain) == () and drawn_materials(plain) is plain.scene.materials
    assert drawn_maps(plain, 1)["base"].shows == "its own" and drawn_maps(plain, 1)["base"].bound == "grey"
    slots = {"slots": {"base": {"default": "check"}, "normal": {"on": False}}}
    off = gate(pictured(), images, {"plain": slots}, materials={"cast": {"shader": "plain", "maps": {"base": {"on": False}}}})
    drawn = drawn_maps(off, 1)
    assert (drawn["base"].shows, drawn["base"].bound, drawn["base"].on) == ("default", "grey", False)
    assert not drawn["normal"].has_slot and drawn["normal"].shows == "factor"
    grey, check = (alone(Renderer(), b, "cast").ambient for b in (plain, off))
    assert check / grey == pytest.approx(
        (((230 / 255 + 0.055) / 1.055) ** 2.4) / (((128 / 255 + 0.055) / 1.055) ** 2.4), rel=1e-3
    )
    # Another picture in its stead; and one that is nowhere is said at intake.
    other = gate(pictured(), images, materials={"cast": {"maps": {"base": {"image": "dark"}}}})
    assert drawn_maps(other, 1)["base"].bound == "dark" and alone(Renderer(), other, "cast").ambient < 0.01


def test_a_picture_that_is_nowhere_is_said():
    from eddyfall.core.scene.build import check_keys

    build = gate(pictured(), (GREY,), materials={"cast": {"maps": {"base": {"image": "lost"}}}})
    assert check_keys(build.scene, build.setup) == ["materials.cast.maps.base.image 'lost' is no picture of the scene"]
    assert drawn_maps(build, 1)["base"].bound == "grey"


def swapped(slots):
    """A gate with three pictures and a base shader that does not answer, and another to swap to."""
    material = pictured(metallic_roughness_texture=TextureUse(1), normal_texture=TextureUse(2))
    shaders = {**deaf(), "general": {"slots": slots}}
    maps = {"normal": {"on": False}}
    return gate(
        material,
        (GREY, CHECK, Image("bumps", np.full((4, 4, 4), [128, 128, 255, 255], np.uint8))),
        shaders,
        materials={"cast": {"shader": "plain", "maps": maps}},
    )


def test_a_swap_keeps_pictures_by_role_switches_them_on_and_changes_nothing_in_the_sun():
    build = swapped({})
    swap = swap_shader(build, "cast", "general")
    fates = {t.role: t.fate for t in swap.transfers}
    assert fates == {
        "base": "kept", "metallic_roughness": "kept", "normal": "switched on", "emissive": "factor alone", "occlusion": "factor alone",
        "transmission": "factor alone", "thickness": "factor alone",
    }  # fmt: skip
    found = rehearse(Renderer(), build, swap, ["eye"])
    assert (found.before.answer, found.after.answer) == (0.0, pytest.approx(1.0, abs=0.02)) and found.sun_delta_e <= 1
    (seen,) = found.seen
    assert seen.default_px == 0 and seen.before == 0 and seen.after == pytest.approx(1.0, abs=0.1)
    after = apply_change(build, swap.change)
    assert {m.shows for r, m in drawn_maps(after, 1).items() if m.bound} == {"its own"}


def test_a_swap_tells_what_has_no_place_and_counts_the_default_on_screen():
    build = swapped({"base": {"on": False, "default": "bumps"}, "normal": {"on": False}})
    swap = swap_shader(build, "cast", "general")
    fates = {t.role: (t.fate, t.default) for t in swap.transfers}
    assert fates["base"] == ("no place", "bumps") and fates["normal"] == ("no place", None)
    found = rehearse(Renderer(), build, swap, ["eye"])
    assert found.seen[0].default_px == found.seen[0].pixels > 500
    with pytest.raises(RequestError, match="base shader 'none' does not exist; there are: plain, general, stock_opaque"):
        swap_shader(build, "cast", "none")
    with pytest.raises(RequestError, match="material 'x' does not exist; there are: wall, cast"):
        swap_shader(build, "x", "general")


def test_a_sweep_files_it_under_its_material_and_its_cures_cure():
    build = gate(shaders=deaf(), materials={"cast": {"shader": "plain"}})
    result = sweep(build, renderer=Renderer())
    (finding,) = (f for f in result.findings if f.code == "bounce.no-response")
    assert finding.suspicion.title == "gate does not answer light from around: its base shader does not answer light from around"
    assert {r.change.title for r in finding.remedies if r.verdict == "cures"} == {
        "plain answers light from around", "cast with base shader stock_opaque",
    }  # fmt: skip
    assert not [f for f in sweep(gate(), renderer=Renderer()).findings if f.code == "bounce.no-response"]


def test_black_in_shade_is_told_by_a_line_up():
    build = gate(shaders=deaf(), materials={"cast": {"shader": "plain"}})
    told = line_up(build, "eye", (400, 240, 120, 60), "black in shade", renderer=Renderer())
    first = told.trials[0]
    assert first.title == "plain answers light from around" and first.verdict.startswith("clears")
    assert (first.before, first.after) == (pytest.approx(1.0), pytest.approx(0.0, abs=0.1))


def test_a_default_picture_on_screen_is_a_finding_until_its_map_is_switched_on():
    slots = {"slots": {"base": {"default": "check"}}}
    entry = {"shader": "plain", "maps": {"base": {"on": False}}}
    build = gate(pictured(), (GREY, DARK, CHECK), {"plain": slots}, materials={"cast": entry})
    (finding,) = (f for f in sweep(build, renderer=Renderer()).findings if f.code == "material.placeholder")
    assert finding.suspicion.title == "cast shows its base shader's default for base: grey is bound but not on"
    assert finding.suspicion.subjects == ("gate",) and finding.suspicion.pixels["eye"] > 5000
    cures = {r.change.title for r in finding.remedies if r.verdict == "cures"}
    assert cures == {"pictures of cast switched on", "plain without a default for base"}
    on = gate(pictured(), (GREY, DARK, CHECK), {"plain": slots}, materials={"cast": {"shader": "plain"}})
    assert not [f for f in sweep(on, renderer=Renderer()).findings if f.code == "material.placeholder"]
