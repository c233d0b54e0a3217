"""shadow.hole-lost: a hatch grille with a mesh finer than the shadow maps' texels, whose shadow comes out solid.

blend.coverage: it comes out solid itself from the tow path, as its mips are.

Its twin is a hatch of wide slats, with holes that the same maps keep."""

from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World

PERIODS = 4  # of the picture


def sow(world: World) -> None:
    iron = (96, 90, 84)
    fine = world.material(
        "grille_mesh", pictures.grating(iron, PERIODS), alpha_mode="MASK", alpha_cutoff=0.35, double_sided=True, roughness=0.6
    )  # fmt: skip
    wide = world.material(
        "slat_mesh", pictures.grating(iron, PERIODS), alpha_mode="MASK", alpha_cutoff=0.5, double_sided=True, roughness=0.6
    )  # fmt: skip
    frame = world.material("hatch_frame", base_rgba=(0.16, 0.15, 0.14, 1), roughness=0.6)
    for name, x, z, material, period_m in (("hatch_grille", 2.5, 1.1, fine, 0.05), ("hatch_slats", 4.9, 0.5, wide, 0.4)):
        world.add(name, Shape().quad((x, 0.9, z), (1.6, 0, 0), (0, 0, -1.6), PERIODS * period_m), material)
        legs = Shape()
        for px, pz in ((x - 0.06, z), (x + 1.6, z), (x - 0.06, z - 1.66), (x + 1.6, z - 1.66)):
            legs.box((px, 0, pz), (px + 0.06, 0.9, pz + 0.06), 1.0, "xXYzZ")
        world.add(f"{name}_legs", legs, frame)
    for code in ("shadow.hole-lost", "blend.coverage"):
        world.truth.append(
            {"code": code, "cause": "grille_mesh", "subjects": ["hatch_grille"], "seed": "grille", "hidden_in_roles": {}}
        )
    world.healthy.append({"subject": "hatch_slats", "twin_of": "shadow.hole-lost", "why": "its holes are wider than the texels"})
