"""The tables of a setup: roles, targets, viewpoints, shaders, materials, meshes (with copies), nodes, lights."""

from typing import Any, Literal

from pydantic import Field, model_validator

from eddyfall.core.scene.setup.leaf import Rgb, Section, Vec2, Vec3, leaf

BlendKind = Literal["opaque", "cutout", "blended", "premultiplied", "additive", "multiply", "destination_out"]


class Passes(Section):
    colour: bool = leaf(True, "-", "drawn in the colour passes", "opaque blend")
    depth: bool = leaf(True, "-", "drawn in the depth prepass", "prepass")
    shadow: bool = leaf(True, "-", "drawn into shadow maps", "shadow")
    bake: bool = leaf(True, "-", "takes part in bakes", "bake")
    mirror: bool = leaf(True, "-", "drawn in mirrors", "reflect")


class Shader(Section):
    passes: Passes = Field(default_factory=Passes, description="which passes this shader has")
    fogs: bool = leaf(True, "-", "whether blended drawables with this shader fog at their own depth", "blend")


class MaterialSetup(Section):
    shader: str | None = leaf(None, "-", "shader key; null is the stock shader of the material's alpha mode", "opaque")
    blend: BlendKind | None = leaf(None, "-", "how it meets what is behind; null follows glTF alphaMode", "opaque blend")
    double_sided: bool | None = leaf(None, "-", "whether back faces are drawn; null follows glTF doubleSided", "opaque blend")


class CopyRule(Section):
    """One copy rule of a mesh, evaluated at export. Rules apply one after the other, in `order`."""

    kind: Literal["mirror", "array"] = leaf("array", "-", "mirror adds mirrored copies, array adds shifted copies", "geometry")
    order: int = leaf(0, "-", "rules with a smaller number apply first", "geometry", ge=0, le=1000)
    axes: tuple[Literal["x", "y", "z"], ...] = Field(
        ("x",),
        description="axes a mirror mirrors, each adding its own copies",
        json_schema_extra={"unit": "-", "affects": ["geometry"]},
        strict=False,
    )
    origin_m: Vec3 = leaf((0.0, 0.0, 0.0), "m", "point on the mirror planes, in the mesh's own space", "geometry")
    count: int = leaf(2, "-", "how many there are with the original (array)", "geometry", ge=1, le=4096)
    step_m: Vec3 = leaf((1.0, 0.0, 0.0), "m", "shift from one array copy to the next, in the mesh's own space", "geometry")
    uv_offset: Vec2 = leaf((0.0, 0.0), "tile", "added to the lightmap UV once for each array step or mirrored axis", "geometry")
    material: str | None = leaf(None, "-", "material of the copies, as a material part of their own; null keeps it", "geometry")


class MeshSetup(Section):
    copies: dict[str, CopyRule] = Field(default_factory=dict, description="copy rules by name")
    lightmap_uv: Literal[0, 1] | None = leaf(None, "-", "UV set used for lightmaps; null is not lightmapped", "bake")


class NodeSetup(Section):
    drawn: bool = leaf(True, "-", "whether the node is drawn and casts at all", "cull shadow")
    draw_rank: int = leaf(0, "-", "blended drawables with a higher rank are drawn later", "blend", ge=-10000, le=10000)
    bounds_padding_m: float = leaf(0.0, "m", "added around the bounds before culling", "cull", ge=0, le=10000)
    draw_distance_m: float = leaf(0.0, "m", "range to the eye beyond which it is not drawn; 0 is always drawn", "cull", ge=0)
    casts: bool = leaf(True, "-", "whether it casts shadows", "shadow")
    receives: bool = leaf(True, "-", "whether shadows fall on it", "opaque")
    lightmap_size: int | None = leaf(None, "texel", "edge of its lightmap; null takes bake.resolution", "bake", ge=8, le=8192)


class LightSetup(Section):
    on: bool = leaf(True, "-", "whether the light shines", "opaque")
    casts: bool | None = leaf(None, "-", "whether it casts shadows; null: suns do, point and spot lights do not", "shadow opaque")
    kind: Literal["sun"] | None = leaf(None, "-", "sun adds a sun that the scene file does not have", "opaque shadow")
    towards: Vec3 = leaf((0.3, 0.8, 0.5), "-", "direction to an added sun", "opaque shadow")
    illuminance_lux: float = leaf(0.0, "lx", "illuminance of an added sun on a face turned to it", "opaque", ge=0, le=1e7)
    rgb: Rgb = leaf((1.0, 1.0, 1.0), "-", "tint of an added sun", "opaque")


class Viewpoint(Section):
    """A named camera: a glTF camera node, or eye and target."""

    camera: str | None = leaf(None, "-", "node key of a glTF camera; null uses eye and target", "camera")
    eye: Vec3 | None = leaf(None, "m", "camera position", "camera")
    target: Vec3 | None = leaf(None, "m", "point looked at", "camera")
    fov_y_deg: float = leaf(55.0, "deg", "vertical field of view when no glTF camera is named", "camera", ge=1, le=170)
    role: str = leaf("play", "-", "role whose settings apply", "camera")
    set: dict[str, dict[str, Any]] = Field(default_factory=dict, description="settings of this viewpoint alone: exposure only")

    @model_validator(mode="after")
    def _has_pose(self) -> "Viewpoint":
        if self.camera is None and (self.eye is None or self.target is None):
            raise ValueError("a viewpoint needs a camera, or eye and target")
        if self.camera is None and self.eye == self.target:
            raise ValueError("eye and target must differ")
        return self


class Override(Section):
    """Settings a role or target lays over the project's, by section."""

    set: dict[str, dict[str, Any]] = Field(default_factory=dict, description="section -> field -> value")
