"""Scene to GLB. A scene that came from a file is patched: only parts that changed get new accessors, all else stays as it was."""

import copy
import json
import math
import struct
from dataclasses import replace
from itertools import zip_longest
from typing import Any

import numpy as np

from eddyfall.core.scene.images import encode_png, kind_of
from eddyfall.core.scene.model import STRAIGHT, Image, Material, Mesh, Node, Primitive, Scene, TextureUse, Turn
from eddyfall.core.scene.sky_pictures import sky_bytes

COMPONENT_OF = {np.dtype(np.float32): 5126, np.dtype(np.uint32): 5125, np.dtype(np.uint16): 5123, np.dtype(np.uint8): 5121,
                np.dtype(np.int16): 5122, np.dtype(np.int8): 5120}  # fmt: skip
KIND_OF = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4"}
MOVED, INSTANCING, DRACO = "KHR_texture_transform", "EXT_mesh_gpu_instancing", "KHR_draco_mesh_compression"
SPECULAR_GLOSS = "KHR_materials_pbrSpecularGlossiness"
WRAP_CODES = {"repeat": 10497, "mirror": 33648, "clamp": 33071}


def write_glb(scene: Scene, original: Scene | None = None) -> bytes:
    """GLB bytes of a scene. With `original` (the scene as read), its JSON and buffers are kept and only differences written.

    If nothing differs and the original was a GLB, its very bytes come back.
    """
    if original is None or original.source is None:
        return _Writer().fresh(scene)
    kept = all(
        a is b
        for mine, theirs in (
            (scene.meshes, original.meshes),
            (scene.materials, original.materials),
            (scene.images, original.images),
            (scene.skies, original.skies),
        )
        for a, b in zip_longest(mine, theirs)
    )
    if original.source.raw is not None and kept and _same_nodes(scene, original):
        return original.source.raw
    return _Writer().patched(scene, original)


def moved(turn: Turn) -> dict[str, Any]:
    """What KHR_texture_transform says for rows of a turn that it can hold: scaled, then turned, then moved."""
    a, b, c, d, e, f = turn
    angle = math.atan2(d, a)
    return {
        "offset": [c, f], "rotation": angle,
        "scale": [math.hypot(a, d), e * math.cos(angle) - b * math.sin(angle)],
    }  # fmt: skip


def _same_nodes(a: Scene, b: Scene) -> bool:
    return len(a.nodes) == len(b.nodes) and all(
        x is y or (x.mesh == y.mesh and np.array_equal(x.matrix, y.matrix)) for x, y in zip(a.nodes, b.nodes)
    )


class _Writer:
    def __init__(self) -> None:
        self.doc: dict[str, Any] = {}
        self.binary = bytearray()
        self.without_bytes: list[dict[str, Any]] = []  # buffers whose views are unpacked from those of another

    def patched(self, scene: Scene, original: Scene) -> bytes:
        assert original.source is not None
        self.doc = copy.deepcopy(original.source.json)
        places = []
        for said, buffer in zip(self.doc.get("buffers", []), original.source.buffers):
            if not len(buffer):
                self.without_bytes.append(said)
                places.append((len(self.without_bytes), 0))
                continue
            self._align()
            places.append((0, len(self.binary)))
            self.binary += buffer.tobytes()
        for view in self.doc.get("bufferViews", []):
            for part in (view, *view.get("extensions", {}).values()):
                if "buffer" in part:
                    part["buffer"], offset = places[part["buffer"]]
                    part["byteOffset"] = part.get("byteOffset", 0) + offset
        for index, (new, old) in enumerate(zip(scene.meshes, original.meshes)):
            if new is old:
                continue
            entries = self.doc["meshes"][index]["primitives"]
            for part, before in zip(new.primitives, old.primitives):
                if part is before:
                    continue
                own = entries[before.source_index]
                if part.material != before.material and part.material is not None:
                    own["material"] = part.material
                if (
                    any(part.attributes.get(k) is not a for k, a in before.attributes.items())
                    or part.indices is not before.indices
                ):
                    self._replace(own, part)
            gone = {p.source_index for p in old.primitives[len(new.primitives) :]}
            self.doc["meshes"][index]["primitives"] = entries = [e for i, e in enumerate(entries) if i not in gone]
            for part in new.primitives[len(old.primitives) :]:
                entry: dict[str, Any] = {} if part.material is None else {"material": part.material}
                self._replace(entry, part)
                entries.append(entry)
        for mesh in scene.meshes[len(original.meshes) :]:
            self._new_mesh(mesh)
        self._new_images(scene, original)
        if scene.skies:
            self._skies(scene)
        used: list[str] = []
        for index, (now, was) in enumerate(zip(scene.materials, original.materials)):
            if now is not was:
                self.doc.setdefault("samplers", [])
                self.doc.setdefault("textures", [])
                self._changed_material(self.doc["materials"][index], now, was, used)
        for material in scene.materials[len(original.materials) :]:
            self.doc.setdefault("samplers", [])
            self.doc.setdefault("textures", [])
            self.doc.setdefault("materials", []).append(self._material(material, used))
        for key in ("samplers", "textures"):
            if not self.doc.get(key, True):
                del self.doc[key]
        if used:
            self.doc["extensionsUsed"] = sorted({*self.doc.get("extensionsUsed", []), *used})
        of_file, parted = len(self.doc.get("nodes", [])), set[int]()
        for index, (node, old_node) in enumerate(zip(scene.nodes, original.nodes)):
            if node.mesh != old_node.mesh and index < of_file:
                self.doc["nodes"][index]["mesh"] = node.mesh
            if not np.array_equal(node.matrix, old_node.matrix):
                if index >= of_file:  # an instance: a list of instances is one for all that share it
                    parted.add(int(node.parent or 0))
                    continue
                entry = self.doc["nodes"][index]
                for key in ("translation", "rotation", "scale"):
                    entry.pop(key, None)
                entry["matrix"] = [float(v) for v in node.matrix.T.reshape(-1)]
        for node in scene.nodes[len(original.nodes) :]:
            self._new_node(node)
        for index in sorted(parted):
            self._part_instances(scene, index, of_file)
        self._drop_unused(DRACO, [part for mesh in self.doc.get("meshes", []) for part in mesh["primitives"]])
        self._drop_unused(SPECULAR_GLOSS, self.doc.get("materials", []))
        return self._finish()

    def _changed_material(self, entry: dict[str, Any], now: Material, before: Material, used: list[str]) -> None:
        """Of a material's entry only what changed; what we do not model stays as it was."""
        plain = _Writer()
        plain.doc = {"samplers": [], "textures": []}
        ignored: list[str] = []
        old, new = plain._material(replace(before, gloss=None), ignored), plain._material(now, ignored)
        if before.gloss is not None and now.gloss is None:
            entry.get("extensions", {}).pop(SPECULAR_GLOSS, None)
        _lay_over(entry, old, new, self._material(now, used))
        if not entry.get("extensions", True):
            del entry["extensions"]
        if before.gloss is not None and now.gloss is None:
            entry.setdefault("pbrMetallicRoughness", {})  # said by metal and roughness now, even where all is as without a word

    def _drop_unused(self, name: str, entries: list[dict[str, Any]]) -> None:
        """Take an extension of entries (parts, materials) off the lists once none has it."""
        if not any(name in entry.get("extensions", {}) for entry in entries):
            for key in ("extensionsUsed", "extensionsRequired"):
                left = [n for n in self.doc.pop(key, []) if n != name]
                if left:
                    self.doc[key] = left

    def _new_mesh(self, mesh: Mesh) -> None:
        parts: list[dict[str, Any]] = []
        for part in mesh.primitives:
            entry: dict[str, Any] = {} if part.material is None else {"material": part.material}
            self._replace(entry, part)
            parts.append(entry)
        self.doc.setdefault("meshes", []).append({"name": mesh.name, "primitives": parts})

    def _new_node(self, node: Node) -> None:
        """A node that stands by itself: a root of the file's scene."""
        scenes = self.doc.get("scenes") or [{}]
        self.doc["scenes"] = scenes
        self.doc.setdefault("nodes", []).append(
            {"name": node.name, "mesh": node.mesh, "matrix": [float(v) for v in node.matrix.T.reshape(-1)]}
        )
        scenes[self.doc.get("scene", 0)].setdefault("nodes", []).append(len(self.doc["nodes"]) - 1)

    def _part_instances(self, scene: Scene, index: int, of_file: int) -> None:
        """A node's instances, the scene's nodes from number `of_file` on that hang on it, as nodes of their own."""
        entry, nodes = self.doc["nodes"][index], self.doc["nodes"]
        entry["extensions"].pop(INSTANCING)
        mesh, skin = entry.pop("mesh"), entry.pop("skin", None)
        for node in scene.nodes[of_file:]:
            if node.parent == index:
                own = {"name": node.name, "mesh": mesh, "matrix": [float(v) for v in node.matrix.T.reshape(-1)]}
                entry.setdefault("children", []).append(len(nodes))
                nodes.append(own | ({} if skin is None else {"skin": skin}))

    def _new_images(self, scene: Scene, original: Scene) -> None:
        """Images that were added or changed; a scene has one for each of its file's, in their order."""
        for index, image in enumerate(scene.images):
            if index >= len(original.images):
                self.doc.setdefault("images", []).append(self._image(image))
            elif image is not original.images[index]:
                self.doc["images"][index] = self._image(image)
            elif original.source is not None and (data := original.source.outside.get(index)) is not None:
                # What came in a file of its own goes along as it was.
                self.doc["images"][index] = {"name": image.name, "mimeType": kind_of(data), "bufferView": self._view(data)}

    def _replace(self, entry: dict[str, Any], part: Primitive) -> None:
        accessors = self.doc.get("accessors", [])
        before = {key: bool(accessors[i].get("normalized")) for key, i in entry.get("attributes", {}).items()}
        entry["attributes"] = {key: self._accessor(array, 34962, key == "POSITION") for key, array in part.attributes.items()}
        for key, array in part.attributes.items():
            if before.get(key) and array.dtype != np.float32:
                self.doc["accessors"][entry["attributes"][key]]["normalized"] = True
        extensions = entry.get("extensions", {})
        if extensions.pop(DRACO, None) is not None and not extensions:
            del entry["extensions"]
        entry.pop("targets", None)
        if part.targets:
            entry["targets"] = [{key: self._accessor(a, 34962, key == "POSITION") for key, a in t.items()} for t in part.targets]
        entry["indices"] = self._accessor(_small(part.indices.reshape(-1)), 34963, False)
        entry["mode"] = 4

    def fresh(self, scene: Scene) -> bytes:
        doc = self.doc
        doc["asset"] = {"version": "2.0", "generator": "Eddyfall"}
        doc["scene"] = 0
        doc["scenes"] = [{"nodes": [i for i, n in enumerate(scene.nodes) if n.parent is None]}]
        self._images(scene)
        if scene.skies:
            self._skies(scene)
        used: list[str] = []
        if scene.materials:
            doc["materials"] = [self._material(m, used) for m in scene.materials]
        if scene.meshes:
            doc["meshes"] = []
            for mesh in scene.meshes:
                self._new_mesh(mesh)
        if scene.cameras:
            doc["cameras"] = [
                {"name": c.name, "type": "perspective",
                 "perspective": {"yfov": c.fov_y_rad, "znear": c.near_m, **({"zfar": c.far_m} if c.far_m else {})}}
                for c in scene.cameras
            ]  # fmt: skip
        if scene.lights:
            used.append("KHR_lights_punctual")
            doc["extensions"] = {"KHR_lights_punctual": {"lights": [self._light(v) for v in scene.lights]}}
        doc["nodes"] = [self._node(scene, i) for i in range(len(scene.nodes))]
        if used:
            doc["extensionsUsed"] = sorted(set(used))
        return self._finish()

    def _node(self, scene: Scene, index: int) -> dict[str, Any]:
        node = scene.nodes[index]
        entry: dict[str, Any] = {"name": node.name}
        if not np.array_equal(node.matrix, np.eye(4)):
            entry["matrix"] = [float(v) for v in node.matrix.T.reshape(-1)]
        children = [i for i, n in enumerate(scene.nodes) if n.parent == index]
        if children:
            entry["children"] = children
        if node.mesh is not None:
            entry["mesh"] = node.mesh
        if node.camera is not None:
            entry["camera"] = node.camera
        if node.light is not None:
            entry["extensions"] = {"KHR_lights_punctual": {"light": node.light}}
        return entry

    def _light(self, light: Any) -> dict[str, Any]:
        entry = {"name": light.name, "type": light.kind, "color": list(light.rgb), "intensity": light.intensity}
        if light.range_m:
            entry["range"] = light.range_m
        if light.kind == "spot":
            entry["spot"] = {"innerConeAngle": light.inner_cone_rad, "outerConeAngle": light.outer_cone_rad}
        return entry

    def _images(self, scene: Scene) -> None:
        if not scene.images:
            return
        self.doc["images"], self.doc["textures"], self.doc["samplers"] = [], [], []
        for image in scene.images:
            self.doc["images"].append(self._image(image))

    def _skies(self, scene: Scene) -> None:
        """Sky pictures go with the file, as its extras say: glTF itself has no word for them."""
        extras = self.doc.get("extras")
        extras = self.doc["extras"] = extras if isinstance(extras, dict) else {}
        extras["skies"] = [
            {"name": sky.name, "mimeType": "image/x-exr", "bufferView": self._view(sky_bytes(sky.radiance))}
            for sky in scene.skies
        ]

    def _image(self, image: Image) -> dict[str, Any]:
        return {"name": image.name, "mimeType": "image/png", "bufferView": self._view(encode_png(image))}

    def _texture(self, use: TextureUse | None) -> dict[str, Any] | None:
        if use is None:
            return None
        sampler = {"wrapS": WRAP_CODES[use.wrap_u], "wrapT": WRAP_CODES[use.wrap_v],
                   "magFilter": 9728 if use.nearest else 9729, "minFilter": 9987}  # fmt: skip
        samplers, textures = self.doc["samplers"], self.doc["textures"]
        if sampler not in samplers:
            samplers.append(sampler)
        texture = {"source": use.image, "sampler": samplers.index(sampler)}
        if texture not in textures:
            textures.append(texture)
        info: dict[str, Any] = {"index": textures.index(texture)}
        if use.uv_set:
            info["texCoord"] = use.uv_set
        if use.turn != STRAIGHT:
            info["extensions"] = {MOVED: moved(use.turn)}
        return info

    def _material(self, m: Material, used: list[str]) -> dict[str, Any]:
        pbr: dict[str, Any] = {"baseColorFactor": list(m.base_rgba), "metallicFactor": m.metallic, "roughnessFactor": m.roughness}
        entry: dict[str, Any] = {
            "name": m.name,
            "pbrMetallicRoughness": pbr,
            "alphaMode": m.alpha_mode,
            "doubleSided": m.double_sided,
        }
        if m.alpha_mode == "MASK":
            entry["alphaCutoff"] = m.alpha_cutoff
        normal, occlusion = self._texture(m.normal_texture), self._texture(m.occlusion_texture)
        for owner, key, value in (
            (pbr, "baseColorTexture", self._texture(m.base_texture)),
            (pbr, "metallicRoughnessTexture", self._texture(m.metallic_roughness_texture)),
            (entry, "emissiveTexture", self._texture(m.emissive_texture)),
            (entry, "occlusionTexture", {**occlusion, "strength": m.occlusion_strength} if occlusion else None),
            (entry, "normalTexture", {**normal, "scale": m.normal_scale} if normal else None),
        ):
            if value is not None:
                owner[key] = value
        extensions: dict[str, Any] = {}
        peak = max(m.emissive)
        if peak > 0:
            strength = max(peak, 1.0)
            entry["emissiveFactor"] = [v / strength for v in m.emissive]
            if strength > 1:
                extensions["KHR_materials_emissive_strength"] = {"emissiveStrength": strength}
        if m.unlit:
            extensions["KHR_materials_unlit"] = {}
        if m.gloss is not None:
            del entry["pbrMetallicRoughness"]
            said: dict[str, Any] = {
                "diffuseFactor": list(m.gloss.diffuse_rgba), "specularFactor": list(m.gloss.specular_rgb),
                "glossinessFactor": m.gloss.glossiness,
            }  # fmt: skip
            for key, use in (
                ("diffuseTexture", m.gloss.diffuse_texture),
                ("specularGlossinessTexture", m.gloss.specular_texture),
            ):
                if picture := self._texture(use):
                    said[key] = picture
            extensions[SPECULAR_GLOSS] = said
        if m.specular != 1.0 or m.specular_rgb != (1.0, 1.0, 1.0):
            extensions["KHR_materials_specular"] = {"specularFactor": m.specular, "specularColorFactor": list(m.specular_rgb)}
        if m.clearcoat:
            coat: dict[str, Any] = {"clearcoatFactor": m.clearcoat, "clearcoatRoughnessFactor": m.clearcoat_roughness}
            for key, use in (
                ("clearcoatTexture", m.clearcoat_texture), ("clearcoatRoughnessTexture", m.clearcoat_roughness_texture),
                ("clearcoatNormalTexture", m.clearcoat_normal_texture),
            ):  # fmt: skip
                if picture := self._texture(use):
                    coat[key] = picture
            if "clearcoatNormalTexture" in coat:
                coat["clearcoatNormalTexture"]["scale"] = m.clearcoat_normal_scale
            extensions["KHR_materials_clearcoat"] = coat
        if m.ior != 1.5:
            extensions["KHR_materials_ior"] = {"ior": m.ior}
        if m.transmission or m.transmission_texture:
            lets: dict[str, Any] = {"transmissionFactor": m.transmission}
            if picture := self._texture(m.transmission_texture):
                lets["transmissionTexture"] = picture
            extensions["KHR_materials_transmission"] = lets
        if m.thickness_m or m.thickness_texture:
            volume: dict[str, Any] = {"thicknessFactor": m.thickness_m, "attenuationColor": list(m.attenuation_rgb)}
            if math.isfinite(m.attenuation_m):
                volume["attenuationDistance"] = m.attenuation_m
            if picture := self._texture(m.thickness_texture):
                volume["thicknessTexture"] = picture
            extensions["KHR_materials_volume"] = volume
        if extensions:
            entry["extensions"] = extensions
            used.extend(extensions)
        if any(use is not None and use.turn != STRAIGHT for use in m.every_use.values()):
            used.append(MOVED)
        return entry

    def _align(self) -> None:
        self.binary += b"\0" * (-len(self.binary) % 4)

    def _view(self, data: bytes, target: int | None = None) -> int:
        self._align()
        views = self.doc.setdefault("bufferViews", [])
        views.append(
            {"buffer": 0, "byteOffset": len(self.binary), "byteLength": len(data), **({"target": target} if target else {})}
        )
        self.binary += data
        return len(views) - 1

    def _accessor(self, array: np.ndarray, target: int, bounds: bool) -> int:
        rows = array if array.ndim == 2 else array[:, None]
        stored = rows
        if target == 34962 and (rows.shape[1] * rows.itemsize) % 4:
            stored = np.zeros((len(rows), -(-rows.shape[1] * rows.itemsize // 4) * 4 // rows.itemsize), rows.dtype)
            stored[:, : rows.shape[1]] = rows
        view = self._view(np.ascontiguousarray(stored).tobytes(), target)
        if stored is not rows:
            self.doc["bufferViews"][view]["byteStride"] = stored.shape[1] * stored.itemsize
        entry: dict[str, Any] = {
            "bufferView": view,
            "componentType": COMPONENT_OF[rows.dtype],
            "count": len(rows),
            "type": KIND_OF[rows.shape[1]],
        }
        if bounds:
            entry["min"], entry["max"] = [float(v) for v in rows.min(axis=0)], [float(v) for v in rows.max(axis=0)]
        accessors = self.doc.setdefault("accessors", [])
        accessors.append(entry)
        return len(accessors) - 1

    def _finish(self) -> bytes:
        self._align()
        if self.binary:
            self.doc["buffers"] = [{"byteLength": len(self.binary)}, *self.without_bytes]
        text = json.dumps(self.doc, separators=(",", ":"), allow_nan=False).encode()
        text += b" " * (-len(text) % 4)
        body = struct.pack("<II", len(text), 0x4E4F534A) + text
        if self.binary:
            body += struct.pack("<II", len(self.binary), 0x004E4942) + bytes(self.binary)
        return struct.pack("<4sII", b"glTF", 2, 12 + len(body)) + body


def _lay_over(entry: dict[str, Any], old: dict[str, Any], new: dict[str, Any], written: dict[str, Any]) -> None:
    """Keys that differ between two ways to say a material, laid over its entry as they are written there."""
    for key in {*old, *new}:
        if key not in new:
            entry.pop(key, None)
        elif old.get(key) != new[key]:
            if isinstance(new[key], dict) and isinstance(entry.get(key, {}), dict) and not key.endswith("Texture"):
                _lay_over(entry.setdefault(key, {}), old.get(key, {}), new[key], written[key])
            else:
                entry[key] = written[key]


def _small(indices: np.ndarray) -> np.ndarray:
    return indices.astype(np.uint16 if len(indices) == 0 or indices.max() < 65535 else np.uint32)
