"""Rooms whose light is worked out by hand: a shining wall beside a floor, and a polished panel before a shining door."""

import math

from eddyfall.core.scene.model import Material
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

MATT = {"metallic": 0.0, "ior": 1.0}
FRAME = (960, 540)
SPOT = (3.0, 0.0, 6.0)


def glow(name, nits):
    return Material(name, (0, 0, 0, 1), emissive=(nits,) * 3, **MATT)


def looking(eye, target, fov=55.0):
    return {"eye": list(eye), "target": list(target), "fov_y_deg": fov}


def turned(eye, degrees):
    """From an eye towards -x, turned to the side."""
    return looking(eye, (eye[0] - math.cos(math.radians(degrees)), eye[1], eye[2] + math.sin(math.radians(degrees))))


VIEWS = {
    "turned 30": turned((9.0, 1.6, 6.0), 30), "turned 42": turned((9.0, 1.6, 6.0), 42),
    "near": looking((6.0, 1.6, 6.0), SPOT), "before the wall": looking((1.5, 1.6, 6.0), SPOT),
    "level": turned((6.0, 1.6, 6.0), 0),
}  # fmt: skip


def shining_hall(*more, **setup):
    """A shining wall of 1400 lm/m2 beside a floor under a sun of 40 lx: at SPOT 168.7 lx of 208.7 come from it (a view factor of .12048,
    by the polygon formula of Lambert 1760)."""
    return build_of(
        Thing("wall", Shape().quad((0, 0, 9.6), (0, 0, -7.2), (0, 3, 0)), glow("wall", 1400 / math.pi)),
        Thing("floor", Shape().quad((0, 0, 12), (12, 0, 0), (0, 0, -12)), Material("floor", (0.5, 0.5, 0.5, 1), **MATT)), *more,
        setup={
            "viewpoints": VIEWS, "sky": {"ambient": False},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 40.0, "towards": [0, 1, 0]}},
            **setup,
        },
    )  # fmt: skip


def mirror_room(rough=0.0, z_door=5.999, eye=(0, 1.6, 3), more=(), **setup):
    """A polished panel, and behind the eye a door that shines."""

    def wall(name, *face):
        return Thing(name, Shape().quad(*face), Material(name, (0.5, 0.5, 0.5, 1), **MATT))

    return build_of(
        wall("floor", (-4, 0, 6), (8, 0, 0), (0, 0, -6)), wall("ceiling", (-4, 3, 0), (8, 0, 0), (0, 0, 6)),
        wall("back", (4, 0, 6), (-8, 0, 0), (0, 3, 0)), wall("front", (-4, 0, 0), (8, 0, 0), (0, 3, 0)),
        wall("left", (-4, 0, 6), (0, 0, -6), (0, 3, 0)), wall("right", (4, 0, 0), (0, 0, 6), (0, 3, 0)),
        Thing("panel", Shape().quad((-2, 0.4, 0.001), (4, 0, 0), (0, 2, 0)), Material("brass", metallic=1.0, roughness=rough)),
        Thing("door", Shape().quad((3.1, 0, z_door), (-1.2, 0, 0), (0, 2.2, 0)), glow("door", 100)), *more,
        setup={"viewpoints": {"eye": looking(eye, (eye[0], 1.6, 0))}, "sky": {"ambient": False}, **setup},
    )  # fmt: skip
