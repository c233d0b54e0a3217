"""A scene of a few triangles with one of everything: for warming kernels, and as a fixture to build tests on."""

from typing import Any

import numpy as np

from eddyfall.core.hashing import freeze
from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import Image, Light, Material, Mesh, Node, Scene, TextureUse
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo.shapes import Shape, grid_charts

SETUP: dict[str, Any] = {
    "eddyfall_setup": 1,
    "depth": {"near_m": 0.1},
    "shadow": {"reach_m": 12, "resolution": 128, "light_resolution": 64},
    "sky": {"zenith_rgb": [0.2, 0.3, 0.6], "horizon_rgb": [0.6, 0.6, 0.7], "ground_rgb": [0.1, 0.1, 0.1]},
    "fog": {"enabled": True, "fog_per_m": 0.03, "rgb": [0.6, 0.6, 0.7]},
    "lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [0.4, 1.0, 0.5]}, "lamp": {"casts": True}},
    "viewpoints": {"front": {"eye": [0.5, 1.6, 6.0], "target": [0.0, 1.0, 0.0], "fov_y_deg": 60}},
    "shaders": {"bare": {"passes": {"depth": False}}},
    "materials": {"mesh_cloth": {"shader": "bare"}},
    "meshes": {"rail": {"lightmap_uv": 1, "copies": {"run": {"kind": "array", "count": 2, "step_m": [1, 0, 0]}}}},
    "roles": {"play": {}, "edit": {"set": {"depth": {"copy_from": "opaque"}}}},
}


def tiny_build() -> Build:
    """Floor with a coincident mat, a cloth cut out of the prepass, a pane, a rail of copies on one chart, sun and lamp."""
    rng = np.random.default_rng(7)
    picture = rng.integers(40, 220, (16, 16, 4)).astype(np.uint8)
    picture[..., 3] = np.where(np.indices((16, 16)).sum(axis=0) % 4 < 3, 255, 0)
    materials = (
        Material("ground", base_rgba=(0.5, 0.5, 0.5, 1.0), base_texture=TextureUse(0), metallic=0.0),
        Material("mesh_cloth", base_texture=TextureUse(0), metallic=0.0, alpha_mode="MASK", double_sided=True),
        Material(
            "pane", base_rgba=(0.2, 0.4, 0.6, 0.5), alpha_mode="BLEND", normal_texture=TextureUse(0, nearest=True), metallic=0.0
        ),
        Material("paint", base_rgba=(0.6, 0.2, 0.1, 1.0), emissive=(0.1, 0.0, 0.0), metallic=0.5),
    )
    rail = Shape().box((-0.4, 0, -3), (0.4, 0.6, -2.8))
    shapes = {
        "floor": (Shape().quad((-6, 0, 5), (12, 0, 0), (0, 0, -30)), 0, None),
        "mat": (Shape().quad((-2, 0, 2), (1, 0, 0), (0, 0, -1)), 3, None),
        "cloth": (Shape().quad((-0.6, 0.4, 1), (1.4, 0, 0), (0, 1.2, 0)), 1, None),
        "pane": (Shape().quad((0.8, 0.3, 0.5), (1, 0, 0), (0, 1.2, 0)), 2, None),
        "far_block": (Shape().box((-1, 0, -16), (1, 3, -15)), 3, None),
        "rail": (rail, 3, grid_charts(rail)),
    }
    meshes = tuple(Mesh(name, (shape.primitive(material, charts),)) for name, (shape, material, charts) in shapes.items())
    lamp = np.eye(4)
    lamp[:3, 3] = (1.0, 3.0, 2.0)
    nodes = (*(Node(name, freeze(np.eye(4)), mesh=i) for i, name in enumerate(shapes)), Node("lamp", freeze(lamp), light=0))
    scene = Scene(meshes, nodes, materials, (Image("speckle", freeze(picture)),), (Light("lamp", "point", intensity=4.0),))
    return finish_build(scene, parse_setup(SETUP), SETUP, [])
