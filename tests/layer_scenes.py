"""Blended scenes whose layers are worked out by hand: a mist card and a card that cuts what lies behind it, crossing cards, slats."""

import numpy as np

from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

EXACT = {"exposure": {"mode": "off"}, "sky": {"ambient": False}, "shadow": {"enabled": False}}
AHEAD = {"viewpoints": {"eye": {"eye": [0, 1.5, 0], "target": [0, 1.5, -1], "fov_y_deg": 55}}}


def unlit(name, nits, alpha=1.0, **more):
    """A material that shows so many nits, whatever lights it; alpha below 1 is blended."""
    rgb = (nits,) * 3 if isinstance(nits, float | int) else nits
    return Material(name, (*rgb, alpha), unlit=True, alpha_mode="BLEND" if alpha < 1 else "OPAQUE", double_sided=True, **more)


def card(name, x, y, z, material):
    """A card that faces +z, x and y from .. to."""
    return Thing(name, Shape().quad((x[0], y[0], z), (x[1] - x[0], 0, 0), (0, y[1] - y[0], 0)), material)


def mist_and_cutter(at=0.0, more=(), **setup):
    """A backdrop of .2 nit, a mist card of .8 and alpha .5, before it a card that cuts 70 % of what lies behind; the eye at x = at."""
    return build_of(
        card("backdrop", (-20, 20), (-10, 12), -8.0, unlit("backdrop", 0.2)),
        card("mist", (-1.5, 1.5), (0.5, 2.5), -4.0, unlit("mist", 0.8, 0.5)),
        card("cutter", (0.75, 2.25), (0.75, 2.25), -3.6, unlit("cutter", 0.0, 0.7)), *more,
        setup={
            "viewpoints": {"eye": {"eye": [at, 1.6, 0.0], "target": [at, 1.6, -1.0], "fov_y_deg": 55}},
            "materials": {"cutter": {"blend": "destination_out"}}, "order": {"key": "range"}, **EXACT, **setup,
        },
    )  # fmt: skip


def seen_from(eye, target, *things, **setup):
    """Things that are seen by themselves, on black."""
    views = {"eye": {"eye": list(eye), "target": list(target), "fov_y_deg": 55}}
    black = card("black", (-50, 50), (-50, 50), -30.0, unlit("black", 0.0))
    return build_of(black, *things, setup={"viewpoints": views, **EXACT, **setup})


def slats():
    """Three slats in a ring, each over the next: whatever is drawn first, one pair is wrong."""
    things = []
    for name, degrees, rgb in (("red", 90, (1, 0, 0)), ("green", 210, (0, 1, 0)), ("blue", 330, (0, 0, 1))):
        c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
        middle, along, across = np.array([0.4 * c, 1.5 + 0.4 * s, -4]), 2 * np.array([-s, c, 0.2]), 0.3 * np.array([c, s, 0])
        things.append(Thing(name, Shape().quad(middle - along / 2 - across / 2, across, along), unlit(name, rgb, 0.5)))
    return seen_from((0, 1.5, 0), (0, 1.5, -1), *things)


def ring_of(n):
    """So many slats in a ring, each over its next neighbour alone."""
    things, radius, rng = [], 0.9, np.random.default_rng(3)
    for k in range(n):
        c, s = np.cos(2 * np.pi * k / n), np.sin(2 * np.pi * k / n)
        along = np.array([-s, c, 0.25]) / np.hypot(1, 0.25) * 3.4 * radius * np.tan(np.pi / n)
        across, middle = 0.3 * np.array([c, s, 0]), np.array([radius * c, 1.5 + radius * s, -4])
        rgb = tuple(float(v) for v in rng.uniform(0, 1, 3))
        things.append(
            Thing(f"slat_{k}", Shape().quad(middle - along / 2 - across / 2, across, along), unlit(f"slat_{k}", rgb, 0.5))
        )
    return seen_from((0, 1.5, 0), (0, 1.5, -1), *things)


def crossing_cards():
    """Two cards that cross along a line down the middle."""
    red = Shape().quad((-1, 0.5, -5), (2, 0, 2), (0, 2, 0))
    green = Shape().quad((-1, 0.5, -3), (2, 0, -2), (0, 2, 0))
    return seen_from(
        (0, 1.5, 0),
        (0, 1.5, -1),
        Thing("red", red, unlit("red", (1, 0, 0), 0.5)),
        Thing("green", green, unlit("green", (0, 1, 0), 0.5)),
    )


def box_of_six_colours():
    """A box of one mesh with vertex order +X -X +Y -Y +Z -Z, each face of a colour of its own, blended."""
    colours = ((1, 0, 0), (0, 1, 0), (0, 0, 1), (1, 1, 0), (0, 1, 1), (1, 0, 1))
    x, y, z, h = 0.0, 1.5, -4.0, 0.5
    faces = (
        ((x + h, y - h, z + h), (0, 0, -1), (0, 1, 0)), ((x - h, y - h, z - h), (0, 0, 1), (0, 1, 0)),
        ((x - h, y + h, z + h), (1, 0, 0), (0, 0, -1)), ((x - h, y - h, z - h), (1, 0, 0), (0, 0, 1)),
        ((x - h, y - h, z + h), (1, 0, 0), (0, 1, 0)), ((x + h, y - h, z - h), (-1, 0, 0), (0, 1, 0)),
    )  # fmt: skip
    shape = Shape()
    for k, face in enumerate(faces):
        shape.quad(*face)
        shape.uvs[-1] = np.full((4, 2), [(k + 0.5) / 6, 0.5])
    picture = Image("colours", freeze(np.array([[(*(255 * c for c in rgb), 128) for rgb in colours]], np.uint8)))
    painted = Material("painted", base_texture=TextureUse(0), unlit=True, alpha_mode="BLEND", double_sided=True)
    black = card("black", (-50, 50), (-50, 50), -30.0, unlit("black", 0.0))
    views = {"eye": {"eye": [1.2, 2.4, 0], "target": [0, 1.5, -4], "fov_y_deg": 55}}
    return build_of(black, Thing("box", shape, painted), images=(picture,), setup={"viewpoints": views, **EXACT})


def two_sheets(writes="drawn", front_rank=-1, front=None, **more):
    """A backdrop of .2 nit, a sheet of .8 (alpha .5), nearer one of .1 (alpha .5) that is drawn first."""
    return build_of(
        card("backdrop", (-30, 30), (-20, 20), -12.0, unlit("backdrop", 0.2)),
        card("far", (-1, 1), (0.5, 2.5), -6.0, unlit("far", 0.8, 0.5)),
        card("near", (-1, 1), (0.5, 2.5), -4.0, front or unlit("near", 0.1, 0.5)),
        setup={**AHEAD, **EXACT, "materials": {"near": {"writes_depth": writes}}, "nodes": {"near": {"draw_rank": front_rank}}, **more},
    )  # fmt: skip
