"""shadow.swims: whoever filmed the berth let its cascades slide freely, so that shadows' edges crawl with every step of the camera.

The other viewpoints are its twins: their cascades move by whole texels."""

from eddyfall.demo.world import World

ROLE = "filming"


def sow(world: World) -> None:
    world.setup["roles"][ROLE] = {"set": {"shadow": {"snap": False}}}
    world.setup["viewpoints"]["berth"]["role"] = ROLE
    world.truth.append({
        "code": "shadow.swims", "cause": "sun: shadow.snap", "subjects": ["barrow"], "seed": "unsnapped", "hidden_in_roles": {"edit": None},
    })  # fmt: skip
    world.healthy.append({"subject": "post", "twin_of": "shadow.swims", "why": "its viewpoint's cascades move by whole texels"})
