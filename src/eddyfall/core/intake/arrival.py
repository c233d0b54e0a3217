"""What is wrong with a scene as it arrives, before a frame is drawn: by its numbers alone, part by part."""

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.hashing import digest
from eddyfall.core.likeness.units import told
from eddyfall.core.scene.model import Node, Primitive, Scene, TextureUse
from eddyfall.core.scene.setup import Setup
from eddyfall.core.scene.skins import fall_m, sets_of

MOST_REPEATS, FINEST = (
    64,
    8192.0,
)  # of a picture on one part, in texels per m: finer than an eighth of a millimetre nothing is seen of it
FLAT = 1e-12  # m2 of a triangle below which it has no area
TURNED_DEG = 45.0  # between a tangent and the way u runs
MOST_TURNED = 0.05  # of a part's corners
DENSITY_SPREAD = 0.1  # within which parts of one picture agree about its density
LEAST_PARTS = 3
LEAST_FALL_M = 1e-3  # by which skinned corners are drawn astray
OFF_SCALE = 4.0  # times the density of its neighbours
PLURAL = {"node": "nodes", "mesh": "meshes", "material": "materials"}
NAMED = 6  # parts that are named; of more, the number


@dataclass(frozen=True)
class Arrival:
    """code: import.*; subject: what it is of; measure, value, unit: what was measured; why: in one sentence."""

    code: str
    subject: str
    measure: str
    value: float
    unit: str
    why: str


def arrivals(scene: Scene, setup: Setup | None = None) -> list[Arrival]:
    """All that is wrong with a scene as it arrives, by code, then by subject. setup: what it tells apart is not said to be the same."""
    found = [
        a for parts in (_of_parts(scene), _skinned(scene), _names(scene), _materials(scene, setup), _scales(scene)) for a in parts
    ]
    return sorted(found, key=lambda a: (a.code, a.subject))


@dataclass(frozen=True)
class _Part:
    name: str
    mesh: str
    part: Primitive


def _parts(scene: Scene) -> Iterator[_Part]:
    """Parts of meshes that are shown."""
    shown = {node.mesh for node in scene.nodes if node.mesh is not None}
    for i, mesh in enumerate(scene.meshes):
        if i not in shown:
            continue
        for j, part in enumerate(mesh.primitives):
            name = scene.mesh_keys[i] if len(mesh.primitives) == 1 else f"{scene.mesh_keys[i]}/{j}"
            yield _Part(name, scene.mesh_keys[i], part)


def _of_parts(scene: Scene) -> Iterator[Arrival]:
    bare = _without_normals(scene)
    for p in _parts(scene):
        uses = _uses(scene, p.part)
        missing = sorted({f"TEXCOORD_{u.uv_set}" for u in uses if f"TEXCOORD_{u.uv_set}" not in p.part.attributes})
        if missing:
            yield Arrival(
                "import.no-uv", p.name, "triangles", p.part.triangles, "-", f"it has pictures, and no {' or '.join(missing)}"
            )
        if (p.mesh, p.part.source_index) in bare:
            yield Arrival(
                "import.no-normals", p.name, "triangles", p.part.triangles, "-", "it came without normals: it is drawn faceted"
            )
        flat = int((_areas(p.part) <= FLAT).sum())
        if flat:
            yield Arrival(
                "import.zero-area", p.name, "triangles", flat, "-", f"{flat} of {p.part.triangles} triangles have no area"
            )
        turned = _turned(p.part, uses)
        if turned > MOST_TURNED:
            yield Arrival(
                "import.tangents",
                p.name,
                "corners",
                turned * 100,
                "%",
                "their tangents do not run the way their u does, or are mirrored",
            )


def _skinned(scene: Scene) -> Iterator[Arrival]:
    """Things whose weights do not add up to one (glTF 2.0, 3.7.3.3: they have to), by what that moves."""
    for i, node in enumerate(scene.nodes):
        if node.skin is None or node.mesh is None:
            continue
        fall = max((fall_m(scene, i, part) for part in scene.meshes[node.mesh].primitives if sets_of(part)), default=0.0)
        if fall > LEAST_FALL_M:
            why = "weights of its joints do not add up to one: taken as they are, they draw it nearer to the origin by so much"
            yield Arrival("import.weights", scene.node_keys[i], "corners astray by at most", fall * 1000, "mm", why)


def _without_normals(scene: Scene) -> set[tuple[str, int]]:
    """(mesh key, number among the file's parts) of those that the file gives no normals."""
    document: dict[str, Any] = scene.source.json if scene.source is not None else {}
    found = set()
    for key, mesh in zip(scene.mesh_keys, document.get("meshes", [])):
        for j, part in enumerate(mesh.get("primitives", [])):
            if "NORMAL" not in part.get("attributes", {}):
                found.add((key, j))
    return found


def _uses(scene: Scene, part: Primitive) -> list[TextureUse]:
    material = scene.materials[part.material] if part.material is not None else None
    return [use for use in material.every_use.values() if use is not None] if material is not None else []


def _areas(part: Primitive) -> np.ndarray:
    a, b, c = part.positions[part.indices].astype(np.float64).transpose(1, 0, 2)
    return np.asarray(np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2)


def _turned(part: Primitive, uses: list[TextureUse]) -> float:
    """Share of a part's triangles whose tangents are not what its coordinates say."""
    tangents, uv = part.attributes.get("TANGENT"), part.attributes.get("TEXCOORD_0")
    if tangents is None or uv is None or "NORMAL" not in part.attributes or not uses:
        return 0.0
    corners, flat = part.positions[part.indices].astype(np.float64), uv[part.indices].astype(np.float64)
    (e1, e2), (d1, d2) = ((v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]) for v in (corners, flat))
    det = d1[:, 0] * d2[:, 1] - d2[:, 0] * d1[:, 1]
    known = np.abs(det) > 1e-12
    if not known.any():
        return 0.0
    along = (e1 * d2[:, 1:] - e2 * d1[:, 1:])[known] * np.sign(det[known])[:, None]
    given = tangents[part.indices].astype(np.float64).mean(axis=1)[known]
    normal = part.attributes["NORMAL"][part.indices].astype(np.float64).mean(axis=1)[known]
    along -= normal * np.einsum("ij,ij->i", along, normal)[:, None] / np.maximum((normal**2).sum(axis=1), 1e-30)[:, None]
    cosine = np.einsum("ij,ij->i", along, given[:, :3])
    cosine /= np.maximum(np.linalg.norm(along, axis=1) * np.linalg.norm(given[:, :3], axis=1), 1e-30)
    # v runs down the picture: the bitangent of an unmirrored chart points the other way than v does (glTF 2.0, 3.7.2.1).
    down = (e2 * d1[:, :1] - e1 * d2[:, :1])[known] * np.sign(det[known])[:, None]
    side = np.einsum("ij,ij->i", np.cross(normal, given[:, :3]) * given[:, 3:4], -down)
    return float(((cosine < np.cos(np.radians(TURNED_DEG))) | (side < 0)).mean())


def _repeats(part: Primitive, use: TextureUse) -> float:
    """How often a picture lies along the longer side of what a part shows of it."""
    uv = part.attributes.get(f"TEXCOORD_{use.uv_set}")
    if uv is None or not len(uv) or "clamp" in (use.wrap_u, use.wrap_v):
        return 0.0
    return float(np.ptp(use.turned(uv), axis=0).max())


def _names(scene: Scene) -> Iterator[Arrival]:
    for what, names in (
        ("node", [n.name for n in scene.nodes]), ("mesh", [m.name for m in scene.meshes]), ("material", [m.name for m in scene.materials])
    ):  # fmt: skip
        counts: dict[str, int] = defaultdict(int)
        for name in names:
            counts[name] += 1
        doubled = {name: count for name, count in counts.items() if name and count > 1}
        for name, count in list(doubled.items())[:NAMED]:
            why = f"{count} {PLURAL[what]} have one name: their settings go by number"
            yield Arrival("import.doubled-names", name, f"{PLURAL[what]} of this name", count, "-", why)
        if len(doubled) > NAMED:
            yield Arrival(
                "import.doubled-names", f"{len(doubled) - NAMED} more", f"{what} names", len(doubled), "-", "as the others"
            )


def _materials(scene: Scene, setup: Setup | None) -> Iterator[Arrival]:
    """Materials that say the same under several names: what has them could be drawn at once."""
    settings = setup.materials if setup is not None else {}
    alike: dict[str, list[int]] = defaultdict(list)
    for i, material in enumerate(scene.materials):
        values = [v for k, v in material.__dict__.items() if k != "name" and not k.startswith("_")]
        alike[digest(*values, settings.get(scene.material_keys[i]))].append(i)
    draws: dict[int, int] = defaultdict(int)
    for node in scene.nodes:
        for part in scene.meshes[node.mesh].primitives if node.mesh is not None else ():
            if part.material is not None:
                draws[part.material] += 1
    for some in alike.values():
        used = [i for i in some if draws[i]]
        if len(used) > 1:
            names = [scene.material_keys[i] for i in used]
            others = ", ".join(names[1:NAMED]) + (f" and {len(names) - NAMED} more" if len(names) > NAMED else "")
            yield Arrival(
                "import.equal-materials", names[0], "draws that a merge saves at most", sum(draws[i] for i in used) - 1, "-",
                f"it says the same as {others}",
            )  # fmt: skip


def _scales(scene: Scene) -> Iterator[Arrival]:
    """Things whose picture is far finer or coarser than on all others that have it."""
    of_image: dict[int, list[tuple[str, float]]] = defaultdict(list)
    for i, node in enumerate(scene.nodes):
        for part, use in _based(scene, node):
            density = _density(scene, i, part, use)
            if density is None:
                continue
            of_image[use.image].append((scene.node_keys[i], density))
            repeats = _repeats(part, use)
            if repeats > MOST_REPEATS and density > FINEST:
                why = f"its picture repeats at {density:.0f} texels per m: only its mean is seen"
                yield Arrival("import.repeats", scene.node_keys[i], "repeats", repeats, "-", why)
    for rows in of_image.values():
        if len(rows) <= LEAST_PARTS:
            continue
        densities = np.array([d for _, d in rows])
        middle = float(np.median(densities))
        near = np.abs(densities / middle - 1) <= DENSITY_SPREAD
        if near.sum() < max(LEAST_PARTS, len(rows) // 2):
            continue  # they agree about nothing
        middle = float(np.median(densities[near]))
        for name, density in rows:
            ratio = middle / density
            if max(ratio, 1 / ratio) >= OFF_SCALE:
                why = f"by the texels of its picture it is {told(ratio)}"
                yield Arrival("import.scale", name, "size against its neighbours", ratio, "-", why)


def _based(scene: Scene, node: Node) -> Iterator[tuple[Primitive, TextureUse]]:
    for part in scene.meshes[node.mesh].primitives if node.mesh is not None else ():
        material = scene.materials[part.material] if part.material is not None else None
        if material is not None and material.base_texture is not None:
            yield part, material.base_texture


def _density(scene: Scene, node: int, part: Primitive, use: TextureUse) -> float | None:
    """Texels per m of a part's base picture, as a node shows it; None where it shows none."""
    uv = part.attributes.get(f"TEXCOORD_{use.uv_set}")
    if uv is None:
        return None
    linear = scene.world_matrices[node][:3, :3]
    a, b, c = (part.positions[part.indices].astype(np.float64) @ linear.T).transpose(1, 0, 2)
    area = float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())
    flat = use.turned(uv)[part.indices].astype(np.float64)
    e1, e2 = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    height, width = scene.images[use.image].pixels.shape[:2]
    texels = float(np.abs(e1[:, 0] * e2[:, 1] - e1[:, 1] * e2[:, 0]).sum()) * width * height
    return float(np.sqrt(texels / area)) if area > 0 and texels > 0 else None
