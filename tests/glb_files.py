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
