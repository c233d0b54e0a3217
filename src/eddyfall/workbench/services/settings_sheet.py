"""The Set-up sheet: every setting with its levels and winner, exceptions by asset, and the measured effect of edits made together."""

from collections.abc import Iterable
from typing import Any, Literal

from pydantic import BaseModel

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE, delta_e_2000
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.affects import affects
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.frame.stage import material_states
from eddyfall.core.handover.documents.base import Anything, Document
from eddyfall.core.handover.documents.changes import change_json
from eddyfall.core.materials.shown import works
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import SCOPE_ORDER, Change, Op, Scope, apply_change, difference, pointer, set_leaf, set_resolved
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup import normalised
from eddyfall.core.scene.setup.registry import sections
from eddyfall.core.scene.setup.tables import LightSetup, MaterialSetup, MeshSetup, NodeSetup
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.studio.room import STUDIO

EFFECT_SIZE = (480, 270)
MOST_TITLES = 3
# Tables whose entries are exceptions of one asset, with the scope of a change there.
TABLES: dict[str, tuple[type[BaseModel], Scope]] = {
    "nodes": (NodeSetup, "node"),
    "materials": (MaterialSetup, "material"),
    "meshes": (MeshSetup, "mesh"),
    "lights": (LightSetup, "node"),
}
SCOPES: dict[str, Scope] = {"shaders": "shader", **{name: scope for name, (_, scope) in TABLES.items()}}
UNIT_WORDS = {"m", "mm", "px", "deg", "texels", "nit", "lux", "rad", "mib", "rgb"}
WORDS = {"rgb": "colour", "ev100": "EV at ISO 100", "uv": "UV"}

Kind = Literal["number", "yes_no", "choice", "numbers", "text"]


class Form(Document):
    """How a value is written: what kind it is, which choices or limits there are, whether it may be left out (null)."""

    kind: Kind
    choices: list[str]
    limits: str
    optional: bool


class FieldRow(Document):
    """One field of the setup: its key and its name in words, what it means and affects, how its values are written."""

    field: str
    name: str
    meaning: str
    unit: str
    affects: list[str]
    form: Form
    default: Anything


class SettingRow(FieldRow):
    """One leaf of the setup as a viewpoint resolves it. levels: value by level that sets it; winner: the level that counts; edit, play: its
    value for those roles of camera; reason: why it was kept, if the ledger set it."""

    path: str
    section: str
    value: Anything
    winner: str
    levels: dict[str, Any]
    edit: Anything
    play: Anything
    differs: bool
    reason: str = ""


class ShaderRow(Document):
    """A shader: which passes it has, which materials use it, whether it has a version for the target that is looked at; the targets it has
    one for (null: all)."""

    key: str
    passes: dict[str, bool]
    materials: list[str]
    works: bool = True
    works_on: list[str] | None = None


class MaterialRow(Document):
    key: str
    shader: str
    blend: str
    double_sided: bool


class AssetTable(Document):
    """A table of the setup by asset: which assets there are, and what each may have for itself."""

    table: str
    keys: list[str]
    fields: list[FieldRow]


class AssetSetting(Document):
    """An exception: a field that one asset has for itself. reason: why it was kept, if the ledger set it."""

    table: str
    key: str
    field: str
    value: Anything
    default: Anything
    reason: str = ""


class SetupSheet(Document):
    """Every setting as one viewpoint sees it, and what single assets have for themselves."""

    viewpoint: str
    target: str | None
    role: str
    sections: list[str]
    fields: list[SettingRow]
    shaders: list[ShaderRow]
    materials: list[MaterialRow]
    tables: list[AssetTable]
    exceptions: list[AssetSetting]


class SetupEffect(Document):
    """What edits made together do at a viewpoint, measured. overridden_by: levels that win over the project, where they are written."""

    title: str
    changed_share: float
    unchanged: bool
    overridden_by: list[str]
    change: dict[str, Any]


def sheet(build: Build, viewpoint: str | None, target: str | None) -> SetupSheet:
    """Rows of all project settings as a viewpoint (default: the first) sees them; shaders, materials, exceptions. RequestError for unknown
    names."""
    view = viewpoint or next(iter(build.setup.viewpoints), None)
    if view is None:
        raise Refused(422, "the build has no viewpoint to see its settings from")
    rows = _rows(build, view, target)
    used: dict[str, list[str]] = {}
    materials = []
    *own, _ = material_states(build)  # the last is what things without a material take
    for state in own:
        used.setdefault(state.shader, []).append(state.key)
        materials.append(
            MaterialRow(key=state.key, shader=state.shader, blend=state.blend, double_sided=bool(state.double_sided))
        )
    names = sorted({*build.setup.shaders, *used})
    return SetupSheet(
        viewpoint=view, target=target, role=build.setup.viewpoints[view].role, sections=list(sections()),
        fields=rows,
        shaders=[_shader_row(build, n, used.get(n, []), target) for n in names], materials=materials,
        tables=[_table(build, name) for name in TABLES], exceptions=_exceptions(build),
    )  # fmt: skip


def _rows(build: Build, view: str, target: str | None) -> list[SettingRow]:
    resolved = resolve(build.setup, target, None, view)
    edit, play = (resolve(build.setup, target, role, view) for role in ("edit", "play"))
    rows = []
    for section, kind in sections().items():
        for described in _described(kind, section, list(kind.model_fields)):
            path = f"{section}.{described.field}"
            leaf, seen = resolved.leaves[path], [r.leaves[path].value for r in (edit, play)]
            rows.append(SettingRow(
                **dict(described), path=path, section=section, value=leaf.value, winner=leaf.winner,
                levels={leaf.winner: leaf.value, **dict(leaf.losers)}, edit=seen[0], play=seen[1], differs=seen[0] != seen[1],
            ))  # fmt: skip
    return rows


def _described(kind: type[BaseModel], table: str, fields: list[str]) -> list[FieldRow]:
    """Some fields of a section, or of an entry of a table."""
    schema, empty = kind.model_json_schema()["properties"], kind()
    return [
        FieldRow(
            field=field, name=plain_name(field), meaning=schema[field].get("description", ""), unit=schema[field].get("unit", ""),
            affects=affects(f"{table}.{field}"), form=form(schema[field]), default=getattr(empty, field),
        )
        for field in fields
    ]  # fmt: skip


def _table(build: Build, name: str) -> AssetTable:
    kind, _ = TABLES[name]
    scene = build.scene
    lights = list(dict.fromkeys([*scene.light_keys, *build.setup.lights]))
    keys: dict[str, Iterable[str]] = {
        "nodes": scene.node_keys, "materials": scene.material_keys, "meshes": scene.mesh_keys, "lights": lights,
    }  # fmt: skip
    return AssetTable(table=name, keys=list(keys[name]), fields=_described(kind, name, _own_fields(kind)))


def _own_fields(kind: type[BaseModel]) -> list[str]:
    """Fields of an entry that hold one value."""
    return [name for name, info in kind.model_json_schema()["properties"].items() if info.get("type") != "object"]


def _exceptions(build: Build) -> list[AssetSetting]:
    found = []
    for name, (kind, _) in TABLES.items():
        entries, empty = getattr(build.setup, name), kind()
        for key, entry in entries.items():
            for field in _own_fields(kind):
                value, default = getattr(entry, field), getattr(empty, field)
                if value != default:
                    found.append(AssetSetting(table=name, key=key, field=field, value=value, default=default))
    return found


def with_reasons(shown: SetupSheet, reasons: dict[str, str]) -> SetupSheet:
    """The sheet with why the ledger set what it set. reasons: by JSON pointer of what was written, or of what it stands in."""

    def why(*path: str) -> str:
        return next((reasons[p] for k in range(len(path), 0, -1) if (p := pointer(path[:k])) in reasons), "")

    def place(row: SettingRow) -> tuple[str, ...]:
        level, _, key = row.winner.partition(" ")
        return (row.section, row.field) if not key else (f"{level}s", key, "set", row.section, row.field)

    fields = [r.model_copy(update={"reason": why(*place(r))}) if r.winner != "default" else r for r in shown.fields]
    exceptions = [e.model_copy(update={"reason": why(e.table, e.key, e.field)}) for e in shown.exceptions]
    return shown.model_copy(update={"fields": fields, "exceptions": exceptions})


def _shader_row(build: Build, key: str, materials: list[str], target: str | None) -> ShaderRow:
    on = build.setup.shaders[key].works_on if key in build.setup.shaders else None
    return ShaderRow(
        key=key, passes=passes(build, key), materials=materials, works=works(build.setup, key, target),
        works_on=None if on is None else list(on),
    )  # fmt: skip


def passes(build: Build, shader: str) -> dict[str, bool]:
    """Which passes a shader has."""
    from eddyfall.core.scene.setup.tables import Shader

    return dict(build.setup.shaders.get(shader, Shader()).passes.model_dump())


def plain_name(field: str) -> str:
    """A field's key as words, without its unit: 'bias_texels' is 'Bias'."""
    words = field.split("_")
    if len(words) > 1 and words[-1] in UNIT_WORDS and words[-2] != "per":
        words = words[:-1]
    text = " ".join(WORDS.get(w, w) for w in words)
    return text[:1].upper() + text[1:]


def form(info: dict[str, Any]) -> Form:
    """How a field's value is written, from its JSON Schema."""
    kinds = info.get("anyOf", [info])
    own = next((k for k in kinds if k.get("type") != "null"), info)
    choices = [str(v) for v in own.get("enum", [own["const"]] if "const" in own else [])]
    kind: Kind = "text"
    if choices and own.get("type", "string") == "string":
        kind = "choice"
    elif own.get("type") == "boolean":
        kind = "yes_no"
    elif own.get("type") in ("number", "integer"):
        kind = "number"
    elif own.get("type") == "array":
        kind = "numbers"
    return Form(kind=kind, choices=choices, limits=_limits(own), optional=any(k.get("type") == "null" for k in kinds))


def _limits(info: dict[str, Any]) -> str:
    low, above = info.get("minimum"), info.get("exclusiveMinimum")
    high = info.get("maximum", info.get("exclusiveMaximum"))
    bottom = low if low is not None else above
    if bottom is not None and high is not None:
        return f"{bottom:g} to {high:g}"
    if low is not None:
        return f"at least {low:g}"
    if above is not None:
        return f"above {above:g}"
    return f"at most {high:g}" if high is not None else ""


def measure(build: Build, edits: list[tuple[tuple[str, ...], Any]], viewpoint: str, target: str | None) -> SetupEffect:
    """What edits made together would do at a viewpoint, by rendering it: nothing is saved. An edit: a path of keys (section and field, or
    table, asset and field) and a value."""
    if viewpoint not in build.setup.viewpoints:
        raise NotThere(f"viewpoint {viewpoint!r}")
    changed, changes, overridden = build, list[Change](), list[str]()
    for path, value in edits:
        change, level = _change(changed, path, value, viewpoint, target)
        try:
            changed = apply_change(changed, change)
        except ChangeError as error:
            raise Refused(422, str(error)) from None
        changes.append(change)
        if level and level not in overridden:
            overridden.append(level)
    whole = together(build, changed, changes)

    def share(renderer: Renderer) -> float:
        request = Request(viewpoint, EFFECT_SIZE, None, target)
        pair = [renderer.frame(b, request, "display").display for b in (build, changed)]
        return float((delta_e_2000(*pair) > VISIBLE_DIFFERENCE).mean())

    return SetupEffect(
        title=whole.title, changed_share=STUDIO.draw(share), unchanged=changed.setup == build.setup, overridden_by=overridden,
        change=change_json(whole),
    )  # fmt: skip


def _change(build: Build, path: tuple[str, ...], value: Any, viewpoint: str, target: str | None) -> tuple[Change, str]:
    """(the change of one edit, the level it is written to if that is not the project)."""
    written = "none" if value is None else {True: "yes", False: "no"}[value] if isinstance(value, bool) else value
    title = f"{'.'.join(path)} = {written}"
    resolved = resolve(build.setup, target, None, viewpoint)
    leaf = resolved.leaves.get(".".join(path)) if len(path) == 2 else None
    if leaf is not None:
        change = set_resolved(build, resolved, {".".join(path): value}, title=title)
        return change, leaf.winner if leaf.place else ""
    if len(path) >= 3 and path[0] in SCOPES:
        return set_leaf(build, path, value, scope=SCOPES[path[0]], title=title), ""
    raise NotThere(f"setting {'.'.join(path)!r}")


def together(before: Build, after: Build, changes: list[Change]) -> Change:
    """Changes that led from one build to another, as one: of the widest scope among them."""
    if len(changes) == 1:
        return changes[0]
    titles = [c.title for c in changes]
    more = f" and {len(titles) - MOST_TITLES} more" if len(titles) > MOST_TITLES else ""
    scope = max((c.scope for c in changes), key=SCOPE_ORDER.index)
    plain = normalised(before.setup)
    ops = tuple(Op.model_validate(op) for op in difference(plain, plain, normalised(after.setup)))
    return Change(
        id=short_id("+".join(c.id for c in changes)), title="; ".join(titles[:MOST_TITLES]) + more, scope=scope, patch=ops
    )
