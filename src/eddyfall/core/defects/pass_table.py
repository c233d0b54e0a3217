"""The pass table of a build: what each material takes part in, told from what it declares and measured by hiding it.

Whoever reads the picture's buffers sees only what writes them: fog at another depth, glass without what stands behind it, a mirror without
its door are cells of one table. What is declared is held against what changes when the things of the material are hidden."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from eddyfall.core.bake.light.light_scene import blockers
from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.passes.contract import View
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import apply_change, set_leaves
from eddyfall.core.scene.setup.sections.depth import Depth
from eddyfall.core.scene.setup.sections.fog import Fog
from eddyfall.core.scene.setup.sections.refract import Refract

Consumer = Literal["colour", "depth", "shadow", "fog", "copy", "mirror", "bake"]
Status = Literal["writes", "reads its own", "missing", "mismatched", "not by its kind", "off"]
CONSUMERS: tuple[Consumer, ...] = ("colour", "depth", "shadow", "fog", "copy", "mirror", "bake")
SIZE = (480, 270)
SAME = 0.01  # share of its distance by which a depth may differ and be a thing's own


@dataclass(frozen=True)
class Cell:
    """A material and a consumer: how it takes part and why, by what it declares; measured: whether hiding it changes what the consumer
    is given (fog: whether that is its own depth), None where that does not show here."""

    consumer: Consumer
    status: Status
    because: str
    measured: bool | None

    @property
    def disagrees(self) -> bool:
        """Whether what is measured is not what is declared."""
        return self.measured is not None and self.measured != (self.status in ("writes", "reads its own"))


@dataclass(frozen=True)
class Row:
    """A material: its things in sight of the viewpoint; seen: hiding them changes the picture; cells, one for each consumer."""

    material: str
    things: tuple[str, ...]
    seen: bool
    cells: tuple[Cell, ...]


def pass_table_of(
    renderer: Renderer, build: Build, request: Request, progress: Callable[[str, float], None] = lambda what, share: None
) -> list[Row]:
    """A row for each material that has things in the frustum of a viewpoint. RequestError if it does not exist."""
    asked = replace(request, size=SIZE, crop=None)
    frame = renderer.frame(build, asked, "linear")
    given = _given(renderer, build, asked)
    of = frame.geometry.drawables
    materials = sorted({of[int(i)].material for i in frame.buffers["in_view"] if int(i) != frame.geometry.plate})
    rows = []
    for n, material in enumerate(materials):
        name = build.scene.material_keys[material] if material >= 0 else "(default)"
        progress(f"hiding {name}", n / len(materials))
        ids = [int(i) for i in np.sort(frame.buffers["in_view"]) if of[int(i)].material == material]
        rows.append(_row(renderer, build, asked, frame, given, name, ids))
    return rows


def _given(renderer: Renderer, build: Build, request: Request) -> dict[str, Any]:
    """What consumers are given: the picture before glass, what mirrors show, maps of lights."""
    frame = renderer.frame(build, request, "linear")
    before = renderer.frame(build, request, "with_sky", before="refract").buffers["with_sky"]
    mirrors = [m.picture for m in frame.buffers["mirrors"]] if "mirrors" in frame.buffers else []
    return {"copy": before, "mirror": mirrors, "colour": frame.linear, "depth": frame.buffers["prepass_depth"]}


def _row(
    renderer: Renderer, build: Build, request: Request, frame: Frame, given: dict[str, Any], name: str, ids: Sequence[int]
) -> Row:
    without = _given(renderer, build, replace(request, hidden=frozenset(ids)))
    seen = not np.array_equal(given["colour"], without["colour"])
    measured: dict[Consumer, bool | None] = {
        "colour": seen or None,
        "depth": not np.array_equal(given["depth"], without["depth"]),
        "copy": not np.array_equal(given["copy"], without["copy"]),
        "mirror": len(given["mirror"]) != len(without["mirror"])
        or any(not np.array_equal(a, b) for a, b in zip(given["mirror"], without["mirror"])),
        "shadow": _shadow_changes(renderer, build, request, frame, ids),
        "fog": _own_depth(frame, ids),
        "bake": None,
    }
    cells = []
    for consumer in CONSUMERS:
        status, because = _declared(build, frame, consumer, ids)
        found = measured[consumer]
        shows_here = seen and consumer in ("depth", "copy")
        if consumer == "copy" and all(frame.stage.state.refracts[i] for i in ids) and status == "writes":
            found = None  # it is laid between the picture that is measured and the copy
        if consumer == "fog" and status == "mismatched" and found:
            found = None  # what lies behind is as far
        if status == "off" or (found is False and status == "writes" and not shows_here):
            found = None  # it may be hidden from there
        cells.append(Cell(consumer, status, because, found))
    return Row(name, tuple(frame.geometry.drawables[i].name for i in ids), seen, tuple(cells))


def _shadow_changes(renderer: Renderer, build: Build, request: Request, frame: Frame, ids: Sequence[int]) -> bool | None:
    """Whether maps or rays of any light change once the things cast nothing; None where their nodes have other materials, too."""
    of = frame.geometry.drawables
    nodes = {of[i].node for i in ids}
    if any(d.node in nodes and d.material != of[ids[0]].material for d in frame.geometry.things):
        return None
    leaves: dict[tuple[str, ...], object] = {("nodes", node, "casts"): False for node in nodes}
    silent = apply_change(build, set_leaves(build, leaves, scope="node", title="casts nothing"))
    maps = [renderer.frame(b, request, "linear").buffers for b in (build, silent)]
    same = np.array_equal(maps[0]["shadow_maps"].depth, maps[1]["shadow_maps"].depth)
    return not (same and np.array_equal(maps[0]["traced"], maps[1]["traced"]))


def _own_depth(frame: Frame, ids: Sequence[int]) -> bool | None:
    """Whether the fog over the things' pixels is that of their own distance; None where there is no fog or none of them is in front."""
    state, where = frame.stage.state, np.isin(frame.front, ids)
    if not frame.stage.resolved[Fog].enabled or not where.any() or all(state.blended[i] for i in ids):
        return None
    through = frame.pane >= 0
    keys = np.where(through, frame.buffers["over_depth"], frame.buffers["depth"])
    own = frame.depth_format.view_depth(keys) * View(frame.camera, frame.pixels).ray_lengths
    told = frame.buffers["fog_distance"]
    off = np.abs(told[where] - own[where]) > SAME * own[where]
    return bool(off.mean() < 0.5)


def _declared(build: Build, frame: Frame, consumer: Consumer, ids: Sequence[int]) -> tuple[Status, str]:
    """How things of one material take part, and what decides it: the least of them where they differ."""
    told = [_of(build, frame, consumer, i) for i in ids]
    worst: tuple[Status, ...] = ("mismatched", "missing", "writes", "reads its own", "not by its kind", "off")
    writes = next((t for t in told if t[0] in ("writes", "reads its own")), None)
    return writes or min(told, key=lambda t: worst.index(t[0]))


def _of(build: Build, frame: Frame, consumer: Consumer, i: int) -> tuple[Status, str]:
    s, resolved, d = frame.stage.state, frame.stage.resolved, frame.geometry.drawables[i]
    shader, solid = f"shaders.{s.shader[i]}", bool(s.solid[i])
    kind: tuple[Status, str] = ("not by its kind", "it is blended" if s.blended[i] else "it lets light through")
    if not s.drawn[i]:
        return "missing", f"nodes.{d.node}.drawn"
    match consumer:
        case "colour":
            return ("writes", "drawn") if s.colour_pass[i] else ("missing", f"{shader}.passes.colour")
        case "depth":
            return kind if not solid else ("writes", "solid") if s.depth_pass[i] else ("missing", f"{shader}.passes.depth")
        case "shadow":
            if not any(light.casts for light in frame.stage.lights):
                return "off", "no light casts"
            if s.blended[i]:
                return kind
            if not s.casts[i]:
                return "missing", f"nodes.{d.node}.casts"
            return ("writes", "casts") if s.shadow_pass[i] else ("missing", f"{shader}.passes.shadow")
        case "fog":
            return _fog(frame, i, shader, solid)
        case "copy":
            refract = resolved[Refract]
            if not refract.enabled or refract.copy_from == "none" or not s.refracts.any():
                return "off", "nothing reads a copy"
            if solid or (s.refracts[i] and s.inside_blend[i]):
                return "writes", "drawn before the copy is taken"
            return "missing", "drawn after the copy is taken"
        case "mirror":
            if not any(m.on for m in build.setup.mirrors.values()):
                return "off", "no mirrors"
            return ("writes", "drawn in mirrors") if s.in_mirrors[i] else ("missing", f"{shader}.passes.mirror")
        case "bake":
            if s.blended[i] or s.moves[i]:
                return "not by its kind", "it is blended" if s.blended[i] else "it moves"
            return ("writes", "blocks light") if blockers(build, s)[i] else ("missing", f"{shader}.passes.bake or casts")


def _fog(frame: Frame, i: int, shader: str, solid: bool) -> tuple[Status, str]:
    s, copy_from = frame.stage.state, frame.stage.resolved[Depth].copy_from
    if not frame.stage.resolved[Fog].enabled:
        return "off", "no fog"
    if s.blended[i]:
        return ("reads its own", "fogs at its own depth") if s.fogs[i] else ("missing", f"{shader}.fogs")
    if not solid:
        return "mismatched", "fogged as what is behind it"
    if copy_from == "opaque" or (copy_from == "prepass" and s.depth_pass[i]):
        return "reads its own", f"depth.copy_from {copy_from}"
    return "mismatched", f"depth.copy_from {copy_from}" if copy_from == "none" else f"{shader}.passes.depth"
