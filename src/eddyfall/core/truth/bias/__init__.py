"""A light's shadow bias: how many pixels shade themselves and how much true shadow is passed by, for every bias at once.

One gather of the gaps in the light's maps (`ground`, `contact`) makes both exact step functions of the constant and of the slope factor
(`steps`); a shift along the normal moves the look-up, so it is gathered again for each value, from the same maps. `solve` searches them.
"""

from eddyfall.core.truth.bias.ground import ground_of
from eddyfall.core.truth.bias.solve import solve_bias

__all__ = ["ground_of", "solve_bias"]
