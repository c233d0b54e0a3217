"""Panes, slabs and what stands behind them: scenes whose light through glass is worked out by hand."""

import math

from eddyfall.core.scene.model import Material
from eddyfall.demo.shapes import Shape
from layer_scenes import EXACT, card, unlit
from scenes import Thing, build_of

CLEAR = {"metallic": 0.0, "roughness": 0.0, "transmission": 1.0, "double_sided": True}
FRONT = {"eye": {"eye": [0, 1.6, 0], "target": [0, 1.6, -1], "fov_y_deg": 55}}


def clear(name="clear", rgb=(1.0, 1.0, 1.0), **more):
    """Glass of index 1.5, smooth and white."""
    return Material(name, (*rgb, 1.0), **{**CLEAR, **more})


def pane(name, z, material, x=(-1.0, 1.0), y=(0.6, 2.6)):
    """A pane that faces the eye."""
    return card(name, x, y, z, material)


def behind_panes(*things, bank=0.5, refract=None, views=FRONT, images=(), **setup):
    """Things before a bank of so many nits 12 m off, unlit by anything."""
    return build_of(
        card("bank", (-30, 30), (-20, 22), -12.0, unlit("bank", bank)),
        *things,
        images=images,
        setup={"viewpoints": views, "refract": {"enabled": True, **(refract or {})}, **EXACT, **setup},
    )


def two_panes(refract=None, bank=0.5, **setup):
    """A pane before another, one a little to the side, so that each is also seen by itself."""
    return behind_panes(
        pane("near_pane", -2.0, clear("near glass")), pane("far_pane", -3.0, clear("far glass"), x=(-0.5, 2.0)),
        bank=bank, refract=refract, **setup,
    )  # fmt: skip


def slab_at_45(thickness_m=0.01, distance_m=2.0):
    """A slab turned by 45 degrees, met at its middle 2 m from the eye; the bank has an edge behind."""
    s = math.sqrt(0.5)
    shape = Shape().quad((-s * 0.5, 1.1, -distance_m - s * 0.5), (s, 0, s), (0, 1, 0))
    glass = clear("slab glass", thickness_m=thickness_m)
    return behind_panes(Thing("slab", shape, glass), views={"eye": {"eye": [0, 1.6, 0], "target": [0, 1.6, -1], "fov_y_deg": 60}})


def pane_and_mist(**setup):
    """A pane, a card of mist behind it and one before it."""
    return behind_panes(
        pane("pane", -2.0, clear()), card("mist", (-1, 1), (0.6, 2.6), -4.0, unlit("mist", 0.9, 0.5)),
        card("near_mist", (-0.1, 0.1), (1.5, 1.7), -1.5, unlit("near mist", 0.2, 0.5)), **setup,
    )  # fmt: skip
