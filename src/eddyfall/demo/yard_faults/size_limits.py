"""shadow.culled: mooring gear too small for the flood-light's paged map, a crane hook too small for the shed lamp's rays.

Their twins are a barrow that is large enough, gear whose bounds are padded, and a chain hoist near enough to the eye."""

import numpy as np

from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World


def sow(world: World) -> None:
    iron = world.material("gear_iron", base_rgba=(0.05, 0.05, 0.055, 1), roughness=0.5, metallic=0.4)
    _berth(world, iron)
    _shed(world, iron)


def _berth(world: World, iron: int) -> None:
    """Bollards along a pale apron, lit by the flood-light from the right."""
    apron = world.material("apron_stone", pictures.ashlar(world.rng, (200, 196, 186), 3), roughness=0.9)
    world.add("apron", Shape().box((2, -0.5, -62), (16, 0.06, -38), 2.0, "xXYzZ"), apron, casts=False)
    for name, x, z in (("mooring_gear", 8.2, -52.0), ("padded_gear", 11.4, -50.0)):
        gear = Shape().tube((x, 0.05, z), (x, 0.55, z), 0.16, 0.13, 12)
        gear.box((x - 0.34, 0.36, z - 0.07), (x + 0.34, 0.5, z + 0.07), 0.5)
        world.add(name, gear, iron)
    world.entry("nodes", "padded_gear")["bounds_padding_m"] = 0.6
    barrow = Shape().box((5.2, 0.3, -55.2), (6.8, 1.1, -54.0), 1.0).box((5.4, 0.06, -55.0), (5.6, 0.3, -54.2), 1.0)
    world.add("barrow", barrow.box((6.4, 0.06, -55.0), (6.6, 0.3, -54.2), 1.0), iron)
    world.entry("nodes", "barrow")["bounds_padding_m"] = 0.3  # from an earlier trial: the barrow is large enough without
    world.truth.append({
        "code": "shadow.leftover", "cause": "nodes.barrow.bounds_padding_m", "subjects": ["barrow"], "seed": "size_limits",
        "hidden_in_roles": {},
    })  # fmt: skip
    world.healthy.append(
        {"subject": "padded_gear", "twin_of": "shadow.leftover", "why": "without its padding it loses its shadow"}
    )
    world.truth.append({
        "code": "shadow.culled", "cause": "mooring_gear", "subjects": ["mooring_gear"], "seed": "size_limits", "hidden_in_roles": {},
    })  # fmt: skip
    world.healthy.append({"subject": "padded_gear", "twin_of": "shadow.culled", "why": "its bounds are padded"})
    world.healthy.append({"subject": "barrow", "twin_of": "shadow.culled", "why": "large enough for the paged map"})


def _shed(world: World, iron: int) -> None:
    """A boat shed open to the path, a lamp under its roof, a hook and a boat on trestles under that."""
    tar = world.material("tarred_boards", pictures.planks(world.rng, (58, 50, 44)), roughness=0.9)
    floor = world.material("shed_floor", pictures.ashlar(world.rng, (170, 164, 152), 4), roughness=0.9)
    x0, x1, z0, z1, high = -21.0, -11.5, -19.0, -9.5, 4.6
    world.add(
        "shed_floor", Shape().box((x0 - 0.35, -0.3, z0 - 0.35), (x1 + 0.1, 0.04, z1 + 0.1), 1.5, "xXYzZ"), floor, casts=False
    )
    walls = Shape().box((x0 - 0.2, 0, z0 - 0.2), (x0, high, z1), 1.5).box((x0, 0, z0 - 0.2), (x1, high, z0), 1.5)
    walls.box((x1 - 0.2, 0, z0), (x1, high, z1 - 4.5), 1.5)
    world.add("shed_walls", walls, tar)
    world.add("shed_roof", Shape().box((x0 - 0.6, high, z0 - 0.6), (x1 + 0.5, high + 0.2, z1 + 0.7), 1.5), tar)
    world.lamp("shed_lamp", (-16.2, 4.2, -14.2), 9000.0, 11.0)
    hook = Shape().tube((-15.6, 2.5, -13.4), (-15.6, 2.75, -13.4), 0.02, 0.02, 8)
    hook.ring(np.array([-15.6, 2.42, -13.4]), np.eye(3)[[1, 0, 2]], 0.11, 0.07, 0.025)
    world.add("crane_hook", hook, iron)
    boat = Shape().box((-18.6, 0.75, -16.4), (-15.2, 1.35, -15.0), 1.0)
    for x in (-18.0, -16.0):
        boat.box((x, 0.04, -16.3), (x + 0.15, 0.75, -15.1), 0.5)
    world.add("boat", boat, world.material("boat_paint", base_rgba=(0.1, 0.26, 0.3, 1), roughness=0.5))
    world.truth.append({
        "code": "shadow.culled", "cause": "crane_hook", "subjects": ["crane_hook"], "seed": "size_limits", "hidden_in_roles": {},
    })  # fmt: skip
    world.healthy.append({"subject": "boat", "twin_of": "shadow.culled", "why": "large enough for rays"})
