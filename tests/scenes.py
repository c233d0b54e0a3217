"""Builds of a few triangles for tests: things by name, one node each, and a setup in plain numbers (no exposure, no sky)."""

import copy
import json
import struct
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from eddyfall.core.hashing import freeze
from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Image, Light, Material, Mesh, Node, Primitive, Scene
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo.shapes import Shape

GREY = Material("grey", base_rgba=(0.5, 0.5, 0.5, 1.0), metallic=0.0, ior=1.0)


@dataclass
class Thing:
    """A node with a mesh of one or more parts; lightmap (n, 2) is the TEXCOORD_1 of its only part."""

    name: str
    shape: Shape
    material: Material = GREY
    place: tuple[float, float, float] = (0.0, 0.0, 0.0)
    lightmap: np.ndarray | None = None
    more_parts: list[tuple[Shape, Material, np.ndarray | None]] = field(default_factory=list)


def flat(name: str, value: float | tuple[float, float, float], **fields: Any) -> Material:
    """An unlit material: its radiance is its colour."""
    rgb = (value, value, value) if isinstance(value, float) else value
    return Material(name, base_rgba=(*rgb, fields.pop("alpha", 1.0)), unlit=True, metallic=0.0, **fields)


def wall(z: float, *, half: float = 500.0, x0: float | None = None, x1: float | None = None) -> Shape:
    """A rectangle square to -z at depth z, its front towards the origin."""
    left, right = (-half if x0 is None else x0), (half if x1 is None else x1)
    return Shape().quad((left, -half, -z), (right - left, 0, 0), (0, 2 * half, 0))


def floor(y: float, *, near: float = 0.0, far: float = 100.0, half: float = 50.0) -> Shape:
    """A level rectangle that faces up."""
    return Shape().quad((-half, y, -near), (2 * half, 0, 0), (0, 0, near - far))


def scene_of(
    *things: Thing, images: tuple[Image, ...] = (), lamps: tuple[tuple[Light, tuple[float, float, float]], ...] = ()
) -> Scene:
    """A scene of things and of lamps at places."""
    materials: dict[str, Material] = {}
    meshes, nodes = [], []
    for thing in things:
        parts: list[Primitive] = []
        for shape, material, lightmap in [(thing.shape, thing.material, thing.lightmap), *thing.more_parts]:
            materials.setdefault(material.name, material)
            parts.append(shape.primitive(list(materials).index(material.name), lightmap))
        matrix = np.eye(4)
        matrix[:3, 3] = thing.place
        nodes.append(Node(thing.name, freeze(matrix), mesh=len(meshes)))
        meshes.append(Mesh(thing.name, tuple(parts)))
    for i, (light, place) in enumerate(lamps):
        matrix = np.eye(4)
        matrix[:3, 3] = place
        nodes.append(Node(light.name, freeze(matrix), light=i))
    return Scene(tuple(meshes), tuple(nodes), tuple(materials.values()), images, tuple(light for light, _ in lamps))


def build_of(*things: Thing, setup: dict[str, Any] | None = None, images: tuple[Image, ...] = (), lamps: Any = ()) -> Build:
    """A build; `setup` is laid over a view along -z from the origin, with no exposure and no light of the sky. Things with lightmap
    UVs are lightmapped by them."""
    raw: dict[str, Any] = {
        "eddyfall_setup": 1,
        "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 20}},
    }
    mapped = {thing.name: {"lightmap_uv": 1} for thing in things if thing.lightmap is not None}
    raw = merged(merged(raw, {"meshes": mapped} if mapped else {}), setup or {})
    return finish_build(scene_of(*things, images=images, lamps=lamps), parse_setup(raw), raw, [])


def merged(base: dict[str, Any], over: dict[str, Any]) -> dict[str, Any]:
    """`over` laid over `base`; viewpoints are replaced whole."""
    result = copy.deepcopy(base)
    for key, value in over.items():
        nested = isinstance(value, dict) and isinstance(result.get(key), dict) and key != "viewpoints"
        result[key] = merged(result[key], value) if nested else copy.deepcopy(value)
    return result


def write_build(build: Build, folder: Path, name: str = "scene", with_setup: bool = True) -> Path:
    """GLB (and setup) of a build on disk."""
    path = folder / f"{name}.glb"
    path.write_bytes(write_glb(build.scene))
    if with_setup:
        (folder / f"{name}.setup.json").write_text(json.dumps(build.raw_setup))
    return path


def glb_bytes(document: dict[str, Any] | bytes, binary: bytes = b"") -> bytes:
    """A GLB of a JSON document and a binary chunk, without any check."""
    text = document if isinstance(document, bytes) else json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    body = struct.pack("<II", len(text), 0x4E4F534A) + text
    if binary:
        body += struct.pack("<II", len(binary), 0x004E4942) + binary
    return struct.pack("<4sII", b"glTF", 2, 12 + len(body)) + body


def glb_parts(data: bytes) -> tuple[dict[str, Any], bytes]:
    """(JSON, binary chunk) of a GLB of ours."""
    length = struct.unpack_from("<I", data, 12)[0]
    return json.loads(data[20 : 20 + length]), data[28 + length :]


# The net of the worked case of netting that looks see-through: green .30, fog .66 at .03 a metre, 12 m away before a wall at
# 12.6 m, a bank at 85 m, and the sky.
FOGGED: dict[str, Any] = {
    "fog": {"enabled": True, "fog_per_m": 0.03, "rgb": [0.66, 0.66, 0.66]},
    "depth": {"near_m": 0.05},
    "sky": {"zenith_rgb": [0.1, 0.1, 0.9], "horizon_rgb": [0.1, 0.1, 0.9], "ground_rgb": [0.1, 0.1, 0.9], "ambient": False},
    "shaders": {"net": {"passes": {"depth": False}}},
    "materials": {"rope": {"shader": "net"}},
    "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 4}},
}


def net_build(**changed: Any) -> Build:
    """Net over wall (left third), bank (middle third) and sky (right third); the wall and bank keep a strip of their own above."""
    net = Shape().quad((-1.0, -0.2, -12.0), (2.0, 0, 0), (0, 0.4, 0))
    return build_of(
        Thing("fender_net", net, flat("rope", 0.30)),
        Thing("quay_wall", wall(12.6, x0=-6.0, x1=-0.25), flat("stone", 0.5)),
        Thing("far_bank", wall(85.0, x0=-40.0, x1=1.6), flat("grass", 0.2)),
        setup=merged(FOGGED, changed),
    )
