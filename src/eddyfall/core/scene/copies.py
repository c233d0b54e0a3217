"""Evaluates copy rules of a mesh (mirror, array) to the final material parts, as an exporter would."""

from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Mesh, Primitive
from eddyfall.core.scene.setup.tables import CopyRule

MAX_COPIED_TRIANGLES = 20_000_000


def evaluate_copies(mesh: Mesh, rules: dict[str, CopyRule], lightmap_uv: int, materials: tuple[str, ...]) -> Mesh:
    """The mesh with every rule applied in `order`.

    A mirrored axis or an array step moves POSITION and NORMAL in mesh space and adds uv_offset to TEXCOORD_<lightmap_uv>;
    an odd number of mirrored axes turns the winding round. Copies with a material of their own become a part of their own,
    parts of one material merge. SceneError if the result has more than 20 million triangles.
    """
    parts = list(mesh.primitives)
    for name, rule in sorted(rules.items(), key=lambda item: (item[1].order, item[0])):
        steps = _steps(rule)
        if sum(p.triangles for p in parts) * len(steps) > MAX_COPIED_TRIANGLES:
            raise SceneError(f"copies make more than {MAX_COPIED_TRIANGLES} triangles", f"mesh {mesh.name!r} copies.{name}")
        material = materials.index(rule.material) if rule.material is not None else None
        copied: list[Primitive] = []
        for part in parts:
            first = part if material is None else None
            rest = [_copy(part, matrix, count, rule, lightmap_uv) for matrix, count in steps[1:]]
            if first is None:
                copied.append(part)
                if rest:
                    copied.append(_merge([Primitive(p.attributes, p.indices, material) for p in rest]))
            else:
                copied.append(_merge([first, *rest]))
        parts = _merge_by_material(copied)
    return Mesh(mesh.name, tuple(parts))


def _steps(rule: CopyRule) -> list[tuple[np.ndarray, int]]:
    """(4x4 matrix in mesh space, how many UV offsets) of each copy, the original first."""
    if rule.kind == "array":
        steps = []
        for i in range(rule.count):
            shift = np.eye(4)
            shift[:3, 3] = np.array(rule.step_m) * i
            steps.append((shift, i))
        return steps
    steps = [(np.eye(4), 0)]
    for axis in rule.axes:
        a = "xyz".index(axis)
        mirror = np.eye(4)
        mirror[a, a] = -1.0
        mirror[a, 3] = 2.0 * rule.origin_m[a]
        steps += [(mirror @ matrix, count + 1) for matrix, count in steps]
    return steps


def _copy(part: Primitive, matrix: np.ndarray, count: int, rule: CopyRule, lightmap_uv: int) -> Primitive:
    attributes = dict(part.attributes)
    linear = matrix[:3, :3]
    attributes["POSITION"] = freeze((part.positions.astype(np.float64) @ linear.T + matrix[:3, 3]).astype(np.float32))
    if "NORMAL" in attributes:
        attributes["NORMAL"] = freeze((attributes["NORMAL"].astype(np.float64) @ linear.T).astype(np.float32))
    key = f"TEXCOORD_{lightmap_uv}"
    if key in attributes and any(rule.uv_offset):
        attributes[key] = freeze((attributes[key].astype(np.float64) + np.array(rule.uv_offset) * count).astype(np.float32))
    indices = part.indices[:, [0, 2, 1]] if np.linalg.det(linear) < 0 else part.indices
    return Primitive(attributes, freeze(indices), part.material)


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
