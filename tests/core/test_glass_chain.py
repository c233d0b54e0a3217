"""The chain that glass hangs by: each link broken by itself and with each other, what would make it hold, real glass beside it."""

from itertools import combinations

import numpy as np
import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Request
from eddyfall.core.hashing import freeze
from eddyfall.core.layers.chain import chain_at
from eddyfall.core.layers.glass_here import mended
from eddyfall.core.layers.links import LINKS
from eddyfall.core.layers.plates import plates
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.model import Image, TextureUse
from eddyfall.core.shade.optics import fresnel, slab, slab_shift, stacked
from eddyfall.demo.shapes import Shape
from glass_scenes import behind_panes, clear, pane, slab_at_45, two_panes
from scenes import GREY, Thing

SIZE = (240, 136)
AT = (120, 68)
EYE = Request("eye", SIZE)


def broken_at(*which):
    """A solid pane before a bank, with some of its links broken."""
    m = {"roughness": 0.1, "thickness_m": 0.03, "attenuation_m": 0.1, "attenuation_rgb": (0.6, 0.85, 0.8)}
    entry, refract, setup, more, rgb, grey = {"transmits": "solid"}, {}, {}, [], (1.0, 1.0, 1.0), 200
    if "file" in which:
        m["transmission"] = 0.0
    if "map here" in which:
        grey = 4
    if "material" in which:
        entry["transmits"] = "none"
    if "shader" in which:
        setup["shaders"] = {"stock_opaque": {"passes": {"refract": False}}}
    if "alpha mode" in which:
        entry["blend"] = "blended"
    if "project" in which:
        refract["enabled"] = False
    if "role" in which:
        setup["roles"] = {"play": {"set": {"refract": {"enabled": False}}}}
    if "copy taken" in which:
        refract["copy_from"] = "none"
    if "something behind in it" in which:
        more.append(pane("inner", -4.0, clear("inner glass")))
    if "thickness" in which:
        entry["thickness"] = "missing"
    if "tint" in which:
        rgb = (0.02, 0.01, 0.0)
    if "roughness" in which:
        refract["roughest"] = 0.05
    if "drawn" in which:
        setup["nodes"] = {"pane": {"drawn": False}}
    glass = clear("pane glass", rgb, transmission_texture=TextureUse(0), **m)
    picture = Image("lets", freeze(np.full((4, 4, 4), (grey, 0, 0, 255), np.uint8)))
    materials = {"pane glass": entry, **({"inner glass": {"shader": "inner"}} if more else {})}
    setup["shaders"] = {**setup.get("shaders", {}), **({"inner": {}} if more else {})}
    return behind_panes(pane("pane", -2.0, glass), *more, refract=refract, images=(picture,), materials=materials, **setup)


NAMES = (
    "file", "map here", "material", "shader", "alpha mode", "project", "role", "copy taken", "something behind in it", "thickness", "tint",
    "roughness", "drawn",
)  # fmt: skip


def test_a_whole_chain_holds(renderer):
    told = chain_at(renderer, broken_at(), EYE, *AT)
    assert tuple(link.name for link in told.links) == NAMES and len(LINKS) == 13
    assert not told.broken and told.behind[0].drawable == "bank" and told.behind[0].in_copy
    assert all(link.fix is None for link in told.links)


@pytest.mark.parametrize("name", NAMES)
def test_each_link_is_named_and_put_right(renderer, name):
    """What is offered for it makes the chain whole; what only another file can mend offers nothing."""
    build = broken_at(name)
    told = chain_at(renderer, build, EYE, *AT, subject="pane")
    assert [link.name for link in told.broken] == [name]
    (link,) = told.broken
    if name == "tint":
        assert link.fix is None and link.decides == "the scene file"
        return
    assert not chain_at(renderer, apply_change(build, mended(build, [link.fix])), EYE, *AT, subject="pane").broken


def test_every_two_links_are_both_named(renderer):
    """Roles decide over the project, so that what is off there is off whatever the project says: both are told."""
    for two in combinations(NAMES, 2):
        told = chain_at(renderer, broken_at(*two), EYE, *AT, subject="pane")
        assert [link.name for link in told.broken] == list(two)
        fixes = [link.fix for link in told.broken if link.fix]
        build = broken_at(*two)
        left = chain_at(renderer, apply_change(build, mended(build, fixes)), EYE, *AT, subject="pane")
        assert [link.name for link in left.broken] == [n for n in two if n == "tint"]


def test_a_picture_says_what_the_chain_says(renderer):
    """With a link broken nothing of the bank comes through, but where something else is merely lost."""
    for name in NAMES:
        if name in ("something behind in it", "drawn", "alpha mode"):
            continue
        build = broken_at(name)
        k = plates(renderer, build, EYE, [1]).k[AT[1], AT[0]]
        assert k.max() < 0.03, name
    whole = plates(renderer, broken_at(), EYE, [1]).k[AT[1], AT[0]]
    told = chain_at(renderer, broken_at(), EYE, *AT)
    np.testing.assert_allclose(whole, told.keeps, atol=2e-3)


def test_what_a_real_one_keeps_and_bends(renderer):
    """Series of all reflections inside: (1 - r) / (1 + r) for a clear pane, .923077 at r = .04 (Born and Wolf 7.6), and (1 - r) / (1 + 3 r)
    for two, .857143. A slab of 10 mm at 45 degrees bends by 1.53 px where it is drawn, and by .257 px in truth."""
    told = chain_at(renderer, two_panes(), EYE, *AT)
    np.testing.assert_allclose(told.keeps, 0.9216, atol=1e-4)
    np.testing.assert_allclose(told.due, 0.923077, atol=1e-5)
    r = fresnel(1.0, 1.5)
    assert r == pytest.approx(0.04) and float(stacked([slab(r), slab(r)])) == pytest.approx((1 - r) / (1 + 3 * r))
    assert slab_shift(0.01, np.sqrt(0.5), 1.5) == pytest.approx(0.003291423, abs=1e-9)
    bent = chain_at(renderer, slab_at_45(), Request("eye", (1920, 1080)), 960, 540)
    assert bent.bends_px == pytest.approx(1.531, abs=0.002) and bent.true_px == pytest.approx(0.257, abs=0.001)


def test_what_stands_before_it_hides_it(renderer):
    box = Thing("crate", Shape().box((-0.5, 1.1, -1.5), (0.5, 2.1, -1.2)), GREY)
    told = chain_at(renderer, behind_panes(box, pane("pane", -2.0, clear())), EYE, *AT)
    assert [link.value for link in told.broken] == ["hidden by crate"]


def test_where_there_is_no_glass_is_one_line(renderer):
    build = two_panes()
    for at, says in (((5, 5), "nothing that is meant to let light through"), ((240, 3), "outside the 240 x 136 frame")):
        with pytest.raises(RequestError, match=says):
            chain_at(renderer, build, EYE, *at)
    with pytest.raises(RequestError, match="far_pane does not lie at"):
        chain_at(renderer, build, EYE, 70, 68, subject="far_pane")
