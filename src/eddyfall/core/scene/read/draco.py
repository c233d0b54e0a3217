"""Mesh parts that are packed by Draco (KHR_draco_mesh_compression), by the library; what comes out is held against what the file says."""

from typing import Any

import DracoPy
import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.read.accessors import index_into, objects, part_of
from eddyfall.core.scene.read.pictures import bytes_of_view
from eddyfall.core.scene.read.reading import Reading

NAME = "KHR_draco_mesh_compression"


def unpacked(r: Reading, entry: dict[str, Any], here: str) -> tuple[dict[str, np.ndarray], np.ndarray] | None:
    """({attribute: (n, width) values as they are stored}, (t, 3) indices) of a packed part; None of a plain one.

    SceneError if the bytes are damaged, or hold other counts than the part's accessors claim."""
    extensions = part_of(entry, "extensions", here)
    if NAME not in extensions:
        return None
    packed, accessors = part_of(extensions, NAME, here), objects(r.doc, "accessors")
    wanted, names = part_of(packed, "attributes", here), part_of(entry, "attributes", here)
    data = bytes_of_view(r, packed, here)
    try:
        mesh = DracoPy.decode(data)
        faces = np.asarray(mesh.faces) if isinstance(mesh, DracoPy.DracoMesh) else np.zeros((0, 3), np.uint32)
        stored = {a["unique_id"]: np.asarray(a["data"]) for a in mesh.attributes}
    except (DracoPy.FileTypeException, ValueError, RuntimeError, MemoryError, OverflowError) as error:
        raise SceneError(f"its Draco bytes are damaged ({str(error)[:80]})", here) from None
    found = {}
    for key, number in wanted.items():
        values = stored.get(number) if isinstance(number, int) else None
        if values is None or key not in names:
            raise SceneError(f"Draco holds no attribute {number!r:.40} for {key}", here)
        claimed = accessors[index_into(names[key], accessors, "accessor", f"{here} {key}")].get("count")
        if len(values) != claimed:
            raise SceneError(f"Draco holds {len(values)} elements of {key}, its accessor claims {claimed!r:.40}", here)
        found[key] = values.reshape(len(values), -1)
    corners = accessors[index_into(entry.get("indices"), accessors, "accessor", f"{here} indices")].get("count")
    if faces.size != corners:
        raise SceneError(f"Draco holds {faces.size} indices, their accessor claims {corners!r:.40}", here)
    vertices = len(next(iter(found.values()), ()))
    if faces.size and int(faces.max()) >= vertices:
        raise SceneError(f"Draco's index {int(faces.max())} is out of range: the part has {vertices} vertices", here)
    return found, faces.reshape(-1, 3).astype(np.int64)
