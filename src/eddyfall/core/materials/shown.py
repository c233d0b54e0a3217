"""What a build shows on a target: materials as their base shaders draw them, in the error colour where those have no version for it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.materials.gloss import as_said, solved
from eddyfall.core.materials.roles import with_values
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.maps import drawn_maps, shader_of
from eddyfall.core.scene.model import Image, Material
from eddyfall.core.scene.setup import GLOSS_SHADER, Setup
from eddyfall.core.scene.setup.tables import CHANNELS, MaterialSetup, Shader, Slot


@dataclass(frozen=True)
class Shown:
    """A build as it is drawn on a target, and its materials, by number, whose base shader has no version for it."""

    build: Build
    errors: frozenset[int]


@dataclass(frozen=True)
class AsDrawn:
    """One material as its base shader draws it where it works: itself, its setup, pictures that are made for it (numbered after the
    scene's own), and in words what was made."""

    material: Material
    entry: MaterialSetup
    images: tuple[Image, ...] = ()
    how: str = ""


def works(setup: Setup, shader: str, target: str | None) -> bool:
    """Whether a base shader has a version for a target; with None, for any."""
    if shader not in setup.shaders:
        return shader != GLOSS_SHADER
    on = setup.shaders[shader].works_on
    return on is None or (target in on if target is not None else len(on) > 0)


def unsupported(build: Build, target: str | None) -> dict[int, str]:
    """Materials by number whose base shader has no version for a target, with its key."""
    setup, found = build.setup, {}
    if all(s.works_on is None for s in setup.shaders.values()) and all(m.gloss is None for m in build.scene.materials):
        return {}
    for index, (key, material) in enumerate(zip(build.scene.material_keys, build.scene.materials)):
        shader = shader_of(material, setup.materials.get(key, MaterialSetup()))
        if not works(setup, shader, target):
            found[index] = shader
    return found


def as_drawn(build: Build, index: int, images: tuple[Image, ...], told: bool = False) -> AsDrawn:
    """What a material comes to under its own base shader; images: the scene's and those that were made before; told: as it can be told by
    metal and roughness. ChangeError for values beyond their roles, or pictures that cannot be made."""
    key, material = build.scene.material_keys[index], build.scene.materials[index]
    entry = build.setup.materials.get(key, MaterialSetup())
    shader = build.setup.shaders.get(shader_of(material, entry), Shader())
    made: tuple[Image, ...] = ()
    how: list[str] = []
    if material.gloss is not None:
        found = solved(material, images) if told else as_said(material, images)
        material, made = found.material, found.images
        how.append(found.how)
    if entry.values:
        material = with_values(material, entry, shader)
    slot = shader.slots.get("metallic_roughness", Slot())
    use = drawn_maps(build, index)["metallic_roughness"].use
    if use is not None and turned(slot):
        picture = _roughness_of(images[use.image], slot)
        material = replace(material, metallic_roughness_texture=replace(use, image=len(images) + len(made)))
        made = (*made, picture)
        maps = {role: m for role, m in entry.maps.items() if role != "metallic_roughness"}
        entry = entry.model_copy(update={"maps": maps})
        how.append(f"roughness of {slot.channel} of {images[use.image].name}")
    return AsDrawn(material, entry, made, "; ".join(how))


def _roughness_of(image: Image, slot: Slot) -> Image:
    """The picture a metallic-roughness material takes of one that has its roughness elsewhere or the other way round."""
    said = image.pixels[..., CHANNELS.index(slot.channel)]
    pixels = np.full_like(image.pixels, 255)
    pixels[..., 1] = 255 - said if slot.holds == "gloss" else said
    if slot.channel == "green":  # as a metallic-roughness picture has it: its blue says how metallic
        pixels[..., 2] = image.pixels[..., 2]
    return Image(f"{image.name} as roughness", freeze(pixels))


def taken_as(image: Image, slot: Slot) -> Image:
    """The picture that a turned slot takes of a metallic-roughness one: the opposite of how it is drawn."""
    said = image.pixels[..., 1]
    pixels = np.full_like(image.pixels, 255)
    if slot.channel == "green":
        pixels[..., 2] = image.pixels[..., 2]
    pixels[..., CHANNELS.index(slot.channel)] = 255 - said if slot.holds == "gloss" else said
    return Image(f"{image.name} as {slot.holds} in {slot.channel}", freeze(pixels))


def turned(slot: Slot) -> bool:
    """Whether a slot takes its roughness otherwise than a metallic-roughness picture has it."""
    return slot.channel != "green" or slot.holds == "gloss"


def shown_on(build: Build, target: str | None) -> Shown:
    """A build as it is drawn on a target; itself where nothing of it is drawn otherwise than its materials say. One whose reads are
    recorded (`frame.derive`) is handed over as it is drawn already, and comes back as it is."""
    if not isinstance(build, Build):
        return Shown(build, frozenset())
    known: dict[Any, Shown | None] = build.__dict__.setdefault("_shown", {})
    if target not in known:
        known[target] = _shown(build, target)
    return known[target] or Shown(build, frozenset())  # no build holds itself, so that it is let go at once


def _shown(build: Build, target: str | None) -> Shown | None:
    """None where it is drawn as it is."""
    setup, scene = build.setup, build.scene
    errors = unsupported(build, target)
    special = {k for k, s in setup.shaders.items() if any(turned(slot) for slot in s.slots.values())}
    entry_of = [setup.materials.get(key, MaterialSetup()) for key in scene.material_keys]
    mine = [
        i
        for i, (m, entry) in enumerate(zip(scene.materials, entry_of))
        if i not in errors and (m.gloss is not None or entry.values or shader_of(m, entry) in special)
    ]
    if not errors and not mine:
        return None
    materials, entries, images = list(scene.materials), dict(setup.materials), scene.images
    for index in mine:
        drawn = _or_as_it_is(build, index, images)
        key = scene.material_keys[index]
        materials[index], images = drawn.material, (*images, *drawn.images)
        entries[key] = drawn.entry.model_copy(update={"values": {}})
    for index in errors:
        key, m = scene.material_keys[index], scene.materials[index]
        entry = entries.get(key, MaterialSetup())
        materials[index] = Material(m.name, base_rgba=(0.0, 0.0, 0.0, 1.0), metallic=0.0, double_sided=m.double_sided)
        entries[key] = MaterialSetup(double_sided=entry.double_sided)
    shown = replace(
        build,
        scene=replace(scene, materials=tuple(materials), images=images),
        setup=setup.model_copy(update={"materials": entries, "shaders": _straight(setup.shaders)}),
    )
    return Shown(shown, frozenset(errors))


def _straight(shaders: dict[str, Shader]) -> dict[str, Shader]:
    """Base shaders that take pictures as they are: what they turn is turned already, so that a build that is shown shows itself."""
    found = dict(shaders)
    for key, shader in shaders.items():
        if any(turned(slot) for slot in shader.slots.values()):
            slots = {
                role: slot.model_copy(update={"channel": "green", "holds": "roughness"}) for role, slot in shader.slots.items()
            }
            found[key] = shader.model_copy(update={"slots": slots})
    return found


def _or_as_it_is(build: Build, index: int, images: tuple[Image, ...]) -> AsDrawn:
    """As it is drawn; what cannot be worked out is drawn by its factors."""
    try:
        return as_drawn(build, index, images)
    except ChangeError:
        material = replace(build.scene.materials[index], gloss=None)
        return AsDrawn(material, build.setup.materials.get(build.scene.material_keys[index], MaterialSetup()))
