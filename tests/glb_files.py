"""GLBs put together by hand, for what our own writer does not write."""

import json
import math
import struct

import numpy as np


def glb(doc, arrays):
    """A GLB of a document and named arrays: (data, component type, kind, normalized)."""
    binary, doc = bytearray(), {**doc, "accessors": [], "bufferViews": []}
    for data, component, kind, *normalized in arrays:
        binary += b"\0" * (-len(binary) % 4)
        doc["bufferViews"].append({"buffer": 0, "byteOffset": len(binary), "byteLength": data.nbytes})
        entry = {"bufferView": len(doc["accessors"]), "componentType": component, "count": len(data), "type": kind}
        doc["accessors"].append(entry | ({"normalized": True} if normalized else {}))
        binary += data.tobytes()
    binary += b"\0" * (-len(binary) % 4)
    doc["buffers"] = [{"byteLength": len(binary)}]
    text = json.dumps(doc).encode()
    text += b" " * (-len(text) % 4)
    body = struct.pack("<I", len(text)) + b"JSON" + text + struct.pack("<I", len(binary)) + b"BIN\0" + bytes(binary)
    return b"glTF" + struct.pack("<II", 2, 12 + len(body)) + body


def turn(axis, degrees):
    """[x, y, z, w] of a turn about an axis."""
    half = math.radians(degrees) / 2
    return [*(math.sin(half) * np.eye(3)[axis]).tolist(), math.cos(half)]


def matrix(translation=(0, 0, 0), degrees=0.0, scale=1.0):
    """(4, 4) of a scale, a turn about z and a move."""
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    m = np.eye(4)
    m[:3, :3] = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]]) * scale
    m[:3, 3] = translation
    return m


CARD = np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]], np.float32)
FACES = np.array([0, 1, 2, 0, 2, 3], np.uint16)
SIGHT_RAD = 2 * math.atan(0.5)  # a picture is as high as it is far away


def written_sign(tmp_path, coverage=(0.25, 0.04, 0.01), ids=(1, 2), **nodes):
    """A card of 2 m in red, green farther off and blue beyond, a handle of white on it, seen from 2, 8, 16 and 40 m."""
    colours = {"red": (1, 0, 0), "green": (0, 1, 0), "blue": (0, 0, 1), "white": (1, 1, 1)}
    first = {"mesh": 0, "name": "sign", "extensions": {"MSFT_lod": {"ids": list(ids)}}, "children": [3]}
    if coverage is not None:
        first["extras"] = {"MSFT_screencoverage": list(coverage)}
    doc = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "extensionsUsed": ["MSFT_lod", "KHR_materials_unlit"],
        "nodes": [first, {"mesh": 1, "name": "sign far", **nodes}, {"mesh": 2, "name": "sign farther"},
                  {"mesh": 3, "name": "handle", "scale": [0.2, 0.2, 1], "translation": [0, 0, 0.01]}],
        "materials": [{"name": n, "pbrMetallicRoughness": {"baseColorFactor": [*c, 1]}, "extensions": {"KHR_materials_unlit": {}}}
                      for n, c in colours.items()],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "indices": 1, "material": k}]} for k in range(4)],
    }  # fmt: skip
    path = tmp_path / "sign.glb"
    path.write_bytes(glb(doc, [(CARD, 5126, "VEC3"), (FACES, 5123, "SCALAR")]))
    views = ",".join(
        f'"at {z}": {{"eye": [0, 0, {z}], "target": [0, 0, 0], "fov_y_deg": {math.degrees(SIGHT_RAD)}}}' for z in (2, 8, 16, 40)
    )
    (tmp_path / "sign.setup.json").write_text(f'{{"eddyfall_setup": 1, "viewpoints": {{{views}}}}}')
    return path
