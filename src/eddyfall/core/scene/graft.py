"""A mesh of another file, brought into a scene with the materials and pictures that it needs: packed as text, so that a change holds it."""

from __future__ import annotations

import base64
import binascii
import zlib
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from eddyfall.core.errors import ChangeError, SceneError
from eddyfall.core.hashing import digest
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.images import KTX2
from eddyfall.core.scene.model import Material, Mesh, Node, Primitive, Scene, TextureUse
from eddyfall.core.scene.read import draco, meshopt_views
from eddyfall.core.scene.read.container import open_glb
from eddyfall.core.scene.read.gltf import scene_of
from eddyfall.core.scene.read.textures import OTHER_FORMS

CODED = (draco.NAME, *meshopt_views.NAMES, *OTHER_FORMS)
MOST_TEXT = 1_500_000  # characters of a packed mesh: what a request may carry, too
MOST_BYTES = 64 * 1024**2  # of it unpacked


def packed(scene: Scene, mesh: int, known: frozenset[str] = frozenset()) -> str | None:
    """A mesh of a scene as text; materials whose names are known where it goes come without their pictures, since they are not taken from
    it. None if that is more than a change holds."""
    used = sorted({p.material for p in scene.meshes[mesh].primitives if p.material is not None})
    materials = [_bare(scene.materials[m]) if scene.material_keys[m] in known else scene.materials[m] for m in used]
    images = sorted({use.image for m in materials for use in m.every_use.values() if use is not None})
    materials = [_reading(m, {old: new for new, old in enumerate(images)}) for m in materials]
    parts = tuple(
        replace(p, material=None if p.material is None else used.index(p.material), variants=())
        for p in scene.meshes[mesh].primitives
    )
    alone = Scene(
        meshes=(Mesh(scene.mesh_keys[mesh], tuple(_shape_alone(p) for p in parts)),), nodes=(Node("it", np.eye(4), mesh=0),),
        materials=tuple(replace(m, name=scene.material_keys[k]) for m, k in zip(materials, used)),
        images=tuple(scene.images[i] for i in images),
    )  # fmt: skip
    text = base64.b64encode(zlib.compress(write_glb(alone), 9)).decode()
    return text if len(text) <= MOST_TEXT else None


def grafted(scene: Scene, text: object) -> tuple[Scene, int]:
    """(the scene with a packed mesh, its number). A material of a name that the scene has is the scene's own; pictures that it holds
    already are not doubled. ChangeError for what is no packed mesh."""
    if not isinstance(text, str) or len(text) > MOST_TEXT:
        raise ChangeError(f"the mesh that is brought along must be text of at most {MOST_TEXT} characters")
    try:
        unpacking = zlib.decompressobj()
        data = unpacking.decompress(base64.b64decode(text, validate=True), MOST_BYTES)
        if unpacking.unconsumed_tail or not unpacking.eof:
            raise ChangeError("the mesh that is brought along is cut off, or too large")
        container = open_glb(data)
        # Their decoders run in a process of their own where a scene is uploaded; a change is applied in any.
        if KTX2 in data or any(name in str(container.json) for name in CODED):
            raise ChangeError("the mesh that is brought along is coded by an extension: it is packed as it is")
        other = scene_of(container)
    except (binascii.Error, zlib.error, ValueError):
        raise ChangeError("the mesh that is brought along cannot be unpacked") from None
    except SceneError as error:
        raise ChangeError(f"the mesh that is brought along cannot be read: {error}") from None
    if len(other.meshes) != 1:
        raise ChangeError(f"one mesh is brought along, not {len(other.meshes)}")
    held = {digest(image.pixels): number for number, image in enumerate(scene.images)}
    images, numbers = list(scene.images), dict[int, int]()
    for k, image in enumerate(other.images):
        key = digest(image.pixels)
        if key not in held:
            held[key] = len(images)
            images.append(image)
        numbers[k] = held[key]
    there = {name: number for number, name in enumerate(scene.material_keys)}
    materials, dress = list(scene.materials), dict[int, int]()
    for k, material in enumerate(other.materials):
        if material.name not in there:
            there[material.name] = len(materials)
            materials.append(_reading(material, numbers))
        dress[k] = there[material.name]
    parts = tuple(
        replace(p, material=None if p.material is None else dress[p.material], source_index=k)
        for k, p in enumerate(other.meshes[0].primitives)
    )
    made = replace(
        scene,
        meshes=(*scene.meshes, replace(other.meshes[0], primitives=parts)),
        materials=tuple(materials),
        images=tuple(images),
    )
    return made, len(scene.meshes)


def _shape_alone(part: Primitive) -> Primitive:
    """Without joints and weights: what they name is not brought along."""
    return replace(part, attributes={k: v for k, v in part.attributes.items() if not k.startswith(("JOINTS_", "WEIGHTS_"))})


def _bare(material: Material) -> Material:
    return _with_uses(material, lambda use: None)


def _reading(material: Material, numbers: dict[int, int]) -> Material:
    """The material with its pictures under other numbers."""
    return _with_uses(material, lambda use: replace(use, image=numbers[use.image]))


def _with_uses(material: Material, to: Callable[[TextureUse], TextureUse | None]) -> Material:
    changed: dict[str, Any] = {k: to(v) for k, v in material.__dict__.items() if isinstance(v, TextureUse)}
    return replace(material, **changed)
