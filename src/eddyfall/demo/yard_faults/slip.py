"""shadow.acne and shadow.detached: a boat slip under three wall lamps. One has no shadow bias at all, so that paving and wall shade
themselves; one has so much that shadows stand off what throws them; their twin's bias grows with each surface's own slope."""

import numpy as np

from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World

WALL_Z = 2.0
BAYS = {"slip_lamp_bare": -54.0, "slip_lamp_far": -46.0, "slip_lamp_true": -38.0}


def sow(world: World) -> None:
    paving = world.material("slip_paving", pictures.ashlar(world.rng, (176, 172, 164), 4), roughness=0.9)
    rubble = world.material("slip_wall", pictures.ashlar(world.rng, (150, 140, 128), 5), roughness=0.9)
    timber = world.material("slip_timber", pictures.planks(world.rng, (112, 88, 62)), roughness=0.85)
    iron = world.material("slip_iron", base_rgba=(0.08, 0.08, 0.085, 1), roughness=0.55)
    world.add("slip_floor", Shape().box((-64, -0.5, WALL_Z - 0.5), (-28, 0.05, 16.0), 2.0, "xXYzZ"), paving, casts=False)
    wall = Shape().box((-64, 0.05, WALL_Z - 0.6), (-28, 4.6, WALL_Z), 2.0)
    world.add("slip_wall_stone", wall, rubble)
    for name, x in BAYS.items():
        world.lamp(name, (x, 3.9, WALL_Z + 1.6), 18000.0, 8.5)
        world.entry("lights", name).update({"casts": True, "bias_normal_texels": 0.0})
        _bay(world, name.removeprefix("slip_lamp_"), x, timber, iron)
    world.entry("lights", "slip_lamp_far")["bias_mm"] = 900.0
    world.entry("lights", "slip_lamp_true")["bias_slope"] = 1.8
    world.setup.setdefault("light_sets", {})["lamps"] = {"on": {"sun": False, "flood_mast": False}, "sky": 0.2}
    world.setup["viewpoints"]["slip"] = {
        "eye": [-46.0, 4.9, 19.0], "target": [-46.0, 0.9, 5.0], "fov_y_deg": 46, "light_set": "lamps",
    }  # fmt: skip
    for code, name, spoilt in (
        ("shadow.acne", "slip_lamp_bare", "slip_wall_stone"), ("shadow.detached", "slip_lamp_far", "slip_floor"),
    ):  # fmt: skip
        world.truth.append({
            "code": code, "cause": f"lights.{name}", "subjects": [spoilt], "seed": "slip", "hidden_in_roles": {},
        })  # fmt: skip
        world.healthy.append({"subject": "lights.slip_lamp_true", "twin_of": code, "why": "its bias grows with the slope"})


def _bay(world: World, name: str, x: float, timber: int, iron: int) -> None:
    """A bollard, a stack of thin boards on edge, a crate and a rail across the bay."""
    bollard = Shape().tube((x - 2.2, 0.05, 6.4), (x - 2.2, 0.95, 6.4), 0.24, 0.2, 16)
    bollard.tube((x - 2.2, 0.95, 6.4), (x - 2.2, 1.08, 6.4), 0.3, 0.3, 16)
    world.add(f"slip_bollard_{name}", bollard, iron)
    boards = Shape().box((x - 0.9, 0.05, 6.9), (x + 0.9, 0.85, 6.94), 1.0)
    world.add(f"slip_boards_{name}", boards, timber)
    crate = Shape().box((x + 1.7, 0.05, 5.6), (x + 2.6, 0.95, 6.4), 1.0)
    world.add(f"slip_crate_{name}", crate, timber)
    rail = Shape().box((x - 3.0, 0.55, 9.0), (x + 3.0, 0.63, 9.08), 1.0)
    for post in np.linspace(-2.9, 2.9, 4):
        rail.box((x + post - 0.05, 0.05, 8.99), (x + post + 0.05, 0.6, 9.09), 1.0)
    world.add(f"slip_rail_{name}", rail, iron)
