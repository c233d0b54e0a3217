"""Evaluates copy rules of a mesh (mirror, array, shell) to the final material parts, as an exporter would."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Mesh, Primitive
from eddyfall.core.scene.setup.tables import CopyRule, MirrorPlane
from eddyfall.core.scene.tangents import turned

MAX_COPIED_TRIANGLES = 20_000_000
STRIP_GAP = 0.1  # tiles between the pieces of an unwrapped edge strip


def evaluate_copies(mesh: Mesh, rules: dict[str, CopyRule], lightmap_uv: int, materials: tuple[str, ...]) -> Mesh:
    """The mesh with every rule applied in `order`.

    A mirror plane or an array step moves POSITION and NORMAL in mesh space and adds its uv_offset to TEXCOORD_<lightmap_uv>;
    an odd number of mirrored axes turns the winding round. Copies with a material of their own become a part of their own,
    parts of one material merge. SceneError if the result has more than 20 million triangles.
    """
    parts = list(mesh.primitives)
    for name, rule in sorted(rules.items(), key=lambda item: (item[1].order, item[0])):
        if rule.kind == "shell":
            if sum(p.triangles for p in parts) * 8 > MAX_COPIED_TRIANGLES:
                raise SceneError(f"copies make more than {MAX_COPIED_TRIANGLES} triangles", f"mesh {mesh.name!r} copies.{name}")
            parts = _merge_by_material(shelled(parts, rule, lightmap_uv, materials))
            continue
        steps = _steps(rule)
        if sum(p.triangles for p in parts) * len(steps) > MAX_COPIED_TRIANGLES:
            raise SceneError(f"copies make more than {MAX_COPIED_TRIANGLES} triangles", f"mesh {mesh.name!r} copies.{name}")
        material = materials.index(rule.material) if rule.material is not None else None
        copied: list[Primitive] = []
        for part in parts:
            first = part if material is None else None
            rest = [_copy(part, step, lightmap_uv) for step in steps[1:]]
            if first is None:
                copied.append(part)
                if rest:
                    copied.append(_merge([Primitive(p.attributes, p.indices, material) for p in rest]))
            else:
                copied.append(_merge([first, *rest]))
        parts = _merge_by_material(copied)
    return Mesh(mesh.name, tuple(parts))


@dataclass(frozen=True)
class _Step:
    """One copy: its matrix (4, 4) in mesh space, what its UVs move by (2,), and along which of U and V they are mirrored first."""

    matrix: np.ndarray
    shift: np.ndarray
    flips: tuple[bool, bool] = (False, False)


def _steps(rule: CopyRule) -> list[_Step]:
    """Each copy of a mirror or array, the original first."""
    if rule.kind == "array":
        steps = []
        for i in range(rule.count):
            shift = np.eye(4)
            shift[:3, 3] = np.array(rule.step_m) * i
            steps.append(_Step(shift, np.array(rule.uv_offset) * i))
        return steps
    steps = [_Step(np.eye(4), np.zeros(2))]
    for plane in rule.planes:
        steps += [_mirrored(step, plane, rule.uv_mirrored) for step in steps]
    return steps


def _mirrored(step: _Step, plane: MirrorPlane, uv_mirrored: bool) -> _Step:
    a = "xyz".index(plane.axis)
    mirror = np.eye(4)
    mirror[a, a] = -1.0
    mirror[a, 3] = 2.0 * plane.at_m
    u, v = plane.uv_offset
    if not uv_mirrored:
        return _Step(mirror @ step.matrix, step.shift + np.array([u, v]), step.flips)
    along_v = bool(v) and not u
    flips = (step.flips[0] != (not along_v), step.flips[1] != along_v)
    return _Step(mirror @ step.matrix, step.shift + np.array((u, v) if u or v else (1.0, 0.0)), flips)


def _copy(part: Primitive, step: _Step, lightmap_uv: int) -> Primitive:
    attributes = dict(part.attributes)
    linear = step.matrix[:3, :3]
    attributes["POSITION"] = freeze((part.positions.astype(np.float64) @ linear.T + step.matrix[:3, 3]).astype(np.float32))
    if "NORMAL" in attributes:
        attributes["NORMAL"] = freeze((attributes["NORMAL"].astype(np.float64) @ linear.T).astype(np.float32))
    if "TANGENT" in attributes:
        attributes["TANGENT"] = freeze(turned(attributes["TANGENT"], linear))
    key = f"TEXCOORD_{lightmap_uv}"
    if key in attributes and (step.shift.any() or any(step.flips)):
        uv = attributes[key].astype(np.float64)
        uv = np.where(step.flips, 1.0 - uv, uv) + step.shift
        attributes[key] = freeze(uv.astype(np.float32))
    indices = part.indices[:, [0, 2, 1]] if np.linalg.det(linear) < 0 else part.indices
    return Primitive(attributes, freeze(indices), part.material)


def shelled(parts: list[Primitive], rule: CopyRule, lightmap_uv: int, materials: tuple[str, ...]) -> list[Primitive]:
    """Each part, its inner side turned round at thickness_m behind it, and the strip that joins their borders.

    The inner side and the strip take the rule's material if it has one. Corners keep the thickness along every face that meets
    there (least squares of the planes' offsets). A bare strip has no UVs of its own: each of its faces repeats the face it grows from.
    """
    material = materials.index(rule.material) if rule.material is not None else None
    inner = _inner_places(parts, rule.thickness_m)
    key = f"TEXCOORD_{lightmap_uv}"
    result: list[Primitive] = []
    for part, behind in zip(parts, inner):
        attributes = {**part.attributes, "POSITION": freeze(behind.astype(np.float32))}
        attributes["NORMAL"] = freeze(-part.attributes["NORMAL"])
        if "TANGENT" in attributes:
            attributes["TANGENT"] = freeze(part.attributes["TANGENT"] * np.array([1, 1, 1, -1], np.float32))
        if key in attributes and any(rule.uv_offset):
            attributes[key] = freeze((part.attributes[key].astype(np.float64) + np.array(rule.uv_offset)).astype(np.float32))
        other = part.material if material is None else material
        result += [part, Primitive(attributes, freeze(part.indices[:, [0, 2, 1]]), other)]
    if rule.strip != "none":
        result += _strip(parts, inner, rule, key, material)
    return result


def _welded(parts: list[Primitive]) -> tuple[np.ndarray, list[np.ndarray]]:
    """(distinct places (n, 3) float64, number of each vertex's place by part)."""
    everything = np.concatenate([p.positions for p in parts]) + np.float32(0)
    places, ids = np.unique(everything, axis=0, return_inverse=True)
    cuts = np.cumsum([len(p.positions) for p in parts])[:-1]
    return places.astype(np.float64), np.split(ids.reshape(-1), cuts)


def _inner_places(parts: list[Primitive], thickness_m: float) -> list[np.ndarray]:
    places, ids = _welded(parts)
    normals: list[list[np.ndarray]] = [[] for _ in places]
    for part, number in zip(parts, ids):
        corners = places[number[part.indices]]
        face = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        length = np.linalg.norm(face, axis=1)
        for triangle, normal, size in zip(number[part.indices], face, length):
            if size <= 0:
                continue
            unit = normal / size
            for corner in triangle:
                if not any(unit @ known > 0.9999 for known in normals[corner]):
                    normals[corner].append(unit)
    moved = places.copy()
    for i, faces in enumerate(normals):
        if faces:
            moved[i] += np.linalg.lstsq(np.array(faces), np.full(len(faces), -thickness_m), rcond=1e-3)[0]
    return [moved[number] for number in ids]


def _strip(parts: list[Primitive], inner: list[np.ndarray], rule: CopyRule, key: str, material: int | None) -> list[Primitive]:
    _, ids = _welded(parts)
    directed = [
        (int(a), int(b)) for number, part in zip(ids, parts) for t in number[part.indices] for a, b in zip(t, np.roll(t, -1))
    ]
    there = set(directed)
    result = []
    row = 0.0
    for part, behind, number in zip(parts, inner, ids):
        columns: dict[str, list[np.ndarray]] = {name: [] for name in part.attributes}
        along = 0.0
        for triangle in part.indices:
            for k in range(3):
                a, b, c = int(triangle[k]), int(triangle[(k + 1) % 3]), int(triangle[(k + 2) % 3])
                if (int(number[b]), int(number[a])) in there:
                    continue
                corners = np.stack([part.positions[b], part.positions[a], behind[a], behind[b]]).astype(np.float64)
                normal = np.cross(corners[1] - corners[0], corners[3] - corners[0])
                normal /= max(float(np.linalg.norm(normal)), 1e-12)
                for name, values in part.attributes.items():
                    columns[name].append(values[[b, a, c, c]])
                columns["POSITION"][-1] = corners.astype(np.float32)
                columns["NORMAL"][-1] = np.tile(normal, (4, 1)).astype(np.float32)
                if rule.strip == "unwrapped" and key in part.attributes:
                    uv = part.attributes[key].astype(np.float64)
                    wide = float(np.linalg.norm(uv[a] - uv[b]))
                    metres = max(float(np.linalg.norm(corners[1] - corners[0])), 1e-12)
                    high = wide / metres * rule.thickness_m
                    if along + wide > 1.0 and along > 0:
                        along, row = 0.0, row + high + STRIP_GAP
                    tile = 2 * np.array(rule.uv_offset if any(rule.uv_offset) else (1.0, 0.0))
                    corner = tile + np.array([along, row])
                    columns[key][-1] = (corner + np.array([[wide, 0], [0, 0], [0, high], [wide, high]])).astype(np.float32)
                    along += wide + STRIP_GAP
        if not columns["POSITION"]:
            continue
        quads = np.arange(len(columns["POSITION"]))[:, None, None] * 4 + np.array([[0, 1, 2], [0, 2, 3]])
        attributes = {name: freeze(np.concatenate(values)) for name, values in columns.items()}
        other = part.material if material is None else material
        result.append(Primitive(attributes, freeze(quads.reshape(-1, 3).astype(np.int32)), other))
        row += STRIP_GAP
    return result


def _merge_by_material(parts: list[Primitive]) -> list[Primitive]:
    groups: dict[Any, list[Primitive]] = {}
    for part in parts:
        groups.setdefault((part.material, frozenset(part.attributes)), []).append(part)
    return [_merge(group) for group in groups.values()]


def _merge(parts: list[Primitive]) -> Primitive:
    if len(parts) == 1:
        return parts[0]
    offsets = np.cumsum([0] + [len(p.positions) for p in parts[:-1]])
    attributes = {key: freeze(np.concatenate([p.attributes[key] for p in parts])) for key in parts[0].attributes}
    indices = np.concatenate([p.indices + np.int32(o) for p, o in zip(parts, offsets)]).astype(np.int32)
    return Primitive(attributes, freeze(indices), parts[0].material)
