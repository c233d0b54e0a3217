"""shadow.thin: a flagstaff across the yard, thinner than the texels that its shadow on a wall is drawn with.

Its twin is a signal mast before a wall of its own, several texels wide."""

from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World

RAKE_M = 0.5  # by which the tops lean: the shadow crosses columns of texels


def sow(world: World) -> None:
    stone = world.material("staff_wall_stone", pictures.ashlar(world.rng, (198, 192, 180), 6), roughness=0.9)
    white = world.material("staff_paint", base_rgba=(0.7, 0.7, 0.68, 1), roughness=0.5)
    for name, x, wide in (("flagstaff", 32.0, 0.06), ("signal_mast", 46.0, 0.7)):
        z = -36.0
        world.add(f"{name}_wall", Shape().box((x - 4.5, 0, z - 3.5), (x + 4.5, 6.5, z - 2.5), 2.4, "xXYzZ"), stone)
        low, lean = (x - 2.0, 0.0, z), (RAKE_M, 7.5, 0.0)
        staff = Shape()
        for corner, along in (
            ((0, 0, 0), (wide, 0, 0)), ((wide, 0, 0), (0, 0, -wide)), ((wide, 0, -wide), (-wide, 0, 0)), ((0, 0, -wide), (0, 0, wide)),
        ):  # fmt: skip
            staff.quad(tuple(a + b for a, b in zip(low, corner)), along, lean)
        staff.quad(tuple(a + b for a, b in zip(low, lean)), (wide, 0, 0), (0, 0, -wide))
        world.add(name, staff, white)
    world.truth.append({
        "code": "shadow.thin", "cause": "flagstaff", "subjects": ["flagstaff", "flagstaff_wall"], "seed": "flagstaff",
        "hidden_in_roles": {},
    })  # fmt: skip
    world.healthy.append({"subject": "signal_mast", "twin_of": "shadow.thin", "why": "several texels wide"})
