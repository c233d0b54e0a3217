"""One ring (skin, morph target, vertex colours, a texture whose coordinates are moved) as files that pack it in many ways."""

import base64
import io
import json
import math
import struct
import zipfile

import alktx2
import DracoPy
import meshopt
import numpy as np
from PIL import Image

COMPONENT = {"f4": 5126, "u4": 5125, "u2": 5123, "u1": 5121, "i2": 5122, "i1": 5120}
KIND = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}
AROUND, MOST = 48, 1.35
SCALE, OFFSET = (3.0, 2.0), (0.25, 0.1)  # of the material's coordinates
MATERIAL = 0


def ring():
    """Attributes, indices and the morph target of a ring of radius MOST about z, half of which follows a second joint."""
    angle = np.repeat(np.linspace(0, 2 * np.pi, AROUND + 1), 2)
    radius = np.tile([0.75, MOST], AROUND + 1)
    flat = np.stack([np.cos(angle), np.sin(angle)], axis=1)
    positions = np.concatenate([flat * radius[:, None], np.zeros((len(angle), 1))], axis=1)
    lean = np.concatenate([flat * 0.4, np.full((len(angle), 1), math.sqrt(1 - 0.16))], axis=1)
    upper = np.clip(flat[:, 1] * 1.5 + 0.5, 0, 1)
    steps = np.arange(0, 2 * AROUND, 2)
    indices = np.stack([steps, steps + 1, steps + 3, steps, steps + 3, steps + 2], axis=1).reshape(-1)
    return {
        "POSITION": positions.astype(np.float32),
        "NORMAL": lean.astype(np.float32),
        "TEXCOORD_0": np.stack([angle / (2 * np.pi), np.tile([0.0, 1.0], AROUND + 1)], axis=1).astype(np.float32),
        "COLOR_0": np.stack([0.5 + flat[:, 0] / 2, 0.5 + flat[:, 1] / 2, 0.6 + 0 * angle, 1 + 0 * angle], axis=1).astype(np.float32),
        "JOINTS_0": np.tile(np.array([0, 1, 0, 0], np.uint8), (len(angle), 1)),
        "WEIGHTS_0": np.stack([1 - upper, upper, 0 * upper, 0 * upper], axis=1).astype(np.float32),
    }, indices.astype(np.uint16), {"POSITION": np.stack([0 * angle, 0 * angle, 0.4 * np.cos(2 * angle)], axis=1).astype("f4")}  # fmt: skip


def picture():
    """(32, 32, 4) uint8: broad soft bands, kind to any encoder."""
    v, u = np.mgrid[0:32, 0:32] / 32
    rgb = np.stack([0.6 + 0.3 * np.sin(2 * np.pi * u), 0.6 + 0.3 * np.cos(2 * np.pi * v), 0.7 + 0 * u], axis=2)
    return np.concatenate([np.round(rgb * 255), np.full((32, 32, 1), 255)], axis=2).astype(np.uint8)


def encoded(form):
    stream = io.BytesIO()
    if form == "KTX2":
        return alktx2.encode_raw_rgba_to_ktx2(picture().tobytes(), 32, 32, codec="uastc", check_for_alpha=False, threads=1)
    Image.fromarray(picture()).save(stream, form, **({"lossless": True, "exact": True} if form == "WEBP" else {}))
    return stream.getvalue()


class File:
    """A glTF document that is put together: buffers, views, accessors."""

    def __init__(self, form="PNG"):
        self.binary, self.required = bytearray(), set()
        self.doc = {
            "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0, 1]}], "accessors": [], "bufferViews": [],
            "materials": [{
                "name": "Band", "doubleSided": True,
                "pbrMetallicRoughness": {
                    "metallicFactor": 0, "roughnessFactor": 0.8, "baseColorFactor": [0.9, 0.9, 0.9, 1],
                    "baseColorTexture": {"index": 0, "extensions": {"KHR_texture_transform": {"scale": SCALE, "offset": OFFSET}}},
                },
            }],
            "textures": [{"source": 0}],
            "nodes": [{"name": "Ring", "mesh": 0, "skin": 0}, {"name": "Root", "children": [2]},
                      {"name": "Upper", "translation": [0, 0.3, 0], "rotation": [0, 0, math.sin(0.15), math.cos(0.15)]}],
        }  # fmt: skip
        data = encoded(form)
        self.doc["images"] = [{"bufferView": self.view(data), "mimeType": f"image/{form.lower()}"}]
        if form != "PNG":
            name = {"KTX2": "KHR_texture_basisu", "WEBP": "EXT_texture_webp"}[form]
            self.required.add(name)
            self.doc["textures"] = [{"extensions": {name: {"source": 0}}}]

    def view(self, data, **more):
        self.binary += b"\0" * (-len(self.binary) % 4)
        self.doc["bufferViews"].append({"buffer": 0, "byteOffset": len(self.binary), "byteLength": len(data), **more})
        self.binary += data
        return len(self.doc["bufferViews"]) - 1

    def accessor(self, array, view=None, normalized=False, **more):
        rows = array.reshape(len(array), -1)
        if view is None:
            size, stored = rows.dtype.itemsize * rows.shape[1], rows
            if size % 4 and array.ndim > 1:
                stored = np.zeros((len(rows), -(-size // 4) * 4 // rows.dtype.itemsize), rows.dtype)
                stored[:, : rows.shape[1]] = rows
                more_view = {"byteStride": stored.shape[1] * rows.dtype.itemsize}
            else:
                more_view = {}
            view = self.view(stored.tobytes(), **more_view)
        entry = {"componentType": COMPONENT[array.dtype.str[1:]], "count": len(rows), "type": KIND[rows.shape[1]], **more}
        if view >= 0:
            entry["bufferView"] = view
        if normalized:
            entry["normalized"] = True
        self.doc["accessors"].append(entry)
        return len(self.doc["accessors"]) - 1

    def packed(self, array, mode, kind="NONE", stride=None, normalized=False, data=None, version=0):
        """An accessor over a view that meshopt packs."""
        rows = np.ascontiguousarray(array.reshape(len(array), -1)) if data is None else data
        if mode == "ATTRIBUTES" and data is None:
            size = rows.dtype.itemsize * rows.shape[1]
            padded = np.zeros((len(rows), -(-size // 4) * 4), np.uint8)
            padded[:, :size] = rows.view(np.uint8).reshape(len(rows), -1)
            rows = padded
        packed = meshopt.encode_gltf_buffer(rows if mode == "ATTRIBUTES" else array, mode)
        stride = rows.shape[1] * rows.dtype.itemsize if mode == "ATTRIBUTES" else array.dtype.itemsize
        self.binary += b"\0" * (-len(self.binary) % 4)
        extension = {"buffer": 0, "byteOffset": len(self.binary), "byteLength": len(packed), "byteStride": stride,
                     "count": len(array), "mode": mode, **({} if kind == "NONE" else {"filter": kind})}  # fmt: skip
        self.binary += packed
        self.required.add("EXT_meshopt_compression")
        at = sum(v["byteLength"] + 3 & ~3 for v in self.doc["bufferViews"] if v["buffer"] == 1)
        view = {"buffer": 1, "byteOffset": at, "byteLength": stride * len(array),
                "extensions": {"EXT_meshopt_compression": extension}}  # fmt: skip
        if mode == "ATTRIBUTES":
            view["byteStride"] = stride
        self.doc["bufferViews"].append(view)
        return self.accessor(array, view=len(self.doc["bufferViews"]) - 1, normalized=normalized)

    def with_ring(self, attributes, indices, targets, inverse=None, extensions=None):
        part = {"attributes": attributes, "indices": indices, "material": MATERIAL, "targets": [targets]}
        if extensions:
            part["extensions"] = extensions
        self.doc["meshes"] = [{"name": "Ring", "primitives": [part], "weights": [0.5]}]
        inverse = np.eye(4) if inverse is None else inverse
        binds = np.stack([inverse, inverse]).transpose(0, 2, 1).astype(np.float32)
        self.doc["skins"] = [{"joints": [1, 2], "inverseBindMatrices": self.accessor(binds.reshape(2, 16))}]
        self.doc["buffers"] = [{"byteLength": 0}]
        ends = [v["byteOffset"] + v["byteLength"] for v in self.doc["bufferViews"] if v["buffer"] == 1]
        if ends:
            self.doc["buffers"].append({"byteLength": max(ends), "extensions": {"EXT_meshopt_compression": {"fallback": True}}})
        self.doc["extensionsRequired"] = sorted(self.required)
        self.doc["extensionsUsed"] = sorted({*self.required, "KHR_texture_transform"})
        return self

    def glb(self):
        self.binary += b"\0" * (-len(self.binary) % 4)
        self.doc["buffers"][0]["byteLength"] = len(self.binary)
        text = json.dumps(self.doc).encode()
        text += b" " * (-len(text) % 4)
        body = struct.pack("<I", len(text)) + b"JSON" + text + struct.pack("<I", len(self.binary)) + b"BIN\0" + bytes(self.binary)
        return b"glTF" + struct.pack("<II", 2, 12 + len(body)) + body


def plain(form="PNG"):
    attributes, indices, target = ring()
    file = File(form)
    return file.with_ring(
        {k: file.accessor(a) for k, a in attributes.items()}, file.accessor(indices),
        {k: file.accessor(a) for k, a in target.items()},
    )  # fmt: skip


def in_a_zip():
    """Scene, buffer and picture each a file, the picture named by a path of another machine."""
    file = plain()
    doc, stream = json.loads(json.dumps(file.doc)), io.BytesIO()
    doc["images"] = [{"uri": "C:\\work\\textures\\band.png"}]
    doc["buffers"] = [{"byteLength": len(file.binary), "uri": "ring.bin"}]
    with zipfile.ZipFile(stream, "w") as z:
        z.writestr("scene/ring.gltf", json.dumps(doc))
        z.writestr("scene/ring.bin", bytes(file.binary))
        z.writestr("pictures/band.png", encoded("PNG"))
    return stream.getvalue()


def in_one_text():
    file = plain()
    uri = "data:application/octet-stream;base64," + base64.b64encode(bytes(file.binary)).decode()
    return json.dumps({**file.doc, "buffers": [{"byteLength": len(file.binary), "uri": uri}]}).encode()


def interleaved():
    """Positions and normals in one view, triangles as a list without indices' help, the target sparse."""
    attributes, indices, target = ring()
    attributes = {k: a[indices] for k, a in attributes.items()}
    file, moved = File(), target["POSITION"][indices]
    both = np.concatenate([attributes["POSITION"], attributes["NORMAL"]], axis=1)
    view = file.view(both.tobytes(), byteStride=24)
    names = {k: file.accessor(a) for k, a in attributes.items() if k not in ("POSITION", "NORMAL")}
    names["POSITION"] = file.accessor(attributes["POSITION"], view=view)
    names["NORMAL"] = file.accessor(attributes["NORMAL"], view=view, byteOffset=12)
    rows = np.flatnonzero(np.abs(moved).sum(axis=1) > 0).astype(np.uint16)
    sparse = {"count": len(rows), "indices": {"bufferView": file.view(rows.tobytes()), "componentType": 5123},
              "values": {"bufferView": file.view(moved[rows].tobytes())}}  # fmt: skip
    made = file.with_ring(names, 0, {"POSITION": file.accessor(moved, view=-1, sparse=sparse)})
    del made.doc["meshes"][0]["primitives"][0]["indices"]
    return made


def narrow():
    """Attributes as narrow whole numbers: {name: (array, normalized)}; the scale is undone by inverse bind matrices and the material."""
    attributes, indices, target = ring()
    size = 2 * MOST
    words = np.round(attributes["POSITION"] / size * 32767).astype(np.int16)
    stored = {
        "POSITION": (words, True),
        "NORMAL": (np.round(attributes["NORMAL"] * 127).astype(np.int8), True),
        "TEXCOORD_0": (np.round(attributes["TEXCOORD_0"] / 16 * 65535).astype(np.uint16), True),
        "COLOR_0": (np.round(attributes["COLOR_0"] * 255).astype(np.uint8), True),
        "JOINTS_0": (attributes["JOINTS_0"], False),
        "WEIGHTS_0": (np.round(attributes["WEIGHTS_0"] * 255).astype(np.uint8), True),
    }
    moved = (np.round(target["POSITION"] / size * 32767).astype(np.int16), True)
    return stored, indices, moved, np.diag([size, size, size, 1.0])


def quantised(pack=False):
    """Narrow numbers (KHR_mesh_quantization), packed by meshopt or not."""
    stored, indices, moved, inverse = narrow()
    file = File()
    file.required.add("KHR_mesh_quantization")
    use = file.doc["materials"][MATERIAL]["pbrMetallicRoughness"]["baseColorTexture"]
    use["extensions"]["KHR_texture_transform"]["scale"] = [16 * s for s in SCALE]

    def one(array, normalized):
        return file.packed(array, "ATTRIBUTES", normalized=normalized) if pack else file.accessor(array, normalized=normalized)

    names = {k: one(*value) for k, value in stored.items()}
    triangles = file.packed(indices, "TRIANGLES") if pack else file.accessor(indices)
    return file.with_ring(names, triangles, {"POSITION": one(*moved)}, inverse)


def filtered():
    """Packed by meshopt with its filters: normals by octahedra, the rest by exponents."""
    attributes, indices, target = ring()
    file, names = File(), {}
    for key, array in attributes.items():
        if key == "NORMAL":
            rows = meshopt.encode_filter_oct(np.concatenate([array, np.zeros((len(array), 1), np.float32)], axis=1), 4, 8)
            names[key] = file.packed(np.zeros((len(array), 3), np.int8), "ATTRIBUTES", "OCTAHEDRAL", normalized=True, data=rows)
        elif array.dtype == np.float32:
            rows = np.ascontiguousarray(meshopt.encode_filter_exp(array, 16, "Separate")).view(np.uint8).reshape(len(array), -1)
            names[key] = file.packed(array, "ATTRIBUTES", "EXPONENTIAL", data=rows)
        else:
            names[key] = file.packed(array, "ATTRIBUTES")
    return file.with_ring(names, file.packed(indices, "INDICES"), {"POSITION": file.accessor(target["POSITION"])})


def by_draco():
    """Packed by Draco, in the order it had, since the target stays outside."""
    attributes, indices, target = ring()
    file = File()
    generic = {"WEIGHTS_0": 11, "JOINTS_0": 12}
    data = DracoPy.encode(
        attributes["POSITION"], indices.reshape(-1, 3).astype(np.uint32), quantization_bits=16, preserve_order=True,
        tex_coord=attributes["TEXCOORD_0"].astype(float), normals=attributes["NORMAL"].astype(float),
        colors=np.round(attributes["COLOR_0"] * 255).astype(np.uint8),
        generic_attributes={number: attributes[key] for key, number in generic.items()},
    )  # fmt: skip
    kinds = {0: "POSITION", 1: "NORMAL", 2: "COLOR_0", 3: "TEXCOORD_0"}
    numbers = {
        kinds[a["attribute_type"]]: a["unique_id"] for a in DracoPy.decode(data).attributes if a["attribute_type"] in kinds
    }
    names = {k: file.accessor(a, view=-1) for k, a in attributes.items() if k != "COLOR_0"}
    names["COLOR_0"] = file.accessor(np.zeros((len(attributes["COLOR_0"]), 4), np.uint8), view=-1, normalized=True)
    file.required.add("KHR_draco_mesh_compression")
    extension = {"bufferView": file.view(data), "attributes": numbers | generic}
    return file.with_ring(
        names, file.accessor(indices, view=-1), {"POSITION": file.accessor(target["POSITION"])},
        extensions={"KHR_draco_mesh_compression": extension},
    )  # fmt: skip


PACKINGS = {
    "in a ZIP": in_a_zip,
    "in one text": in_one_text,
    "interleaved, sparse, without indices": lambda: interleaved().glb(),
    "quantised": lambda: quantised().glb(),
    "quantised, packed by meshopt": lambda: quantised(pack=True).glb(),
    "filtered, packed by meshopt": lambda: filtered().glb(),
    "packed by Draco": lambda: by_draco().glb(),
    "with a WebP": lambda: plain("WEBP").glb(),
    "with a KTX2": lambda: plain("KTX2").glb(),
}
