"""A sheet over a floor in the sun: its shadow is worked out by hand."""

import math

import numpy as np

from eddyfall.core.scene.model import Light, Material
from eddyfall.demo.shapes import Shape
from layer_scenes import unlit
from scenes import Thing, build_of

SIZE = (96, 54)
FLOOR = Material("floor", (0.5, 0.5, 0.5, 1.0), metallic=0.0, ior=1.0)


def awning(through=None, alpha=0.5, rgb=(0.8, 0.2, 0.2), blend="blended", technique=None, count=1, lamp=False, **setup):
    """A floor in the sun, seen from the side, under a sheet (or more) of some alpha."""
    things = [Thing("floor", Shape().quad((-20, 0, 10), (40, 0, 0), (0, 0, -60)), FLOOR)]
    for k in range(count):
        things.append(
            Thing(f"awning_{k}", Shape().quad((-2, 3 + 0.2 * k, -6), (4, 0, 0), (0, 0, -4)), unlit(f"sheet {k}", rgb, alpha))
        )
    materials = {f"sheet {k}": {"blend": blend, "shadow_through": through, "double_sided": True} for k in range(count)}
    lamps = ((Light("lamp", "point", (1.0, 1.0, 1.0), 300.0), (0.0, 5.1, -8.0)),) if lamp else ()
    sun = {"sun": {"kind": "sun", "illuminance_lux": 2.0, "towards": [0.0, 1.0, 0.0], "technique": technique}}
    lights = {"lamp": {"casts": True, "technique": technique}} if lamp else sun
    return build_of(
        *things, lamps=lamps,
        setup={
            "viewpoints": {"eye": {"eye": [0, 1.5, 0], "target": [0, 0, -8], "fov_y_deg": 55}},
            "exposure": {"mode": "off"}, "sky": {"ambient": False}, "lights": lights, "materials": materials,
            "shadow": {"reach_m": 40.0, "cascades": 1, "resolution": 2048, "filter_px": 5}, **setup,
        },
    )  # fmt: skip


def row_column(frame, place):
    """The pixel that shows a place."""
    way = np.array(place) - np.array(frame.camera.eye)
    depth, right, up = -way @ frame.camera.axes[2], way @ frame.camera.axes[0], way @ frame.camera.axes[1]
    half = math.tan(frame.camera.fov_y_rad / 2)
    x = (right / depth / (half * frame.camera.aspect) * 0.5 + 0.5) * SIZE[0]
    y = (0.5 - up / depth / half * 0.5) * SIZE[1]
    return int(y), int(x)
