"""Materials under base shaders that a target lacks: the error colour, conversion by role, specular and gloss, special ones left alone."""

import json
import math
from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.compare.ciede2000 import delta_e_2000
from eddyfall.core.defects import families
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import ChangeError, RequestError, SetupError
from eddyfall.core.frame.render import Request
from eddyfall.core.intake import open_build
from eddyfall.core.materials.convert import conversion, conversions, converted
from eddyfall.core.materials.gloss import by_metal, ior_of, solved
from eddyfall.core.materials.roles import UNWORKED, WORKED, unworked, value_of, worked
from eddyfall.core.materials.shown import shown_on
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Gloss, Image, Light, Material, TextureUse
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.response.conversions import rehearse_conversions
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, merged, wall

SIZE = (160, 90)
EYE = Request("eye", SIZE, None, "handheld")
FAMILY = next(f for f in families() if f.name == "unsupported")
LAMP = ((Light("sun", "directional", intensity=3.0), (0, 0, 0)),)
DIM = {"exposure": {"mode": "fixed", "ev100": 3.0}}
GLOSS = "KHR_materials_pbrSpecularGlossiness"
LACQUER = {
    "targets": {"desk": {}, "handheld": {}},
    "shaders": {"lacquer": {"works_on": ["desk"], "parameters": {
        "tint": {"role": "base_rgb", "how": "srgb"}, "shine": {"role": "roughness", "how": "one_minus"},
        "metal": {"role": "metallic", "how": "hundredth", "unit": "%"},
    }}},
    "materials": {"helmet": {"shader": "lacquer", "values": {
        "tint": {"rgb": [0.5, 0.25, 0.75]}, "shine": {"value": 0.7}, "metal": {"value": 20.0}}}},
}  # fmt: skip


def room(helmet=None, images=(), **setup):
    """A board whose material has a base shader of its own, before a grey wall, under the sun of the eye's side."""
    board = Shape().quad((-1, -0.6, -8), (2, 0, 0), (0, 1.2, 0))
    of = helmet or Material("helmet", base_rgba=(1, 1, 1, 1), metallic=0.0)
    return build_of(Thing("board", board, of), Thing("wall", wall(12.0)), setup=merged(LACQUER, setup), images=images, lamps=LAMP)


# As the Khronos Group's own example converts them (values from memory, with the extension's text).
@pytest.mark.parametrize(
    ("diffuse", "specular", "base", "metallic", "ior"),
    [
        ((0.30, 0.10, 0.08), (0.04, 0.04, 0.04), (0.30, 0.10, 0.08), 0.0, 1.5),
        ((0.0, 0.0, 0.0), (0.71, 0.43, 0.18), (0.71, 0.43, 0.18), 1.0, 1.5),
        (
            (0.2, 0.2, 0.2),
            (0.08, 0.08, 0.08),
            (0.2, 0.2, 0.2),
            0.0,
            1.788788,
        ),  # (1 + sqrt(.08)) / (1 - sqrt(.08)), Fresnel head on
    ],
)
def test_specular_and_gloss_come_to_what_was_published(diffuse, specular, base, metallic, ior):
    found = solved(Material("m", gloss=Gloss((*diffuse, 1.0), specular, 0.4)), ()).material
    assert found.base_rgba[:3] == pytest.approx(base, abs=1e-6) and found.base_rgba[3] == 1.0
    assert (found.metallic, found.ior) == (pytest.approx(metallic, abs=1e-6), pytest.approx(ior, abs=1e-5))
    assert found.roughness == pytest.approx(0.6)


def test_the_solve_mirrors_and_scatters_as_much_as_what_it_is_of():
    """Of what is grey the metallic-roughness material's own F0 and albedo are those of the other (a check of the algebra: mixed
    F0 = .04 (1 - m) + base m, albedo = base (1 - m) .96, against specular and diffuse (1 - specular))."""
    rng = np.random.default_rng(4)
    diffuse, specular = (np.repeat(rng.uniform(lo, hi, (200, 1)), 3, axis=1) for lo, hi in ((0.0, 0.9), (0.04, 0.9)))
    base, metallic = by_metal(diffuse, specular)
    m, inside = metallic[:, None], (metallic > 0.999) | (metallic < 0.001)
    f0, albedo = 0.04 * (1 - m) + base * m, base * (1 - m) * 0.96
    off = np.abs(f0 - specular).max(axis=1) + np.abs(albedo - diffuse * (1 - specular)).max(axis=1)
    assert np.median(off) < 0.1 and off[inside].max(initial=0) < 0.06
    assert ior_of(0.04) == pytest.approx(1.5) and ior_of(0.0) == 1.0


def test_each_way_to_say_a_value_turns_back():
    for how in WORKED:
        assert how in UNWORKED and unworked(how, worked(how, 0.37)) == pytest.approx(0.37)
    assert worked("srgb", (1.0, 0.5, 0.0)) == (pytest.approx(1.0), pytest.approx(0.2140, abs=1e-4), 0.0)  # IEC 61966-2-1


def test_what_has_no_version_is_in_the_error_colour_whatever_the_light_and_the_exposure(renderer):
    for ev in (None, 3.0, 11.0):
        exposure = {} if ev is None else {"exposure": {"mode": "fixed", "ev100": ev}}
        frame = renderer.frame(room(**exposure), EYE)
        mine = frame.drawable == frame.geometry.names["board"]
        assert mine.sum() > 200 and (frame.display[mine] == (200, 86, 31)).all()
        desk = renderer.frame(room(**exposure), replace(EYE, target="desk"))
        assert not (desk.display[mine] == (200, 86, 31)).all(axis=1).any()


def test_values_are_drawn_by_role_where_it_works(renderer):
    plain = build_of(
        Thing("board", Shape().quad((-1, -0.6, -8), (2, 0, 0), (0, 1.2, 0)),
              Material("helmet", base_rgba=(*worked("srgb", (0.5, 0.25, 0.75)), 1.0), metallic=0.2, roughness=0.3)),
        Thing("wall", wall(12.0)), setup={"targets": LACQUER["targets"]}, lamps=LAMP,
    )  # fmt: skip
    desk = replace(EYE, target="desk")
    np.testing.assert_allclose(renderer.frame(room(), desk).linear, renderer.frame(plain, desk).linear, atol=1e-6)
    assert shown_on(plain, "desk").build is plain


def test_a_conversion_leaves_no_error_and_looks_the_same(renderer, tmp_path):
    build = room(**DIM)
    [found] = conversions(build, "handheld")
    assert (found.kind, found.before, found.after) == ("converts", "lacquer", "stock_opaque")
    assert {(m.name, m.role, m.fate) for m in found.values} == {
        ("tint", "base_rgb", "computed"), ("shine", "roughness", "computed"), ("metal", "metallic", "computed")}  # fmt: skip
    assert {m.name: m.comes_to for m in found.values}["shine"] == pytest.approx(0.3)
    after = apply_change(build, converted(build, ["helmet"]))
    assert conversions(after, "handheld") == ()
    as_it_was, now = (renderer.frame(b, r).display for b, r in ((build, replace(EYE, target="desk")), (after, EYE)))
    assert float(delta_e_2000(as_it_was, now).max()) <= 1.0
    # What is handed over says it by itself.
    (tmp_path / "after.glb").write_bytes(write_glb(after.scene))
    again = read_scene(tmp_path / "after.glb").materials[0]
    assert again.roughness == pytest.approx(0.3) and again.metallic == pytest.approx(0.2)


def test_a_change_of_a_material_is_written_into_the_file_it_came_from(tmp_path):
    of = Material("old", gloss=Gloss((0.3, 0.1, 0.08, 1.0), (0.08, 0.08, 0.08), 0.4))
    build = build_of(Thing("board", Shape().quad((-1, -0.6, -8), (2, 0, 0), (0, 1.2, 0)), of), Thing("wall", wall(12.0)))
    (tmp_path / "a.glb").write_bytes(write_glb(build.scene))
    (tmp_path / "a.setup.json").write_text(json.dumps({"eddyfall_setup": 1, "viewpoints": build.raw_setup["viewpoints"]}))
    read = open_build(tmp_path / "a.glb")
    assert read.scene.materials[0].gloss == of.gloss
    after = apply_change(read, converted(read, ["old"]))
    (tmp_path / "b.glb").write_bytes(write_glb(after.scene, read.scene))
    again = read_scene(tmp_path / "b.glb")
    assert again.materials[0].gloss is None and again.materials[0].ior == pytest.approx(1.788788, abs=1e-5)
    assert again.materials[1] == read.scene.materials[1]
    assert GLOSS not in json.dumps(again.source.json)


def test_with_a_way_to_say_it_by_metal_and_roughness_that_is_drawn_and_the_rest_is_told(tmp_path):
    both = {"pbrMetallicRoughness": {"roughnessFactor": 0.25}, "extensions": {GLOSS: {"glossinessFactor": 0.1}}}
    document = {"asset": {"version": "2.0"}, "extensionsUsed": [GLOSS], "materials": [both]}
    (tmp_path / "a.gltf").write_text(json.dumps(document))
    scene = read_scene(tmp_path / "a.gltf")
    assert scene.materials[0].gloss is None and scene.materials[0].roughness == 0.25
    assert any("is left out" in note for note in scene.notes)


def test_textured_gloss_is_solved_texel_by_texel(renderer):
    codes = np.full((2, 2, 4), 255, np.uint8)
    codes[0, 0], codes[0, 1] = (0, 0, 0, 255), (149, 89, 80, 255)
    shine = np.full((2, 2, 4), 56, np.uint8)  # F0 of .0395, near enough to .04
    shine[0, 0] = (219, 175, 118, 128)
    use = TextureUse(0)
    gloss = Gloss(diffuse_texture=use, specular_texture=replace(use, image=1))
    found = solved(Material("m", gloss=gloss), (Image("d", codes), Image("s", shine)))
    base, packed = (i.pixels for i in found.images)
    assert packed[0, 0, 2] == 255 and base[0, 0, :3] == pytest.approx(
        [219, 175, 118], abs=1
    )  # black under coloured specular: metal
    assert packed[0, 0, 1] == 255 - 128 and packed[0, 1, 2] == 0 and base[0, 1, :3] == pytest.approx([149, 89, 80], abs=1)
    moved = replace(gloss, specular_texture=replace(use, image=1, turn=(2, 0, 0, 0, 2, 0)))
    with pytest.raises(ChangeError, match="lie differently"):
        solved(Material("m", gloss=moved), (Image("d", codes), Image("s", shine)))


def test_a_gloss_map_in_another_channel_is_turned_round(renderer):
    rng = np.random.default_rng(2)
    codes = rng.integers(0, 256, (8, 8, 4)).astype(np.uint8)
    of = Material("helmet", base_rgba=(0.5, 0.5, 0.5, 1), metallic=0.0, metallic_roughness_texture=TextureUse(0, nearest=True))
    setup = {"shaders": {"lacquer": {"slots": {"metallic_roughness": {"channel": "alpha", "holds": "gloss"}}, "parameters": {}}},
             "materials": {"helmet": {"values": {}}}}  # fmt: skip
    board = room(of, (Image("mask", codes),)).raw_setup
    board["shaders"]["lacquer"] = {"works_on": ["desk"], **setup["shaders"]["lacquer"]}
    board["materials"]["helmet"] = {"shader": "lacquer"}
    build = build_of(Thing("board", Shape().quad((-1, -0.6, -8), (2, 0, 0), (0, 1.2, 0)), of), Thing("wall", wall(12.0)),
                     setup=board, images=(Image("mask", codes),), lamps=LAMP)  # fmt: skip
    after = apply_change(build, converted(build, ["helmet"]))
    drawn = after.scene.materials[0].metallic_roughness_texture
    assert (after.scene.images[drawn.image].pixels[..., 1] == 255 - codes[..., 3]).all()
    desk = replace(EYE, target="desk")
    np.testing.assert_array_equal(renderer.frame(build, desk).linear, renderer.frame(after, desk).linear)


def test_special_ones_are_named_and_a_conversion_of_many_leaves_them():
    own = {
        "shaders": {"lacquer": {"parameters": {"seam": {"unit": "mm"}}}},
        "materials": {"helmet": {"values": {"seam": {"value": 2.0}}}},
    }
    [found] = conversions(room(**own), "handheld")
    assert found.kind == "special" and "seam" in found.why[0]
    assert next(m for m in found.values if m.name == "seam").fate == "no place"
    passes = {"shaders": {"lacquer": {"passes": {"depth": False}}}}
    assert conversions(room(**passes), "handheld")[0].why == ("passes.depth is false",)


def test_it_is_found_blocks_and_conversion_cures_it_where_all_has_a_role(renderer):
    [found] = [
        f
        for f in sweep(room(), renderer=renderer, target="handheld", size=(320, 180)).findings
        if f.code == "material.unsupported"
    ]
    assert (found.suspicion.cause, found.severity, found.best.verdict) == ("lacquer", "blocking", "cures")
    assert not [
        f for f in sweep(room(), renderer=renderer, target="desk", size=(320, 180)).findings if f.code == "material.unsupported"
    ]
    own = {"shaders": {"lacquer": {"parameters": {"seam": {}}}}, "materials": {"helmet": {"values": {"seam": {"value": 2.0}}}}}
    [special] = FAMILY.inspect(Survey(room(**own), renderer, "handheld", size=SIZE))
    assert (special.cause_kind, special.cause) == ("material", "helmet") and "special" in special.title
    assert any("loses seam" in text for text in special.candidates[0].side_effects)


def test_values_go_under_the_other_shaders_own_names_and_come_back():
    other = {
        "shaders": {"varnish": {"parameters": {"rough2": {"role": "roughness", "how": "root"}, "paint": {"role": "base_rgb"}}}}
    }
    build = room(**other)
    after = apply_change(build, converted(build, ["helmet"], "varnish"))
    values = after.setup.materials["helmet"].values
    assert values["rough2"].value == pytest.approx(0.09) and values["paint"].rgb == pytest.approx(
        worked("srgb", (0.5, 0.25, 0.75))
    )
    back = apply_change(after, converted(after, ["helmet"], "lacquer"))
    said = {k: v.rgb or v.value for k, v in back.setup.materials["helmet"].values.items()}
    assert (
        said["shine"] == pytest.approx(0.7)
        and said["metal"] == pytest.approx(20.0)
        and said["tint"] == pytest.approx((0.5, 0.25, 0.75))
    )
    assert value_of(back.scene.materials[0], "metallic") == pytest.approx(0.2)


@pytest.mark.parametrize(
    ("wrong", "says"),
    [
        ({"shaders": {"lacquer": {"works_on": ["nowhere"]}}}, "'nowhere' is not in targets"),
        ({"materials": {"helmet": {"values": {"glow": {"value": 1.0}}}}}, "no parameter 'glow'"),
        ({"materials": {"helmet": {"values": {"tint": {"rgb": None, "value": 1.0}}}}}, "base_rgb is a colour"),
        ({"materials": {"helmet": {"values": {"shine": {"value": None}}}}}, "needs either value or rgb"),
    ],
)
def test_what_a_setup_may_not_say_is_one_clear_error(wrong, says):
    with pytest.raises(SetupError, match=says):
        room(**wrong)


def test_names_that_do_not_exist_and_values_beyond_their_roles_are_told():
    build = room()
    with pytest.raises(RequestError, match="material 'x'"):
        conversion(build, "x")
    with pytest.raises(RequestError, match="base shader 'x'"):
        conversion(build, "helmet", "x")
    with pytest.raises(RequestError, match="no version for handheld either"):
        conversions(build, "handheld", "lacquer")
    with pytest.raises(RequestError, match="target 'x'"):
        conversions(build, "x")
    beyond = room(materials={"helmet": {"values": {"metal": {"value": 2000.0}}}})
    [found] = conversions(beyond, "handheld")
    assert found.becomes is None and "metal: metallic comes to 20" in found.why[-1]
    with pytest.raises(ChangeError, match="metallic comes to 20"):
        converted(beyond, ["helmet"])
    assert not math.isnan(value_of(build.scene.materials[0], "ior"))


@pytest.mark.parametrize("specular", [(0.04, 0.04, 0.04), (0.08, 0.08, 0.08), (0.02, 0.02, 0.02)])
def test_grey_specular_looks_exactly_as_a_shader_of_its_own_draws_it_and_so_does_bare_metal(renderer, specular):
    """Drawn by its F0 and its tint as the extension defines them, and by what it is converted to."""
    of = Material("old", gloss=Gloss((0.3, 0.1, 0.08, 1.0), specular, 0.4))
    for material in (of, replace(of, gloss=Gloss((0.0, 0.0, 0.0, 1.0), (0.71, 0.43, 0.18), 0.4))):
        build = build_of(Thing("board", Shape().quad((-1, -0.6, -8), (2, 0, 0), (0, 1.2, 0)), material), lamps=LAMP, setup=DIM)
        seen = rehearse_conversions(renderer, build, None, ["eye"], size=SIZE)
        assert seen.seen[0].pixels > 200 and seen.seen[0].error_after == 0 and seen.seen[0].most_de <= 1.0
        assert seen.seen[0].error_before == seen.seen[0].pixels


def test_what_cannot_be_told_by_metal_is_measured_to_look_otherwise(renderer):
    """A blue mirror over an orange body is nothing that metal and roughness can say."""
    of = Material("old", gloss=Gloss((0.6, 0.3, 0.05, 1.0), (0.05, 0.1, 0.5), 0.7))
    build = build_of(Thing("board", Shape().quad((-1, -0.6, -8), (2, 0, 0), (0, 1.2, 0)), of), lamps=LAMP, setup=DIM)
    assert rehearse_conversions(renderer, build, None, ["eye"], size=SIZE).seen[0].mean_de > 2.0


def test_a_build_that_is_shown_shows_itself(renderer):
    """Values are laid in and pictures turned once, however often it is asked."""
    rng = np.random.default_rng(2)
    codes = Image("mask", rng.integers(0, 256, (8, 8, 4)).astype(np.uint8))
    of = Material("helmet", base_rgba=(0.5, 0.5, 0.5, 1), metallic=0.0, metallic_roughness_texture=TextureUse(0))
    slots = {"metallic_roughness": {"channel": "alpha", "holds": "gloss"}}
    build = room(of, (codes,), shaders={"lacquer": {"slots": slots}})
    once = shown_on(build, "desk").build
    assert shown_on(once, "desk").build is once and once is not build
    hand = shown_on(build, "handheld")
    assert hand.errors == {0} and shown_on(hand.build, "handheld").errors == frozenset()


def test_a_shader_that_takes_gloss_is_given_gloss_and_gives_it_back(renderer):
    rng = np.random.default_rng(9)
    codes = rng.integers(0, 256, (8, 8, 4)).astype(np.uint8)
    codes[..., 2:] = 255
    of = Material("helmet", base_rgba=(0.5, 0.5, 0.5, 1), metallic=0.0, metallic_roughness_texture=TextureUse(0, nearest=True))
    other = {"varnish": {"slots": {"metallic_roughness": {"channel": "alpha", "holds": "gloss"}}}}
    build = build_of(Thing("board", Shape().quad((-1, -0.6, -8), (2, 0, 0), (0, 1.2, 0)), of), Thing("wall", wall(12.0)),
                     setup={**DIM, "shaders": other}, images=(Image("rough", codes),), lamps=LAMP)  # fmt: skip
    after = apply_change(build, converted(build, ["helmet"], "varnish"))
    drawn = after.scene.materials[0].metallic_roughness_texture
    assert (after.scene.images[drawn.image].pixels[..., 3] == 255 - codes[..., 1]).all()
    assert "gloss in alpha of rough" in conversion(build, "helmet", "varnish").how
    back = apply_change(after, converted(after, ["helmet"]))
    frames = [renderer.frame(b, Request("eye", SIZE)).linear for b in (build, after, back)]
    np.testing.assert_array_equal(frames[0], frames[1])
    np.testing.assert_array_equal(frames[0], frames[2])


def test_one_that_cannot_be_converted_is_a_cause_by_itself_and_the_others_have_their_cure(renderer):
    wrong = {"materials": {"wall": {"shader": "lacquer", "values": {"metal": {"value": 2000.0}}}}}
    board = Shape().quad((-1, -0.6, -8), (2, 0, 0), (0, 1.2, 0))
    build = build_of(Thing("board", board, Material("helmet", metallic=0.0)), Thing("wall", wall(12.0), Material("wall", metallic=0.0)),
                     setup=merged(LACQUER, wrong), lamps=LAMP)  # fmt: skip
    found = {s.cause: s for s in FAMILY.inspect(Survey(build, renderer, "handheld", size=SIZE))}
    assert set(found) == {"lacquer", "wall"} and found["lacquer"].candidates and not found["wall"].candidates
