"""depth.coincident: a timber deck laid in the very plane of a concrete slab; the gangway lies 40 mm above it and is healthy."""

import numpy as np

from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from eddyfall.demo.station import QUAY_Y
from eddyfall.demo.world import World

TOP_Y = QUAY_Y + 0.12


def sow(world: World) -> None:
    """Slab, deck on one plane with it, and a gangway that is properly above."""
    rng = world.rng
    concrete = world.material("concrete", pictures.tinted(rng, 512, (172, 170, 164), 8, 0.14), roughness=0.9)
    timber = world.material("deck_timber", pictures.planks(rng, (112, 78, 50), 8), roughness=0.75)
    slab = Shape().box((-10.5, QUAY_Y - 0.2, -4.0), (-2.6, TOP_Y, 9.0), 4.0, "xXzZ")
    slab.sheet(_grid(-10.5, -2.6, 9.0, -4.0, TOP_Y, 5, 7), (2.0, 3.2))
    world.add("landing_slab", slab, concrete)
    deck = Shape().box((-8.6, QUAY_Y - 0.1, -1.0), (-4.6, TOP_Y, 6.5), 1.6, "xXzZ")
    deck.sheet(_grid(-8.6, -4.6, 6.5, -1.0, TOP_Y, 4, 4), (2.5, 4.7))
    world.add("landing_deck", deck, timber)
    world.add("gangway", Shape().box((-4.2, QUAY_Y, -3.4), (-3.0, TOP_Y + 0.04, 8.4), 1.6, "xXYzZ"), timber)
    world.truth.append(
        {
            "code": "depth.coincident",
            "cause": "landing_deck + landing_slab",
            "subjects": ["landing_deck", "landing_slab"],
            "seed": "decks",
            "hidden_in_roles": {},
        }
    )
    world.healthy.append({"subject": "gangway", "twin_of": "depth.coincident", "why": "40 mm above the slab"})


def _grid(x0: float, x1: float, z0: float, z1: float, y: float, rows: int, columns: int) -> np.ndarray:
    x, z = np.meshgrid(np.linspace(x0, x1, columns), np.linspace(z0, z1, rows))
    return np.stack([x, np.full_like(x, y), z], -1)
