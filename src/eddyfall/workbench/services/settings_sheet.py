"""The Set-up sheet: every setting with its levels and winner, and the measured effect of an edit."""

from typing import Any

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE, delta_e_2000
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.affects import affects
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.frame.stage import material_states
from eddyfall.core.handover.documents.base import Anything, Document
from eddyfall.core.handover.documents.changes import change_json
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import apply_change, set_leaf, set_resolved
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup.registry import sections
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.studio.room import STUDIO

EFFECT_SIZE = (480, 270)


class SettingRow(Document):
    """One leaf of the setup as a viewpoint resolves it. levels: value by level that sets it; winner: the level that counts; edit, play: its
    value for those roles of camera."""

    path: str
    section: str
    field: str
    meaning: str
    unit: str
    affects: list[str]
    limits: str
    default: Anything
    value: Anything
    winner: str
    levels: dict[str, Any]
    edit: Anything
    play: Anything
    differs: bool


class ShaderRow(Document):
    """A shader: which passes it has, and which materials use it."""

    key: str
    passes: dict[str, bool]
    materials: list[str]


class MaterialRow(Document):
    key: str
    shader: str
    blend: str
    double_sided: bool


class SetupSheet(Document):
    """Every setting as one viewpoint sees it."""

    viewpoint: str
    target: str | None
    role: str
    sections: list[str]
    fields: list[SettingRow]
    shaders: list[ShaderRow]
    materials: list[MaterialRow]


class SetupEffect(Document):
    """What an edit does at a viewpoint, measured. overridden_by: a level that wins over the one that would be written."""

    title: str
    changed_share: float
    unchanged: bool
    overridden_by: str | None
    change: dict[str, Any]


def sheet(build: Build, viewpoint: str | None, target: str | None) -> SetupSheet:
    """Rows of all project settings as a viewpoint sees them; shaders and materials. Differences between edit and play come first."""
    view = viewpoint or next(iter(build.setup.viewpoints))
    resolved = resolve(build.setup, target, None, view)
    edit, play = (resolve(build.setup, target, role, view) for role in ("edit", "play"))
    rows = []
    for section, kind in sections().items():
        schema = kind.model_json_schema()["properties"]
        for field in kind.model_fields:
            path, info = f"{section}.{field}", schema[field]
            leaf = resolved.leaves[path]
            levels = {leaf.winner: leaf.value, **dict(leaf.losers)}
            rows.append(SettingRow.model_validate({
                "path": path, "section": section, "field": field, "meaning": info.get("description", ""), "unit": info.get("unit", ""),
                "affects": affects(path), "limits": limits(info), "default": levels.get("default", leaf.value),
                "value": leaf.value, "winner": leaf.winner, "levels": levels,
                "edit": edit.leaves[path].value, "play": play.leaves[path].value,
                "differs": edit.leaves[path].value != play.leaves[path].value,
            }))  # fmt: skip
    rows.sort(key=lambda row: not row.differs)
    used: dict[str, list[str]] = {}
    materials = []
    for state in material_states(build)[:-1]:
        used.setdefault(state.shader, []).append(state.key)
        materials.append({"key": state.key, "shader": state.shader, "blend": state.blend, "double_sided": state.double_sided})
    names = sorted({*build.setup.shaders, *used})
    shaders = [{"key": n, "passes": passes(build, n), "materials": used.get(n, [])} for n in names]
    return SetupSheet.model_validate({
        "viewpoint": view, "target": target, "role": build.setup.viewpoints[view].role, "sections": list(sections()), "fields": rows,
        "shaders": shaders, "materials": materials,
    })  # fmt: skip


def passes(build: Build, shader: str) -> dict[str, bool]:
    """Which passes a shader has."""
    from eddyfall.core.scene.setup.tables import Shader

    return dict(build.setup.shaders.get(shader, Shader()).passes.model_dump())


def limits(info: dict[str, Any]) -> str:
    """The range or the choices of a field, in words."""
    if "enum" in info:
        return " | ".join(str(v) for v in info["enum"])
    if info.get("type") == "boolean":
        return "true | false"
    low = info.get("minimum", info.get("exclusiveMinimum"))
    high = info.get("maximum", info.get("exclusiveMaximum"))
    return " to ".join(f"{v:g}" for v in (low, high) if v is not None)


def measure(build: Build, path: str, value: Any, viewpoint: str, target: str | None) -> SetupEffect:
    """What an edit would do at a viewpoint, by rendering it: nothing is saved. path: section.field, or shaders/KEY/passes/PASS."""
    if viewpoint not in build.setup.viewpoints:
        raise NotThere(f"viewpoint {viewpoint!r}")
    resolved = resolve(build.setup, target, None, viewpoint)
    overridden = None
    if path in resolved.leaves:
        change = set_resolved(build, resolved, {path: value}, title=f"{path} = {value}")
        overridden = None if resolved.leaves[path].place == () else resolved.leaves[path].winner
    elif path.startswith(("shaders/", "materials/")) and path.count("/") >= 2:
        kind = "shader" if path.startswith("shaders/") else "material"
        change = set_leaf(build, tuple(path.split("/")), value, scope=kind, title=f"{path} = {value}")  # type: ignore[arg-type]
    else:
        raise NotThere(f"setting {path!r}")
    try:
        changed = apply_change(build, change)
    except ChangeError as error:
        raise Refused(422, str(error)) from None

    def share(renderer: Renderer) -> float:
        request = Request(viewpoint, EFFECT_SIZE, None, target)
        pair = [renderer.frame(b, request, "display").display for b in (build, changed)]
        return float((delta_e_2000(*pair) > VISIBLE_DIFFERENCE).mean())

    moved = STUDIO.draw(share)
    return SetupEffect(
        title=change.title, changed_share=moved, unchanged=changed.setup == build.setup, overridden_by=overridden,
        change=change_json(change),
    )  # fmt: skip
