"""shadow.missing-pass: a tarpaulin whose shader has no shadow pass. shadow.one-sided: an awning lit from behind.

Their twins are a tarpaulin with the stock shader and an awning whose material casts from both sides."""

from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World


def sow(world: World) -> None:
    canvas = world.material("canvas", pictures.tinted(world.rng, 128, (92, 104, 88), 10, 0.2), roughness=0.9)
    world.entry("shaders", "oilcloth")["passes"] = {"colour": True, "depth": True, "shadow": False}
    oiled = world.material("oiled_canvas", base_rgba=(0.13, 0.18, 0.12, 1), roughness=0.7, shader="oilcloth")
    for name, x, material in (("tarpaulin", -0.6, oiled), ("canvas_cover", 2.4, canvas)):
        cover = Shape().box((x - 0.8, 0.0, -3.6), (x + 0.8, 1.0, -2.4), 1.0, "xXYzZ")
        world.add(name, cover, material)
    world.truth.append({
        "code": "shadow.missing-pass", "cause": "oilcloth", "subjects": ["tarpaulin"], "seed": "faces", "hidden_in_roles": {},
    })  # fmt: skip
    world.healthy.append({"subject": "canvas_cover", "twin_of": "shadow.missing-pass", "why": "its shader has a shadow pass"})
    # Awnings are single sheets that face down, to who stands below; the sun meets their backs.
    single = world.material("awning_cloth", base_rgba=(0.5, 0.2, 0.1, 1), roughness=0.9)
    both = world.material("blind_cloth", base_rgba=(0.42, 0.36, 0.2, 1), roughness=0.9)
    world.entry("materials", "blind_cloth")["casts_both_sides"] = True
    post = world.material("awning_posts", base_rgba=(0.2, 0.19, 0.17, 1), roughness=0.8)
    for name, x, material in (("awning", -6.6, single), ("blind", 0.4, both)):
        world.add(name, Shape().quad((x, 3.25, -9.2), (3.2, 0, 0), (0, 0.25, 2.2)), material)
        posts = Shape()
        for px, pz in ((x + 0.05, -9.15), (x + 3.1, -9.15), (x + 0.05, -7.1), (x + 3.1, -7.1)):
            posts.box((px, 0, pz), (px + 0.06, 3.2, pz + 0.06), 1.0, "xXYzZ")
        world.add(f"{name}_posts", posts, post)
    world.truth.append({
        "code": "shadow.one-sided", "cause": "awning_cloth", "subjects": ["awning"], "seed": "faces", "hidden_in_roles": {},
    })  # fmt: skip
    world.healthy.append({"subject": "blind", "twin_of": "shadow.one-sided", "why": "its material casts from both sides"})
