"""Colours that vertices carry, which multiply a material's own (glTF 2.0, COLOR_0)."""

from eddyfall.core.kernel import light_helper


@light_helper
def vertex_colour(colours, c0, c1, c2, b0, b1, b2):
    """(r, g, b, a), linear, of colours (v, 4) between three corners; white where a build has none, (0, 4)."""
    if colours.shape[0] == 0:
        return 1.0, 1.0, 1.0, 1.0
    return (
        b0 * colours[c0, 0] + b1 * colours[c1, 0] + b2 * colours[c2, 0],
        b0 * colours[c0, 1] + b1 * colours[c1, 1] + b2 * colours[c2, 1],
        b0 * colours[c0, 2] + b1 * colours[c1, 2] + b2 * colours[c2, 2],
        b0 * colours[c0, 3] + b1 * colours[c1, 3] + b2 * colours[c2, 3],
    )
