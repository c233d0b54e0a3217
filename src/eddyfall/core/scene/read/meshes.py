"""Meshes of a glTF file: their parts as triangles, with every attribute checked."""

from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.clips import TARGETED
from eddyfall.core.scene.model import Mesh, Primitive, unique_keys
from eddyfall.core.scene.read import draco
from eddyfall.core.scene.read.accessors import index_into, objects, part_of, whole
from eddyfall.core.scene.read.claims import MAX_TRIANGLES
from eddyfall.core.scene.read.reading import Reading

FARTHEST_M = 1e7
VARIANTS = "KHR_materials_variants"
AS_FLOATS: dict[str, tuple[str, ...]] = {
    "POSITION": ("VEC3",), "NORMAL": ("VEC3",), "TANGENT": ("VEC4",), "TEXCOORD_0": ("VEC2",), "TEXCOORD_1": ("VEC2",),
    "COLOR_0": ("VEC3", "VEC4"),
}  # fmt: skip


def read_meshes(r: Reading, materials: int) -> tuple[Mesh, ...]:
    """Its meshes, by number; parts that are no triangles are left out."""
    meshes, triangles = [], 0
    for i, entry in enumerate(objects(r.doc, "meshes")):
        name = r.name(entry, f"mesh {i}")
        parts = []
        for j, part in enumerate(objects(entry, "primitives")):
            here = f"mesh {i} {name!r} part {j}"
            primitive = _primitive(r, part, here, materials, j)
            if primitive is not None:
                parts.append(primitive)
                triangles += primitive.triangles
        if triangles > MAX_TRIANGLES:
            raise SceneError(f"more than {MAX_TRIANGLES} triangles", f"mesh {i}")
        meshes.append(Mesh(name, tuple(parts)))
    return tuple(meshes)


def _primitive(r: Reading, entry: dict[str, Any], here: str, materials: int, number: int) -> Primitive | None:
    mode = whole(entry, "mode", here, default=4)
    if mode not in (4, 5, 6):
        r.notes.append(f"not drawn yet: {here} is made of points or lines")
        return None
    names = entry.get("attributes")
    if not isinstance(names, dict) or "POSITION" not in names:
        r.notes.append(f"left out: {here} has no POSITION")
        return None
    packed = draco.unpacked(r, entry, here)
    attributes: dict[str, np.ndarray] = {}
    for key, index in sorted(names.items(), key=lambda item: item[0] != "POSITION"):
        kinds = AS_FLOATS.get(key, ("VEC4",) if key.startswith("WEIGHTS_") else ())
        any_kind = kinds or ("SCALAR", "VEC2", "VEC3", "VEC4")
        if packed is not None and key in packed[0]:
            array = r.accessors.as_declared(index, packed[0][key], f"{here} {key}", any_kind, as_float=bool(kinds))
        else:
            array = r.accessors.read(index, f"{here} {key}", any_kind, as_float=bool(kinds))
        if len(array) != len(attributes.get("POSITION", array)):
            raise SceneError(f"{key} has {len(array)} elements, POSITION has {len(attributes['POSITION'])}", here)
        attributes[key] = array
    count = len(attributes["POSITION"])
    indices = _indices(r, entry, here, count, mode) if packed is None else packed[1]
    if not len(indices):
        r.notes.append(f"left out: {here} has no triangles")
        return None
    for key in AS_FLOATS:
        if key in attributes and not np.isfinite(attributes[key]).all():
            r.notes.append(f"left out: {here}: {key} holds NaN or infinity")
            if key not in ("TANGENT", "COLOR_0"):
                return None
            attributes.pop(key)
    if np.abs(attributes["POSITION"]).max() > FARTHEST_M:
        raise SceneError("a position lies beyond 10,000 km", here)
    targets = _targets(r, entry, here, count)
    if "NORMAL" not in attributes:
        attributes.pop("TANGENT", None)  # mean nothing without the normals they belong to
        flat = indices.reshape(-1)
        targets = tuple({key: freeze(array[flat]) for key, array in target.items() if key != "NORMAL"} for target in targets)
        attributes = {key: freeze(array[flat]) for key, array in attributes.items()}
        indices = np.arange(len(flat), dtype=np.int32).reshape(-1, 3)
        attributes["NORMAL"] = freeze(_flat_normals(attributes["POSITION"]))
    material = entry.get("material")
    if material is not None:
        material = index_into(material, [None] * materials, "material", here)
        colours = attributes.get("COLOR_0", np.ones((1, 3), np.float32))
        if objects(r.doc, "materials")[material].get("alphaMode") == "MASK" and bool((colours[:, 3:] < 1).any()):
            r.notes.append(
                f"not drawn yet: the alpha of vertex colours of {here}, which is a cutout: its test takes the picture's alone"
            )
    variants = _variants(r, entry, here, materials)
    return Primitive(attributes, freeze(indices.astype(np.int32)), material, number, targets, variants)


def read_variants(r: Reading) -> tuple[str, ...]:
    """Names of the file's variants; made up where they are missing or doubled."""
    said = part_of(part_of(r.doc, "extensions", "the file"), VARIANTS, "the file")
    return unique_keys(r.name(entry, f"variant {i}") for i, entry in enumerate(objects(said, "variants")))


def _variants(r: Reading, entry: dict[str, Any], here: str, materials: int) -> tuple[tuple[int, int], ...]:
    said = part_of(part_of(entry, "extensions", here), VARIANTS, here)
    known = part_of(part_of(r.doc, "extensions", "the file"), VARIANTS, "the file").get("variants", [])
    found: dict[int, int] = {}
    for mapping in objects(said, "mappings"):
        material = index_into(mapping.get("material"), [None] * materials, "material", here)
        numbers = mapping.get("variants")
        if not isinstance(numbers, list):
            raise SceneError("a mapping of variants must list them", here)
        found |= {index_into(n, known, "variant", here): material for n in numbers}
    return tuple(sorted(found.items()))


def _targets(r: Reading, entry: dict[str, Any], here: str, count: int) -> tuple[dict[str, np.ndarray], ...]:
    found = []
    for k, target in enumerate(objects(entry, "targets")):
        read = {key: r.accessors.read(target[key], f"{here} target {k} {key}", ("VEC3",)) for key in TARGETED if key in target}
        for key, array in read.items():
            if len(array) != count:
                raise SceneError(f"target {k}: {key} has {len(array)} elements, POSITION has {count}", here)
            if not np.isfinite(array).all():
                raise SceneError(f"target {k}: {key} holds NaN or infinity", here)
        found.append(read)
    return tuple(found)


def _indices(r: Reading, entry: dict[str, Any], here: str, count: int, mode: int) -> np.ndarray:
    if "indices" in entry:
        flat = r.accessors.read(entry["indices"], f"{here} indices", ("SCALAR",), as_float=False)
        if flat.dtype not in (np.uint8, np.uint16, np.uint32):
            raise SceneError("indices must be unsigned whole numbers", here)
        top = int(flat.max())
        if top >= count:
            raise SceneError(f"index {top} is out of range: the part has {count} vertices", here)
    else:
        flat = np.arange(count, dtype=np.uint32)
    flat = flat.astype(np.int64)
    if mode == 4:
        if len(flat) % 3:
            raise SceneError(f"{len(flat)} indices do not make whole triangles", here)
        return flat.reshape(-1, 3)
    if len(flat) < 3:
        return np.zeros((0, 3), np.int64)
    if mode == 6:
        return np.stack([flat[1:-1], flat[2:], np.full(len(flat) - 2, flat[0])], axis=1)
    strip = np.stack([flat[:-2], flat[1:-1], flat[2:]], axis=1)
    strip[1::2] = strip[1::2][:, [1, 0, 2]]
    return strip


def _flat_normals(corners: np.ndarray) -> np.ndarray:
    tri = corners.reshape(-1, 3, 3).astype(np.float64)
    normal = np.cross(tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0])
    length = np.linalg.norm(normal, axis=1, keepdims=True)
    normal = np.where(length > 0, normal / np.maximum(length, 1e-300), np.array([0.0, 1.0, 0.0]))
    return np.repeat(normal, 3, axis=0).astype(np.float32)
