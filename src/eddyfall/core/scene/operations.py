"""Buffer operations that need nothing but the scene."""

from dataclasses import replace
from typing import Any

import numpy as np

from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation


@operation("node.move")
def move_node(build: Build, params: dict[str, Any]) -> Build:
    """Move a node by by_m (x, y, z metres, world space). ChangeError for unknown nodes or values that are no numbers."""
    key, by = params.get("node"), params.get("by_m")
    if key not in build.scene.node_keys:
        raise ChangeError(f"node {key!r} does not exist")
    if not isinstance(by, list) or len(by) != 3 or not all(isinstance(v, (int, float)) and abs(v) < 1e6 for v in by):
        raise ChangeError("by_m must be three numbers")
    index = build.scene.node_keys.index(key)
    node = build.scene.nodes[index]
    parent = np.eye(4) if node.parent is None else build.scene.world_matrices[node.parent]
    matrix = np.array(node.matrix)
    matrix[:3, 3] += np.linalg.solve(parent[:3, :3], np.array(by, float))
    return replace(build, scene=build.scene.with_node(index, replace(node, matrix=freeze(matrix))))
