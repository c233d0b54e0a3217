"""Instances of a node's mesh (EXT_mesh_gpu_instancing)."""

from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.read.accessors import part_of
from eddyfall.core.scene.read.placing import matrix_of_entry
from eddyfall.core.scene.read.reading import Reading

INSTANCING = "EXT_mesh_gpu_instancing"


def read_instances(r: Reading, entry: dict[str, Any], here: str) -> list[np.ndarray]:
    """(4, 4) of each instance of a node's mesh, relative to the node (EXT_mesh_gpu_instancing)."""
    of = part_of(part_of(part_of(entry, "extensions", here), INSTANCING, here), "attributes", here)
    kinds = {
        "TRANSLATION": ("VEC3", (0.0, 0.0, 0.0)),
        "ROTATION": ("VEC4", (0.0, 0.0, 0.0, 1.0)),
        "SCALE": ("VEC3", (1.0, 1.0, 1.0)),
    }
    read = {key: r.accessors.read(of[key], f"{here} {key}", (kind,)) for key, (kind, _) in kinds.items() if key in of}
    counts = {len(values) for values in read.values()}
    if len(counts) != 1:
        raise SceneError("its instances have no number: attributes are missing, or as many as none other", here)
    rows = {key: read.get(key, np.tile(np.array(given), (min(counts), 1))) for key, (_, given) in kinds.items()}
    lists = zip(*(rows[key].astype(float).tolist() for key in kinds))
    return [matrix_of_entry({"translation": t, "rotation": r, "scale": s}, here) for t, r, s in lists]
