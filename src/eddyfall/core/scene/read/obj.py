"""OBJ with its MTL, as the glTF that says the same: what is read of it then goes the way of any other file.

Faces of any number of corners, indices from the end, objects and groups, colours of vertices, materials with their pictures. Roughness
follows from the exponent of Blinn and Phong's highlight as Walter et al. 2007 relate the two (alpha^2 = 2 / (n + 2)); OBJ says no unit:
metres are taken."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.read.made import NEVER, REPEAT, Made

Point = tuple[float, float, float]
ReadBeside = Callable[[str, int], bytes]
MAX_MTL_BYTES = 16 * 1024**2
MOST_CORNERS = 4096  # of one face


@dataclass
class Part:
    """Faces of one material in one object: corner numbers (v, vt, vn) from 0, -1 for none, in threes."""

    corners: list[tuple[int, int, int]] = field(default_factory=list)


@dataclass
class Parsed:
    """What an OBJ says: places, colours (or None), coordinates, normals; parts by object and material; its material files; what was left
    out, by kind of line."""

    places: list[Point] = field(default_factory=list)
    colours: dict[int, tuple[float, float, float]] = field(default_factory=dict)
    uvs: list[tuple[float, float]] = field(default_factory=list)
    normals: list[tuple[float, float, float]] = field(default_factory=list)
    parts: dict[str, dict[str, Part]] = field(default_factory=dict)
    libraries: list[str] = field(default_factory=list)
    left_out: dict[str, int] = field(default_factory=dict)


def is_obj(data: bytes) -> bool:
    """Whether bytes look like an OBJ: text with a line of a vertex near its beginning."""
    head = data[: 1 << 16].lstrip(b"\xef\xbb\xbf \t\r\n")
    if head[:1] in (b"{", b"[", b"") or b"\0" in head:
        return False
    starts = (line.split(None, 1)[:1] for line in head.splitlines())
    return any(word in ([b"v"], [b"mtllib"]) for word in starts)


def parse_obj(data: bytes) -> Parsed:
    """The lines of an OBJ. SceneError, with the number of the line, for numbers that are none and corners that there are not."""
    p = Parsed()
    thing, group, material = "", "", ""
    for number, line in _lines(data):
        word, _, rest = line.partition(" ")
        here = f"line {number}"
        if word == "v":
            values = _numbers(rest, here, 3)
            p.places.append((values[0], values[1], values[2]))
            if len(values) >= 6:
                p.colours[len(p.places) - 1] = (values[3], values[4], values[5])
        elif word == "vt":
            values = _numbers(rest, here, 1)
            p.uvs.append((values[0], values[1] if len(values) > 1 else 0.0))
        elif word == "vn":
            x, y, z = _numbers(rest, here, 3)[:3]
            p.normals.append((x, y, z))
        elif word == "f":
            corners = [_corner(text, p, here) for text in rest.split()]
            if not 3 <= len(corners) <= MOST_CORNERS:
                raise SceneError(f"a face has {len(corners)} corners; 3 to {MOST_CORNERS} are read", here)
            part = p.parts.setdefault(thing or group or "object", {}).setdefault(material, Part())
            part.corners += [corners[k] for k in triangulated([p.places[c[0]] for c in corners])]
        elif word == "o":
            thing = rest.strip()
        elif word == "g":
            group = rest.strip()
        elif word == "usemtl":
            material = rest.strip()
        elif word == "mtllib":
            p.libraries.append(rest.strip())
        elif word not in ("s", ""):
            p.left_out[word[:20]] = p.left_out.get(word[:20], 0) + 1
    return p


def _lines(data: bytes) -> list[tuple[int, str]]:
    """(number, text) of lines that say something; one that ends with a backslash goes on."""
    found, begun, kept = [], 0, ""
    for number, raw in enumerate(data.decode("utf-8", "replace").splitlines(), start=1):
        text = raw.split("#", 1)[0].replace("\t", " ").strip()
        if not kept:
            begun = number
        if text.endswith("\\"):
            kept += text[:-1] + " "
            continue
        if kept + text:
            found.append((begun, (kept + text).lstrip("\ufeff")))
        kept = ""
    return found


def _numbers(text: str, here: str, least: int) -> list[float]:
    try:
        values = [float(v) for v in text.split()]
    except ValueError:
        raise SceneError(f"{text[:40]!r} are no numbers", here) from None
    if len(values) < least:
        raise SceneError(f"has {len(values)} numbers, {least} are needed", here)
    if not all(math.isfinite(v) and abs(v) < 1e30 for v in values):
        raise SceneError(f"{text[:40]!r} is out of range", here)
    return values


def _corner(text: str, p: Parsed, here: str) -> tuple[int, int, int]:
    said = [*text.split("/"), "", ""][:3]
    found = []
    for value, count, what in zip(said, (len(p.places), len(p.uvs), len(p.normals)), ("vertex", "coordinate", "normal")):
        if not value and what != "vertex":
            found.append(-1)
            continue
        try:
            number = int(value)
        except ValueError:
            raise SceneError(f"a corner says {text[:30]!r}", here) from None
        index = number - 1 if number > 0 else count + number
        if number == 0 or not 0 <= index < count:
            raise SceneError(f"a face names {what} {number}, there are {count} before it", here)
        found.append(index)
    return found[0], found[1], found[2]


def triangulated(corners: Sequence[Point]) -> list[int]:
    """Corner numbers, three a triangle, of a flat face of n places in m: a fan where it is convex, else ears cut off it (Meisters 1975)."""
    n = len(corners)
    if n == 3:
        return [0, 1, 2]
    if n == 4 and _four_are_convex(*corners):  # by far the most: nothing is made an array of
        return [0, 1, 2, 0, 2, 3]
    places = np.array(corners)
    following = np.roll(places, -1, axis=0)
    normal = np.cross(places, following).sum(axis=0)  # Newell's
    if not np.any(normal):
        return [i for k in range(1, n - 1) for i in (0, k, k + 1)]
    turns = np.cross(places - np.roll(places, 1, axis=0), following - places) @ normal
    if (turns >= 0).all():
        return [i for k in range(1, n - 1) for i in (0, k, k + 1)]
    away = int(np.abs(normal).argmax())
    flat = np.delete(places, away, axis=1) * (1.0 if (normal[away] > 0) != (away == 1) else np.array([-1.0, 1.0]))
    left, found = list(range(n)), list[int]()
    while len(left) > 3:
        ear = next((k for k in range(len(left)) if _is_ear(flat, left, k)), 0)
        a, b, c = left[ear - 1], left[ear], left[(ear + 1) % len(left)]
        found += [a, b, c]
        left.pop(ear)
    return [*found, *left]


def _four_are_convex(a: Point, b: Point, c: Point, d: Point) -> bool:
    """Whether every turn of a face of four goes the way that its diagonals say."""
    nx, ny, nz = _cross(c, a, d, b)
    for before, at, after in ((d, a, b), (a, b, c), (b, c, d), (c, d, a)):
        x, y, z = _cross(at, before, after, at)
        if x * nx + y * ny + z * nz < 0:
            return False
    return True


def _cross(a: Point, b: Point, c: Point, d: Point) -> Point:
    """(a - b) x (c - d)."""
    x, y, z, u, v, w = a[0] - b[0], a[1] - b[1], a[2] - b[2], c[0] - d[0], c[1] - d[1], c[2] - d[2]
    return y * w - z * v, z * u - x * w, x * v - y * u


def _is_ear(flat: np.ndarray, left: list[int], k: int) -> bool:
    a, b, c = flat[left[k - 1]], flat[left[k]], flat[left[(k + 1) % len(left)]]
    if _side(a, b, c) <= 0:
        return False
    corners = {left[k - 1], left[k], left[(k + 1) % len(left)]}
    return not any(
        _side(a, b, flat[i]) >= 0 and _side(b, c, flat[i]) >= 0 and _side(c, a, flat[i]) >= 0 for i in left if i not in corners
    )


def _side(a: np.ndarray, b: np.ndarray, p: np.ndarray) -> float:
    return float((b[0] - a[0]) * (p[1] - a[1]) - (b[1] - a[1]) * (p[0] - a[0]))


@dataclass
class Mtl:
    """A material of an MTL: numbers by their words, pictures by theirs as (file, options)."""

    numbers: dict[str, list[float]] = field(default_factory=dict)
    pictures: dict[str, tuple[str, dict[str, Any]]] = field(default_factory=dict)


def parse_mtl(data: bytes, name: str) -> dict[str, Mtl]:
    """Materials of an MTL by name. SceneError, with the number of the line, for numbers that are none."""
    found: dict[str, Mtl] = {}
    now = Mtl()
    for number, line in _lines(data):
        word, _, rest = line.partition(" ")
        if word == "newmtl":
            now = found.setdefault(rest.strip(), Mtl())
        elif word.lower().startswith("map_") or word in ("bump", "norm", "disp"):
            file, options = _picture(rest)
            if file:
                now.pictures[word.lower()] = (file, options)
        elif word in ("Kd", "Ke", "Ks", "d", "Tr", "Ns", "Ni", "Pr", "Pm", "illum"):
            if rest.split()[:1] in (["spectral"], ["xyz"]):
                continue
            now.numbers[word] = _numbers(rest.removeprefix("-halo "), f"{name}, line {number}", 1)
    return found


def _picture(text: str) -> tuple[str, dict[str, Any]]:
    """File and options of a picture's line: -o and -s move and scale its coordinates, -clamp ends it at its edges."""
    words, options, at = text.split(), dict[str, Any](), 0
    takes = {
        "-blendu": 1,
        "-blendv": 1,
        "-boost": 1,
        "-mm": 2,
        "-texres": 1,
        "-clamp": 1,
        "-bm": 1,
        "-imfchan": 1,
        "-type": 1,
        "-cc": 1,
    }
    while at < len(words) and words[at].startswith("-"):
        word = words[at]
        if word in ("-o", "-s", "-t"):
            values: list[float] = []
            while at + 1 < len(words) and len(values) < 3 and _is_number(words[at + 1]):
                values.append(float(words[at + 1]))
                at += 1
            options[word] = values
        else:
            count = takes.get(word, 1)
            options[word] = words[at + 1 : at + 1 + count]
            at += count
        at += 1
    return " ".join(words[at:]), options


def _is_number(text: str) -> bool:
    try:
        return math.isfinite(float(text))
    except ValueError:
        return False


def as_gltf(data: bytes, read_beside: ReadBeside) -> tuple[dict[str, Any], bytes, tuple[str, ...]]:
    """(JSON, buffer, notes) of the glTF that says what an OBJ and its MTL do. SceneError for what cannot be read."""
    p = parse_obj(data)
    if not p.parts:
        raise SceneError("the OBJ has no face")
    notes, said = [f"left out: {count} lines {word!r} of the OBJ" for word, count in p.left_out.items()], dict[str, Mtl]()
    for library in p.libraries:
        try:
            said |= parse_mtl(_beside(library.replace("\\", "/"), read_beside), library[:60])
        except FileNotFoundError as error:
            notes.append(f"left out: material file {library[:80]!r}: {error}; its materials are grey")
    doc = _Document(p)
    used = dict.fromkeys(material for parts in p.parts.values() for material in parts)
    for material in used:
        doc.material(material, said.get(material), notes)
    for name, parts in p.parts.items():
        doc.thing(name, parts, list(used))
    return (*doc.finished(), tuple(notes))


def _beside(path: str, read_beside: ReadBeside) -> bytes:
    """A material file where its path says, or next to the OBJ if that is of another machine or climbs out."""
    own = path.startswith("/") or ":" in path or ".." in path.split("/")
    return read_beside(path.rsplit("/", 1)[-1] if own else path, MAX_MTL_BYTES)


class _Document(Made):
    """The glTF of an OBJ while it is put together."""

    def __init__(self, p: Parsed) -> None:
        super().__init__("an OBJ")
        self.p = p
        self.places = np.array(p.places, np.float32)
        self.uvs = np.array(p.uvs, np.float32).reshape(-1, 2)
        self.normals = np.array(p.normals, np.float32).reshape(-1, 3)

    def thing(self, name: str, parts: dict[str, Part], used: list[str]) -> None:
        primitives = []
        for material, part in parts.items():
            corners = np.array(part.corners, np.int64)
            whole = np.where((corners >= 0).all(axis=0), corners, -1)  # what not every corner has, none has
            kinds, index = np.unique(whole, axis=0, return_inverse=True)
            attributes = {"POSITION": self.accessor(self.places[kinds[:, 0]], bounds=True)}
            if (kinds[:, 1] >= 0).all():
                attributes["TEXCOORD_0"] = self.accessor(self.uvs[kinds[:, 1]] * [1, -1] + np.array([0, 1]))
            if (kinds[:, 2] >= 0).all():
                length = np.linalg.norm(self.normals[kinds[:, 2]], axis=1, keepdims=True)
                attributes["NORMAL"] = self.accessor(self.normals[kinds[:, 2]] / np.maximum(length, 1e-20))
            if self.p.colours:
                rgb = np.array([self.p.colours.get(int(v), (1.0, 1.0, 1.0)) for v in kinds[:, 0]])
                attributes["COLOR_0"] = self.accessor(np.clip(rgb, 0, 1))
            primitives.append(
                {"attributes": attributes, "indices": self.indices(index.reshape(-1)), "material": used.index(material)}
            )
        self.json["meshes"].append({"name": name, "primitives": primitives})
        self.json["scenes"][0]["nodes"].append(len(self.json["nodes"]))
        self.json["nodes"].append({"name": name, "mesh": len(self.json["meshes"]) - 1})

    def material(self, name: str, said: Mtl | None, notes: list[str]) -> None:
        entry: dict[str, Any] = {
            "name": name or "material",
            "pbrMetallicRoughness": {"metallicFactor": 0.0, "roughnessFactor": 0.9},
        }
        self.json["materials"].append(entry)
        if said is None:
            entry["pbrMetallicRoughness"]["baseColorFactor"] = [0.5, 0.5, 0.5, 1.0]
            return
        n, pbr = said.numbers, entry["pbrMetallicRoughness"]
        alpha = n["d"][0] if "d" in n else 1 - n["Tr"][0] if "Tr" in n else 1.0
        pbr["baseColorFactor"] = [*_rgb(n.get("Kd", [1.0, 1.0, 1.0] if "map_kd" in said.pictures else [0.5])), _share(alpha)]
        pbr["roughnessFactor"] = _share(n["Pr"][0]) if "Pr" in n else roughness_of(n["Ns"][0]) if "Ns" in n else 0.9
        pbr["metallicFactor"] = _share(n.get("Pm", [0.0])[0])
        if alpha < 1 or "map_d" in said.pictures:
            entry["alphaMode"] = "BLEND"
        emitted = _rgb(n.get("Ke", [0.0]))
        if max(emitted) > 0:
            entry["emissiveFactor"] = emitted
        if n.get("Ni", [1.5])[0] >= 1 and n.get("Ni", [1.5])[0] != 1.5:
            entry.setdefault("extensions", {})["KHR_materials_ior"] = {"ior": n["Ni"][0]}
        if "Ks" in n and max(_rgb(n["Ks"])) == 0:
            entry.setdefault("extensions", {})["KHR_materials_specular"] = {"specularFactor": 0.0}
        for word, owner, key in (
            ("map_kd", pbr, "baseColorTexture"),
            ("norm", entry, "normalTexture"),
            ("map_ke", entry, "emissiveTexture"),
        ):
            if word in said.pictures:
                owner[key] = self._texture(*said.pictures[word])
                if word == "map_ke" and "Ke" not in n:
                    entry["emissiveFactor"] = [1.0, 1.0, 1.0]
        for word in said.pictures:
            if word == "map_d" and said.pictures[word][0] == said.pictures.get("map_kd", ("",))[0]:
                continue  # its alpha is the base picture's own
            if word not in ("map_kd", "norm", "map_ke"):
                notes.append(f"not drawn yet: material {name!r:.60}: {word} {said.pictures[word][0][:60]!r}")

    def _texture(self, file: str, options: dict[str, Any]) -> dict[str, Any]:
        wrap = NEVER if options.get("-clamp", ["off"])[:1] == ["on"] else REPEAT
        index = self.texture(self.image(file), wrap, wrap)
        info: dict[str, Any] = {"index": index}
        scale, offset = (
            [said[k] if k < len(said) else usual for k in (0, 1)]
            for said, usual in ((options.get("-s", []), 1.0), (options.get("-o", []), 0.0))
        )  # fmt: skip
        if scale != [1.0, 1.0] or offset != [0.0, 0.0]:
            # Ours run from the top: v' = 1 - (s (1 - v) + o).
            info["extensions"] = {"KHR_texture_transform": {"scale": scale, "offset": [offset[0], 1 - scale[1] - offset[1]]}}
        return info


def roughness_of(exponent: float) -> float:
    """Roughness of a highlight of Blinn and Phong's exponent: alpha^2 = 2 / (n + 2), roughness the root of alpha (Walter et al. 2007)."""
    return float((2.0 / (max(exponent, 0.0) + 2.0)) ** 0.25)


def _rgb(values: list[float]) -> list[float]:
    three = values[:3] if len(values) >= 3 else [values[0]] * 3
    return [_share(v) for v in three]


def _share(v: float) -> float:
    return min(max(v, 0.0), 1.0)
