"""Roles: what a value of a base shader is to a metallic-roughness material, whatever it is called there and however it is said.

One mechanism for all that carries a material from one base shader to another: how it is drawn where its own works, what becomes of each
value in a conversion, and what has no place in another base shader."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from eddyfall.core.errors import ChangeError
from eddyfall.core.scene.model import Material
from eddyfall.core.scene.setup.tables import VALUE_ROLES, How, MaterialSetup, Parameter, ParameterValue, Shader, ValueRole
from eddyfall.core.shade.srgb import decode, encode

Value = float | tuple[float, float, float]
Fate = Literal["moved", "computed", "no place"]
LIMITS: dict[ValueRole, tuple[float, float]] = {
    "base_rgb": (0, 1), "alpha": (0, 1), "metallic": (0, 1), "roughness": (0, 1), "normal_scale": (-1e6, 1e6), "emissive_rgb": (0, 1e6),
    "occlusion_strength": (0, 1), "ior": (1, 1e3), "specular": (0, 1), "specular_rgb": (0, 1e6), "transmission": (0, 1),
    "thickness_m": (0, 1e6), "clearcoat": (0, 1), "clearcoat_roughness": (0, 1),
}  # fmt: skip


@dataclass(frozen=True)
class Moved:
    """A value under its name in one base shader: what is said there, in which unit, its role and how that comes of it, what it comes to
    (as the role has it, linear), its name in the other base shader; what became of it."""

    name: str
    said: Value
    unit: str
    role: ValueRole | None
    how: How
    comes_to: Value | None
    to: str | None
    fate: Fate


WORKED: dict[How, Callable[[np.ndarray], np.ndarray]] = {
    "as_is": lambda v: v, "one_minus": lambda v: 1 - v, "square": lambda v: v**2, "root": lambda v: np.sqrt(np.maximum(v, 0)),
    "hundredth": lambda v: v / 100, "srgb": decode,
}  # fmt: skip
UNWORKED: dict[How, Callable[[np.ndarray], np.ndarray]] = {
    "as_is": lambda v: v, "one_minus": lambda v: 1 - v, "square": lambda v: np.sqrt(np.maximum(v, 0)), "root": lambda v: v**2,
    "hundredth": lambda v: v * 100, "srgb": encode,
}  # fmt: skip


def worked(how: How, said: Value) -> Value:
    """What a role's value comes to of what is said."""
    return _plain(WORKED[how](np.asarray(said, float)))


def unworked(how: How, value: Value) -> Value:
    """What has to be said for a role's value: the opposite of `worked`."""
    return _plain(UNWORKED[how](np.asarray(value, float)))


def _plain(v: np.ndarray) -> Value:
    if v.ndim:
        x, y, z = (float(c) for c in v)
        return x, y, z
    return float(v)


def value_of(material: Material, role: ValueRole) -> Value:
    """What a material has for a role."""
    if role == "base_rgb":
        r, g, b, _ = material.base_rgba
        return r, g, b
    if role == "alpha":
        return material.base_rgba[3]
    found: Value = getattr(material, "emissive" if role == "emissive_rgb" else role)
    return found


def with_value(material: Material, role: ValueRole, value: Value) -> Material:
    """The material with another value for a role. ChangeError beyond what the role may be, or for a number where it is a colour."""
    low, high = LIMITS[role]
    numbers = np.atleast_1d(np.asarray(value, float))
    if len(numbers) != (3 if role.endswith("_rgb") else 1):
        raise ChangeError(f"{role} is {'three numbers' if role.endswith('_rgb') else 'a number'}, not {value!r}")
    if not np.isfinite(numbers).all() or numbers.min() < low - 1e-9 or numbers.max() > high + 1e-9:
        raise ChangeError(f"{role} comes to {value!r}, which is not within {low:g} and {high:g}")
    held = _plain(np.clip(np.asarray(value, float), low, high))
    if role == "base_rgb" and isinstance(held, tuple):
        return replace(material, base_rgba=(*held, material.base_rgba[3]))
    if role == "alpha" and isinstance(held, float):
        return replace(material, base_rgba=(*material.base_rgba[:3], held))
    named = {"emissive" if role == "emissive_rgb" else role: held}
    return replace(material, **named)  # type: ignore[arg-type]


def said_of(value: ParameterValue) -> Value | None:
    """The number or colour that a setup's value holds."""
    return value.rgb if value.rgb is not None else value.value


def moved_by(entry: MaterialSetup, before: Shader, after: Shader) -> tuple[Moved, ...]:
    """What becomes of each value that a material says for its base shader's parameters, under another base shader: a value of a role goes
    where that has it, under its own name there, or is the material's own factor."""
    names = {p.role: name for name, p in after.parameters.items() if p.role is not None}
    found = []
    for name, value in entry.values.items():
        said, p = said_of(value), before.parameters.get(name, Parameter())
        if said is None:
            continue
        if p.role is None:
            found.append(Moved(name, said, p.unit, None, p.how, None, None, "no place"))
            continue
        to = names.get(p.role)
        same = p.how == (after.parameters[to].how if to is not None else "as_is")
        found.append(Moved(name, said, p.unit, p.role, p.how, worked(p.how, said), to, "moved" if same else "computed"))
    order = [*VALUE_ROLES, None]
    return tuple(sorted(found, key=lambda m: (order.index(m.role), m.name)))


def with_values(material: Material, entry: MaterialSetup, shader: Shader) -> Material:
    """The material as its base shader draws it: with what its values come to. ChangeError for one beyond its role."""
    for moved in moved_by(entry, shader, Shader()):
        if moved.role is not None and moved.comes_to is not None:
            try:
                material = with_value(material, moved.role, moved.comes_to)
            except ChangeError as error:
                raise ChangeError(f"{moved.name}: {error}") from None
    return material


def values_for(material: Material, shader: Shader) -> dict[str, ParameterValue]:
    """What a base shader's parameters have to be set to, so that it draws a material as it is."""
    found = {}
    for name, p in shader.parameters.items():
        if p.role is not None:
            said = unworked(p.how, value_of(material, p.role))
            found[name] = ParameterValue(rgb=said) if isinstance(said, tuple) else ParameterValue(value=said)
    return found
