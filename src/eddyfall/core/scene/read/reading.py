"""One glTF file while it is read: its JSON, its bytes, and what is to be said of it."""

from collections.abc import Mapping
from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.names import clean_name, fault_of
from eddyfall.core.scene.read.accessors import AccessorReader, objects, part_of, text, whole
from eddyfall.core.scene.read.container import MAX_BYTES, Container, read_uri
from eddyfall.core.scene.read.meshopt_views import NAMES as MESHOPT
from eddyfall.core.scene.read.meshopt_views import unpacked


class Reading:
    """A file that is being read: `notes` gathers what is left out, `missing` the numbers of pictures that are not there, `outside` the
    bytes of those in files of their own. supplied: bytes of pictures, by number, in the stead of what the file says."""

    def __init__(self, container: Container, supplied: Mapping[int, bytes] | None = None) -> None:
        self.supplied = dict(supplied or {})
        self.outside: dict[int, bytes] = {}
        self.container = container
        self.doc = container.json
        self.notes: list[str] = list(container.notes)
        self.missing: set[int] = set()

    def open_bytes(self) -> None:
        """Take the buffers, as read-only views of the file: nothing of it is held twice."""
        self.buffers = self._buffers()
        self.accessors = AccessorReader(self.doc, self.buffers, unpacked)

    def name(self, entry: dict[str, Any], here: str) -> str:
        """The name of an object, as it can be stored and shown; what was changed is said."""
        name = text(entry, "name", here)
        clean = clean_name(name)
        if clean != name:
            why = fault_of(name) or f"has {len(name)} characters"
            self.notes.append(f"{here}: its name {why}; it is called {clean[:60]!r} here")
        return clean

    def _buffers(self) -> list[np.ndarray]:
        buffers, total = [], 0
        data: bytes | memoryview
        for i, entry in enumerate(objects(self.doc, "buffers")):
            here = f"buffer {i}"
            length = whole(entry, "byteLength", here, least=1)
            total += length
            if total > MAX_BYTES:
                raise SceneError(f"the buffers claim more than {MAX_BYTES} bytes", here)
            if "uri" in entry:
                try:
                    data = read_uri(self.container, text(entry, "uri", here), MAX_BYTES)
                except FileNotFoundError as error:
                    raise SceneError(f"its file {text(entry, 'uri', here)[:80]!r} is missing: {error}", here) from None
            elif any(part_of(part_of(entry, "extensions", here), name, here).get("fallback") is True for name in MESHOPT):
                data, length = b"", 0  # its views are unpacked from those of other buffers
            elif i == 0 and self.container.embedded is not None:
                data = self.container.embedded
            else:
                raise SceneError("has neither a uri nor a GLB chunk: its data is missing", here)
            if len(data) < length:
                raise SceneError(f"claims {length} bytes, {len(data)} are there", here)
            buffers.append(np.frombuffer(data, np.uint8, length))
        return buffers
