"""The setup document: sections and tables in one JSON object, read strictly, written back with x_* keys kept."""

from functools import cache
from itertools import pairwise
from pathlib import Path
from typing import Any, Literal

from pydantic import Field, ValidationError, create_model

from eddyfall.core.errors import SetupError
from eddyfall.core.scene.read.container import parse_json
from eddyfall.core.scene.setup.leaf import Section
from eddyfall.core.scene.setup.registry import S, name_of, sections, set_by_viewpoints
from eddyfall.core.scene.setup.tables import (
    BakedMap,
    BakedScene,
    CapturedProbe,
    FocusRegion,
    Grid,
    LightSet,
    LightSetup,
    MaterialSetup,
    MeshSetup,
    MirrorSetup,
    Move,
    NodeSetup,
    Override,
    Probe,
    RoleSetup,
    Shader,
    SortPoint,
    Viewpoint,
    Volume,
)

STOCK_ROLES = ("edit", "play", "output", "reference")  # that exist always
STOCK_SHADERS = {"OPAQUE": "stock_opaque", "MASK": "stock_cutout", "BLEND": "stock_blended"}
GLOSS_SHADER = "stock_specular_gloss"  # of materials that say nothing but KHR_materials_pbrSpecularGlossiness


class Setup(Section):
    """Everything a renderer must know that glTF cannot say: sections by their classes (`setup[Fog]`), tables by name. Made by `parse_setup`
    or `empty_setup`, which know the sections there are. All defaults present = the normalised setup."""

    eddyfall_setup: Literal[1] = Field(1, description="format version")
    targets: dict[str, Override] = Field(default_factory=dict, description="devices: what each lays over the project")
    roles: dict[str, RoleSetup] = Field(default_factory=lambda: {"edit": RoleSetup(), "play": RoleSetup()})
    viewpoints: dict[str, Viewpoint] = Field(default_factory=dict)
    moves: dict[str, Move] = Field(default_factory=dict, description="cameras on their way, by name")
    shaders: dict[str, Shader] = Field(default_factory=dict, description="by shader key; stock_* exist always")
    materials: dict[str, MaterialSetup] = Field(default_factory=dict, description="by glTF material key")
    meshes: dict[str, MeshSetup] = Field(default_factory=dict, description="by glTF mesh key")
    nodes: dict[str, NodeSetup] = Field(default_factory=dict, description="by glTF node key")
    lights: dict[str, LightSetup] = Field(default_factory=dict, description="by glTF light node key, or a new name with kind")
    light_sets: dict[str, LightSet] = Field(default_factory=dict, description="lights that shine together, by name")
    volumes: dict[str, Volume] = Field(default_factory=dict, description="boxes of mist, by name")
    sort_points: dict[str, SortPoint] = Field(
        default_factory=dict, description="points that several blended nodes are sorted by, by name"
    )
    probes: dict[str, Probe] = Field(default_factory=dict, description="reflection probes by name")
    mirrors: dict[str, MirrorSetup] = Field(default_factory=dict, description="planar mirrors by name")
    probe_maps: dict[str, dict[str, CapturedProbe]] = Field(
        default_factory=dict, description="what was captured: by probe, then light set (as_set: none)"
    )
    grids: dict[str, Grid] = Field(default_factory=dict, description="light grids for things that move, by name")
    grid_maps: dict[str, dict[str, CapturedProbe]] = Field(
        default_factory=dict, description="what was captured: by grid, then light set (as_set: none)"
    )
    focus_regions: dict[str, FocusRegion] = Field(default_factory=dict, description="bake focus regions by name")
    baked_scenes: dict[str, BakedScene] = Field(
        default_factory=dict, description="what lightmaps were baked from, by scene stamp"
    )
    lightmaps: dict[str, dict[str, BakedMap]] = Field(
        default_factory=dict,
        description="by receiver (node, or drawable where each part has its own), then light set (as_set: none)",
    )

    def __getitem__(self, kind: type[S]) -> S:
        """A section. One that was registered after this setup was read has its defaults."""
        section = getattr(self, name_of(kind), None)
        return section if isinstance(section, kind) else kind()

    def with_section(self, section: Section) -> "Setup":
        """The setup with one section replaced."""
        return self.model_copy(update={name_of(type(section)): section})

    def __reduce__(self) -> tuple[Any, ...]:
        return _restored, (dict(self.__dict__),)


def _restored(fields: dict[str, Any]) -> Setup:
    """A setup from its fields: pickle finds no class that was made at run time."""
    return _setup_type().model_construct(**fields)


def _setup_type() -> type[Setup]:
    """`Setup` with a field for each section there is."""
    return _typed(tuple(sections().items()))


@cache
def _typed(known: tuple[tuple[str, type[Section]], ...]) -> type[Setup]:
    fields: dict[str, Any] = {name: (kind, Field(default_factory=kind)) for name, kind in known}
    return create_model("Setup", __base__=Setup, __doc__=Setup.__doc__, **fields)


def lasting(setup: Setup) -> Setup:
    """The setup without what its roles set for the session alone."""
    if not any(role.session and role.set for role in setup.roles.values()):
        return setup
    roles = {name: role.model_copy(update={"set": {}}) if role.session else role for name, role in setup.roles.items()}
    return setup.model_copy(update={"roles": roles})


def empty_setup() -> Setup:
    """A setup of defaults."""
    return _setup_type()()


def in_order(fields: dict[str, Any]) -> dict[str, Any]:
    """Top-level keys as a document has them: its version, sections, tables."""
    first = ["eddyfall_setup", *sections()]
    return {k: fields[k] for k in (*(k for k in first if k in fields), *(k for k in fields if k not in first))}


def read_setup(path: Path | str) -> tuple[Setup, dict[str, Any]]:
    """Setup and the raw document at `path`. Raises SetupError with the path of the broken field."""
    path = Path(path)
    try:
        data = path.read_bytes()
    except OSError as error:
        raise SetupError(f"cannot be read: {error.strerror}", file=path.name) from None
    try:
        raw = parse_json(data, SetupError)
        setup = parse_setup(raw)
        _check_written_order(setup)
        return setup, raw
    except SetupError as error:
        raise error.in_file(path.name) from None


def _check_written_order(setup: Setup) -> None:
    """Whoever writes the keys of a move in a file in another order than they follow each other has most likely mistaken one."""
    for name, move in setup.moves.items():
        for (before, a), (after, b) in pairwise(move.keys.items()):
            if b.t_s < a.t_s:
                raise SetupError(
                    f"key {after!r} at {b.t_s:g} s is written after key {before!r} at {a.t_s:g} s", f"moves.{name}.keys"
                )


def parse_setup(raw: dict[str, Any]) -> Setup:
    """Validate a document. Keys that start with x_ are allowed anywhere and ignored here; any other unknown key is an error."""
    if raw.get("eddyfall_setup") != 1:
        raise SetupError('must have "eddyfall_setup": 1')
    try:
        setup = _setup_type().model_validate(without_x(raw))
    except ValidationError as error:
        raise SetupError(*first_fault(error)) from None
    for table, entries in (("targets", setup.targets), ("roles", setup.roles), ("viewpoints", setup.viewpoints)):
        for name, entry in entries.items():
            check_overlay(setup, entry.set, f"{table}.{name}.set", only=set_by_viewpoints() if table == "viewpoints" else None)
    for name, viewpoint in setup.viewpoints.items():
        if viewpoint.role not in setup.roles and viewpoint.role not in STOCK_ROLES:
            raise SetupError(f"role {viewpoint.role!r} is not in roles", f"viewpoints.{name}.role")
        if viewpoint.light_set is not None and viewpoint.light_set not in setup.light_sets:
            raise SetupError(f"light set {viewpoint.light_set!r} is not in light_sets", f"viewpoints.{name}.light_set")
    for name, move in setup.moves.items():
        for key, at in move.keys.items():
            if at.viewpoint is not None and at.viewpoint not in setup.viewpoints:
                raise SetupError(f"viewpoint {at.viewpoint!r} is not in viewpoints", f"moves.{name}.keys.{key}.viewpoint")
        if move.role is not None and move.role not in setup.roles and move.role not in STOCK_ROLES:
            raise SetupError(f"role {move.role!r} is not in roles", f"moves.{name}.role")
    for name, region in setup.focus_regions.items():
        if any(low >= high for low, high in zip(region.low_m, region.high_m)):
            raise SetupError("low_m must lie below high_m on every axis", f"focus_regions.{name}")
    for name, material in setup.materials.items():
        if (
            material.shader is not None
            and material.shader not in setup.shaders
            and material.shader not in (*STOCK_SHADERS.values(), GLOSS_SHADER)
        ):
            raise SetupError(f"shader {material.shader!r} is not in shaders", f"materials.{name}.shader")
        _check_values(setup, name, material)
    for name, shader in setup.shaders.items():
        for target in shader.works_on or ():
            if target not in setup.targets:
                raise SetupError(f"target {target!r} is not in targets", f"shaders.{name}.works_on")
    return setup


def _check_values(setup: Setup, name: str, material: MaterialSetup) -> None:
    """SetupError for a value of no parameter, or not of its kind."""
    known = setup.shaders[material.shader].parameters if material.shader in setup.shaders else {}
    for key, said in material.values.items():
        where = f"materials.{name}.values.{key}"
        if key not in known:
            raise SetupError(f"shader {material.shader!r} has no parameter {key!r}; it has: {', '.join(known) or 'none'}", where)
        if (said.value is None) == (said.rgb is None):
            raise SetupError("needs either value or rgb", where)
        role = known[key].role
        if role is not None and role.endswith("_rgb") != (said.rgb is not None):
            raise SetupError(f"{role} is {'a colour: give rgb' if said.rgb is None else 'a number: give value'}", where)


def check_overlay(setup: Setup, overlay: dict[str, dict[str, Any]], where: str, only: tuple[str, ...] | None = None) -> None:
    """An override must name existing sections and fields with valid values."""
    for section, fields in overlay.items():
        if section not in (only or sections()):
            raise SetupError(f"may set {', '.join(only or sections())}, not {section!r}", where)
        lay_over(setup[sections()[section]], fields, f"{where}.{section}")


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
    return in_order(setup.model_dump(mode="json"))


def setup_schema() -> dict[str, Any]:
    """JSON Schema of the setup document (units ride along as extra keywords; what each leaf affects is added by `frame.affects`)."""
    schema = _setup_type().model_json_schema()
    schema["properties"] = in_order(schema["properties"])
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "Eddyfall setup"
    schema["description"] = "Everything a renderer must know that glTF cannot say. All defaults present = the normalised setup."
    return schema
