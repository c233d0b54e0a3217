"""Why a surface does not answer light from around: each rival is put right by itself, then two at once, and measured anew."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import combinations

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, apply_changes, set_leaf, set_resolved
from eddyfall.core.scene.maps import drawn_maps
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup.sections.screen import Reflect
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.truth.response.alone import WEAK
from eddyfall.core.truth.response.in_place import DIM, InPlace, in_place, shown_of

BETTER = 2.0  # times what a surface answers with now, from which on its own faults count
TURNED = 0.5  # share of pixels from which on normals are turned, and not only bent


@dataclass(frozen=True)
class Rival:
    """Something that can keep light from around off a surface: what, and the change that puts it right; own: it is the thing's own fault,
    not that of what is around it."""

    what: str
    change: Change
    own: bool = False


@dataclass(frozen=True)
class Cause:
    """Rivals that, put right together, make a surface answer; R after."""

    rivals: tuple[Rival, ...]
    answer: float


@dataclass(frozen=True)
class Tried:
    """What was tried of a surface: each rival alone with R after it; the causes: those that suffice, pairs only where none does alone."""

    before: InPlace
    single: tuple[tuple[Rival, float], ...]
    causes: tuple[Cause, ...]


def rivals_of(renderer: Renderer, build: Build, request: Request, drawable: int) -> Iterator[Rival]:
    """What could be put right for a drawable."""
    geometry = renderer.geometry(build)
    d = geometry.drawables[drawable]
    resolved = resolve(build.setup, request.target, request.role, request.viewpoint)
    frame = renderer.frame(build, request, "linear")
    state, shown = frame.stage.state, shown_of(frame)
    material = None if d.material < 0 else build.scene.material_keys[d.material]
    shader = state.shader[drawable]
    if not state.answers_ambient[drawable]:
        path = ("shaders", shader, "answers", "ambient")
        change = set_leaf(build, path, True, scope="shader", title=f"{shader} answers light from around")
        yield Rival("its base shader does not answer light from around", change, own=True)
    if material is not None:
        yield from _of_material(build, d.material, material, float(shown.open[drawable]))
        reflect = resolved[Reflect]
        shiny = build.scene.materials[d.material].metallic > 0
        if shiny and not reflect.enabled:
            change = set_resolved(build, resolved, {"reflect.enabled": True}, title="reflections by rays through the frame")
            yield Rival("nothing draws its reflections", change)
        elif shiny and reflect.fallback != "world":
            change = set_resolved(
                build, resolved, {"reflect.fallback": "world"}, title="reflect falls back on rays into the world"
            )
            yield Rival("what it mirrors is not on the frame", change)
    if state.mapped[drawable]:
        change = set_leaf(
            build,
            ("nodes", d.node, "lightmapped"),
            False,
            scope="node",
            title=f"{d.node} is lit by the sky instead of its lightmap",
        )
        yield Rival("its lightmap holds no light", change)
    elif not resolved[Sky].ambient:
        change = set_resolved(build, resolved, {"sky.ambient": True}, title="light from the sky")
        yield Rival("no light from around is given to it", change)
    if shown.turned[drawable] > TURNED and _has_normals(build, d.mesh):
        change = _operation(f"normals of {d.mesh} turned", "mesh.turn_normals", "mesh", mesh=d.mesh)
        yield Rival("its normals are turned", change, own=True)


def _of_material(build: Build, index: int, key: str, lets: float) -> Iterator[Rival]:
    of = build.scene.materials[index]
    if drawn_maps(build, index)["occlusion"].use is not None and lets < DIM:
        path = ("materials", key, "maps", "occlusion", "on")
        change = set_leaf(build, path, False, scope="material", title=f"{key} without its occlusion map")
        yield Rival("its occlusion map lets next to nothing through", change, own=True)
    if of.metallic > 0:
        change = _operation(f"{key} is no metal", "material.metallic", "material", material=key, value=0.0)
        yield Rival("it is a metal, which has little to mirror", change)


def _has_normals(build: Build, mesh: str) -> bool:
    """Whether a mesh brings normals of its own, which can be turned."""
    parts = build.scene.meshes[build.scene.mesh_keys.index(mesh)].primitives
    return all("NORMAL" in part.attributes for part in parts)


def _operation(title: str, name: str, scope: str, **params: object) -> Change:
    return Change.model_validate(
        {
            "id": short_id(f"{name} {params}"),
            "title": title,
            "scope": scope,
            "operation": Operation(name=name, params=params).model_dump(),
        }
    )


def tried(
    renderer: Renderer, build: Build, request: Request, before: InPlace, enough: float = WEAK,
    progress: Callable[[str, float], None] = lambda what, share: None,
) -> Tried:  # fmt: skip
    """All rivals of a surface, singly, then in pairs if none suffices by itself. Where even with all of its own faults put right it would
    answer with less than enough, since light is missing around it, half of that is enough."""
    rivals = list(rivals_of(renderer, build, request, before.drawable))

    def answer(*changed: Rival) -> float:
        renderer.between()
        progress(", ".join(r.change.title for r in changed), 0.0)
        after = apply_changes(build, [r.change for r in changed])
        found = in_place(renderer, after, request, [before.drawable])
        return found[0].answer if found else 0.0

    single = tuple((rival, answer(rival)) for rival in rivals)
    own = [rival for rival in rivals if rival.own]
    if own:
        healthy = answer(*own) if len(own) > 1 else next(r for rival, r in single if rival.own)
        if healthy > BETTER * before.answer:
            enough = min(enough, WEAK * healthy)
    causes = [Cause((rival,), r) for rival, r in single if r >= enough]
    if not causes:
        pairs = ((a, b) for a, b in combinations(rivals, 2) if a.change.patch != b.change.patch or a.change.operation)
        causes = [Cause(pair, r) for pair in pairs if (r := answer(*pair)) >= enough]
    return Tried(before, single, tuple(sorted(causes, key=lambda c: -c.answer)))
