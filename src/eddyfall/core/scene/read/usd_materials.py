"""Materials of UsdPreviewSurface (the specification of that name, version 2.6, from memory) as those of glTF."""

from __future__ import annotations

import io
import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from PIL import Image as Picture

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import digest
from eddyfall.core.scene.images import ImageBudget, decode_image
from eddyfall.core.scene.read.made import MIRRORED, NEVER, REPEAT, Made

ReadBeside = Callable[[str, int], bytes]
MAX_PICTURE_BYTES = 256 * 1024**2
WRAPS = {"repeat": REPEAT, "mirror": MIRRORED, "clamp": NEVER, "black": NEVER, "useMetadata": REPEAT}
CHANNELS = {"r": 0, "g": 1, "b": 2, "a": 3}
# Inputs of the surface and what they are where nothing is said.
NUMBERS = {
    "metallic": 0.0, "roughness": 0.5, "clearcoat": 0.0, "clearcoatRoughness": 0.01, "opacity": 1.0, "opacityThreshold": 0.0, "ior": 1.5,
}  # fmt: skip
HALF = 0.18  # of a surface that says no colour


@dataclass(frozen=True)
class Read:
    """A picture that an input reads: file, which of its outputs (r, g, b, a, rgb), how it is wrapped, by which coordinates (a primvar's
    name), their transform as KHR_texture_transform has it, and what its texels are multiplied by and moved by."""

    file: str
    output: str
    wraps: tuple[int, int]
    primvar: str
    transform: dict[str, Any] | None
    scale: tuple[float, ...]
    bias: tuple[float, ...]


class MaterialReader:
    """Materials on their way into a glTF. sets: numbers of the coordinate sets of the mesh at hand, by their primvars' names."""

    def __init__(self, made: Made, read_beside: ReadBeside, notes: list[str]) -> None:
        self.made, self.read_beside, self.notes = made, read_beside, notes
        self.sets: dict[str, int] = {}
        self.known: dict[tuple[Any, ...], int] = {}
        self.budget = ImageBudget()

    def of(self, bound: Any, double_sided: bool, colour: list[float] | None) -> int:
        """Number of the material that is bound to faces; without one, of one of a colour."""
        path = str(bound.GetPath()) if bound else ""
        key = (path, double_sided, tuple(sorted(self.sets.items())), None if path else tuple(colour or ()))
        if key not in self.known:
            entry = self._surface(bound) if bound else None
            if entry is None:
                name = bound.GetPrim().GetName() if bound else "displayColor"
                entry = {"name": name, "pbrMetallicRoughness": {
                    "baseColorFactor": [*(colour or [HALF] * 3), 1.0], "metallicFactor": 0.0, "roughnessFactor": 0.5}}  # fmt: skip
            entry["doubleSided"] = double_sided
            self.known[key] = len(self.made.json["materials"])
            self.made.json["materials"].append(entry)
        return self.known[key]

    def _surface(self, bound: Any) -> dict[str, Any] | None:
        name = bound.GetPrim().GetName()
        shader = bound.ComputeSurfaceSource()[0]
        if not shader or shader.GetIdAttr().Get() != "UsdPreviewSurface":
            self.notes.append(f"left out: material {name[:60]!r}: it has no UsdPreviewSurface; it is drawn in its display colour")
            return None
        number = {key: self._number(shader, key, usual) for key, usual in NUMBERS.items()}
        diffuse = self._colour(shader, "diffuseColor", HALF)
        pictures = {key: self._picture(shader, key) for key in (*NUMBERS, "diffuseColor", "emissiveColor", "normal", "occlusion")}
        pbr: dict[str, Any] = {"metallicFactor": number["metallic"], "roughnessFactor": number["roughness"]}
        entry: dict[str, Any] = {"name": name, "pbrMetallicRoughness": pbr}
        extensions: dict[str, Any] = {}
        if read := pictures["diffuseColor"]:
            diffuse = [min(max(v, 0.0), 1.0) for v in read.scale[:3]]
            pbr["baseColorTexture"] = self._info(read)
        pbr["baseColorFactor"] = [*diffuse, 1.0 if pictures["opacity"] else number["opacity"]]
        self._alpha(entry, number, pictures)
        self._metallic_roughness(pbr, number, pictures, name)
        emitted = self._colour(shader, "emissiveColor", 0.0, bounded=False)
        if read := pictures["emissiveColor"]:
            emitted = [max(v, 0.0) for v in read.scale[:3]]
            entry["emissiveTexture"] = self._info(read)
        if max(emitted) > 0:
            strength = max(*emitted, 1.0)
            entry["emissiveFactor"] = [v / strength for v in emitted]
            if strength > 1:
                extensions["KHR_materials_emissive_strength"] = {"emissiveStrength": strength}
        if read := pictures["normal"]:
            entry["normalTexture"] = self._info(read)
        if read := pictures["occlusion"]:
            entry["occlusionTexture"] = self._info(read)
        if abs(number["ior"] - 1.5) > 1e-6 and number["ior"] >= 1:
            extensions["KHR_materials_ior"] = {"ior": number["ior"]}
        if number["clearcoat"] > 0 or pictures["clearcoat"]:
            extensions["KHR_materials_clearcoat"] = self._clear_coat(number, pictures)
        if self._number(shader, "useSpecularWorkflow", 0.0):
            self._specular(shader, entry, diffuse, number)
            extensions |= entry.pop("extensions", {})
        if extensions:
            entry["extensions"] = extensions
        return entry

    def _alpha(self, entry: dict[str, Any], number: dict[str, float], pictures: dict[str, Read | None]) -> None:
        read, base = pictures["opacity"], pictures["diffuseColor"]
        if number["opacityThreshold"] > 0:
            entry |= {"alphaMode": "MASK", "alphaCutoff": number["opacityThreshold"]}
        elif read or number["opacity"] < 1:
            entry["alphaMode"] = "BLEND"
        if read and not (base and base.file == read.file and read.output == "a"):
            self.notes.append(
                f"not drawn yet: material {entry['name']!r:.60}: opacity of a picture of its own, {read.file[:60]!r}"
            )

    def _metallic_roughness(
        self, pbr: dict[str, Any], number: dict[str, float], pictures: dict[str, Read | None], name: str
    ) -> None:
        """One picture of both, as glTF has it: the very file where it holds roughness in green and metal in blue, else one put together."""
        rough, metal = pictures["roughness"], pictures["metallic"]
        leading = rough or metal
        if leading is None:
            return
        for key, read in (("roughnessFactor", rough), ("metallicFactor", metal)):
            if read:
                pbr[key] = 1.0
        same = rough is not None and metal is not None and rough.file == metal.file and (rough.output, metal.output) == ("g", "b")
        plain = all(read is None or (set(read.scale) == {1.0} and set(read.bias) == {0.0}) for read in (rough, metal))
        if plain and (
            same or (metal is None and rough and rough.output == "g") or (rough is None and metal and metal.output == "b")
        ):
            pbr["metallicRoughnessTexture"] = self._info(leading)
            if metal is None:
                pbr["metallicFactor"] = number["metallic"]
            return
        channels = [(self._channel(read), read) for read in (rough, metal)]
        if any(values is None and read is not None for values, read in channels):
            self.notes.append(f"left out: roughness and metal pictures of material {name[:60]!r}: they did not come along")
            pbr["roughnessFactor"], pbr["metallicFactor"] = number["roughness"], number["metallic"]
            return
        shape = max((v.shape for v, _ in channels if v is not None), key=lambda s: s[0] * s[1])
        layers = [np.full(shape, 255, np.uint8)]
        for (values, _), usual in zip(channels, (number["roughness"], number["metallic"])):
            layer = np.full(shape, round(min(max(usual, 0.0), 1.0) * 255), np.uint8) if values is None else values
            layers.append(layer if layer.shape == shape else np.asarray(Picture.fromarray(layer).resize(shape[::-1])))
        out = io.BytesIO()
        Picture.fromarray(np.stack(layers, axis=2)).save(out, "PNG")
        pbr["roughnessFactor"] = pbr["metallicFactor"] = 1.0
        image = self.made.own_image(f"{name} roughness metal {digest(out.getvalue())[:6]}", out.getvalue())
        pbr["metallicRoughnessTexture"] = self._info(leading, image)

    def _channel(self, read: Read | None) -> np.ndarray | None:
        """(h, w) uint8 of the channel that a picture is read for, scaled and moved; None if it is not there."""
        if read is None:
            return None
        try:
            pixels, _ = decode_image(self.read_beside(read.file, MAX_PICTURE_BYTES), self.budget, read.file)
        except (FileNotFoundError, SceneError):
            return None
        k = CHANNELS.get(read.output, 0)
        return np.asarray(np.clip(np.rint(pixels[..., k] * read.scale[k] + 255 * read.bias[k]), 0, 255).astype(np.uint8))

    def _clear_coat(self, number: dict[str, float], pictures: dict[str, Read | None]) -> dict[str, Any]:
        coat: dict[str, Any] = {"clearcoatFactor": number["clearcoat"], "clearcoatRoughnessFactor": number["clearcoatRoughness"]}
        for key, factor, texture, due in (
            ("clearcoat", "clearcoatFactor", "clearcoatTexture", "r"),
            ("clearcoatRoughness", "clearcoatRoughnessFactor", "clearcoatRoughnessTexture", "g"),
        ):
            if (read := pictures[key]) and read.output == due:
                coat[factor], coat[texture] = 1.0, self._info(read)
            elif read:
                self.notes.append(f"not drawn yet: {key} of channel {read.output} of {read.file[:60]!r}")
        return coat

    def _specular(self, shader: Any, entry: dict[str, Any], diffuse: list[float], number: dict[str, float]) -> None:
        """The specular way of the surface: a colour of its own that is mirrored, and no metal."""
        said: dict[str, Any] = {
            "diffuseFactor": [*diffuse, number["opacity"]], "specularFactor": self._colour(shader, "specularColor", 0.0),
            "glossinessFactor": 1 - number["roughness"],
        }  # fmt: skip
        pbr = entry.pop("pbrMetallicRoughness")
        if "baseColorTexture" in pbr:
            said["diffuseTexture"] = pbr["baseColorTexture"]
        if self._picture(shader, "specularColor") or self._picture(shader, "roughness"):
            self.notes.append(f"not drawn yet: material {entry['name']!r:.60}: pictures of its specular colour and roughness")
        entry["extensions"] = {"KHR_materials_pbrSpecularGlossiness": said}

    def _info(self, read: Read, image: int | None = None) -> dict[str, Any]:
        number = self.made.image(read.file) if image is None else image
        info: dict[str, Any] = {"index": self.made.texture(number, *read.wraps)}
        if (texcoord := self.sets.get(read.primvar, 0)) > 0:
            info["texCoord"] = texcoord
        if read.transform is not None:
            info["extensions"] = {"KHR_texture_transform": read.transform}
        return info

    def _number(self, shader: Any, key: str, usual: float) -> float:
        value = self._value(shader, key)
        if isinstance(value, bool | int | float) and math.isfinite(float(value)):
            number = float(value)
            return number if key == "ior" else min(max(number, 0.0), 1.0)
        return usual

    def _colour(self, shader: Any, key: str, usual: float, bounded: bool = True) -> list[float]:
        value = self._value(shader, key)
        if value is None or not hasattr(value, "__len__") or len(value) != 3 or not all(math.isfinite(float(v)) for v in value):
            return [usual] * 3
        return [min(max(float(v), 0.0), 1.0 if bounded else 1e6) for v in value]

    def _value(self, shader: Any, key: str) -> Any:
        """What is said for an input, where no picture is read for it; through the inputs of groups it hangs on."""
        attribute = shader.GetInput(key)
        if not attribute:
            return None
        sources = attribute.GetValueProducingAttributes()
        return sources[0].Get() if sources and sources[0].GetName().startswith("inputs:") else None

    def _picture(self, shader: Any, key: str) -> Read | None:
        """The picture that is read for an input."""
        from pxr import UsdShade

        sources = shader.GetInput(key).GetValueProducingAttributes() if shader.GetInput(key) else []
        if not sources or not sources[0].GetName().startswith("outputs:"):
            return None
        texture = UsdShade.Shader(sources[0].GetPrim())
        if texture.GetIdAttr().Get() != "UsdUVTexture":
            self.notes.append(f"not drawn yet: {key} of a {texture.GetIdAttr().Get()}")
            return None
        asset = self._value(texture, "file")
        file = str(getattr(asset, "path", "") or "")
        if not file:
            return None
        wraps = [WRAPS.get(str(self._value(texture, axis) or "useMetadata"), REPEAT) for axis in ("wrapS", "wrapT")]
        scale, bias = (self._value(texture, said) for said in ("scale", "bias"))
        primvar, transform = self._coordinates(texture)
        four = [
            tuple(float(v) for v in said) if said is not None else usual
            for said, usual in ((scale, (1.0,) * 4), (bias, (0.0,) * 4))
        ]
        output = sources[0].GetName().removeprefix("outputs:")
        return Read(file, output, (wraps[0], wraps[1]), primvar, transform, *four)

    def _coordinates(self, texture: Any) -> tuple[str, dict[str, Any] | None]:
        """(primvar that a texture is read by, what is done to it first): scaled, turned and moved with V running up, so that glTF's turn
        goes the other way round."""
        from pxr import UsdShade

        sources = texture.GetInput("st").GetValueProducingAttributes() if texture.GetInput("st") else []
        if not sources or not sources[0].GetName().startswith("outputs:"):
            return "st", None
        reader = UsdShade.Shader(sources[0].GetPrim())
        transform = None
        if reader.GetIdAttr().Get() == "UsdTransform2d":
            degrees = float(self._value(reader, "rotation") or 0.0)
            scale, shift = (self._value(reader, key) for key in ("scale", "translation"))
            sx, sy = (float(v) for v in scale) if scale is not None else (1.0, 1.0)
            tx, ty = (float(v) for v in shift) if shift is not None else (0.0, 0.0)
            turn = math.radians(degrees)
            b, e = -math.sin(turn) * sy, math.cos(turn) * sy
            transform = {"rotation": -turn, "scale": [sx, sy], "offset": [b + tx, 1 - e - ty]}
            inner = reader.GetInput("in").GetValueProducingAttributes() if reader.GetInput("in") else []
            reader = UsdShade.Shader(inner[0].GetPrim()) if inner else None
        name = self._value(reader, "varname") if reader else None
        return str(name or "st"), transform
