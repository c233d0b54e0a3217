"""Materials given another base shader, one or many at once: their values and pictures go over by role. Special ones are told, not touched:
those whose base shader has passes or answers of its own, or values that no other has."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

from eddyfall.core.errors import ChangeError, RequestError
from eddyfall.core.materials.roles import Moved, moved_by, values_for, with_value
from eddyfall.core.materials.shown import AsDrawn, as_drawn, taken_as, turned, unsupported, works
from eddyfall.core.materials.transfers import Transfer, transferred
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, operation
from eddyfall.core.scene.maps import drawn_maps, shader_of
from eddyfall.core.scene.model import Image
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.setup import STOCK_SHADERS
from eddyfall.core.scene.setup.tables import VALUE_ROLES, MapRole, MaterialMap, MaterialSetup, Shader, Slot, ValueRole

CONVERT = "materials.convert"
Kind = Literal["converts", "special"]


@dataclass(frozen=True)
class Conversion:
    """What a conversion would make of a material: its base shader now and then, whether it can be converted with many others, and why not;
    what becomes of each value and picture; how pictures were computed, if any were; its factors then, by role."""

    material: str
    before: str
    after: str
    kind: Kind
    why: tuple[str, ...]
    values: tuple[Moved, ...]
    pictures: tuple[Transfer, ...]
    how: str
    becomes: AsDrawn | None


def special_of(build: Build, index: int) -> tuple[str, ...]:
    """What a material's base shader has that no other has: why it is not converted with many others."""
    key = build.scene.material_keys[index]
    entry = build.setup.materials.get(key, MaterialSetup())
    shader, plain = build.setup.shaders.get(shader_of(build.scene.materials[index], entry), Shader()), Shader()
    own = [f"{name}: no other base shader has it" for name, p in shader.parameters.items() if p.role is None]
    for group in ("passes", "answers"):
        mine, usual = getattr(shader, group), getattr(plain, group)
        own += [
            f"{group}.{f} is {str(getattr(mine, f)).lower()}"
            for f in type(mine).model_fields
            if getattr(mine, f) != getattr(usual, f)
        ]
    own += [f"its own picture where none is bound: {slot.default}" for slot in shader.slots.values() if slot.default is not None]
    return tuple(own)


def conversion(build: Build, material: str, to: str | None = None, images: tuple[Image, ...] | None = None) -> Conversion:
    """What becomes of a material under another base shader (None: the stock one of its alpha mode); images: those that what is made comes
    after (None: the scene's, and then it is worked out once for a build). RequestError for names that do not exist."""
    if images is not None:
        return _conversion(build, material, to, images)
    known: dict[tuple[str, str | None], Conversion] = build.__dict__.setdefault("_conversions", {})
    if (material, to) not in known:
        known[material, to] = _conversion(build, material, to, build.scene.images)
    return known[material, to]


def _conversion(build: Build, material: str, to: str | None, images: tuple[Image, ...]) -> Conversion:
    index = _number(build, material)
    of = build.scene.materials[index]
    entry = build.setup.materials.get(material, MaterialSetup())
    after = to or STOCK_SHADERS[of.alpha_mode]
    _known(build, after)
    before, then = shader_of(of, entry), build.setup.shaders.get(after, Shader())
    now, why = build.setup.shaders.get(before, Shader()), special_of(build, index)
    becomes, how = None, ""
    try:
        becomes = _taken(as_drawn(build, index, images, told=True), then, images)
        how = becomes.how
    except ChangeError as error:
        why = (*why, str(error))
    moved = transferred(drawn_maps(build, index), then)
    return Conversion(
        material, before, after, "special" if why else "converts", why, moved_by(entry, now, then), moved, how, becomes
    )


def conversions(build: Build, target: str | None, to: str | None = None) -> tuple[Conversion, ...]:
    """Of every material whose base shader has no version for a target. RequestError if the other one has none either."""
    if target is not None and target not in build.setup.targets:
        raise RequestError(f"target {target!r} does not exist; there are: {', '.join(build.setup.targets) or 'none'}")
    if to is not None:
        _known(build, to)
        if not works(build.setup, to, target):
            raise RequestError(f"{to} has no version for {target or 'any target'} either")
    return tuple(conversion(build, build.scene.material_keys[index], to) for index in unsupported(build, target))


def _taken(made: AsDrawn, then: Shader, images: tuple[Image, ...]) -> AsDrawn:
    """With its roughness as another base shader takes it, where that has it elsewhere or the other way round."""
    slot, use = then.slots.get("metallic_roughness", Slot()), made.material.metallic_roughness_texture
    if use is None or not turned(slot):
        return made
    at = (*images, *made.images)
    picture = taken_as(at[use.image], slot)
    material = replace(made.material, metallic_roughness_texture=replace(use, image=len(at)))
    how = "; ".join(part for part in (made.how, f"{slot.holds} in {slot.channel} of {at[use.image].name}") if part)
    return replace(made, material=material, images=(*made.images, picture), how=how)


def converted(build: Build, materials: Sequence[str], to: str | None = None, author: str = "") -> Change:
    """The change that converts materials. RequestError for names that do not exist, ChangeError for one that cannot be."""
    return change_of([conversion(build, material, to) for material in materials], to, author)


def change_of(found: Sequence[Conversion], to: str | None = None, author: str = "") -> Change:
    """The change that does conversions which were looked at, all to one base shader. ChangeError for one that cannot be."""
    for one in found:
        if one.becomes is None:
            raise ChangeError(f"{one.material}: {one.why[-1]}")
    materials = [one.material for one in found]
    params: dict[str, Any] = {"materials": list(materials)} | ({} if to is None else {"to": to})
    whose = materials[0] if len(materials) == 1 else f"{len(materials)} materials"
    return Change(
        id=short_id(f"{CONVERT}={params}"), title=f"convert {whose} to {to or 'the stock base shader'}",
        scope="material" if len(materials) == 1 else "shader", author=author, operation=Operation(name=CONVERT, params=params),
    )  # fmt: skip


@operation(CONVERT)
def convert_materials(build: Build, params: dict[str, Any]) -> Build:
    """Give `materials` (keys) the base shader `to` (none: the stock one of their alpha modes): factors and pictures as their own base
    shaders draw them, values under the other's names. ChangeError for names that do not exist and what cannot be converted."""
    names, to = params.get("materials"), params.get("to")
    if not isinstance(names, list) or not all(isinstance(n, str) for n in names) or not names:
        raise ChangeError("materials must be a list of names")
    if to is not None and not isinstance(to, str):
        raise ChangeError("to must be the name of a base shader")
    materials, entries, images = list(build.scene.materials), dict(build.setup.materials), build.scene.images
    for name in dict.fromkeys(names):
        try:
            found = conversion(build, name, to, images)
        except RequestError as error:
            raise ChangeError(str(error)) from None
        if found.becomes is None:
            raise ChangeError(f"{name}: {found.why[-1]}")
        index, made = _number(build, name), found.becomes
        materials[index] = made.material
        images = (*images, *(replace(i, name=_free(i.name, images)) for i in made.images))
        entries[name] = _entry(made, build.setup.shaders.get(to, Shader()) if to is not None else Shader(), to, found.pictures)
    return replace(
        build,
        scene=replace(build.scene, materials=tuple(materials), images=images),
        setup=build.setup.model_copy(update={"materials": entries}),
    )


@operation("material.value")
def set_value(build: Build, params: dict[str, Any]) -> Build:
    """Set what a `material` of the scene has for a `role` to `value`, a number or three. ChangeError for unknown names and values beyond
    what the role may be."""
    key, role, value = params.get("material"), params.get("role"), params.get("value")
    if not isinstance(key, str) or key not in build.scene.material_keys:
        raise ChangeError(f"material {key!r} does not exist")
    if role not in VALUE_ROLES:
        raise ChangeError(f"role {role!r} does not exist; there are: {', '.join(VALUE_ROLES)}")
    numbers = value if isinstance(value, list) else [value]
    if not numbers or not all(isinstance(v, (int, float)) and not isinstance(v, bool) for v in numbers):
        raise ChangeError("value must be a number or three")
    index, materials = build.scene.material_keys.index(key), list(build.scene.materials)
    held = tuple(float(v) for v in numbers) if isinstance(value, list) else float(value)  # type: ignore[arg-type]
    materials[index] = with_value(materials[index], role, held)  # type: ignore[arg-type]
    return replace(build, scene=replace(build.scene, materials=tuple(materials)))


def value_set(material: str, role: ValueRole, value: float, title: str) -> Change:
    """The change that sets what a material has for a role."""
    params = {"material": material, "role": role, "value": value}
    return Change(
        id=short_id(f"material.value={params}"),
        title=title,
        scope="material",
        operation=Operation(name="material.value", params=params),
    )


def _entry(made: AsDrawn, then: Shader, to: str | None, pictures: tuple[Transfer, ...]) -> MaterialSetup:
    """A material's setup under another base shader: what is bound there is switched on."""
    maps: dict[MapRole, MaterialMap] = dict(made.entry.maps)
    for transfer in pictures:
        bound = maps.get(transfer.role)
        if transfer.fate == "switched on" and bound is not None and not bound.on:
            maps[transfer.role] = bound.model_copy(update={"on": True})
    return made.entry.model_copy(update={"shader": to, "values": values_for(made.material, then), "maps": maps})


def _free(name: str, images: tuple[Image, ...]) -> str:
    taken, found, number = {i.name for i in images}, name, 1
    while found in taken:
        number += 1
        found = f"{name} {number}"
    return found


def _number(build: Build, material: str) -> int:
    keys = build.scene.material_keys
    if material not in keys:
        raise RequestError(f"material {material!r} does not exist; there are: {', '.join(keys) or 'none'}")
    return keys.index(material)


def _known(build: Build, shader: str) -> None:
    known = [*build.setup.shaders, *(s for s in STOCK_SHADERS.values() if s not in build.setup.shaders)]
    if shader not in known:
        raise RequestError(f"base shader {shader!r} does not exist; there are: {', '.join(known)}")
