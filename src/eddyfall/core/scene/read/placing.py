"""Where a node stands: its matrix, or its translation, rotation and scale."""

import math
from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.clips import Rest, matrix_of
from eddyfall.core.scene.read.accessors import numbers


def matrix_of_entry(entry: dict[str, Any], here: str) -> np.ndarray:
    if "matrix" in entry:
        return freeze(np.array(numbers(entry, "matrix", 16, (), here)).reshape(4, 4).T)
    return freeze(matrix_of(rest_of(entry, here)))


def rest_of(entry: dict[str, Any], here: str) -> Rest:
    """A node's translation, unit rotation and scale."""
    t = numbers(entry, "translation", 3, (0.0, 0.0, 0.0), here)
    x, y, z, w = numbers(entry, "rotation", 4, (0.0, 0.0, 0.0, 1.0), here)
    s = numbers(entry, "scale", 3, (1.0, 1.0, 1.0), here)
    length = math.sqrt(x * x + y * y + z * z + w * w)
    if length == 0.0:
        raise SceneError("rotation must not be all zero", here)
    return t, (x / length, y / length, z / length, w / length), s
