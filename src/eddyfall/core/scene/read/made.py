"""A glTF that is put together from what another format says, by its readers."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

import numpy as np

MIPPED, REPEAT, MIRRORED, NEVER = 9987, 10497, 33648, 33071


class Made:
    """The glTF while it is put together: json and the buffer; files that its images are of."""

    def __init__(self, of: str) -> None:
        self.binary = bytearray()
        self.files: list[str] = []
        self.json: dict[str, Any] = {
            "asset": {"version": "2.0", "generator": f"Eddyfall, of {of}"}, "scene": 0, "scenes": [{"nodes": []}], "nodes": [],
            "meshes": [], "materials": [], "accessors": [], "bufferViews": [], "images": [], "textures": [], "samplers": [],
        }  # fmt: skip

    def image(self, file: str) -> int:
        """Number of the image of a file that came along, by its path."""
        if file not in self.files:
            self.json["images"].append({"uri": quote(file.replace("\\", "/"), safe="/: ")})
            self.files.append(file)
        return self.files.index(file)

    def own_image(self, name: str, png: bytes) -> int:
        """Number of an image made here."""
        if name not in self.files:
            self.json["images"].append({"name": name, "mimeType": "image/png", "bufferView": self.view(png)})
            self.files.append(name)
        return self.files.index(name)

    def texture(self, image: int, wrap_u: int = REPEAT, wrap_v: int = REPEAT) -> int:
        """Number of the texture that reads an image, wrapped so."""
        doc = self.json
        sampler = {"wrapS": wrap_u, "wrapT": wrap_v, "minFilter": MIPPED}
        if sampler not in doc["samplers"]:
            doc["samplers"].append(sampler)
        texture = {"source": image, "sampler": doc["samplers"].index(sampler)}
        if texture not in doc["textures"]:
            doc["textures"].append(texture)
        return int(doc["textures"].index(texture))

    def accessor(self, values: np.ndarray, bounds: bool = False) -> int:
        """Number of an accessor of rows (n, 2 to 4) of floats."""
        rows = np.ascontiguousarray(values, np.float32)
        entry: dict[str, Any] = {
            "bufferView": self.view(rows.tobytes()), "componentType": 5126, "count": len(rows), "type": f"VEC{rows.shape[1]}",
        }  # fmt: skip
        if bounds:
            entry["min"], entry["max"] = rows.min(axis=0).tolist(), rows.max(axis=0).tolist()
        self.json["accessors"].append(entry)
        return len(self.json["accessors"]) - 1

    def indices(self, index: np.ndarray) -> int:
        """Number of an accessor of indices (n,)."""
        view = self.view(index.astype(np.uint32).tobytes())
        self.json["accessors"].append({"bufferView": view, "componentType": 5125, "count": len(index), "type": "SCALAR"})
        return len(self.json["accessors"]) - 1

    def view(self, data: bytes) -> int:
        """Number of a view of bytes, put behind those that are there."""
        self.binary += bytes(-len(self.binary) % 4)
        self.json["bufferViews"].append({"buffer": 0, "byteOffset": len(self.binary), "byteLength": len(data)})
        self.binary += data
        return len(self.json["bufferViews"]) - 1

    def finished(self) -> tuple[dict[str, Any], bytes]:
        """(JSON, buffer) of all that was put in."""
        doc = self.json
        used = sorted({name for m in doc["materials"] for name in m.get("extensions", {})})
        if "KHR_texture_transform" in str(doc["materials"]):
            used.append("KHR_texture_transform")
        if used:
            doc["extensionsUsed"] = used
        for key in [k for k, v in doc.items() if v == [] and k not in ("nodes", "meshes", "materials")]:
            del doc[key]
        if self.binary:
            doc["buffers"] = [{"byteLength": len(self.binary)}]
        return doc, bytes(self.binary)
