"""What a glTF file says, as immutable values. Units and axes are glTF's: metres, +Y up, UV origin top left."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np

from eddyfall.core.hashing import digest

AlphaMode = Literal["OPAQUE", "MASK", "BLEND"]
Wrap = Literal["repeat", "mirror", "clamp"]
Turn = tuple[float, float, float, float, float, float]
STRAIGHT: Turn = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0)


@dataclass(frozen=True)
class Image:
    """A decoded picture: `pixels` uint8 (height, width, 4), straight alpha, as stored (not linearised).

    `wide` holds the uint16 codes (height, width, 4) of a 16-bit PNG, of which `pixels` are then the upper bytes."""

    name: str
    pixels: np.ndarray
    wide: np.ndarray | None = None


@dataclass(frozen=True)
class SkyPicture:
    """An equirectangular picture of a whole sky: radiance (h, w, 3) float32, linear, -Z in the middle; half: it was stored in half
    floats, which end at 65504."""

    name: str
    radiance: np.ndarray
    half: bool = False


def turned_by(turn: Sequence[float] | np.ndarray, uv: np.ndarray) -> np.ndarray:
    """Coordinates (..., 2) turned by six numbers, as `TextureUse.turn` has them."""
    a, b, c, d, e, f = (float(v) for v in turn)
    u, v = uv[..., 0], uv[..., 1]
    return np.stack([a * u + b * v + c, d * u + e * v + f], axis=-1).astype(uv.dtype)


@dataclass(frozen=True)
class TextureUse:
    """How a material samples an image: wrap per axis, filter, which UV set, and what is done to its coordinates first: turn, the rows
    (a, b, c, d, e, f) of u' = a u + b v + c, v' = d u + e v + f (KHR_texture_transform)."""

    image: int
    wrap_u: Wrap = "repeat"
    wrap_v: Wrap = "repeat"
    nearest: bool = False
    uv_set: int = 0
    turn: Turn = STRAIGHT

    def turned(self, uv: np.ndarray) -> np.ndarray:
        """Coordinates (..., 2) as the picture is read at."""
        return uv if self.turn == STRAIGHT else turned_by(self.turn, uv)


@dataclass(frozen=True)
class Gloss:
    """What a material says by KHR_materials_pbrSpecularGlossiness, and by nothing else: diffuse_rgba and specular_rgb (F0) linear,
    glossiness 0 to 1, their pictures (the second: specular in sRGB, gloss in alpha)."""

    diffuse_rgba: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    specular_rgb: tuple[float, float, float] = (1.0, 1.0, 1.0)
    glossiness: float = 1.0
    diffuse_texture: TextureUse | None = None
    specular_texture: TextureUse | None = None


@dataclass(frozen=True)
class Material:
    """glTF metallic-roughness material. `base_rgba` linear; `emissive` linear times strength, nits; transmission: share of the light that
    is not mirrored which goes through (KHR_materials_transmission); of its light white at 0, attenuation_rgb is left after attenuation_m
    (KHR_materials_volume); specular, specular_rgb: what the mirror of what is no metal is multiplied by (KHR_materials_specular);
    clearcoat: share of it that lies under a clear coat, times the red of its texture, and how rough that is, times the green of its
    (KHR_materials_clearcoat)."""

    name: str
    base_rgba: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    base_texture: TextureUse | None = None
    metallic: float = 1.0
    roughness: float = 1.0
    metallic_roughness_texture: TextureUse | None = None
    normal_texture: TextureUse | None = None
    normal_scale: float = 1.0
    emissive: tuple[float, float, float] = (0.0, 0.0, 0.0)
    emissive_texture: TextureUse | None = None
    alpha_mode: AlphaMode = "OPAQUE"
    alpha_cutoff: float = 0.5
    double_sided: bool = False
    unlit: bool = False
    ior: float = 1.5
    occlusion_texture: TextureUse | None = None
    occlusion_strength: float = 1.0
    transmission: float = 0.0
    transmission_texture: TextureUse | None = None
    thickness_m: float = 0.0
    thickness_texture: TextureUse | None = None
    attenuation_m: float = math.inf
    attenuation_rgb: tuple[float, float, float] = (1.0, 1.0, 1.0)
    specular: float = 1.0
    specular_rgb: tuple[float, float, float] = (1.0, 1.0, 1.0)
    gloss: Gloss | None = None
    clearcoat: float = 0.0
    clearcoat_texture: TextureUse | None = None
    clearcoat_roughness: float = 0.0
    clearcoat_roughness_texture: TextureUse | None = None
    clearcoat_normal_texture: TextureUse | None = None
    clearcoat_normal_scale: float = 1.0

    @property
    def coated(self) -> bool:
        """Whether it lies under a clear coat."""
        return self.clearcoat > 0 and not self.unlit

    @property
    def every_use(self) -> dict[str, TextureUse | None]:
        """All its textures by what they are read for, those of its clear coat too."""
        return {
            **self.uses,
            "clear coat": self.clearcoat_texture,
            "clear coat roughness": self.clearcoat_roughness_texture,
            "clear coat normal": self.clearcoat_normal_texture,
        }

    @property
    def uses(self) -> dict[str, TextureUse | None]:
        """Its textures by what they are read for, but for those of its clear coat."""
        return {
            "base colour": self.base_texture,
            "metallic-roughness": self.metallic_roughness_texture,
            "normal": self.normal_texture,
            "emissive": self.emissive_texture,
            "occlusion": self.occlusion_texture,
            "transmission": self.transmission_texture,
            "thickness": self.thickness_texture,
        }


@dataclass(frozen=True)
class Primitive:
    """One material part of a mesh. `attributes` by glTF name (POSITION float32 (n, 3) ...), `indices` int32 (t, 3).

    `source_index` is its place among the file's primitives, which also counts those that were left out. `targets`: what is added to
    attributes (n, 3) for each unit of a morph weight. `variants`: (number of a variant, material it has in it)."""

    attributes: dict[str, np.ndarray]
    indices: np.ndarray
    material: int | None
    source_index: int = field(default=-1, metadata={"hashed": False})
    targets: tuple[dict[str, np.ndarray], ...] = ()
    variants: tuple[tuple[int, int], ...] = field(default=(), metadata={"hashed": False})

    @property
    def positions(self) -> np.ndarray:
        return self.attributes["POSITION"]

    @property
    def triangles(self) -> int:
        return len(self.indices)

    @property
    def has_own_lightmap_uv(self) -> bool:
        """Whether it has a TEXCOORD_1 that is not just a copy of TEXCOORD_0."""
        a = self.attributes
        return "TEXCOORD_1" in a and ("TEXCOORD_0" not in a or not np.array_equal(a["TEXCOORD_0"], a["TEXCOORD_1"]))


@dataclass(frozen=True)
class Mesh:
    name: str
    primitives: tuple[Primitive, ...]


@dataclass(frozen=True)
class Node:
    """A node with its matrix relative to its parent (4x4 float64, column vectors); weights of its mesh's morph targets; instance: one of
    many by which its parent shows its mesh."""

    name: str
    matrix: np.ndarray
    parent: int | None = None
    mesh: int | None = None
    light: int | None = None
    camera: int | None = None
    skin: int | None = None
    weights: tuple[float, ...] = ()
    instance: bool = False


@dataclass(frozen=True)
class Skin:
    """Joints, by node number, with their inverse bind matrices (j, 4, 4) float64: from a mesh's space to each joint's."""

    name: str
    joints: tuple[int, ...]
    inverse: np.ndarray


@dataclass(frozen=True)
class Light:
    """KHR_lights_punctual: intensity in lux (directional) or candela (point, spot); shines along local -Z."""

    name: str
    kind: Literal["directional", "point", "spot"]
    rgb: tuple[float, float, float] = (1.0, 1.0, 1.0)
    intensity: float = 1.0
    range_m: float = 0.0
    inner_cone_rad: float = 0.0
    outer_cone_rad: float = 0.7853981633974483


@dataclass(frozen=True)
class Camera:
    """Perspective camera; far_m None is infinite."""

    name: str
    fov_y_rad: float
    near_m: float
    far_m: float | None = None


@dataclass(frozen=True)
class Source:
    """The file as it came: its JSON and buffers (n,) uint8, so that what we do not model survives a rewrite; outside: bytes of pictures
    that came in files of their own, by number."""

    json: dict[str, Any]
    buffers: tuple[np.ndarray, ...]
    raw: bytes | None = None
    outside: dict[int, bytes] = field(default_factory=dict)


@dataclass(frozen=True)
class Scene:
    """All of one glTF file that Eddyfall reads. `notes` says what was left out and why; missing: numbers of pictures that are not there;
    variants: names of what its materials may be changed to together; levels: of nodes that have several of detail."""

    meshes: tuple[Mesh, ...] = ()
    nodes: tuple[Node, ...] = ()
    materials: tuple[Material, ...] = ()
    images: tuple[Image, ...] = ()
    lights: tuple[Light, ...] = ()
    cameras: tuple[Camera, ...] = ()
    skies: tuple[SkyPicture, ...] = ()
    skins: tuple[Skin, ...] = ()
    clips: tuple[Any, ...] = ()
    notes: tuple[str, ...] = field(default=(), metadata={"hashed": False})
    source: Source | None = field(default=None, metadata={"hashed": False})
    missing: tuple[int, ...] = field(default=(), metadata={"hashed": False})
    variants: tuple[str, ...] = field(default=(), metadata={"hashed": False})
    levels: tuple[Any, ...] = field(default=(), metadata={"hashed": False})

    @cached_property
    def content_hash(self) -> str:
        return digest(self)

    @cached_property
    def mesh_keys(self) -> tuple[str, ...]:
        return unique_keys(m.name for m in self.meshes)

    @cached_property
    def node_keys(self) -> tuple[str, ...]:
        return unique_keys(n.name for n in self.nodes)

    @cached_property
    def node_number(self) -> dict[str, int]:
        """Index of each node by its key."""
        return {key: i for i, key in enumerate(self.node_keys)}

    @cached_property
    def material_keys(self) -> tuple[str, ...]:
        return unique_keys(m.name for m in self.materials)

    @cached_property
    def clip_keys(self) -> tuple[str, ...]:
        return unique_keys(c.name for c in self.clips)

    @cached_property
    def image_keys(self) -> tuple[str, ...]:
        return unique_keys(i.name for i in self.images)

    @cached_property
    def light_keys(self) -> tuple[str, ...]:
        """Lights are keyed by the node that carries them: one glTF light can stand in many places."""
        return tuple(self.node_keys[i] for i, n in enumerate(self.nodes) if n.light is not None)

    @cached_property
    def world_matrices(self) -> tuple[np.ndarray, ...]:
        """Node to world, 4x4 float64, parents applied."""
        world: list[np.ndarray | None] = [None] * len(self.nodes)
        for start in range(len(self.nodes)):
            chain = []
            index: int | None = start
            while index is not None and world[index] is None:
                chain.append(index)
                index = self.nodes[index].parent
            for i in reversed(chain):
                parent = self.nodes[i].parent
                above = np.eye(4) if parent is None else world[parent]
                world[i] = above @ self.nodes[i].matrix
        return tuple(w for w in world if w is not None)

    def with_mesh(self, index: int, mesh: Mesh) -> "Scene":
        """The scene with one mesh replaced; everything else is shared."""
        return replace(self, meshes=(*self.meshes[:index], mesh, *self.meshes[index + 1 :]))

    def with_node(self, index: int, node: Node) -> "Scene":
        """The scene with one node replaced; everything else is shared."""
        made = replace(self, nodes=(*self.nodes[:index], node, *self.nodes[index + 1 :]))
        old = self.nodes[index]
        same = (old.name, old.light) == (node.name, node.light)
        keys = ("mesh_keys", "material_keys", "image_keys", *(("node_keys", "node_number", "light_keys") if same else ()))
        made.__dict__.update({key: self.__dict__[key] for key in keys if key in self.__dict__})
        return made

    def with_image(self, image: Image) -> "Scene":
        """The scene with an image added, or put in the place of the one that has its name."""
        keys = self.image_keys
        if image.name in keys:
            index = keys.index(image.name)
            return replace(self, images=(*self.images[:index], image, *self.images[index + 1 :]))
        return replace(self, images=(*self.images, image))

    def with_sky(self, picture: SkyPicture) -> "Scene":
        """The scene with a sky picture added, or put in the place of the one that has its name."""
        names = [s.name for s in self.skies]
        if picture.name not in names:
            return replace(self, skies=(*self.skies, picture))
        index = names.index(picture.name)
        return replace(self, skies=(*self.skies[:index], picture, *self.skies[index + 1 :]))


def sky_named(skies: tuple[SkyPicture, ...], name: str) -> SkyPicture | None:
    """The sky picture of a name, if there is one."""
    return next((s for s in skies if s.name == name), None)


def vec3(values: Any) -> tuple[float, float, float]:
    """Three numbers as plain floats."""
    x, y, z = (float(v) for v in values)
    return x, y, z


def unique_keys(names: Any) -> tuple[str, ...]:
    """Keys for a table: the name if it is the first of its kind, else name#2, name#3 ...; unnamed ones are @index."""
    taken: set[str] = set()
    last: dict[
        str, int
    ] = {}  # by name: the number it was given last, so that a thousand of one name are not counted through each time
    keys = []
    for index, name in enumerate(names):
        key = base = name or f"@{index}"
        number = last.get(base, 1)
        while key in taken:
            number += 1
            key = f"{base}#{number}"
        last[base] = number
        taken.add(key)
        keys.append(key)
    return tuple(keys)
