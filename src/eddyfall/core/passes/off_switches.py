"""The usual off-switches of passes: a leaf of a section, each light by itself, the blend kind of a material."""

from typing import Any

from eddyfall.core.passes.contract import Asked, OffSwitch
from eddyfall.core.scene.changes import Change, set_leaf, set_resolved
from eddyfall.core.shade.blend import KIND_NAMES, KINDS

MOST_LIGHTS = 6
MOST_MATERIALS = 2


def off_by_leaf(leaf: str, value: Any, title: str) -> OffSwitch:
    """A leaf of a section of the setup ("fog.enabled") set to a value."""
    section, name = leaf.split(".")

    def changes(asked: Asked) -> list[tuple[Change, str]]:
        if getattr(asked.stage.resolved.sections[section], name) == value:
            return []
        return [(set_resolved(asked.build, asked.stage.resolved, {leaf: value}, title=title), "")]

    return OffSwitch(says=f"{leaf} = {value!r}", changes=changes)


def off_by_light() -> OffSwitch:
    """Each of the first lights that shine, switched off by itself."""

    def changes(asked: Asked) -> list[tuple[Change, str]]:
        names = [light.name for light in asked.stage.lights[:MOST_LIGHTS]]
        return [
            (set_leaf(asked.build, ("lights", n, "on"), False, scope="node", title=f"{n} off"), f"{n} shines on the spot")
            for n in names
        ]

    return OffSwitch(says="lights.*.on = False", changes=changes)


def off_by_blend(title: str, *, of_subject: bool) -> OffSwitch:
    """The material of the subject, or the blended materials in view, drawn as opaque."""

    def changes(asked: Asked) -> list[tuple[Change, str]]:
        blend, keys = asked.stage.state.blend, asked.build.scene.material_keys
        chosen = {asked.subject} if of_subject else {int(i) for i in asked.in_view if asked.stage.state.blended[i]}
        by_material = {asked.geometry.drawables[i].material: int(blend[i]) for i in chosen if blend[i] != KINDS["opaque"]}
        return [
            (
                set_leaf(asked.build, ("materials", keys[m], "blend"), "opaque", scope="material", title=f"{title} ({keys[m]})"),
                f"{keys[m]} is {KIND_NAMES[by_material[m]]}",
            )
            for m in [m for m in sorted(by_material) if 0 <= m < len(keys)][:MOST_MATERIALS]
        ]

    return OffSwitch(says="materials.*.blend = 'opaque'", changes=changes)
