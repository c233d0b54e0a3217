"""The guide's recipe of a pass, run: from one module of its own it is in schedule, table, crop, bytes, core sample, line-up."""

import ast
import pickle
import sys
from dataclasses import replace
from pathlib import Path
from types import ModuleType
from typing import get_args

import numpy as np
import pytest
from scipy.ndimage import uniform_filter

import eddyfall.core.passes as passes_room
from eddyfall.core.errors import SetupError
from eddyfall.core.frame.affects import affects, described_schema
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.frame.schedule import GIVEN, bytes_of, pass_table, schedule, settings_of, support_of
from eddyfall.core.handover.package import setup_patch
from eddyfall.core.hashing import freeze
from eddyfall.core.lineup import line_up
from eddyfall.core.passes.registry import passes, register, unregister
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup import normalised, parse_setup
from eddyfall.core.scene.setup.registry import unregister_section
from eddyfall.demo.shapes import Shape
from guide import recipe
from scenes import Thing, build_of

SIZE = (160, 90)


LENS = "eddyfall.core.scene.setup.sections.lens"


def loaded(name, block):
    """A module of a name with the code of a block of the guide."""
    module = ModuleType(name)
    sys.modules[name] = module
    exec(compile(recipe(block), f"{name}.py", "exec"), module.__dict__)
    return module


@pytest.fixture
def lens():
    yield loaded(LENS, "python section").Lens
    unregister_section("lens")
    del sys.modules[LENS]


@pytest.fixture
def blur(lens):
    yield loaded("toy_blur", "python pass").PASS
    unregister("toy blur")
    del sys.modules["toy_blur"]


@pytest.fixture
def plain(lens, tiny):
    return apply_change(tiny, set_leaf(tiny, ("lens", "soft"), True, scope="project", title="t"))


def test_it_stands_in_the_schedule_and_renames_nobodys_input(blur):
    names = [p.name for p in schedule()]
    assert names.index("blended") < names.index("toy blur") < names.index("display")
    assert next(p for p in schedule() if p.name == "display").reads == ("linear",)
    row = next(r for r in pass_table() if r["name"] == "toy blur")
    assert row["settings"] == ["lens.soft"] and row["support_px"] == 4 and row["off"] == ["lens.soft = False"]
    assert row["bytes"] == 1920 * 1080 * 12


def test_the_frame_is_blurred_and_what_is_before_it_is_at_hand(blur, plain):
    renderer = Renderer()
    sharp = renderer.frame(plain, Request("front", SIZE), "linear", before="toy blur").linear
    soft = renderer.frame(plain, Request("front", SIZE), "linear").linear
    # SciPy's running mean over 9 x 9, edges repeated.
    np.testing.assert_allclose(soft, uniform_filter(sharp, (9, 9, 0), mode="nearest"), rtol=1e-5, atol=1e-6)
    assert np.abs(soft - sharp).max() > 0.01


@pytest.mark.parametrize("crop", [(37, 21, 90, 60), (0, 0, 1, 1), (159, 89, 160, 90), (0, 40, 160, 44)])
def test_a_crop_is_drawn_larger_and_cut_so_that_it_is_the_same_slice(blur, plain, crop):
    renderer = Renderer()
    whole = renderer.frame(plain, Request("front", SIZE))
    part = renderer.frame(plain, Request("front", SIZE, crop))
    x0, y0, x1, y1 = crop
    assert part.pixels.window == crop
    for name in ("linear", "display", "drawable", "surface"):
        np.testing.assert_allclose(part.buffers[name], whole.buffers[name][y0:y1, x0:x1], rtol=1e-6, atol=1e-6, err_msg=name)


def test_what_needs_the_whole_frame_gets_it(blur, plain):
    register(replace(blur, support_px=None))
    assert support_of(schedule()) is None
    renderer = Renderer()
    part = renderer.frame(plain, Request("front", SIZE, (40, 20, 50, 30))).linear
    np.testing.assert_array_equal(part, renderer.frame(plain, Request("front", SIZE)).linear[20:30, 40:50])


def test_the_core_sample_adds_up_with_its_stratum(blur, plain):
    renderer = Renderer()
    linear = renderer.frame(plain, Request("front", SIZE)).linear
    for x, y in ((3, 2), (80, 45), (120, 60), (159, 89)):
        sample = core_sample(renderer, plain, Request("front", SIZE), x, y)
        assert sample.layers[-1].pass_name == "toy blur"
        np.testing.assert_allclose(sample.sum, linear[y, x], rtol=1e-4, atol=1e-5)


def test_a_line_up_switches_it_off(blur, plain):
    trials = line_up(plain, "front", (60, 30, 30, 20), "see-through", size=SIZE).trials
    assert any(t.title == "no blur" and t.pass_name == "toy blur" for t in trials)


def test_a_section_is_in_document_schema_levels_and_changes_and_knows_what_it_affects(lens, blur, tiny):
    raw = {**tiny.raw_setup, "targets": {"slate": {"set": {"lens": {"soft": True}}}}}
    setup = parse_setup(raw)
    assert setup[lens] == lens() and normalised(setup)["lens"] == {"soft": False}
    assert (
        list(normalised(setup)).index("exposure")
        < list(normalised(setup)).index("lens")
        < list(normalised(setup)).index("textures")
    )
    assert resolve(setup, "slate")[lens].soft and resolve(setup, "slate").leaves["lens.soft"].winner == "target slate"
    described = described_schema()["$defs"]["Lens"]["properties"]["soft"]
    assert described["unit"] == "-" and described["affects"] == ["toy blur"] and affects("lens.soft") == ["toy blur"]
    with pytest.raises(SetupError, match=r"lens\.soft"):
        parse_setup({**raw, "lens": {"soft": "rather"}})
    changed = apply_change(tiny, set_leaf(tiny, ("lens", "soft"), True, scope="project", title="t"))
    assert changed.setup[lens].soft
    assert setup_patch(tiny, changed)[-1] == {"op": "add", "path": "/lens", "value": {"soft": True}}
    again = pickle.loads(pickle.dumps(changed.setup))
    assert again == changed.setup and again[lens].soft


def test_a_section_that_is_gone_is_unknown_again(tiny):
    with pytest.raises(SetupError, match="unknown key"):
        parse_setup({**tiny.raw_setup, "lens": {"soft": True}})


def test_a_target_it_does_not_write_is_refused(blur):
    with pytest.raises(ValueError, match="toy blur has a target linear that it does not write"):
        register(replace(blur, writes=("soft",)))


def test_what_passes_say_of_their_memory_is_what_they_take(tiny):
    frame = Renderer().frame(tiny, Request("front", SIZE))
    for p in schedule():
        targets = {t.name: t for t in p.targets}
        for name in p.writes:
            value = frame.buffers[name]
            given = [frame.buffers[read] for read in p.reads]
            off = name in p.reads or any(value is buffer for buffer in given)
            handed_on = off and name in targets and targets[name].texel_bytes == 0
            if isinstance(value, np.ndarray) and value.shape[:2] == (SIZE[1], SIZE[0]) and not handed_on:
                assert targets[name].bytes(*SIZE) == value.nbytes, f"{p.name} {name}"
        if p.name == "shadow":
            assert bytes_of(p, SIZE, frame.stage) == frame.buffers["shadow_maps"].depth.nbytes


def test_bytes_of_halved_mipped_and_kept_targets_are_counted_texel_by_texel():
    from eddyfall.core.passes.contract import Target

    # 960 x 540 halved: 480 x 270 and its levels down to one texel, halved and rounded down each (OpenGL ES 3.0, 3.8.10.2).
    edges = [(480 >> k, 270 >> k) for k in range(9)]
    wanted = sum(max(w, 1) * max(h, 1) for w, h in edges) * 8
    assert Target(name="a", texel_bytes=8, divisor=2, mips=True).bytes(960, 540) == wanted
    assert Target(name="a", texel_bytes=8, divisor=2, mips=True, kept=True).bytes(960, 540) == 2 * wanted
    assert Target(name="a", texel_bytes=4, divisor=4).bytes(9, 5) == 3 * 2 * 4


def test_every_pass_declares_the_settings_it_reads(tiny):
    # Whatever leaf is changed: passes whose section changes with it name it, the others do not.
    stage = Renderer().frame(tiny, Request("front", SIZE)).stage
    changes = {
        "fog.fog_per_m": 0.5, "depth.copy_from": "opaque", "shadow.bias_texels": 3.0, "shadow.reach_m": 9.0, "sky.ambient": False,
        "exposure.ev100": 9.0, "order.key": "range", "bake.filter": "nearest", "depth.near_m": 0.3,
    }  # fmt: skip
    for leaf, value in changes.items():
        name, field = leaf.split(".")
        part = stage.resolved.sections[name].model_copy(update={field: value})
        other = replace(stage, resolved=stage.resolved.with_section(part))
        for p in passes():
            changed = repr(p.section(stage)) != repr(p.section(other))
            told = {leaf, name} & set(settings_of(p))
            assert bool(told) >= changed, f"{p.name} reads {leaf} and does not say so"


@pytest.fixture(scope="module")
def leaf():
    """A cutout with a picture."""
    pixels = np.random.default_rng(3).integers(0, 256, (64, 64, 4)).astype(np.uint8)
    material = Material("leaf", base_texture=TextureUse(0), alpha_mode="MASK", double_sided=True)
    return build_of(
        Thing("leaf", Shape().quad((-1, -1, -4), (2, 0, 0), (0, 2, 0)), material), images=[Image("leaf", freeze(pixels))],
        setup={"viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1]}}},
    )  # fmt: skip


def test_other_colours_of_a_picture_leave_alone_what_its_alpha_decides(leaf):
    pixels = (leaf.scene.images[0].pixels // (2, 2, 2, 1)).astype(np.uint8)
    darker = replace(leaf, scene=leaf.scene.with_image(Image("leaf", freeze(pixels))))
    base, other = (Renderer().frame(b, Request("eye", (32, 18))).keys for b in (leaf, darker))
    assert other["textures"] != base["textures"]
    assert all(
        other[given] == base[given] for given in ("alpha_uv", "cutouts", "shadow_cutouts", "shadow_maps", "screen", "depth")
    )


@pytest.mark.parametrize("section", ["textures", "bake"])
def test_what_a_frame_is_given_is_made_by_the_settings_that_are_said(leaf, section):
    # A leaf that is not named among them leaves the keys of what is given alone; one that is named changes one of them.
    base = Renderer().frame(leaf, Request("eye", (32, 18))).keys
    part = getattr(leaf.setup, section)
    for name, field in type(part).model_fields.items():
        value = getattr(part, name)
        words = [word for word in get_args(field.annotation) if isinstance(word, str) and word != value]
        if isinstance(value, tuple):
            other = tuple(v / 2 for v in value)
        else:
            other = words[0] if words else not value if isinstance(value, bool) else (value or 0) + 1
        setup = leaf.setup.model_copy(update={section: part.model_copy(update={name: other})})
        keys = Renderer().frame(leaf.with_setup(setup), Request("eye", (32, 18))).keys
        for given, settings in GIVEN.items():
            assert (keys[given] != base[given]) == (f"{section}.{name}" in settings), (given, name)


def test_passes_do_not_import_each_other():
    shared = {
        "contract", "registry", "recorder", "off_switches", "sections", "frustum", "sun_maps", "look_ups", "lightmap_shade", "screen",
        "world_light", "silent", "draw_order", "coated",
    }  # fmt: skip
    for path in Path(passes_room.__path__[0]).glob("*.py"):
        if path.stem in shared | {"__init__"}:
            continue
        imported = {
            n.module.rsplit(".", 1)[-1]
            for n in ast.walk(ast.parse(path.read_text()))
            if isinstance(n, ast.ImportFrom) and (n.module or "").startswith("eddyfall.core.passes.")
        }
        assert imported <= shared, f"{path.stem} imports {imported - shared}"
