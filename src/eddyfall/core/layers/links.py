"""The links of the chain that glass hangs by: each with its value, what it needs, what decides it, what would make it hold."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from eddyfall.core.layers.glass_here import Fix, Told
from eddyfall.core.scene.setup.sections.refract import MOST_LAYERS
from eddyfall.core.scene.setup.tables import THICKNESSES, NodeSetup, Shader
from eddyfall.core.shade.columns import ROUGH, SIGMA
from eddyfall.core.shade.glass import MISSING, THICKNESS_ROLE, TRANSMISSION_ROLE, Through

LEAST = 0.05  # share of light that a map, a tint and a body leave at the least (ours, changeable)
FILE = "the scene file"


@dataclass(frozen=True)
class Link:
    """One link. value, need: in words; decides: the leaf (or file) that it follows from; holds; fix: what would make it hold, None where
    only another file would."""

    name: str
    value: str
    need: str
    decides: str
    holds: bool
    fix: Fix | None = None


def _file(t: Told, found: Through) -> Link:
    factor, said = t.material.transmission, t.entry.transmission is not None
    return Link(
        "file", f"{factor:g} goes through", "more than 0", f"materials.{t.key}.transmission" if said else FILE, factor > 0,
        t.on_material("transmission", 1.0, f"let light through {t.key}"),
    )  # fmt: skip


def _map(t: Told, found: Through) -> Link:
    used = t.frame.buffers["textures"].surfaces.used[t.row, TRANSMISSION_ROLE] >= 0
    share = found.through / (t.material.transmission or 1.0)
    path = ("materials", t.key, "maps", "transmission", "on")
    fix = Fix({path: False}, "material", f"switch the transmission map of {t.key} off") if used else None
    says = f"{share:.3g} of it by the map here" if used else "no map"
    return Link("map here", says, f"at least {LEAST:g}", f"materials.{t.key}.maps.transmission", share >= LEAST, fix)


def _material(t: Told, found: Through) -> Link:
    decides = f"materials.{t.key}.transmits" if t.entry.transmits is not None else FILE
    fix = t.on_material("transmits", "solid" if t.solid else "thin", f"let {t.key} show what is behind it")
    says = t.entry.transmits or "as the scene file"
    return Link("material", says, "thin or solid", decides, t.entry.transmits != "none", fix)


def _shader(t: Told, found: Through) -> Link:
    name = t.material.shader
    shader = t.build.setup.shaders.get(name, Shader())
    unlit = t.row < len(t.build.scene.materials) and t.build.scene.materials[t.row].unlit
    if unlit:
        return Link("shader", f"{t.key} is unlit", "a lit one", FILE, False)
    fix = Fix({("shaders", name, "passes", "refract"): True}, "shader", f"let shader {name} refract")
    says = f"{name} {'has' if shader.passes.refract else 'lacks'} the pass"
    return Link("shader", says, "the pass", f"shaders.{name}.passes.refract", shader.passes.refract, fix)


def _alpha(t: Told, found: Through) -> Link:
    kind, said = t.material.blend, t.entry.blend is not None
    fix = t.on_material("blend", "opaque", f"draw {t.key} as something opaque that lets light through")
    return Link("alpha mode", kind, "opaque", f"materials.{t.key}.blend" if said else FILE, kind == "opaque", fix)


def _of_role(label: str) -> bool:
    return label.startswith(("role", "viewpoint"))


def _project(t: Told, found: Through) -> Link:
    leaf, _ = t.leaf("enabled")
    label, value = next((w, v) for w, v in ((leaf.winner, leaf.value), *leaf.losers) if not _of_role(w))
    holds = bool(value) or (_of_role(leaf.winner) and bool(leaf.value))
    fix = Fix({("refract", "enabled"): True}, "project", "switch refraction on")
    return Link("project", "on" if value else "off", "on", f"refract.enabled of {label}", holds, fix)


def _role(t: Told, found: Through) -> Link:
    leaf, decides = t.leaf("enabled")
    if not _of_role(leaf.winner):
        return Link("role", "as the project", "not off", "no override", True)
    return Link(
        "role", "on" if leaf.value else "off", "not off", decides, bool(leaf.value),
        t.here("enabled", True, f"switch refraction on in {leaf.winner}"),
    )  # fmt: skip


def _copy(t: Told, found: Through) -> Link:
    leaf, decides = t.leaf("copy_from")
    fix = t.here("copy_from", "opaque", "take a copy of the opaque picture")
    return Link("copy taken", str(leaf.value), "opaque", decides, leaf.value != "none", fix)


def _inside(t: Told, found: Through) -> Link:
    behind, leaf = t.behind(), t.leaf("layers")
    lost = [b for b in behind if not b.in_copy]
    width, height = t.request.size
    beyond = not (0 <= found.at[0] < width and 0 <= found.at[1] < height)
    panes = sum(b.kind == "refracting" for b in behind)
    if lost:
        says = f"{', '.join(b.drawable for b in lost)} not in it"
    else:
        says = "read beyond the frame" if beyond else f"{behind[0].drawable} in it"
    deep = min(panes + 1, MOST_LAYERS)
    fix = (
        t.here("layers", deep, f"draw {deep} layers that let light through")
        if any(b.kind == "refracting" for b in lost)
        else None
    )
    return Link("something behind in it", says, "all that lies behind", leaf[1], not lost and not beyond, fix)


def _thickness(t: Told, found: Through) -> Link:
    state, d = t.frame.stage.state, t.met[t.which].drawable
    if not t.solid:
        return Link("thickness", "thin: none asked", "a thickness where it is solid", f"materials.{t.key}.transmits", True)
    surfaces = t.frame.buffers["textures"].surfaces
    absorbs = bool(surfaces.factors[t.row, SIGMA : SIGMA + 3].any())
    missing = state.thickness[d] == MISSING
    mapped = surfaces.used[t.row, THICKNESS_ROLE] >= 0
    fix = t.on_material("thickness", "map" if mapped else "value", f"wire the thickness of {t.key}") if missing else None
    by = THICKNESSES[int(state.thickness[d])].replace("_", " ")
    says = "not wired: reads as far" if missing else f"{found.way * 1000:.3g} mm by {by}"
    holds = not missing and (found.way > 0 or not absorbs)
    return Link("thickness", says, "wired, above 0 where it absorbs", f"materials.{t.key}.thickness", holds, fix)


def _tint(t: Told, found: Through) -> Link:
    left = float((found.colour * found.absorbed).max())
    return Link("tint", f"{left:.3g} left by colour and body", f"at least {LEAST:g}", FILE, left >= LEAST)


def _roughness(t: Told, found: Through) -> Link:
    leaf, decides = t.leaf("roughest")
    rough = float(found.row[ROUGH])
    fix = t.here("roughest", min(1.0, math.ceil(rough * 100) / 100), f"let what is as rough as {rough:.2g} refract")
    return Link("roughness", f"{rough:.3g}", f"at most {float(leaf.value):g}", decides, rough <= float(leaf.value), fix)


def _drawn(t: Told, found: Through) -> Link:
    state, m = t.frame.stage.state, t.met[t.which]
    d, name = m.drawable, t.material.shader
    solid = (state.solid == 1) & state.drawn & state.colour_pass
    before = [o for o in t.met[: t.which] if o.kept and solid[o.drawable]]
    if not t.build.setup.nodes.get(t.node, NodeSetup()).drawn:
        fix = Fix({("nodes", t.node, "drawn"): True}, "node", f"draw {t.node}")
        return Link("drawn", "off", "drawn, nothing solid before it", f"nodes.{t.node}.drawn", False, fix)
    if not state.colour_pass[d]:
        fix = Fix({("shaders", name, "passes", "colour"): True}, "shader", f"draw shader {name}")
        return Link(
            "drawn", f"{name} has no colour pass", "drawn, nothing solid before it", f"shaders.{name}.passes.colour", False, fix
        )
    if d not in t.frame.buffers["in_view"]:
        return Link("drawn", "culled", "drawn, nothing solid before it", f"nodes.{t.node}.draw_distance_m", False)
    if before:
        hides = t.frame.geometry.drawables[before[0].drawable].name
        return Link("drawn", f"hidden by {hides}", "drawn, nothing solid before it", f"nodes.{t.node}", False)
    return Link("drawn", f"{m.far_m:.3g} m from the eye", "drawn, nothing solid before it", f"nodes.{t.node}", True)


LINKS: tuple[Callable[[Told, Through], Link], ...] = (
    _file, _map, _material, _shader, _alpha, _project, _role, _copy, _inside, _thickness, _tint, _roughness, _drawn,
)  # fmt: skip
