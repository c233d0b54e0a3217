"""USD (.usda, .usdc, .usdz) as the glTF that says the same: what is read of it then goes the way of any other file.

Read with the package usd-core, which is an extra. Meshes with their subsets and instances, places, cameras, lights of the sun and of
balls, and materials of UsdPreviewSurface. Lengths are metres by the stage's metersPerUnit (unset: 0.01), up is its upAxis. Meshes that are
to be subdivided (what is unset is) are drawn as their cages, smooth. What a stage is composed of is opened only where it lies beside it."""

from __future__ import annotations

import math
import re
import tempfile
from collections.abc import Callable
from pathlib import Path, PurePosixPath
from typing import Any

import numpy as np

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.read.made import Made
from eddyfall.core.scene.read.usd_materials import MaterialReader

ReadBeside = Callable[[str, int], bytes]
MAX_LAYER_BYTES = 512 * 1024**2
MOST_LAYERS = 256
MOST_PRIMS = 200_000
UNIT_M = 0.01  # of a stage that says none (UsdGeom)
CONSTANT, UNIFORM, CORNERS = "constant", "uniform", "faceVarying"


def is_usd(data: bytes) -> bool:
    """Whether bytes are a layer of USD, as text or as a crate."""
    return data[:8] == b"PXR-USDC" or data[:512].lstrip().startswith(b"#usda")


def usd_as_gltf(data: bytes, read_beside: ReadBeside) -> tuple[dict[str, Any], bytes, tuple[str, ...]]:
    """(JSON, buffer, notes) of the glTF that says what a stage does. SceneError for what cannot be read, and without the package."""
    try:
        from pxr import Tf, Usd
    except ImportError:
        raise SceneError("is USD, which is read with the package usd-core; it is not installed here (./run usd)") from None
    notes: list[str] = []
    with tempfile.TemporaryDirectory(prefix="eddyfall-usd-") as folder:
        try:
            layer = _gathered(data, Path(folder), read_beside, notes)
            stage = Usd.Stage.Open(layer)
            return (*_Stage(stage, read_beside, notes).converted(), tuple(notes))
        except Tf.ErrorException as error:
            raise SceneError(f"USD cannot read it: {_words(error, folder)}") from None


def _words(error: Exception, folder: str) -> str:
    """What USD says of an error, without where in its own code it is said, and in which folder."""
    found = re.search(r" : '(.*?)(?:\n|'?$)", str(error).replace(f"{folder}/", ""), re.DOTALL)
    return (found.group(1) if found else type(error).__name__).strip()[:200]


def _gathered(data: bytes, folder: Path, read_beside: ReadBeside, notes: list[str]) -> Any:
    """The stage's first layer, with all layers it is made of beside it in a folder of their own; those of elsewhere are cut off."""
    from pxr import Sdf

    def put(path: PurePosixPath, content: bytes) -> Any:
        there = folder / path
        there.parent.mkdir(parents=True, exist_ok=True)
        there.write_bytes(content)
        found = Sdf.Layer.FindOrOpen(str(there))
        if found is None:
            raise SceneError("USD cannot read it", str(path))
        return found

    first = PurePosixPath("stage.usdc" if data[:8] == b"PXR-USDC" else "stage.usda")
    root = put(first, data)
    waiting, opened = [(first, root)], {str(first): root}
    while waiting:
        at, layer = waiting.pop()
        for asset in sorted(layer.GetCompositionAssetDependencies()):
            where = _within(at.parent, asset)
            if where is not None and str(where) in opened:
                continue
            content, why = None, "it lies elsewhere"
            if where is not None:
                try:
                    content = read_beside(str(where), MAX_LAYER_BYTES)
                except FileNotFoundError:
                    why = "it did not come along"
            if where is None or content is None or not is_usd(content):
                notes.append(f"left out: layer {asset[:80]!r}: {why if content is None else 'it is no USD'}")
                layer.UpdateCompositionAssetDependency(asset, "")
                continue
            if len(opened) >= MOST_LAYERS:
                raise SceneError(f"it is made of more than {MOST_LAYERS} layers")
            opened[str(where)] = put(where, content)
            waiting.append((where, opened[str(where)]))
    return root


def _within(folder: PurePosixPath, asset: str) -> PurePosixPath | None:
    """A path beside the stage's first layer; None if it climbs out or is of another machine."""
    asset = asset.replace("\\", "/")
    if asset.startswith("/") or ":" in asset or "[" in asset:
        return None
    parts: list[str] = []
    for part in (folder / asset).parts:
        if part == "..":
            if not parts:
                return None
            parts.pop()
        elif part != ".":
            parts.append(part)
    return PurePosixPath(*parts) if parts else None


class _Stage:
    """A stage on its way into a glTF."""

    def __init__(self, stage: Any, read_beside: ReadBeside, notes: list[str]) -> None:
        from pxr import UsdGeom

        self.stage, self.notes, self.made = stage, notes, Made("a USD stage")
        self.materials = MaterialReader(self.made, read_beside, notes)
        self.places = UsdGeom.XformCache()
        self.meshes: dict[str, int] = {}
        self.left: dict[str, int] = {}
        self.cages: list[str] = []
        self.lights: list[dict[str, Any]] = []
        unit = UsdGeom.GetStageMetersPerUnit(stage) if stage.HasAuthoredMetadata("metersPerUnit") else UNIT_M
        if not (math.isfinite(unit) and unit > 0):
            raise SceneError(f"metersPerUnit is {unit}")
        self.unit = float(unit)
        self.root = np.diag([self.unit] * 3 + [1.0])
        if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z:
            self.root = self.root @ np.array([[1, 0, 0, 0], [0, 0, 1, 0], [0, -1, 0, 0], [0, 0, 0, 1.0]])

    def converted(self) -> tuple[dict[str, Any], bytes]:
        from pxr import Usd, UsdGeom, UsdLux

        for count, prim in enumerate(self.stage.Traverse(Usd.TraverseInstanceProxies())):
            if count >= MOST_PRIMS:
                raise SceneError(f"it has more than {MOST_PRIMS} prims")
            shown = UsdGeom.Imageable(prim)
            if not shown or shown.ComputeVisibility() == UsdGeom.Tokens.invisible:
                continue
            if shown.ComputePurpose() not in (UsdGeom.Tokens.default_, UsdGeom.Tokens.render):
                continue
            if prim.IsA(UsdGeom.Mesh):
                self._mesh(prim)
            elif prim.IsA(UsdGeom.Camera):
                self._camera(prim)
            elif prim.IsA(UsdLux.DistantLight) or prim.IsA(UsdLux.SphereLight):
                self._light(prim)
            elif prim.IsA(UsdGeom.Gprim) or prim.IsA(UsdGeom.PointInstancer) or prim.HasAPI(UsdLux.LightAPI):
                self.left[prim.GetTypeName()] = self.left.get(prim.GetTypeName(), 0) + 1
        self.notes += [f"left out: {count} of kind {kind}" for kind, count in sorted(self.left.items())]
        if self.cages:
            self.notes.append(
                f"drawn as their cages, smooth: {len(self.cages)} meshes that are to be subdivided ({self.cages[0][:80]} ...)"
            )
        if self.lights:
            self.made.json["extensions"] = {"KHR_lights_punctual": {"lights": self.lights}}
        document, binary = self.made.finished()
        if self.lights:
            document["extensionsUsed"] = sorted({*document.get("extensionsUsed", []), "KHR_lights_punctual"})
        return document, binary

    def _node(self, prim: Any, more: dict[str, Any]) -> None:
        # USD's vectors are rows: its matrices are ours turned over.
        place = self.root @ np.array(self.places.GetLocalToWorldTransform(prim), float).T
        if "mesh" not in more:  # cameras and lights have no size
            place[:3, :3] /= np.maximum(np.linalg.norm(place[:3, :3], axis=0), 1e-12)
        doc = self.made.json
        doc["scenes"][0]["nodes"].append(len(doc["nodes"]))
        doc["nodes"].append({"name": prim.GetName(), "matrix": place.T.reshape(-1).tolist(), **more})

    def _camera(self, prim: Any) -> None:
        from pxr import UsdGeom

        camera = UsdGeom.Camera(prim)
        if camera.GetProjectionAttr().Get() == UsdGeom.Tokens.orthographic:
            self.left["orthographic Camera"] = self.left.get("orthographic Camera", 0) + 1
            return
        high, focal = float(camera.GetVerticalApertureAttr().Get()), float(camera.GetFocalLengthAttr().Get())
        near, far = (float(v) * self.unit for v in camera.GetClippingRangeAttr().Get())
        fov = 2 * math.atan(high / 2 / focal) if focal > 0 else 1.0
        lens: dict[str, Any] = {"yfov": fov, "znear": max(near, 1e-4)}
        if far > lens["znear"]:
            lens["zfar"] = far
        cameras = self.made.json.setdefault("cameras", [])
        cameras.append({"name": prim.GetName(), "type": "perspective", "perspective": lens})
        self._node(prim, {"camera": len(cameras) - 1})

    def _light(self, prim: Any) -> None:
        """A sun in lux, a ball as the point in its middle in candela (UsdLux: intensity is in nits, unless it is normalised)."""
        from pxr import UsdLux

        light, sun = UsdLux.LightAPI(prim), prim.IsA(UsdLux.DistantLight)
        nits = float(light.GetIntensityAttr().Get()) * 2.0 ** float(light.GetExposureAttr().Get())
        normalised = bool(light.GetNormalizeAttr().Get())
        if sun:
            half = math.radians(float(UsdLux.DistantLight(prim).GetAngleAttr().Get())) / 2
            amount = nits if normalised or half <= 0 else nits * math.pi * math.sin(half) ** 2
        else:
            radius = float(UsdLux.SphereLight(prim).GetRadiusAttr().Get()) * self.unit
            amount = nits / 4 if normalised else nits * math.pi * radius**2  # over its area of 4 pi r^2, or not
        self.lights.append({
            "name": prim.GetName(), "type": "directional" if sun else "point", "intensity": max(amount, 0.0),
            "color": [min(max(float(v), 0.0), 1.0) for v in light.GetColorAttr().Get()],
        })  # fmt: skip
        self._node(prim, {"extensions": {"KHR_lights_punctual": {"light": len(self.lights) - 1}}})

    def _mesh(self, prim: Any) -> None:
        source = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
        key = str(source.GetPath())
        if key not in self.meshes:
            primitives = _MeshReader(prim, self).primitives()
            self.meshes[key] = -1
            if primitives:
                self.made.json["meshes"].append({"name": prim.GetName(), "primitives": primitives})
                self.meshes[key] = len(self.made.json["meshes"]) - 1
        if self.meshes[key] >= 0:
            self._node(prim, {"mesh": self.meshes[key]})


class _MeshReader:
    """A mesh on its way: its faces cut into triangles, every value by the corners of faces."""

    def __init__(self, prim: Any, of: _Stage) -> None:
        from pxr import UsdGeom

        self.prim, self.of, self.mesh, self.here = prim, of, UsdGeom.Mesh(prim), str(prim.GetPath())[:200]
        self.points = np.asarray(self.mesh.GetPointsAttr().Get() or np.zeros((0, 3)), np.float64).reshape(-1, 3)
        self.counts = np.asarray(self.mesh.GetFaceVertexCountsAttr().Get() or [], np.int64)
        self.corners = np.asarray(self.mesh.GetFaceVertexIndicesAttr().Get() or [], np.int64)
        if self.counts.sum() != len(self.corners) or (self.counts < 0).any():
            raise SceneError(f"its faces have {int(self.counts.sum())} corners, {len(self.corners)} are listed", self.here)
        if len(self.corners) and not (self.corners.min() >= 0 and self.corners.max() < len(self.points)):
            raise SceneError(f"a face has a corner that does not exist: there are {len(self.points)} points", self.here)
        if not np.isfinite(self.points).all():
            raise SceneError("a point is NaN or infinite", self.here)
        self.first = np.concatenate([[0], np.cumsum(self.counts)])
        self.face = np.repeat(np.arange(len(self.counts)), self.counts)
        self.left_handed = self.mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded

    def primitives(self) -> list[dict[str, Any]]:
        """Its parts, one for each material that its faces have."""
        from pxr import UsdGeom, UsdShade

        binding = UsdShade.MaterialBindingAPI(self.prim)
        rest = np.ones(len(self.counts), bool)
        if self.mesh.GetHoleIndicesAttr().Get():
            rest[np.asarray(self.mesh.GetHoleIndicesAttr().Get())] = False
        values, parts = self._values(), []
        for subset in binding.GetMaterialBindSubsets() if binding else []:
            faces = np.asarray(UsdGeom.Subset(subset).GetIndicesAttr().Get() or [], np.int64)
            if len(faces) and not (faces.min() >= 0 and faces.max() < len(self.counts)):
                raise SceneError(f"subset {subset.GetPrim().GetName()} names a face that does not exist", self.here)
            mine = np.zeros(len(self.counts), bool)
            mine[faces] = True
            bound = UsdShade.MaterialBindingAPI(subset.GetPrim()).ComputeBoundMaterial()[0]
            parts.append((mine & rest, bound))
            rest &= ~mine
        parts.append((rest, UsdShade.MaterialBindingAPI(self.prim).ComputeBoundMaterial()[0]))
        return [made for faces, bound in parts if (made := self._part(faces, bound, values)) is not None]

    def _part(self, faces: np.ndarray, bound: Any, values: dict[str, np.ndarray]) -> dict[str, Any] | None:
        triangles = self._triangles(faces)
        if not len(triangles):
            return None
        used, index = np.unique(triangles.reshape(-1), return_inverse=True)
        columns = {name: rows[used] for name, rows in values.items()}
        # Corners that are alike in all they have are one.
        whole = np.concatenate([np.ascontiguousarray(rows, np.float32) for rows in columns.values()], axis=1)
        _, kept, number = np.unique(whole, axis=0, return_index=True, return_inverse=True)
        made = self.of.made
        attributes = {name: made.accessor(rows[kept], bounds=name == "POSITION") for name, rows in columns.items()}
        colour = self._constant_colour()
        material = self.of.materials.of(bound, bool(self.mesh.GetDoubleSidedAttr().Get()), colour)
        return {"attributes": attributes, "indices": made.indices(number.reshape(-1)[index.reshape(-1)]), "material": material}

    def _triangles(self, faces: np.ndarray) -> np.ndarray:
        """(t, 3) corners of faces cut into fans."""
        found = []
        for count in np.unique(self.counts[faces]):
            if count < 3:
                continue
            first = self.first[:-1][faces & (self.counts == count)]
            k = np.arange(1, count - 1)
            fan = np.stack([np.zeros_like(k), k, k + 1], axis=1)
            found.append((first[:, None, None] + fan[None]).reshape(-1, 3))
        triangles = np.concatenate(found) if found else np.zeros((0, 3), np.int64)
        return triangles[:, [0, 2, 1]] if self.left_handed else triangles

    def _values(self) -> dict[str, np.ndarray]:
        """By glTF name, rows of each corner of a face."""
        from pxr import UsdGeom

        cage = self.mesh.GetSubdivisionSchemeAttr().Get() != UsdGeom.Tokens.none
        values = {"POSITION": self.points[self.corners]}
        normals = None if cage else self._normals()
        if cage:
            self.of.cages.append(self.here)
            normals = self._smooth()[self.corners]
        if normals is not None:
            length = np.linalg.norm(normals, axis=1, keepdims=True)
            if (length > 1e-12).all():
                values["NORMAL"] = normals / length
        api = UsdGeom.PrimvarsAPI(self.prim)
        found = [
            v for v in api.FindPrimvarsWithInheritance() if str(v.GetTypeName()) in ("texCoord2f[]", "float2[]", "texCoord2d[]")
        ]
        found.sort(key=lambda v: (v.GetPrimvarName() not in ("st", "UVMap", "uv"), v.GetPrimvarName()))
        for number, primvar in enumerate(found[:2]):
            uv = self._by_corner(primvar)
            if uv is not None and uv.shape[1] == 2:
                values[f"TEXCOORD_{number}"] = uv * [1, -1] + np.array([0, 1])  # V runs up
        self.of.materials.sets = {v.GetPrimvarName(): k for k, v in enumerate(found[:2])}
        colour = api.FindPrimvarWithInheritance("displayColor")
        if colour and colour.HasValue() and colour.GetInterpolation() != CONSTANT:
            rgb = self._by_corner(colour)
            if rgb is not None and rgb.shape[1] == 3:
                values["COLOR_0"] = np.clip(rgb, 0, 1)
        return values

    def _constant_colour(self) -> list[float] | None:
        """What a mesh without a material is coloured by, as one."""
        from pxr import UsdGeom

        colour = UsdGeom.PrimvarsAPI(self.prim).FindPrimvarWithInheritance("displayColor")
        if not colour or not colour.HasValue() or colour.GetInterpolation() != CONSTANT or not len(colour.Get()):
            return None
        return [min(max(float(v), 0.0), 1.0) for v in colour.Get()[0]]

    def _normals(self) -> np.ndarray | None:
        from pxr import UsdGeom

        primvar = UsdGeom.PrimvarsAPI(self.prim).GetPrimvar("normals")
        if primvar and primvar.HasValue():
            return self._by_corner(primvar)
        given = self.mesh.GetNormalsAttr().Get()
        if not given:
            return None
        return self._spread(np.asarray(given, np.float64).reshape(-1, 3), str(self.mesh.GetNormalsInterpolation()))

    def _by_corner(self, primvar: Any) -> np.ndarray | None:
        values = primvar.ComputeFlattened()
        if values is None or not len(values):
            return None
        return self._spread(np.asarray(values, np.float64).reshape(len(values), -1), str(primvar.GetInterpolation()))

    def _spread(self, values: np.ndarray, interpolation: str) -> np.ndarray | None:
        """Rows of every corner; None, and a note, where there are not as many as there have to be."""
        asked = {CONSTANT: 1, UNIFORM: len(self.counts), CORNERS: len(self.corners)}.get(interpolation, len(self.points))
        if len(values) != asked or not np.isfinite(values).all():
            self.of.notes.append(f"left out: {len(values)} {interpolation} values of {self.here}, where {asked} are due")
            return None
        if interpolation == CONSTANT:
            return np.repeat(values, len(self.corners), axis=0)
        if interpolation == CORNERS:
            return values
        return values[self.face] if interpolation == UNIFORM else values[self.corners]

    def _smooth(self) -> np.ndarray:
        """(points, 3) means of the normals of the faces about each, by their area."""
        corners, total = self._triangles(np.ones(len(self.counts), bool)), np.zeros_like(self.points)
        of_face = np.zeros((len(self.counts), 3))
        a, b, c = self.points[self.corners[corners]].transpose(1, 0, 2)
        np.add.at(of_face, self.face[corners[:, 0]], np.cross(b - a, c - a))
        np.add.at(total, self.corners, of_face[self.face])
        return total
