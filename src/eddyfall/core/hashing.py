"""Content hashes: arrays once when first asked, everything else from the hashes of its parts (Merkle)."""

import dataclasses
import hashlib
import struct
import weakref
from typing import Any

import numpy as np
from pydantic import BaseModel

_array_digests: dict[int, bytes] = {}
_model_digests: dict[int, bytes] = {}


def array_digest(array: np.ndarray) -> bytes:
    """SHA-256 of dtype, shape and bytes of a read-only array, remembered while the array lives."""
    key = id(array)
    known = _array_digests.get(key)
    if known is not None:
        return known
    digest = hashlib.sha256(f"{array.dtype.str}{array.shape}".encode())
    digest.update(np.ascontiguousarray(array).data)
    result = digest.digest()
    if not array.flags.writeable:
        _array_digests[key] = result
        weakref.finalize(array, _array_digests.pop, key, None)
    return result


def freeze(array: np.ndarray) -> np.ndarray:
    """The array, contiguous and read-only, so that its hash stays true."""
    array = np.ascontiguousarray(array)
    array.flags.writeable = False
    return array


def digest(*values: Any) -> str:
    """Hex hash of any nesting of plain values, arrays, frozen dataclasses and pydantic models."""
    h = hashlib.sha256()
    for value in values:
        _feed(h, value)
    return h.hexdigest()


def _feed(h: Any, value: Any) -> None:
    match value:
        case None:
            h.update(b"N")
        case bool():
            h.update(b"T" if value else b"F")
        case int():
            h.update(b"i" + str(value).encode() + b";")
        case float():
            h.update(b"f" + struct.pack("<d", value))
        case str():
            data = value.encode("utf-8", "surrogatepass")
            h.update(b"s" + str(len(data)).encode() + b":" + data)
        case bytes():
            h.update(b"b" + str(len(value)).encode() + b":" + value)
        case np.ndarray():
            h.update(b"a" + array_digest(value))
        case np.generic():
            _feed(h, value.item())
        case dict():
            h.update(b"d" + str(len(value)).encode())
            for key in value:
                _feed(h, key)
                _feed(h, value[key])
        case tuple() | list() | frozenset() | set():
            items = sorted(value, key=repr) if isinstance(value, (set, frozenset)) else value
            h.update(b"l" + str(len(value)).encode())
            for item in items:
                _feed(h, item)
        case BaseModel():
            h.update(_model_digest(value))
        case _ if dataclasses.is_dataclass(value):
            h.update(_dataclass_digest(value))
        case _:
            raise TypeError(f"cannot hash {type(value).__name__}")


def _model_digest(value: BaseModel) -> bytes:
    """SHA-256 of a pydantic model's JSON, remembered while a frozen one lives (outside of it: a copy of the model is another one)."""
    key = id(value)
    known = _model_digests.get(key)
    if known is not None:
        return known
    result = hashlib.sha256(value.model_dump_json().encode("utf-8", "surrogatepass")).digest()
    if value.model_config.get("frozen"):
        _model_digests[key] = result
        weakref.finalize(value, _model_digests.pop, key, None)
    return result


def _dataclass_digest(value: Any) -> bytes:
    known = value.__dict__.get("_digest")
    if known is None:
        h = hashlib.sha256(type(value).__name__.encode())
        for field in dataclasses.fields(value):
            if field.metadata.get("hashed", True):
                _feed(h, getattr(value, field.name))
        known = h.digest()
        object.__setattr__(value, "_digest", known)
    return bytes(known)
