"""What each material takes part in, as it declares and as hiding it shows, on the demo's builds and on one made for every cell."""

import pytest

from eddyfall.core.defects.pass_table import CONSUMERS, pass_table_of
from eddyfall.core.frame.render import Request
from eddyfall.demo.court import make_court
from eddyfall.demo.gallery import make_gallery
from eddyfall.demo.glasshouse import make_glasshouse
from eddyfall.demo.hall import make_hall
from eddyfall.demo.kiosk import make_kiosk
from eddyfall.demo.lantern_room import make_lantern_room
from eddyfall.demo.meter_house import make_meter_house
from eddyfall.demo.shapes import Shape
from eddyfall.demo.vinery import make_vinery
from eddyfall.demo.yard import make_yard
from glass_scenes import clear, pane
from layer_scenes import card, unlit
from scenes import GREY, Thing, build_of, flat


def cells(renderer, build, viewpoint="eye"):
    rows = pass_table_of(renderer, build, Request(viewpoint))
    return {(r.material, c.consumer): c for r in rows for c in r.cells}, rows


def yard(**setup):
    """A bank, a crate whose shader has no depth pass, a pane, a straight pane, mist, all in sight and fogged."""
    crate = Thing("crate", Shape().box((-1.6, 0.6, -5.5), (-0.9, 1.4, -5.0)), flat("crate", 0.3))
    lump = Thing("lump", Shape().box((0.9, 0.6, -5.5), (1.6, 1.4, -5.0)), GREY)
    return build_of(
        card("bank", (-30, 30), (-20, 22), -40.0, unlit("bank", 0.5)), crate, lump,
        pane("pane", -2.0, clear("glass"), x=(-0.5, 0.5)), pane("straight", -3.0, clear("straight glass", (0.5, 0.9, 0.9)), x=(0.6, 1.2)),
        card("mist", (-1.2, -0.6), (1.5, 2.2), -2.5, unlit("mist", 0.9, 0.5)),
        setup={
            "viewpoints": {"eye": {"eye": [0, 1.6, 0], "target": [0, 1.6, -1], "fov_y_deg": 55}},
            "refract": {"enabled": True}, "depth": {"copy_from": "prepass"}, "fog": {"enabled": True, "fog_per_m": 0.03},
            "shaders": {"hasty": {"passes": {"depth": False, "shadow": False}}},
            "materials": {"crate": {"shader": "hasty"}, "straight glass": {"inside": "blend"}},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 2.0, "towards": [0.2, 0.7, 0.6]}}, **setup,
        },
    )  # fmt: skip


def test_each_kind_of_thing_takes_part_as_it_declares(renderer):
    told, rows = cells(renderer, yard())
    assert all(len(r.cells) == len(CONSUMERS) and r.seen for r in rows) and not any(c.disagrees for c in told.values())
    want = {
        ("crate", "depth"): ("missing", False), ("crate", "shadow"): ("missing", False), ("crate", "fog"): ("mismatched", False),
        ("crate", "copy"): ("writes", True), ("grey", "depth"): ("writes", True), ("grey", "shadow"): ("writes", True),
        ("grey", "fog"): ("reads its own", True), ("glass", "depth"): ("not by its kind", False), ("glass", "fog"): ("mismatched", False),
        ("glass", "copy"): ("missing", False), ("straight glass", "copy"): ("writes", None), ("mist", "copy"): ("missing", False),
        ("mist", "depth"): ("not by its kind", False), ("mist", "fog"): ("reads its own", None), ("bank", "mirror"): ("off", None),
    }  # fmt: skip
    for key, (status, measured) in want.items():
        assert (told[key].status, told[key].measured) == (status, measured), key
    assert told["crate", "depth"].because == "shaders.hasty.passes.depth" == told["crate", "fog"].because


def test_a_copy_from_the_opaque_depth_mends_the_crate(renderer):
    told, _ = cells(renderer, yard(depth={"copy_from": "opaque"}))
    assert (told["crate", "fog"].status, told["crate", "fog"].measured) == ("reads its own", True)
    told, _ = cells(renderer, yard(depth={"copy_from": "none"}))
    assert told["grey", "fog"].status == "mismatched" and told["grey", "fog"].measured is False


@pytest.mark.long
@pytest.mark.parametrize(
    "make",
    [
        make_kiosk,
        make_vinery,
        make_lantern_room,
        make_glasshouse,
        make_meter_house,
        make_court,
        make_gallery,
        make_hall,
        make_yard,
    ],
)
def test_what_is_declared_is_what_hiding_shows_in_demo_builds(make, renderer):
    build = make()[0]
    told, _ = cells(renderer, build, next(iter(build.setup.viewpoints)))
    assert [key for key, c in told.items() if c.disagrees] == []


@pytest.mark.long
def test_what_is_declared_is_what_hiding_shows_on_the_river(demo, renderer):
    told, _ = cells(renderer, demo, "gallery" if "gallery" in demo.setup.viewpoints else next(iter(demo.setup.viewpoints)))
    assert [key for key, c in told.items() if c.disagrees] == []
    assert any(c.status == "mismatched" for c in told.values())
