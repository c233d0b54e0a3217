"""Panes, slabs and what stands behind them: scenes whose light through glass is worked out by hand."""

import math

import numpy as np

from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Image, Material, TextureUse
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


def random_room(seed):
    """Boxes and cards of made-up materials, sensible or not, before a bank: glass of every kind, blended things, cutouts, fog."""
    g = np.random.default_rng(seed)
    images = tuple(Image(f"i{k}", freeze(g.integers(0, 256, (*g.integers(1, 9, 2), 4), np.uint8))) for k in range(3))

    def use():
        return TextureUse(int(g.integers(0, 3))) if g.random() < 0.4 else None

    def one_of(*values):
        return values[int(g.integers(len(values)))]

    things, entries = [card("bank", (-30, 30), (-20, 22), -12.0, unlit("bank", float(g.random())))], {}
    for k in range(int(g.integers(2, 8))):
        material = Material(
            f"m{k}", (*g.random(3), float(g.random())), metallic=one_of(0.0, 0.0, 1.0), roughness=float(g.random()),
            transmission=one_of(0.0, 0.5, 1.0), transmission_texture=use(), thickness_m=one_of(0.0, 0.01, 1.0), thickness_texture=use(),
            attenuation_m=one_of(0.01, 1.0, math.inf), attenuation_rgb=tuple(float(v) for v in g.choice([0, 0.5, 1], 3)),
            ior=one_of(0.0, 1.0, 1.33, 1.5, 2.4), alpha_mode=one_of("OPAQUE", "OPAQUE", "MASK", "BLEND"),
            double_sided=bool(g.random() < 0.6), unlit=bool(g.random() < 0.15), base_texture=use(),
        )  # fmt: skip
        entry = {
            "transmits": one_of(None, None, "none", "thin", "solid"), "thickness": one_of(None, "value", "map", "back_faces", "missing"),
            "inside": one_of("refract", "refract", "blend"), "hides": one_of(True, True, False), "rougher": one_of(0.0, 0.0, 0.4),
            "blend": one_of(None, None, None, "additive", "multiply", "destination_out", "premultiplied", "blended", "cutout"),
        }  # fmt: skip
        entries[f"m{k}"] = {name: value for name, value in entry.items() if value is not None}
        if g.random() < 0.5:
            low = g.uniform([-2, -1, -8], [1, 1, -0.5])
            shape = Shape().box(tuple(low), tuple(low + g.uniform(0.1, 2, 3)))
        else:
            shape = Shape().quad(
                tuple(g.uniform([-2, -1, -8], [1, 1, 0.5])), tuple(g.uniform(-2, 2, 3)), tuple(g.uniform(-2, 2, 3))
            )
        things.append(Thing(f"t{k}", shape, material))
    return build_of(
        *things, images=images,
        setup={
            "viewpoints": {"eye": {"eye": [0, 0.6, 0], "target": [0, 0.6, -1], "fov_y_deg": 60}}, "materials": entries,
            "refract": {"enabled": True, "layers": int(g.integers(1, 4)), "copy_from": one_of("opaque", "opaque", "none"),
                        "roughest": one_of(1.0, 0.5)},
            "order": {"method": one_of("sorted", "weighted", "list", "peeled"), "layers": int(g.integers(1, 5)), "key": "range"},
            "fog": {"enabled": bool(g.random() < 0.5), "fog_per_m": 0.05}, "depth": {"copy_from": one_of("opaque", "prepass", "none")},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 2.0, "towards": [0.3, 0.8, 0.6]}}, "sky": {"ambient": True},
        },
    )  # fmt: skip
