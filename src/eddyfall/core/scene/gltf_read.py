"""glTF 2.0 to Scene. Broken files are refused with object and rule; what is merely not drawn yet is noted."""

import math
from dataclasses import replace
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.accessors import AccessorReader, index_into, number, numbers, objects, text, whole
from eddyfall.core.scene.clips import TARGETED, Channel, Clip, Rest, matrix_of
from eddyfall.core.scene.container import MAX_BYTES, Container, is_elsewhere, open_container, read_by_name, read_uri
from eddyfall.core.scene.images import ImageBudget, decode_image
from eddyfall.core.scene.model import (
    STRAIGHT,
    Camera,
    Image,
    Light,
    Material,
    Mesh,
    Node,
    Primitive,
    Scene,
    Skin,
    SkyPicture,
    Source,
    TextureUse,
    Turn,
    Wrap,
)
from eddyfall.core.scene.names import clean_name, fault_of
from eddyfall.core.scene.skins import astray, is_skinned, posed, sets_of, weights_of
from eddyfall.core.scene.sky_pictures import MIME_TYPES, MOST_PIXELS, sky_of_bytes

MAX_TRIANGLES = 20_000_000
MAX_VERTICES = 20_000_000
MAX_NODES = 200_000
MAX_NODE_DEPTH = 256
MAX_SKIES = 8
FARTHEST_M = 1e7
COLOURED = ("baseColorTexture", "emissiveTexture")  # what a missing picture is seen in
CHECKS = np.full((8, 8, 4), 255, np.uint8)  # in its stead: 4 x 4 checks, paper and signal
CHECKS[..., :3] = np.where((np.add.outer(np.arange(8) // 2, np.arange(8) // 2) % 2)[..., None], (239, 238, 233), (200, 86, 31))
CHECKS.flags.writeable = False
WRAPS: dict[int, Wrap] = {33071: "clamp", 33648: "mirror", 10497: "repeat"}
INSTANCING = "EXT_mesh_gpu_instancing"
READ_EXTENSIONS = {
    "KHR_lights_punctual",
    "KHR_materials_unlit",
    "KHR_materials_emissive_strength",
    "KHR_materials_ior",
    "KHR_materials_transmission",
    "KHR_materials_volume",
    INSTANCING,
    "KHR_mesh_quantization",
    "KHR_texture_transform",
    "EXT_texture_webp",
}
NOT_DRAWN = {
    "MSFT_lod": "levels of detail; the first level is drawn",
    "KHR_draco_mesh_compression": "compressed meshes; export without mesh compression",
    "EXT_meshopt_compression": "compressed meshes; export without mesh compression",
    "KHR_texture_basisu": "compressed textures; export PNG or JPEG",
}
# A file that cannot be read without one of these is refused when it lists it as required.
READ_ANYWAY = READ_EXTENSIONS | {"MSFT_lod"}


def read_scene(path: Path | str, beside_it: bool = True) -> Scene:
    """Read GLB, glTF or ZIP at `path` (beside_it False: no files of its folder).

    Raises SceneError (file, object, rule); notes say what was left out."""
    path = Path(path)
    try:
        container = open_container(path, beside_it)
        return _Reader(container).scene()
    except SceneError as error:
        raise error.in_file(path.name) from None
    except (RecursionError, MemoryError, OverflowError) as error:
        raise SceneError(f"the file asks for more than can be read ({type(error).__name__})", file=path.name) from None


class _Reader:
    def __init__(self, container: Container) -> None:
        self.container = container
        self.doc = container.json
        self.notes: list[str] = []
        self.missing: set[int] = set()  # pictures that are not there
        asset = self.doc.get("asset")
        if not isinstance(asset, dict) or not str(asset.get("version", "")).startswith("2"):
            raise SceneError('asset.version must be "2.0"', "asset")
        self._extensions()
        self._claims()
        self.buffers = self._buffers()
        self.accessors = AccessorReader(self.doc, self.buffers)

    def scene(self) -> Scene:
        images = self._images()
        materials = tuple(self._material(i, m) for i, m in enumerate(objects(self.doc, "materials")))
        meshes = self._meshes(len(materials))
        lights = self._lights()
        cameras = self._cameras()
        skins = self._skins()
        nodes = self._nodes(meshes, len(lights), len(cameras), skins)
        source = Source(self.doc, tuple(self.buffers), self.container.raw)
        skies = self._skies()
        clips = self._clips(nodes)
        return self._placed(
            Scene(meshes, nodes, materials, images, lights, cameras, skies, skins, clips, tuple(self.notes), source)
        )

    def _clips(self, nodes: tuple[Node, ...]) -> tuple[Clip, ...]:
        entries, clips = objects(self.doc, "nodes"), []
        for i, entry in enumerate(objects(self.doc, "animations")):
            name = self._name(entry, f"animation {i}")
            here, samplers = f"animation {i} {name!r}", objects(entry, "samplers")
            channels = []
            for k, channel in enumerate(objects(entry, "channels")):
                told = self._channel(channel, samplers, entries, nodes, f"{here} channel {k}")
                channels += [] if told is None else [told]
            clips.append(Clip(name, tuple(channels)))
        return tuple(clips)

    def _channel(
        self,
        channel: dict[str, Any],
        samplers: list[dict[str, Any]],
        entries: list[dict[str, Any]],
        nodes: tuple[Node, ...],
        here: str,
    ) -> Channel | None:
        target = _object(channel, "target", here)
        if "node" not in target:
            return None  # left to an extension
        node, what = index_into(target["node"], entries, "node", here), target.get("path")
        if what not in ("translation", "rotation", "scale", "weights"):
            self.notes.append(f"not drawn yet: {here} moves {what!r:.40}")
            return None
        sampler = samplers[index_into(channel.get("sampler"), samplers, "sampler", here)]
        way = sampler.get("interpolation", "LINEAR")
        if way not in ("LINEAR", "STEP", "CUBICSPLINE"):
            raise SceneError(f"interpolation {way!r:.40} does not exist", here)
        times = self.accessors.read(sampler.get("input"), f"{here} input", ("SCALAR",)).astype(np.float64)
        kind = {"rotation": "VEC4", "weights": "SCALAR"}.get(what, "VEC3")
        values = self.accessors.read(sampler.get("output"), f"{here} output", (kind,)).astype(np.float64)
        if not (np.isfinite(times).all() and np.isfinite(values).all() and (times >= 0).all() and (np.diff(times) > 0).all()):
            raise SceneError("its times must rise from 0 on, and its values be finite", here)
        rows = len(times) * (3 if way == "CUBICSPLINE" else 1)
        if len(values) % rows or (kind != "SCALAR" and len(values) != rows):
            raise SceneError(f"{len(values)} values do not go with {len(times)} times", here)
        if what == "rotation" and not (np.linalg.norm(values[1::3] if way == "CUBICSPLINE" else values, axis=1) > 0).all():
            raise SceneError("a rotation must not be all zero", here)
        if "matrix" in entries[node] and what != "weights":
            raise SceneError("moves a node that has a matrix", here)
        return Channel(node, what, freeze(times), freeze(values.reshape(rows, -1)), way, _rest(entries[node], here))

    def _skins(self) -> tuple[Skin, ...]:
        skins, entries = [], objects(self.doc, "nodes")
        for i, entry in enumerate(objects(self.doc, "skins")):
            name = self._name(entry, f"skin {i}")
            here, listed = f"skin {i} {name!r}", entry.get("joints")
            if not isinstance(listed, list) or not listed:
                raise SceneError("joints must be a list of at least one node", here)
            joints = tuple(index_into(j, entries, "node", f"{here} joints") for j in listed)
            inverse = np.tile(np.eye(4), (len(joints), 1, 1))
            if "inverseBindMatrices" in entry:
                rows = self.accessors.read(entry["inverseBindMatrices"], f"{here} inverseBindMatrices", ("MAT4",))
                if len(rows) < len(joints):
                    raise SceneError(f"{len(rows)} inverse bind matrices for {len(joints)} joints", here)
                inverse = rows[: len(joints)].astype(np.float64).reshape(-1, 4, 4).transpose(0, 2, 1)
                if not np.isfinite(inverse).all():
                    raise SceneError("an inverse bind matrix holds NaN or infinity", here)
            skins.append(Skin(name, joints, freeze(inverse)))
        return tuple(skins)

    def _skin(self, entry: dict[str, Any], here: str, mesh: Mesh | None, skins: tuple[Skin, ...]) -> int | None:
        """The skin of a node whose mesh has joints; what its weights are off by is said."""
        if entry.get("skin") is None or mesh is None:
            return None
        number = index_into(entry["skin"], list(skins), "skin", here)
        for part in mesh.primitives:
            if not sets_of(part):
                continue
            for n in sets_of(part):
                if part.attributes[f"JOINTS_{n}"].dtype not in (np.uint8, np.uint16) or part.attributes[f"JOINTS_{n}"].shape[
                    1:
                ] != (4,):
                    raise SceneError(f"JOINTS_{n} must be four unsigned bytes or shorts", here)
                if not (np.isfinite(part.attributes[f"WEIGHTS_{n}"]) & (part.attributes[f"WEIGHTS_{n}"] >= 0)).all():
                    raise SceneError(f"WEIGHTS_{n} must be finite and not negative", here)
            joints, _ = weights_of(part)
            if int(joints.max(initial=0)) >= len(skins[number].joints):
                raise SceneError(f"joint {int(joints.max())} does not exist: its skin has {len(skins[number].joints)}", here)
            if (off := astray(part)) > 1e-3:
                self.notes.append(
                    f"{here}: weights of its joints miss one by up to {off * 100:.2g} %; they are drawn as shares of their sum"
                )
        return number

    def _claims(self) -> None:
        """Refuse more vertices or drawn triangles than are drawn, from the JSON alone: before a byte of them is unpacked."""
        accessors, drawn = objects(self.doc, "accessors"), _times_drawn(self.doc)
        counted: set[int] = set()
        vertices = triangles = 0
        for i, mesh in enumerate(objects(self.doc, "meshes")):
            for part in objects(mesh, "primitives"):
                names = part.get("attributes")
                names = names if isinstance(names, dict) else {}
                points, corners = _count(accessors, names.get("POSITION")), _count(accessors, part.get("indices"))
                mode = part.get("mode", 4)
                of_mode = {4: 3, 5: 1, 6: 1}.get(mode, 0) if isinstance(mode, int) else 0
                if not of_mode:
                    continue
                corners = corners or points
                triangles += corners // of_mode * drawn.get(i, 0)
                if "NORMAL" not in names:
                    vertices += corners * 3 // of_mode  # flat normals part every triangle
                elif points and names["POSITION"] not in counted:
                    counted.add(names["POSITION"])
                    vertices += points
        if vertices > MAX_VERTICES:
            raise SceneError(f"claims {vertices} vertices, more than the {MAX_VERTICES} that are read", "meshes")
        if triangles > MAX_TRIANGLES:
            raise SceneError(f"draws {triangles} triangles, more than the {MAX_TRIANGLES} that are drawn", "nodes")

    def _name(self, entry: dict[str, Any], here: str) -> str:
        """The name of an object, as it can be stored and shown; what was changed is said."""
        name = text(entry, "name", here)
        clean = clean_name(name)
        if clean != name:
            why = fault_of(name) or f"has {len(name)} characters"
            self.notes.append(f"{here}: its name {why}; it is called {clean[:60]!r} here")
        return clean

    def _extensions(self) -> None:
        for key in ("extensionsUsed", "extensionsRequired"):
            names = self.doc.get(key, [])
            if not isinstance(names, list) or not all(isinstance(n, str) for n in names):
                raise SceneError("must be a list of names", key)
            for name in names:
                if key == "extensionsRequired" and name not in READ_ANYWAY:
                    raise SceneError(f"requires {name}, which is not read ({NOT_DRAWN.get(name, 'unknown extension')})", key)
                if key == "extensionsUsed" and name not in READ_EXTENSIONS:
                    self.notes.append(f"not drawn yet: {name} ({NOT_DRAWN.get(name, 'unknown extension, ignored')})")

    def _buffers(self) -> list[np.ndarray]:
        """Bytes of every buffer, as read-only views of the file: nothing of it is held twice."""
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
            elif i == 0 and self.container.embedded is not None:
                data = self.container.embedded
            else:
                raise SceneError("has neither a uri nor a GLB chunk: its data is missing", here)
            if len(data) < length:
                raise SceneError(f"claims {length} bytes, {len(data)} are there", here)
            buffers.append(np.frombuffer(data, np.uint8, length))
        return buffers

    def _images(self) -> tuple[Image, ...]:
        budget, images = ImageBudget(), []
        for i, entry in enumerate(objects(self.doc, "images")):
            here = f"image {i}"
            name = self._name(entry, here) or Path(text(entry, "uri", here)[:200]).stem[:80]
            if name.startswith("data:"):
                name = ""
            try:
                pixels, wide = decode_image(self._picture_bytes(entry, here, name), budget, here)
            except FileNotFoundError as error:
                self.notes.append(f"left out: {here} {name!r}: {error}; checks are drawn where its colours would be")
                pixels, wide = CHECKS, None
                self.missing.add(i)
            images.append(Image(name, freeze(pixels), None if wide is None else freeze(wide)))
        return tuple(images)

    def _skies(self) -> tuple[SkyPicture, ...]:
        """Sky pictures: those that the file's extras name, and those that lie beside it in its ZIP. What cannot be read is left out."""
        extras = self.doc.get("extras")
        listed = extras.get("skies") if isinstance(extras, dict) else None
        entries = [entry for entry in listed if isinstance(entry, dict)] if isinstance(listed, list) else []
        named = {str(entry.get("uri")) for entry in entries}
        entries = [*entries, *({"uri": name} for name in self.container.skies if name not in named)]
        skies: dict[str, SkyPicture] = {}
        pixels = 0
        for i, entry in enumerate(entries[:MAX_SKIES]):
            here = name = f"sky {i}"
            try:
                file = text(entry, "uri", here)
                name = self._name(entry, here) or clean_name(file)
                suffix = MIME_TYPES.get(text(entry, "mimeType", here)) or Path(file[-200:]).suffix.lower()
                if name in skies:
                    raise SceneError("another sky has its name")
                picture = sky_of_bytes(self._image_bytes(entry, here), name, suffix)
                pixels += picture.radiance.shape[0] * picture.radiance.shape[1]
                if pixels > MOST_PIXELS:
                    raise SceneError(f"with it the skies have more than {MOST_PIXELS // 10**6} million pixels")
                skies[name] = picture
            except (FileNotFoundError, SceneError) as error:
                self.notes.append(f"left out: {here} {name[:60]!r}: {str(error).removeprefix(f'{name}: ')}")
        if len(entries) > MAX_SKIES:
            self.notes.append(f"left out: {len(entries) - MAX_SKIES} skies; at most {MAX_SKIES} are read")
        return tuple(skies.values())

    def _picture_bytes(self, entry: dict[str, Any], here: str, name: str) -> bytes:
        """Bytes of a picture: where its path says, or of the file of its name that came along. A path of another machine is not opened.
        FileNotFoundError if there is none."""
        uri = text(entry, "uri", here)
        if "bufferView" in entry or not uri or uri.startswith("data:"):
            return self._image_bytes(entry, here)
        path, why = unquote(uri), f"its path {uri[:80]!r} is none beside the scene file"
        try:
            if not is_elsewhere(path):
                return self._image_bytes(entry, here)
        except FileNotFoundError as error:
            why = str(error)
        except SceneError:
            if ".." not in path.replace("\\", "/").split("/"):
                raise  # too large; a path that climbs out is another matter
        found = read_by_name(self.container, uri, MAX_BYTES)
        if found is None:
            raise FileNotFoundError(f"{why}, and no one file of that name came along")
        self.notes.append(f"{here} {name!r}: {why}; {found[0]} has its name, and is used")
        return found[1]

    def _image_bytes(self, entry: dict[str, Any], here: str) -> bytes:
        if "bufferView" in entry:
            views = objects(self.doc, "bufferViews")
            view = views[index_into(entry["bufferView"], views, "bufferView", here)]
            buffer = self.buffers[index_into(view.get("buffer"), self.buffers, "buffer", here)]
            start, length = whole(view, "byteOffset", here, default=0), whole(view, "byteLength", here, least=1)
            if start + length > len(buffer):
                raise SceneError("its buffer view runs past the buffer", here)
            return buffer[start : start + length].tobytes()
        if "uri" not in entry:
            raise FileNotFoundError("it has neither uri nor bufferView")
        return read_uri(self.container, text(entry, "uri", here), MAX_BYTES)

    def _texture(self, owner: dict[str, Any], key: str, here: str) -> TextureUse | None:
        info = owner.get(key)
        if info is None:
            return None
        if not isinstance(info, dict):
            raise SceneError(f"{key} must be an object", here)
        textures = objects(self.doc, "textures")
        entry = textures[index_into(info.get("index"), textures, "texture", f"{here} {key}")]
        packed = _object(_object(entry, "extensions", f"{here} {key}"), "EXT_texture_webp", f"{here} {key}")
        source = packed if "source" in packed else entry
        if "source" not in source:
            self.notes.append(f"left out: {here} {key}: its texture has no source image")
            return None
        image = index_into(source["source"], objects(self.doc, "images"), "image", f"{here} {key}")
        if image in self.missing and key not in COLOURED:
            return None  # checks say nothing of roughness or normals
        sampler: dict[str, Any] = {}
        if "sampler" in entry:
            samplers = objects(self.doc, "samplers")
            sampler = samplers[index_into(entry["sampler"], samplers, "sampler", f"{here} {key}")]
        modes: list[Wrap] = []
        for axis in ("wrapS", "wrapT"):
            mode = WRAPS.get(whole(sampler, axis, f"{here} {key}", default=10497))
            if mode is None:
                raise SceneError(f"sampler {axis} {sampler[axis]} does not exist", f"{here} {key}")
            modes.append(mode)
        moved = _object(_object(info, "extensions", f"{here} {key}"), "KHR_texture_transform", f"{here} {key}")
        uv_set = whole(moved if "texCoord" in moved else info, "texCoord", here, default=0)
        if uv_set > 1:
            self.notes.append(f"not drawn yet: {here} {key} uses TEXCOORD_{uv_set}; TEXCOORD_0 is used")
            uv_set = 0
        return TextureUse(image, modes[0], modes[1], sampler.get("magFilter") == 9728, uv_set, _turn(moved, f"{here} {key}"))

    def _material(self, i: int, entry: dict[str, Any]) -> Material:
        name = self._name(entry, f"material {i}")
        here = f"material {i} {name!r}"
        pbr = _object(entry, "pbrMetallicRoughness", here)
        extensions = _object(entry, "extensions", here)
        mode = entry.get("alphaMode", "OPAQUE")
        if mode not in ("OPAQUE", "MASK", "BLEND"):
            raise SceneError(f"alphaMode {mode!r:.40} does not exist", here)
        strength = number(_object(extensions, "KHR_materials_emissive_strength", here), "emissiveStrength", 1.0, here, 0.0)
        emissive = tuple(v * strength for v in numbers(entry, "emissiveFactor", 3, (0.0, 0.0, 0.0), here))
        normal, occlusion = _object(entry, "normalTexture", here), _object(entry, "occlusionTexture", here)
        lets = _object(extensions, "KHR_materials_transmission", here)
        volume = _object(extensions, "KHR_materials_volume", here)
        attenuation = number(volume, "attenuationDistance", 0.0, here, 0.0) if "attenuationDistance" in volume else math.inf
        if not attenuation > 0:
            raise SceneError("attenuationDistance must be more than 0", here)
        left = numbers(volume, "attenuationColor", 3, (1.0, 1.0, 1.0), here)
        if not all(0 <= v <= 1 for v in left):
            raise SceneError("attenuationColor must be 3 numbers from 0 to 1", here)
        return Material(
            name=name,
            base_rgba=numbers(pbr, "baseColorFactor", 4, (1.0, 1.0, 1.0, 1.0), here),  # type: ignore[arg-type]
            base_texture=self._texture(pbr, "baseColorTexture", here),
            metallic=number(pbr, "metallicFactor", 1.0, here, 0.0, 1.0),
            roughness=number(pbr, "roughnessFactor", 1.0, here, 0.0, 1.0),
            metallic_roughness_texture=self._texture(pbr, "metallicRoughnessTexture", here),
            normal_texture=self._texture(entry, "normalTexture", here),
            normal_scale=number(normal, "scale", 1.0, here),
            occlusion_texture=self._texture(entry, "occlusionTexture", here),
            occlusion_strength=number(occlusion, "strength", 1.0, here, 0.0, 1.0),
            emissive=emissive,  # type: ignore[arg-type]
            emissive_texture=self._texture(entry, "emissiveTexture", here),
            alpha_mode=mode,
            alpha_cutoff=number(entry, "alphaCutoff", 0.5, here, 0.0),
            double_sided=entry.get("doubleSided") is True,
            unlit="KHR_materials_unlit" in extensions,
            ior=number(_object(extensions, "KHR_materials_ior", here), "ior", 1.5, here, 0.0),
            transmission=number(lets, "transmissionFactor", 0.0, here, 0.0, 1.0),
            transmission_texture=self._texture(lets, "transmissionTexture", here),
            thickness_m=number(volume, "thicknessFactor", 0.0, here, 0.0),
            thickness_texture=self._texture(volume, "thicknessTexture", here),
            attenuation_m=attenuation,
            attenuation_rgb=left,  # type: ignore[arg-type]
        )

    def _meshes(self, materials: int) -> tuple[Mesh, ...]:
        meshes, triangles = [], 0
        for i, entry in enumerate(objects(self.doc, "meshes")):
            name = self._name(entry, f"mesh {i}")
            parts = []
            for j, part in enumerate(objects(entry, "primitives")):
                here = f"mesh {i} {name!r} part {j}"
                primitive = self._primitive(part, here, materials, j)
                if primitive is not None:
                    parts.append(primitive)
                    triangles += primitive.triangles
            if triangles > MAX_TRIANGLES:
                raise SceneError(f"more than {MAX_TRIANGLES} triangles", f"mesh {i}")
            meshes.append(Mesh(name, tuple(parts)))
        return tuple(meshes)

    def _primitive(self, entry: dict[str, Any], here: str, materials: int, number: int) -> Primitive | None:
        mode = whole(entry, "mode", here, default=4)
        if mode not in (4, 5, 6):
            self.notes.append(f"not drawn yet: {here} is made of points or lines")
            return None
        names = entry.get("attributes")
        if not isinstance(names, dict) or "POSITION" not in names:
            self.notes.append(f"left out: {here} has no POSITION")
            return None
        if "KHR_draco_mesh_compression" in _object(entry, "extensions", here):
            self.notes.append(f"not drawn yet: {here} is compressed; export without mesh compression")
            return None
        attributes = {"POSITION": self.accessors.read(names["POSITION"], f"{here} POSITION", ("VEC3",))}
        count = len(attributes["POSITION"])
        for key, index in names.items():
            if key == "POSITION":
                continue
            kinds = {"NORMAL": ("VEC3",), "TANGENT": ("VEC4",), "TEXCOORD_0": ("VEC2",), "TEXCOORD_1": ("VEC2",)}
            if key.startswith("WEIGHTS_"):
                kinds[key] = ("VEC4",)
            array = self.accessors.read(
                index, f"{here} {key}", kinds.get(key, ("SCALAR", "VEC2", "VEC3", "VEC4")), as_float=key in kinds
            )
            if len(array) != count:
                raise SceneError(f"{key} has {len(array)} elements, POSITION has {count}", here)
            attributes[key] = array
        if "COLOR_0" in attributes:
            self.notes.append(f"not drawn yet: vertex colours of {here}")
        indices = self._indices(entry, here, count, mode)
        if not len(indices):
            self.notes.append(f"left out: {here} has no triangles")
            return None
        for key in ("POSITION", "NORMAL", "TEXCOORD_0", "TEXCOORD_1"):
            if key in attributes and not np.isfinite(attributes[key]).all():
                self.notes.append(f"left out: {here}: {key} holds NaN or infinity")
                return None
        if np.abs(attributes["POSITION"]).max() > FARTHEST_M:
            raise SceneError("a position lies beyond 10,000 km", here)
        targets = self._targets(entry, here, count)
        if "NORMAL" not in attributes:
            flat = indices.reshape(-1)
            targets = tuple({key: freeze(array[flat]) for key, array in target.items() if key != "NORMAL"} for target in targets)
            attributes = {key: freeze(array[flat]) for key, array in attributes.items()}
            indices = np.arange(len(flat), dtype=np.int32).reshape(-1, 3)
            attributes["NORMAL"] = freeze(_flat_normals(attributes["POSITION"]))
        material = entry.get("material")
        if material is not None:
            material = index_into(material, [None] * materials, "material", here)
        return Primitive(attributes, freeze(indices.astype(np.int32)), material, number, targets)

    def _targets(self, entry: dict[str, Any], here: str, count: int) -> tuple[dict[str, np.ndarray], ...]:
        found = []
        for k, target in enumerate(objects(entry, "targets")):
            read = {
                key: self.accessors.read(target[key], f"{here} target {k} {key}", ("VEC3",)) for key in TARGETED if key in target
            }
            for key, array in read.items():
                if len(array) != count:
                    raise SceneError(f"target {k}: {key} has {len(array)} elements, POSITION has {count}", here)
                if not np.isfinite(array).all():
                    raise SceneError(f"target {k}: {key} holds NaN or infinity", here)
            found.append(read)
        return tuple(found)

    def _indices(self, entry: dict[str, Any], here: str, count: int, mode: int) -> np.ndarray:
        if "indices" in entry:
            flat = self.accessors.read(entry["indices"], f"{here} indices", ("SCALAR",), as_float=False)
            if flat.dtype not in (np.uint8, np.uint16, np.uint32):
                raise SceneError("indices must be unsigned whole numbers", here)
            top = int(flat.max())
            if top >= count:
                raise SceneError(f"index {top} is out of range: the part has {count} vertices", here)
        else:
            flat = np.arange(count, dtype=np.uint32)
        flat = flat.astype(np.int64)
        if mode == 4:
            if len(flat) % 3:
                raise SceneError(f"{len(flat)} indices do not make whole triangles", here)
            return flat.reshape(-1, 3)
        if len(flat) < 3:
            return np.zeros((0, 3), np.int64)
        if mode == 6:
            return np.stack([flat[1:-1], flat[2:], np.full(len(flat) - 2, flat[0])], axis=1)
        strip = np.stack([flat[:-2], flat[1:-1], flat[2:]], axis=1)
        strip[1::2] = strip[1::2][:, [1, 0, 2]]
        return strip

    def _lights(self) -> tuple[Light, ...]:
        lights = []
        extension = _object(_object(self.doc, "extensions", "extensions"), "KHR_lights_punctual", "extensions")
        for i, entry in enumerate(objects(extension, "lights")):
            here = f"light {i}"
            kind = entry.get("type")
            if kind not in ("directional", "point", "spot"):
                raise SceneError(f"type {kind!r:.40} does not exist", here)
            spot = _object(entry, "spot", here)
            inner = number(spot, "innerConeAngle", 0.0, here, 0.0, math.pi / 2)
            outer = number(spot, "outerConeAngle", math.pi / 4, here, 0.0, math.pi / 2)
            rgb = numbers(entry, "color", 3, (1.0, 1.0, 1.0), here)
            intensity, reach = number(entry, "intensity", 1.0, here, 0.0), number(entry, "range", 0.0, here, 0.0)
            lights.append(Light(self._name(entry, here), kind, rgb, intensity, reach, inner, outer))  # type: ignore[arg-type]
        return tuple(lights)

    def _cameras(self) -> tuple[Camera, ...]:
        cameras = []
        for i, entry in enumerate(objects(self.doc, "cameras")):
            here = f"camera {i}"
            name = self._name(entry, here)
            if entry.get("type") == "perspective":
                lens = _object(entry, "perspective", here)
                far = number(lens, "zfar", 0.0, here, 0.0) or None
                fov = number(lens, "yfov", 0.8, here, 1e-3, 3.1)
                cameras.append(Camera(name, fov, number(lens, "znear", 0.1, here, 1e-6), far))
            else:
                self.notes.append(f"not drawn yet: {here} {name!r} is orthographic; a perspective one is put in its place")
                cameras.append(Camera(name, 0.8, 0.1, None))
        return tuple(cameras)

    def _nodes(self, meshes: tuple[Mesh, ...], lights: int, cameras: int, skins: tuple[Skin, ...]) -> tuple[Node, ...]:
        entries = objects(self.doc, "nodes")
        if len(entries) > MAX_NODES:
            raise SceneError(f"{len(entries)} nodes, more than {MAX_NODES}", "nodes")
        parents: list[int | None] = [None] * len(entries)
        for i, entry in enumerate(entries):
            children = entry.get("children", [])
            if not isinstance(children, list):
                raise SceneError("children must be a list", f"node {i}")
            for child in children:
                c = index_into(child, entries, "node", f"node {i} children")
                if parents[c] is not None or c == i:
                    raise SceneError("has two parents or is its own child: nodes must form trees", f"node {c}")
                parents[c] = i
        depth = [0] * len(entries)
        for i in range(len(entries)):
            steps, at = 0, parents[i]
            while at is not None and depth[at] == 0:
                steps, at = steps + 1, parents[at]
                if steps > MAX_NODE_DEPTH:
                    raise SceneError(f"nodes are recursive or nested deeper than {MAX_NODE_DEPTH}", f"node {i}")
            depth[i] = 1 + steps + (depth[at] if at is not None else 0)
            if depth[i] > MAX_NODE_DEPTH + 1:
                raise SceneError(f"nodes are nested deeper than {MAX_NODE_DEPTH}", f"node {i}")
        shown = self._reachable(entries, parents)
        nodes: list[Node] = []
        copies: list[Node] = []
        for i, entry in enumerate(entries):
            name = self._name(entry, f"node {i}")
            here = f"node {i} {name!r}"
            mesh, camera = entry.get("mesh"), entry.get("camera")
            light = _object(_object(entry, "extensions", here), "KHR_lights_punctual", here).get("light")
            if mesh is not None:
                mesh = index_into(mesh, list(meshes), "mesh", here)
            if camera is not None:
                camera = index_into(camera, [None] * cameras, "camera", here)
            if light is not None:
                light = index_into(light, [None] * lights, "light", here)
            if i not in shown:
                mesh = camera = light = None
            skin = self._skin(entry, here, None if mesh is None else meshes[mesh], skins)
            weights = self._weights(entry, here, mesh, meshes)
            if mesh is not None and INSTANCING in _object(entry, "extensions", here):
                every = enumerate(self._instances(entry, here), start=1)
                copies += [Node(f"{name} {k}", m, i, mesh, None, None, skin, weights, True) for k, m in every]
                if len(entries) + len(copies) > MAX_NODES:
                    raise SceneError(f"with its instances there are more than {MAX_NODES} nodes", here)
                mesh = skin = None
            nodes.append(Node(name, _matrix(entry, here), parents[i], mesh, light, camera, skin, weights))
        return (*nodes, *copies)

    def _weights(self, entry: dict[str, Any], here: str, mesh: int | None, meshes: tuple[Mesh, ...]) -> tuple[float, ...]:
        """Morph weights of a node: its own, else its mesh's."""
        targets = max((len(part.targets) for part in meshes[mesh].primitives), default=0) if mesh is not None else 0
        if not targets or mesh is None:
            return ()
        of_mesh = objects(self.doc, "meshes")[mesh]
        owner = entry if "weights" in entry else of_mesh
        return numbers(owner, "weights", targets, (0.0,) * targets, here)

    def _instances(self, entry: dict[str, Any], here: str) -> list[np.ndarray]:
        """(4, 4) of each instance of a node's mesh, relative to the node (EXT_mesh_gpu_instancing)."""
        of = _object(_object(_object(entry, "extensions", here), INSTANCING, here), "attributes", here)
        kinds = {
            "TRANSLATION": ("VEC3", (0.0, 0.0, 0.0)),
            "ROTATION": ("VEC4", (0.0, 0.0, 0.0, 1.0)),
            "SCALE": ("VEC3", (1.0, 1.0, 1.0)),
        }
        read = {key: self.accessors.read(of[key], f"{here} {key}", (kind,)) for key, (kind, _) in kinds.items() if key in of}
        counts = {len(values) for values in read.values()}
        if len(counts) != 1:
            raise SceneError("its instances have no number: attributes are missing, or as many as none other", here)
        rows = {key: read.get(key, np.tile(np.array(given), (min(counts), 1))) for key, (_, given) in kinds.items()}
        lists = zip(*(rows[key].astype(float).tolist() for key in kinds))
        return [_matrix({"translation": t, "rotation": r, "scale": s}, here) for t, r, s in lists]

    def _placed(self, scene: Scene) -> Scene:
        """The scene, its nodes checked where they stand: cameras without an axis are left out, what lies too far off is refused."""
        nodes = list(scene.nodes)
        boxes = [_box(mesh) for mesh in scene.meshes]
        for i, node in enumerate(scene.nodes):
            if node.mesh is None and node.light is None and node.camera is None:
                continue
            here, world = f"node {i} {node.name!r}", scene.world_matrices[i]
            if not np.isfinite(world).all() or np.abs(world[:3, 3]).max() > FARTHEST_M:
                raise SceneError("it stands beyond 10,000 km, or nowhere", here)
            axes = np.linalg.norm(world[:3, :3], axis=0)
            if node.camera is not None and (axes.min() < 1e-12 or not np.isfinite(axes).all()):
                self.notes.append(f"left out: the camera of {here}: its scale is 0, so that it looks nowhere")
                nodes[i] = replace(node, camera=None)
            skinned = (
                [p for p in scene.meshes[node.mesh].primitives if is_skinned(scene, node, p)] if node.mesh is not None else []
            )
            if any(not np.abs(posed(scene, i, part).positions).max() <= FARTHEST_M for part in skinned):
                raise SceneError("its joints put it beyond 10,000 km, or nowhere", here)
            if node.mesh is not None and not skinned and boxes[node.mesh] is not None:
                corners = boxes[node.mesh] @ world[:3, :3].T + world[:3, 3]
                if not np.abs(corners).max() <= FARTHEST_M:
                    raise SceneError("a position lies beyond 10,000 km", here)
        return replace(scene, nodes=tuple(nodes), notes=tuple(self.notes))

    def _reachable(self, entries: list[dict[str, Any]], parents: list[int | None]) -> set[int]:
        scenes = objects(self.doc, "scenes")
        if not scenes:
            return set(range(len(entries)))
        scene = scenes[index_into(self.doc.get("scene", 0), scenes, "scene", "scene")]
        roots = scene.get("nodes", [])
        if not isinstance(roots, list):
            raise SceneError("nodes must be a list", "scene")
        stack = [index_into(r, entries, "node", "scene") for r in roots]
        seen: set[int] = set()
        while stack:
            i = stack.pop()
            if i not in seen:
                seen.add(i)
                stack.extend(entries[i].get("children", []))
        return seen


def _times_drawn(document: dict[str, Any]) -> dict[int, int]:
    """How many nodes carry each mesh."""
    times: dict[int, int] = {}
    for node in objects(document, "nodes"):
        mesh = node.get("mesh")
        if isinstance(mesh, int):
            times[mesh] = times.get(mesh, 0) + _instanced(document, node)
    return times


def _instanced(document: dict[str, Any], node: dict[str, Any]) -> int:
    """How often a node shows its mesh, as its accessors claim."""
    at: Any = node
    for key in ("extensions", INSTANCING, "attributes"):
        at = at.get(key) if isinstance(at, dict) else None
    counts = [_count(objects(document, "accessors"), index) for index in at.values()] if isinstance(at, dict) else []
    return max(counts, default=1) or 1


def _box(mesh: Mesh) -> np.ndarray | None:
    """(8, 3) float64 corners of the box around a mesh, in its own space; None if it has no parts."""
    if not mesh.primitives:
        return None
    low = np.min([p.positions.min(axis=0) for p in mesh.primitives], axis=0).astype(np.float64)
    high = np.max([p.positions.max(axis=0) for p in mesh.primitives], axis=0).astype(np.float64)
    return np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])


def _count(accessors: list[dict[str, Any]], index: Any) -> int:
    """What an accessor says it holds; 0 where that makes no sense, which is told when it is read."""
    if not isinstance(index, int) or not 0 <= index < len(accessors):
        return 0
    count = accessors[index].get("count")
    return count if isinstance(count, int) and count > 0 else 0


def _object(owner: dict[str, Any], key: str, where: str) -> dict[str, Any]:
    value = owner.get(key, {})
    if not isinstance(value, dict):
        raise SceneError(f"{key} must be an object", where)
    return value


def _turn(entry: dict[str, Any], here: str) -> Turn:
    """What KHR_texture_transform does to coordinates: scaled, then turned, then moved."""
    if not entry:
        return STRAIGHT
    (x, y), (sx, sy) = numbers(entry, "offset", 2, (0.0, 0.0), here), numbers(entry, "scale", 2, (1.0, 1.0), here)
    angle = number(entry, "rotation", 0.0, here)
    cosine, sine = math.cos(angle), math.sin(angle)
    return cosine * sx, -sine * sy, x, sine * sx, cosine * sy, y


def _matrix(entry: dict[str, Any], here: str) -> np.ndarray:
    if "matrix" in entry:
        return freeze(np.array(numbers(entry, "matrix", 16, (), here)).reshape(4, 4).T)
    return freeze(matrix_of(_rest(entry, here)))


def _rest(entry: dict[str, Any], here: str) -> Rest:
    """A node's translation, unit rotation and scale."""
    t = numbers(entry, "translation", 3, (0.0, 0.0, 0.0), here)
    x, y, z, w = numbers(entry, "rotation", 4, (0.0, 0.0, 0.0, 1.0), here)
    s = numbers(entry, "scale", 3, (1.0, 1.0, 1.0), here)
    length = math.sqrt(x * x + y * y + z * z + w * w)
    if length == 0.0:
        raise SceneError("rotation must not be all zero", here)
    return t, (x / length, y / length, z / length, w / length), s


def _flat_normals(corners: np.ndarray) -> np.ndarray:
    tri = corners.reshape(-1, 3, 3).astype(np.float64)
    normal = np.cross(tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0])
    length = np.linalg.norm(normal, axis=1, keepdims=True)
    normal = np.where(length > 0, normal / np.maximum(length, 1e-300), np.array([0.0, 1.0, 0.0]))
    return np.repeat(normal, 3, axis=0).astype(np.float32)
