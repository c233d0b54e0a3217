"""Files made to break a reader, each with words its refusal must hold."""

import base64
import io
import json
import zipfile
import zlib

import numpy as np

from scenes import glb_bytes

POINTS = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32).tobytes()
GIB = 1024**3


def document(**changed):
    """A valid triangle (data in the GLB chunk), with some keys replaced."""
    base = {
        "asset": {"version": "2.0"},
        "buffers": [{"byteLength": 44}],
        "bufferViews": [{"buffer": 0, "byteLength": 36}, {"buffer": 0, "byteOffset": 36, "byteLength": 6}],
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"},
            {"bufferView": 1, "componentType": 5123, "count": 3, "type": "SCALAR"},
        ],
        "meshes": [{"name": "tri", "primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}],
        "nodes": [{"name": "tri", "mesh": 0}],
        "scenes": [{"nodes": [0]}],
        "scene": 0,
    }
    return {**base, **changed}


def triangle(indices=(0, 1, 2), **changed):
    return glb_bytes(document(**changed), POINTS + np.array(indices, np.uint16).tobytes() + b"\0\0")


def png_of(width, height):
    """A PNG header that claims a size, with next to no data."""

    def chunk(kind, data):
        return len(data).to_bytes(4, "big") + kind + data + zlib.crc32(kind + data).to_bytes(4, "big")

    head = width.to_bytes(4, "big") + height.to_bytes(4, "big") + bytes([8, 2, 0, 0, 0])
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0" * 64)) + chunk(b"IEND", b"")


def zip_of(**files):
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(name.replace("__", "/"), data)
    return stream.getvalue()


def lying_zip():
    """A ZIP whose scene unpacks to more than its directory says."""
    data = bytearray(zip_of(**{"a.gltf": b"{" + b" " * 100_000_000 + b"}"}))
    real, claimed = (100_000_002).to_bytes(4, "little"), (100).to_bytes(4, "little")
    return bytes(data.replace(real, claimed))


ACCESSORS = document()["accessors"]
NODES = [{"name": "a", "children": [1]}, {"name": "b", "children": [0], "mesh": 0}]
DEEP = [{"name": f"n{i}", **({"children": [i + 1]} if i < 999 else {"mesh": 0})} for i in range(1000)]
HUGE_PNG = "data:image/png;base64," + base64.b64encode(png_of(60_000, 60_000)).decode()
FILES = {
    "0 bytes": (b"", "empty"),
    "header cut off": (triangle()[:9], "cut off"),
    "chunk cut off": (triangle()[:-20], "cut off"),
    "not a scene": (b"hello there, this is a text", "neither GLB, ZIP nor JSON"),
    "version 1": (b"glTF" + (1).to_bytes(4, "little") + triangle()[8:], "version 1"),
    "index out of range": (triangle((0, 1, 3)), "index 3 is out of range"),
    "mesh out of range": (triangle(nodes=[{"mesh": 7}]), "mesh 7 does not exist"),
    "negative index": (triangle(nodes=[{"mesh": -1}]), "mesh -1 does not exist"),
    "index is a truth": (triangle(nodes=[{"mesh": True}]), "whole number"),
    "index is text": (triangle(nodes=[{"mesh": "0"}]), "whole number"),
    "recursive nodes": (triangle(nodes=NODES), "node"),
    "own child": (triangle(nodes=[{"children": [0], "mesh": 0}]), "node 0"),
    "two parents": (triangle(nodes=[{"children": [2]}, {"children": [2]}, {"mesh": 0}], scenes=[{"nodes": [0, 1]}]), "node 2"),
    "a thousand levels": (triangle(nodes=DEEP), "deeper than 256"),
    "missing buffer": (glb_bytes(document()), "missing"),
    "buffer file missing": (json.dumps(document(buffers=[{"byteLength": 44, "uri": "no.bin"}])).encode(), "'no.bin' is missing"),
    "climbs out": (json.dumps(document(buffers=[{"byteLength": 44, "uri": "../../etc/passwd"}])).encode(), "climbs out"),
    "climbs out, encoded": (json.dumps(document(buffers=[{"byteLength": 44, "uri": "%2e%2e/a.bin"}])).encode(), "climbs out"),
    "absolute path": (json.dumps(document(buffers=[{"byteLength": 44, "uri": "/etc/passwd"}])).encode(), "beside the scene"),
    "web address": (json.dumps(document(buffers=[{"byteLength": 44, "uri": "http://x/a"}])).encode(), "beside the scene"),
    "buffer too short": (triangle(buffers=[{"byteLength": 4000}]), "claims 4000 bytes"),
    "view past the buffer": (triangle(bufferViews=[{"buffer": 0, "byteLength": 400}] * 2), "buffer view needs bytes"),
    "accessor past its view": (triangle(accessors=[{**ACCESSORS[0], "count": 9}, ACCESSORS[1]]), "9 elements need"),
    "4e9 vertices": (
        json.dumps({
            "asset": {"version": "2.0"}, "accessors": [{"componentType": 5126, "count": 4_000_000_000, "type": "VEC3"}],
            "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}], "nodes": [{"mesh": 0}]}).encode(), "claims 4000000000 vertices"),
    "zeros from nothing": (
        json.dumps({
            "asset": {"version": "2.0"}, "accessors": [{"componentType": 5126, "count": 30_000_000, "type": "VEC3"}],
            "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}], "nodes": [{"mesh": 0}]}).encode(), "claims 30000000 vertices"),
    "wrong types": (triangle(meshes={"name": "tri"}), "must be a list of objects"),
    "nodes of text": (triangle(nodes=["tri"]), "must be a list of objects"),
    "matrix of text": (triangle(nodes=[{"mesh": 0, "matrix": ["1"] * 16}]), "16 numbers"),
    "no asset": (triangle(asset={}), "asset.version"),
    "required extension": (triangle(extensionsRequired=["ACME_shine"]), "requires ACME_shine"),
    "NaN": (glb_bytes(json.dumps(document()).replace("3,", "NaN,", 1).encode(), POINTS), "NaN"),
    "1e400": (glb_bytes(b'{"asset": {"version": "2.0"}, "x": 1e400}'), "out of range"),
    "integer of 5000 digits": (glb_bytes(b'{"asset": {"version": "2.0"}, "x": ' + b"9" * 5000 + b"}"), "out of range"),
    "100k nested": (glb_bytes(b'{"a":' + b"[" * 100_000 + b"]" * 100_000 + b"}"), "nested deeper"),
    "huge picture": (triangle(images=[{"uri": HUGE_PNG}]), "pixels"),
    "bad base64": (json.dumps(document(buffers=[{"byteLength": 44, "uri": "data:x;base64,####"}])).encode(), "base64"),
    "empty zip": (zip_of(), "must hold one"),
    "two scenes": (zip_of(**{"a.gltf": b"{}", "b.gltf": b"{}"}), "holds 2"),
    "zip climbs": (zip_of(**{"..__a.gltf": b"{}"}), "climbs out"),
    "zip bomb": (zip_of(**{"a.gltf": b" " * (3 * GIB // 2), "b.bin": b"\0" * GIB}), "unpacks to"),
    "lying zip": (lying_zip(), "a.gltf"),
}  # fmt: skip
