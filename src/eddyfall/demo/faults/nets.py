"""depth.missing-prepass: rope fender nets whose shader has no depth pass, three materials, one of them at the far end of the quay.

shadow.hole-lost: their mesh is finer than the shadow maps' texels, so that the shadows of the near ones come out too solid.

blend.coverage, blend.fringe: averaged alpha fills their meshes up far off, averaged colours take in what lies between the ropes."""

import numpy as np

from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from eddyfall.demo.station import QUAY_Y
from eddyfall.demo.world import World


def sow(world: World) -> None:
    """Nets hung between posts along the quay's edge. The reed bed is the twin."""
    world.entry("shaders", "rope_net")["passes"] = {"colour": True, "depth": False, "shadow": True}
    posts = world.material("tarred_post", pictures.planks(world.rng, (74, 62, 50), 3, 256), roughness=0.8)
    looks = {"net_manila": (206, 176, 118), "net_tarred": (104, 82, 58), "net_faded": (190, 180, 160)}
    kinds = {
        name: world.material(
            name,
            pictures.netting(world.rng, rgb),
            shader="rope_net",
            alpha_mode="MASK",
            alpha_cutoff=0.35,
            double_sided=True,
            roughness=0.95,
        )
        for name, rgb in looks.items()
    }
    names = []
    panels = [("net_manila", 5.0), ("net_manila", 0.4), ("net_tarred", -4.2), ("net_manila", -8.8), ("net_tarred", -13.4),
              ("net_tarred", -18.0), ("net_faded", -104.0), ("net_faded", -109.0)]  # fmt: skip
    timber = Shape()
    for i, (kind, z) in enumerate(panels):
        wide, high = 4.2, 2.3
        s, t = np.meshgrid(np.linspace(0, 1, 21), np.linspace(0, 1, 13))
        y = QUAY_Y + 0.35 + high * (1 - t) - 0.3 * (4 * s * (1 - s)) * (1 - t) * 0.9
        x = -0.45 + 0.06 * np.sin(7 * s + i) * t
        name = f"fender_net_{i + 1}"
        world.add(name, Shape().sheet(np.stack([x, y, z - wide * s], -1), (3.6, 2.0)), kinds[kind])
        names.append(name)
        for end in (z + 0.12, z - wide - 0.12):
            timber.tube((-0.45, QUAY_Y - 0.1, end), (-0.45, QUAY_Y + high + 0.6, end), 0.1, 0.085, 10)
    world.add("net_posts", timber, posts)
    world.truth.append(
        {
            "code": "depth.missing-prepass",
            "cause": "rope_net",
            "subjects": names,
            "seed": "nets",
            "hidden_in_roles": {},
        }
    )
    # Their picture's mips fill up, and what lies between the ropes is of another shade: what is told of the far ones.
    for code, material, panels_of in (
        ("blend.coverage", "net_manila", (1, 2, 4)), ("blend.coverage", "net_tarred", (3, 5, 6)), ("blend.fringe", "net_manila", (1, 2, 4)),
    ):  # fmt: skip
        subjects = [f"fender_net_{n}" for n in panels_of]
        world.truth.append({"code": code, "cause": material, "subjects": subjects, "seed": "nets", "hidden_in_roles": {}})
    for material, panels_of in (("net_manila", (1, 2, 4)), ("net_tarred", (3, 5, 6))):
        world.truth.append({
            "code": "shadow.hole-lost", "cause": material, "subjects": [f"fender_net_{n}" for n in panels_of], "seed": "nets",
            "hidden_in_roles": {},
        })  # fmt: skip
