"""Material variants (KHR_materials_variants): a scene dressed as one of them, for looking at, or for good as a change."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from eddyfall.core.errors import ChangeError, RequestError
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, operation
from eddyfall.core.scene.model import Scene
from eddyfall.core.scene.names import short_id

NAME = "scene.variant"


def in_variant(scene: Scene, name: str) -> Scene:
    """The scene as a variant has it; parts that it says nothing of keep their materials. RequestError if there is none of the name."""
    if name not in scene.variants:
        raise RequestError(f"there is no variant {name!r} ({', '.join(scene.variants) or 'there are none'})")
    number, meshes = scene.variants.index(name), list(scene.meshes)
    for m, mesh in enumerate(meshes):
        dressed = {k: dict(p.variants)[number] for k, p in enumerate(mesh.primitives) if number in dict(p.variants)}
        if any(mesh.primitives[k].material != material for k, material in dressed.items()):
            parts = [replace(p, material=dressed[k]) if k in dressed else p for k, p in enumerate(mesh.primitives)]
            meshes[m] = replace(mesh, primitives=tuple(parts))
    return replace(scene, meshes=tuple(meshes))


def dressed_as(name: str) -> Change:
    """The change that keeps a variant."""
    return Change(
        id=short_id(f"{NAME}={name}"),
        title=f"variant {name}",
        scope="project",
        operation=Operation(name=NAME, params={"variant": name}),
    )


@operation(NAME)
def dress(build: Build, params: dict[str, Any]) -> Build:
    """Dress the scene as `variant`. ChangeError if there is none of the name."""
    try:
        return replace(build, scene=in_variant(build.scene, str(params.get("variant"))))
    except RequestError as error:
        raise ChangeError(str(error)) from None
