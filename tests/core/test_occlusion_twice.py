"""occlusion.twice: what a lightmap or an occlusion map holds already is not to be dimmed again by what stands near in the frame."""

import numpy as np
import pytest

from eddyfall.core.bake.maps.run import bake
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.sweep import sweep
from eddyfall.demo.shapes import Shape, grid_charts
from light_rooms import MATT, looking
from scenes import Thing, build_of

SKY = {"ambient": True, **{name: [100.0] * 3 for name in ("zenith_rgb", "horizon_rgb", "ground_rgb")}}
OCCLUSION = {"enabled": True, "reach_m": 4.0, "slices": 6, "steps": 16}


def trench(material=None, lightmap=True, images=(), **setup):
    """A trench between two high walls under an even sky: its floor gets less than half of it."""
    floor = Shape().quad((-0.6, 0, 3), (1.2, 0, 0), (0, 0, -6))
    grey = Material("grey", (0.5, 0.5, 0.5, 1), **MATT)
    black = Material("black", (0.0, 0.0, 0.0, 1), **MATT)
    return build_of(
        Thing("floor", floor, material or grey, lightmap=grid_charts(floor)),
        Thing("left", Shape().quad((-0.6, 0, 3), (0, 0, -6), (0, 2, 0)), black),
        Thing("right", Shape().quad((0.6, 0, -3), (0, 0, 6), (0, 2, 0)), black), images=images,
        setup={
            "viewpoints": {"eye": looking((0, 3.2, 3.4), (0, 0, -0.5))}, "sky": SKY, "depth": {"copy_from": "opaque"},
            "meshes": {"floor": {"lightmap_uv": 1}} if lightmap else {}, "bake": {"resolution": 32, "samples": 128, "bounces": 1}, **setup,
        },
    )  # fmt: skip


def found_in(build):
    return [f for f in sweep(build).findings if f.code == "occlusion.twice"]


def test_a_lightmap_that_holds_the_hollow_is_not_dimmed_again():
    (twice,) = found_in(bake(trench(occlusion={**OCCLUSION, "applies_to": "indirect"})).build)
    assert twice.suspicion.subjects == ("floor",) and twice.suspicion.value > 0.5 and "its lightmap" in twice.suspicion.title
    assert {r.change.title: r.verdict for r in twice.remedies}["occlusion leaves lightmaps alone"] == "cures"
    assert found_in(bake(trench(occlusion={**OCCLUSION, "applies_to": "sky"})).build) == []


def test_an_occlusion_map_and_the_pass_dim_the_same_floor():
    """The map holds what the walls leave of the sky at the floor's middle: sin of the half angle that is open, .6 / sqrt(.36 + 4) = .29."""
    open_to = round(0.29 * 255)
    images = (Image("ao", freeze(np.full((4, 4, 4), (open_to, open_to, open_to, 255), np.uint8))),)
    use = TextureUse(0, "repeat", "repeat", True, 0)
    mapped = Material("mapped", (0.5, 0.5, 0.5, 1), occlusion_texture=use, **MATT)
    (twice,) = found_in(trench(mapped, lightmap=False, images=images, occlusion=OCCLUSION))
    assert "its occlusion map" in twice.suspicion.title and twice.suspicion.value > 0.5
    assert [r.verdict for r in twice.remedies if r.change.title == "occlusion off"] == ["cures"]
    assert found_in(trench(mapped, lightmap=False, images=images)) == []
    assert found_in(trench(lightmap=False, occlusion=OCCLUSION)) == [], "one of them alone is no fault"
    assert twice.suspicion.evidence[1].value == pytest.approx(0.0, abs=0.25)
