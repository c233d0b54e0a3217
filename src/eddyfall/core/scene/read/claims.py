"""What a file says it holds, added up from its JSON alone: before a byte of it is unpacked."""

from typing import Any

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.read.accessors import objects
from eddyfall.core.scene.read.instances import INSTANCING
from eddyfall.core.scene.read.reading import Reading

MAX_TRIANGLES = 20_000_000
MAX_VERTICES = 20_000_000


def check_claims(r: Reading) -> None:
    """Refuse more vertices or drawn triangles than are drawn, from the JSON alone: before a byte of them is unpacked."""
    accessors, drawn = objects(r.doc, "accessors"), _times_drawn(r.doc)
    counted: set[int] = set()
    vertices = triangles = 0
    for i, mesh in enumerate(objects(r.doc, "meshes")):
        for part in objects(mesh, "primitives"):
            names = part.get("attributes")
            names = names if isinstance(names, dict) else {}
            points, corners = claimed(accessors, names.get("POSITION")), claimed(accessors, part.get("indices"))
            mode = part.get("mode", 4)
            of_mode = {4: 3, 5: 1, 6: 1}.get(mode, 0) if isinstance(mode, int) else 0
            if not of_mode:
                continue
            corners = corners or points
            triangles += corners // of_mode * drawn.get(i, 0)
            if "NORMAL" not in names:
                vertices += corners * 3 // of_mode  # flat normals part every triangle
            elif points and names["POSITION"] not in counted:
                counted.add(names["POSITION"])
                vertices += points
    if vertices > MAX_VERTICES:
        raise SceneError(f"claims {vertices} vertices, more than the {MAX_VERTICES} that are read", "meshes")
    if triangles > MAX_TRIANGLES:
        raise SceneError(f"draws {triangles} triangles, more than the {MAX_TRIANGLES} that are drawn", "nodes")


def _times_drawn(document: dict[str, Any]) -> dict[int, int]:
    """How many nodes carry each mesh."""
    times: dict[int, int] = {}
    for node in objects(document, "nodes"):
        mesh = node.get("mesh")
        if isinstance(mesh, int):
            times[mesh] = times.get(mesh, 0) + _instanced(document, node)
    return times


def _instanced(document: dict[str, Any], node: dict[str, Any]) -> int:
    """How often a node shows its mesh, as its accessors claim."""
    at: Any = node
    for key in ("extensions", INSTANCING, "attributes"):
        at = at.get(key) if isinstance(at, dict) else None
    counts = [claimed(objects(document, "accessors"), index) for index in at.values()] if isinstance(at, dict) else []
    return max(counts, default=1) or 1


def claimed(accessors: list[dict[str, Any]], index: Any) -> int:
    """What an accessor says it holds; 0 where that makes no sense, which is told when it is read."""
    if not isinstance(index, int) or not 0 <= index < len(accessors):
        return 0
    count = accessors[index].get("count")
    return count if isinstance(count, int) and count > 0 else 0
