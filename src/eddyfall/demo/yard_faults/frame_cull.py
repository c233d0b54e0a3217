"""shadow.culled: a stack behind the camera, which cascades of the frame leave out. shadow.unasked: a crane that no camera draws any more.

Their twins are a water crane in view, and a gantry that neither is drawn nor casts."""

from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from eddyfall.demo.world import World


def sow(world: World) -> None:
    brick = world.material("stack_brick", pictures.brick(world.rng), roughness=0.92)
    steel = world.material("crane_steel", base_rgba=(0.07, 0.075, 0.08, 1), roughness=0.5, metallic=0.5)
    world.add("stack", Shape().tube((-16.5, 0, 20.0), (-16.5, 30, 20.0), 1.3, 0.9, 24, 0.9), brick)
    world.truth.append({
        "code": "shadow.culled", "cause": "stack", "subjects": ["stack"], "seed": "frame_cull",
        "hidden_in_roles": {"edit": "shadow.casters_from"},
    })  # fmt: skip
    crane = Shape().box((6.6, 0, -8.6), (7.0, 4.1, -8.2), 1.0, "xXzZ").box((6.6, 4.1, -8.6), (7.0, 4.4, -5.4), 1.0)
    world.add("water_crane", crane, steel)
    world.healthy.append({"subject": "water_crane", "twin_of": "shadow.culled", "why": "in view"})
    # Taken out of the picture by a shader without a colour pass, and forgotten in the shadow pass.
    world.entry("shaders", "taken_out")["passes"] = {"colour": False, "depth": False, "shadow": True}
    ghost = world.material("old_crane_paint", base_rgba=(0.3, 0.3, 0.1, 1), roughness=0.6, shader="taken_out")
    old = Shape().box((3.0, 0, -4.4), (3.4, 4.2, -4.0), 1.0, "xXzZ").box((3.0, 4.2, -4.4), (6.4, 4.5, -4.0), 1.0)
    world.add("old_crane", old, ghost)
    gantry = Shape().box((9.6, 0, -9.4), (10.0, 5.0, -9.0), 1.0)
    world.add("old_gantry", gantry, ghost, casts=False)
    world.truth.append({
        "code": "shadow.unasked", "cause": "old_crane", "subjects": ["old_crane"], "seed": "frame_cull", "hidden_in_roles": {},
    })  # fmt: skip
    world.healthy.append({"subject": "old_gantry", "twin_of": "shadow.unasked", "why": "it does not cast either"})
