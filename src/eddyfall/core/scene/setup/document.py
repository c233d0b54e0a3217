"""The setup document: sections and tables in one JSON object, read strictly, written back with x_* keys kept."""

from pathlib import Path
from typing import Any, Literal

from pydantic import Field, ValidationError

from eddyfall.core.errors import SetupError
from eddyfall.core.scene.container import parse_json
from eddyfall.core.scene.setup.atmosphere import Fog, Sky
from eddyfall.core.scene.setup.bake import Bake
from eddyfall.core.scene.setup.depth import Depth
from eddyfall.core.scene.setup.leaf import Section
from eddyfall.core.scene.setup.picture import Exposure, Order, Textures
from eddyfall.core.scene.setup.shadow import Shadow
from eddyfall.core.scene.setup.tables import (
    BakedMap,
    BakedScene,
    FocusRegion,
    LightSet,
    LightSetup,
    MaterialSetup,
    MeshSetup,
    NodeSetup,
    Override,
    Shader,
    Viewpoint,
)

SECTIONS: dict[str, type[Section]] = {
    "depth": Depth,
    "shadow": Shadow,
    "sky": Sky,
    "fog": Fog,
    "exposure": Exposure,
    "textures": Textures,
    "order": Order,
    "bake": Bake,
}
STOCK_SHADERS = {"OPAQUE": "stock_opaque", "MASK": "stock_cutout", "BLEND": "stock_blended"}


class Setup(Section):
    """Everything a renderer must know that glTF cannot say. All defaults present = the normalised setup."""

    eddyfall_setup: Literal[1] = Field(1, description="format version")
    depth: Depth = Field(default_factory=Depth)
    shadow: Shadow = Field(default_factory=Shadow)
    sky: Sky = Field(default_factory=Sky)
    fog: Fog = Field(default_factory=Fog)
    exposure: Exposure = Field(default_factory=Exposure)
    textures: Textures = Field(default_factory=Textures)
    order: Order = Field(default_factory=Order)
    bake: Bake = Field(default_factory=Bake)
    targets: dict[str, Override] = Field(default_factory=dict, description="devices: what each lays over the project")
    roles: dict[str, Override] = Field(default_factory=lambda: {"edit": Override(), "play": Override()})
    viewpoints: dict[str, Viewpoint] = Field(default_factory=dict)
    shaders: dict[str, Shader] = Field(default_factory=dict, description="by shader key; stock_* exist always")
    materials: dict[str, MaterialSetup] = Field(default_factory=dict, description="by glTF material key")
    meshes: dict[str, MeshSetup] = Field(default_factory=dict, description="by glTF mesh key")
    nodes: dict[str, NodeSetup] = Field(default_factory=dict, description="by glTF node key")
    lights: dict[str, LightSetup] = Field(default_factory=dict, description="by glTF light node key, or a new name with kind")
    light_sets: dict[str, LightSet] = Field(default_factory=dict, description="lights that shine together, by name")
    focus_regions: dict[str, FocusRegion] = Field(default_factory=dict, description="bake focus regions by name")
    baked_scenes: dict[str, BakedScene] = Field(
        default_factory=dict, description="what lightmaps were baked from, by scene stamp"
    )
    lightmaps: dict[str, dict[str, BakedMap]] = Field(
        default_factory=dict,
        description="by receiver (node, or drawable where each part has its own), then light set (as_set: none)",
    )


def read_setup(path: Path | str) -> tuple[Setup, dict[str, Any]]:
    """Setup and the raw document at `path`. Raises SetupError with the path of the broken field."""
    path = Path(path)
    try:
        data = path.read_bytes()
    except OSError as error:
        raise SetupError(f"cannot be read: {error.strerror}", file=path.name) from None
    try:
        raw = parse_json(data, SetupError)
        return parse_setup(raw), raw
    except SetupError as error:
        raise error.in_file(path.name) from None


def parse_setup(raw: dict[str, Any]) -> Setup:
    """Validate a document. Keys that start with x_ are allowed anywhere and ignored here; any other unknown key is an error."""
    if raw.get("eddyfall_setup") != 1:
        raise SetupError('must have "eddyfall_setup": 1')
    try:
        setup = Setup.model_validate(without_x(raw))
    except ValidationError as error:
        raise SetupError(*first_fault(error)) from None
    for table, entries in (("targets", setup.targets), ("roles", setup.roles), ("viewpoints", setup.viewpoints)):
        for name, entry in entries.items():
            check_overlay(setup, entry.set, f"{table}.{name}.set", only=("exposure",) if table == "viewpoints" else None)
    for name, viewpoint in setup.viewpoints.items():
        if viewpoint.role not in setup.roles and viewpoint.role not in ("edit", "play"):
            raise SetupError(f"role {viewpoint.role!r} is not in roles", f"viewpoints.{name}.role")
        if viewpoint.light_set is not None and viewpoint.light_set not in setup.light_sets:
            raise SetupError(f"light set {viewpoint.light_set!r} is not in light_sets", f"viewpoints.{name}.light_set")
    for name, region in setup.focus_regions.items():
        if any(low >= high for low, high in zip(region.low_m, region.high_m)):
            raise SetupError("low_m must lie below high_m on every axis", f"focus_regions.{name}")
    for name, material in setup.materials.items():
        if material.shader is not None and material.shader not in setup.shaders and material.shader not in STOCK_SHADERS.values():
            raise SetupError(f"shader {material.shader!r} is not in shaders", f"materials.{name}.shader")
    if setup.depth.far_m is not None and setup.depth.far_m <= setup.depth.near_m:
        raise SetupError("far_m must be beyond near_m", "depth.far_m")
    return setup


def check_overlay(setup: Setup, overlay: dict[str, dict[str, Any]], where: str, only: tuple[str, ...] | None = None) -> None:
    """An override must name existing sections and fields with valid values."""
    for section, fields in overlay.items():
        if section not in SECTIONS or (only and section not in only):
            raise SetupError(f"may set {', '.join(only or SECTIONS)}, not {section!r}", where)
        lay_over(getattr(setup, section), fields, f"{where}.{section}")


def lay_over(section: Section, fields: dict[str, Any], where: str) -> Section:
    """The section with some fields replaced, validated again."""
    unknown = [k for k in fields if k not in type(section).model_fields]
    if unknown:
        raise SetupError(f"unknown key {unknown[0]!r}", where)
    try:
        return type(section).model_validate({**section.model_dump(mode="json"), **fields})
    except ValidationError as error:
        rule, path = first_fault(error)
        raise SetupError(rule, f"{where}.{path}") from None


def first_fault(error: ValidationError) -> tuple[str, str]:
    """(rule, path) of the first fault pydantic found."""
    fault = error.errors()[0]
    path = ".".join(str(p) for p in fault["loc"])
    if fault["type"] == "extra_forbidden":
        return "unknown key", path
    return fault["msg"], path


def without_x(value: Any) -> Any:
    """The document without its x_* keys."""
    if isinstance(value, dict):
        return {k: without_x(v) for k, v in value.items() if not k.startswith("x_")}
    if isinstance(value, list):
        return [without_x(v) for v in value]
    return value


def normalised(setup: Setup) -> dict[str, Any]:
    """The setup as plain JSON with every default present: what patches refer to."""
    return setup.model_dump(mode="json")


def setup_schema() -> dict[str, Any]:
    """JSON Schema of the setup document (units ride along as extra keywords; what each leaf affects is added by `frame.affects`)."""
    schema = Setup.model_json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Eddyfall setup"
    return schema
