"""glTF accessors to arrays, every bound checked before anything is allocated (glTF 2.0, section 3.6.2)."""

from collections.abc import Callable
from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import freeze

COMPONENTS = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
MAX_ELEMENTS = 120_000_000
MAX_UNBACKED = 16_000_000  # values of accessors without a buffer view: the file does not have to hold them


Unpack = Callable[[dict[str, Any], list[np.ndarray], str], tuple[np.ndarray, int] | None]


class AccessorReader:
    """Reads accessors of one file and counts what they add up to, so that a small file cannot claim a huge scene.

    unpack(view, buffers, where): (bytes, stride) of a buffer view that is packed, None of a plain one."""

    def __init__(self, document: dict[str, Any], buffers: list[np.ndarray], unpack: Unpack) -> None:
        self.unpack = unpack
        self.accessors = objects(document, "accessors")
        self.views = objects(document, "bufferViews")
        self.buffers = buffers
        self.elements = 0
        self.unbacked = 0
        self._known: dict[tuple[int, bool], np.ndarray] = {}
        self._unpacked: dict[int, tuple[np.ndarray, int]] = {}

    def read(self, index: Any, where: str, kinds: tuple[str, ...], *, as_float: bool = True) -> np.ndarray:
        """Accessor `index` as a frozen array (count, width) or (count,); raises SceneError with the broken rule."""
        number = index_into(index, self.accessors, "accessor", where)
        accessor = self.accessors[number]
        here = f"accessor {number} ({where})"
        kind = accessor.get("type")
        if kind not in kinds:
            raise SceneError(f"type is {kind!r:.40}, must be {' or '.join(kinds)}", here)
        known = self._known.get((number, as_float))
        if known is not None:
            return known
        dtype = _component(accessor, here)
        count, width = whole(accessor, "count", here, least=1), WIDTHS[kind]
        self.elements += count * width
        if self.elements > MAX_ELEMENTS:
            raise SceneError(f"the accessors claim more than {MAX_ELEMENTS} values", here)
        if "bufferView" in accessor:
            array = self._view(accessor["bufferView"], whole(accessor, "byteOffset", here, default=0), count, width, dtype, here)
        else:
            self.unbacked += count * width
            if self.unbacked > MAX_UNBACKED:
                raise SceneError(f"accessors without a buffer view claim more than {MAX_UNBACKED} values", here)
            array = np.zeros((count, width), dtype)
        if "sparse" in accessor:
            array = self._sparse(accessor["sparse"], array, count, width, dtype, here)
        if as_float:
            array = _to_float(array, bool(accessor.get("normalized", False)))
        result = freeze(array[:, 0] if kind == "SCALAR" else array)
        self._known[number, as_float] = result
        return result

    def _view(self, index: Any, offset: int, count: int, width: int, dtype: type, here: str) -> np.ndarray:
        buffer, start, length, stride = self._bytes(index_into(index, self.views, "bufferView", here), here)
        size = np.dtype(dtype).itemsize
        stride = stride or size * width
        if stride < size * width or stride > 252:
            raise SceneError(f"byteStride {stride} is not in {size * width} to 252", here)
        if stride % size or (start + offset) % size:
            raise SceneError(f"data is not aligned to {size} bytes", here)
        need = offset + stride * (count - 1) + size * width
        if need > length:
            raise SceneError(f"{count} elements need {need} bytes, its buffer view has {length}", here)
        return np.ndarray((count, width), dtype, buffer, start + offset, (stride, size))

    def _bytes(self, number: int, here: str) -> tuple[np.ndarray, int, int, int]:
        """(buffer, first byte, bytes, stride or 0) of a buffer view, unpacked if it is packed."""
        view = self.views[number]
        if (
            number not in self._unpacked
            and (found := self.unpack(view, self.buffers, f"bufferView {number} ({here})")) is not None
        ):
            self._unpacked[number] = found
            if sum(len(data) for data, _ in self._unpacked.values()) > MAX_ELEMENTS * 4:
                raise SceneError(f"the packed views hold more than {MAX_ELEMENTS * 4} bytes", here)
        if number in self._unpacked:
            data, stride = self._unpacked[number]
            return data, 0, len(data), stride
        buffer = self.buffers[index_into(view.get("buffer"), self.buffers, "buffer", here)]
        start, length = whole(view, "byteOffset", here, default=0), whole(view, "byteLength", here, least=1)
        if start + length > len(buffer):
            raise SceneError(f"its buffer view needs bytes {start} to {start + length}, the buffer has {len(buffer)}", here)
        return buffer, start, length, whole(view, "byteStride", here, default=0)

    def as_declared(
        self, index: Any, values: np.ndarray, where: str, kinds: tuple[str, ...], *, as_float: bool = True
    ) -> np.ndarray:
        """Values (n, width) that a decoder gave for accessor `index`, as `read` gives the accessor's own."""
        number = index_into(index, self.accessors, "accessor", where)
        accessor = self.accessors[number]
        here = f"accessor {number} ({where})"
        kind, dtype = accessor.get("type"), _component(accessor, here)
        if kind not in kinds or WIDTHS[kind] != values.shape[1]:
            raise SceneError(f"type is {kind!r:.40}, its decoder gave {values.shape[1]} values a row", here)
        self.elements += values.size
        if self.elements > MAX_ELEMENTS:
            raise SceneError(f"the accessors claim more than {MAX_ELEMENTS} values", here)
        cast: np.ndarray = values.astype(dtype)
        if values.dtype != dtype and not np.array_equal(cast, values):
            raise SceneError(f"its decoder gave {values.dtype}, which are no {np.dtype(dtype)}", here)
        if as_float:
            cast = _to_float(cast, bool(accessor.get("normalized", False)))
        return freeze(cast[:, 0] if kind == "SCALAR" else cast)

    def _sparse(self, sparse: Any, base: np.ndarray, count: int, width: int, dtype: type, here: str) -> np.ndarray:
        if not isinstance(sparse, dict) or not all(isinstance(sparse.get(k), dict) for k in ("indices", "values")):
            raise SceneError("sparse must have indices and values", here)
        n = whole(sparse, "count", here, least=1)
        if n > count:
            raise SceneError(f"sparse count {n} is larger than count {count}", here)
        index_type = _component(sparse["indices"], here)
        if index_type not in (np.uint8, np.uint16, np.uint32):
            raise SceneError("sparse indices must be unsigned", here)
        where, values = sparse["indices"], sparse["values"]
        rows = self._view(where.get("bufferView"), whole(where, "byteOffset", here, default=0), n, 1, index_type, here)[:, 0]
        if int(rows.max()) >= count:
            raise SceneError(f"sparse index {int(rows.max())} is out of range (count {count})", here)
        filled = np.array(base)
        filled[rows] = self._view(values.get("bufferView"), whole(values, "byteOffset", here, default=0), n, width, dtype, here)
        return filled


def _component(owner: dict[str, Any], here: str) -> type:
    """The NumPy type of owner's componentType, which may be anything that JSON can hold."""
    code = owner.get("componentType")
    dtype = COMPONENTS.get(code) if isinstance(code, int) else None
    if dtype is None:
        raise SceneError(f"componentType {code!r:.40} does not exist", here)
    return dtype


def _to_float(array: np.ndarray, normalized: bool) -> np.ndarray:
    if array.dtype == np.float32:  # a view of the file where it lies close and aligned there
        return array if array.flags.c_contiguous and array.flags.aligned else np.array(array)
    if not normalized:
        return array.astype(np.float32)
    top = np.iinfo(array.dtype).max
    return np.asarray(np.maximum(array.astype(np.float32) / np.float32(top), np.float32(-1.0)))


def objects(document: dict[str, Any], key: str) -> list[dict[str, Any]]:
    """document[key] as a list of objects (empty if absent)."""
    value = document.get(key, [])
    if not isinstance(value, list) or not all(isinstance(v, dict) for v in value):
        raise SceneError("must be a list of objects", key)
    return value


def index_into(index: Any, table: list[Any], what: str, where: str) -> int:
    """`index` checked to be a whole number that exists in `table`."""
    if isinstance(index, bool) or not isinstance(index, int):
        raise SceneError(f"{what} index must be a whole number, is {type(index).__name__}", where)
    if not 0 <= index < len(table):
        raise SceneError(f"{what} {index} does not exist ({len(table)} in the file)", where)
    return index


def whole(owner: dict[str, Any], key: str, where: str, *, least: int = 0, default: int | None = None) -> int:
    """owner[key] as a whole number of at least `least`."""
    value = owner.get(key, default)
    if isinstance(value, bool) or not isinstance(value, int) or value < least:
        raise SceneError(f"{key} must be a whole number of at least {least}, is {value!r:.40}", where)
    return value


def numbers(owner: dict[str, Any], key: str, length: int, default: tuple[float, ...], where: str) -> tuple[float, ...]:
    """owner[key] as `length` finite numbers."""
    value = owner.get(key)
    if value is None:
        return default
    if (
        not isinstance(value, list)
        or len(value) != length
        or not all(isinstance(v, (int, float)) and not isinstance(v, bool) and abs(v) <= 3.4e38 for v in value)
    ):
        raise SceneError(f"{key} must be {length} numbers", where)
    return tuple(float(v) for v in value)


def number(owner: dict[str, Any], key: str, default: float, where: str, low: float = -3.4e38, high: float = 3.4e38) -> float:
    """owner[key] as one number in [low, high]."""
    value = owner.get(key, default)
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not low <= value <= high:
        raise SceneError(f"{key} must be a number from {low:g} to {high:g}, is {value!r:.40}", where)
    return float(value)


def text(owner: dict[str, Any], key: str, where: str) -> str:
    """owner[key] as text, empty if absent."""
    value = owner.get(key, "")
    if not isinstance(value, str):
        raise SceneError(f"{key} must be text", where)
    return value


def part_of(owner: dict[str, Any], key: str, where: str) -> dict[str, Any]:
    """owner[key] as an object, empty if absent."""
    value = owner.get(key, {})
    if not isinstance(value, dict):
        raise SceneError(f"{key} must be an object", where)
    return value
