"""face.seen-from-behind: a settling tank without inner faces. face.winding: a hopper with one face turned in."""

from eddyfall.demo.hall_world import HallWorld
from eddyfall.demo.shapes import Shape


def sow(world: HallWorld) -> None:
    """A tank seen into over its rim, a hopper against the wall, and their twins."""
    steel = world.material("tank_steel", base_rgba=(0.36, 0.4, 0.4, 1), roughness=0.5)
    both = world.material("trough_steel", base_rgba=(0.36, 0.4, 0.4, 1), roughness=0.5, double_sided=True)
    world.thing("settling_tank", Shape().box((13.0, 0.02, 4.0), (16.0, 1.0, 6.0), 1.0, "xXyzZ"), steel, 96, 8.0)
    world.thing("trough", Shape().box((16.8, 0.02, 4.0), (18.4, 0.8, 6.0), 1.0, "xXyzZ"), both, 96, 5.0)
    world.truth.append(
        {"code": "face.seen-from-behind", "cause": "settling_tank", "subjects": ["settling_tank"], "seed": "sides"}
    )
    world.healthy.append({"subject": "trough", "twin_of": "face.seen-from-behind", "why": "both its sides are drawn"})
    for name, x in (("hopper", 14.6), ("bin", 16.4)):
        shape = Shape().box((x, 0.02, 10.6), (x + 0.9, 0.9, 11.5), 1.0)
        if name == "hopper":
            shape.indices[5] = shape.indices[5][:, [0, 2, 1]]
            shape.normals[5] = -shape.normals[5]
        world.thing(name, shape, both if name == "hopper" else steel, 64, 5.0)
    world.truth.append({"code": "face.winding", "cause": "hopper", "subjects": ["hopper"], "seed": "sides"})
    world.healthy.append({"subject": "bin", "twin_of": "face.winding", "why": "all its faces point out"})
