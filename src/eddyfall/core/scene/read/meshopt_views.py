"""Buffer views that are packed by meshopt (EXT_meshopt_compression): codec and filters as the extension has them, by the library."""

from typing import Any

import meshopt
import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.read.accessors import index_into, part_of, whole

NAMES = ("EXT_meshopt_compression", "KHR_meshopt_compression")
MODES = ("ATTRIBUTES", "TRIANGLES", "INDICES")
FILTERS = ("NONE", "OCTAHEDRAL", "QUATERNION", "EXPONENTIAL", "COLOR")
MAX_UNPACKED = 2 * 1024**3


def unpacked(view: dict[str, Any], buffers: list[np.ndarray], here: str) -> tuple[np.ndarray, int] | None:
    """(bytes (count * stride,), stride) of a packed view, None of a plain one; SceneError if it is damaged or says otherwise than the
    view."""
    extensions = part_of(view, "extensions", here)
    packed = next((part_of(extensions, name, here) for name in NAMES if name in extensions), None)
    if packed is None:
        return None
    buffer = buffers[index_into(packed.get("buffer"), buffers, "buffer", here)]
    start, length = whole(packed, "byteOffset", here, default=0), whole(packed, "byteLength", here, least=1)
    stride, count = whole(packed, "byteStride", here, least=1), whole(packed, "count", here, least=1)
    mode, kind = packed.get("mode"), packed.get("filter", "NONE")
    if start + length > len(buffer):
        raise SceneError(f"its packed bytes end at {start + length}, the buffer has {len(buffer)}", here)
    if mode not in MODES or kind not in FILTERS:
        raise SceneError(f"it is packed by mode {mode!r:.40} with filter {kind!r:.40}, which are not read", here)
    if stride > 256 or count * stride > MAX_UNPACKED or count * stride != whole(view, "byteLength", here, least=1):
        raise SceneError(f"its {count} packed rows of {stride} bytes are not what the view claims", here)
    if count > 32 * length:  # 16 rows of the narrowest take a byte at the least
        raise SceneError(f"{length} packed bytes cannot hold {count} rows", here)
    try:
        rows = meshopt.decode_gltf_buffer(buffer[start : start + length].tobytes(), count, stride, mode, kind)
    except (ValueError, RuntimeError, MemoryError) as error:
        raise SceneError(f"its packed bytes are damaged ({str(error)[:80]})", here) from None
    data = np.frombuffer(np.ascontiguousarray(rows).tobytes(), np.uint8)
    if len(data) != count * stride:
        raise SceneError(f"its packed bytes hold {len(data)} of {count * stride}", here)
    return data, stride
