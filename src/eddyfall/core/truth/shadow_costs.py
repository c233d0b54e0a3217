"""What a frame's shadows cost, counted: bytes, texels, maps, draws, triangles, rays. Exact, from what the passes draw."""

from dataclasses import dataclass, fields

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.passes.sun_maps import touches
from eddyfall.core.rays.queries import TREE_BYTES
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.shade.shadow_maps import EDGE, PAGE, PAGED, TRACED


@dataclass(frozen=True)
class ShadowCost:
    """bytes of maps, of a paged map's pool, of rays' tree and mask; texels held; maps (pages count as the squares they are drawn in);
    draws: drawables drawn into each; triangles: of those; rays: one a pixel and traced light."""

    bytes: int = 0
    texels: int = 0
    maps: int = 0
    draws: int = 0
    triangles: int = 0
    rays: int = 0

    def less(self, other: "ShadowCost") -> "ShadowCost":
        """What this costs more than another."""
        return ShadowCost(*(getattr(self, f.name) - getattr(other, f.name) for f in fields(self)))


def shadow_cost(frame: Frame) -> ShadowCost:
    """The cost of all lights' shadows of a frame drawn up to its shadows."""
    each = [cost_of_light(frame, i) for i in range(len(frame.stage.lights))]
    return ShadowCost(*(sum(getattr(c, f.name) for c in each) for f in fields(ShadowCost)))


def cost_of_light(frame: Frame, i: int) -> ShadowCost:
    """The cost of one light's shadows; of a pool of pages, its share."""
    table, maps, geometry = frame.buffers["lights"], frame.buffers["shadow_maps"], frame.geometry
    shadow, total = frame.stage.resolved[Shadow], np.zeros(6, np.int64)
    counts = np.array([d.last - d.first for d in geometry.drawables])
    casters = frame.buffers["shadow_casters"][i]
    if table.technique[i] == TRACED:
        triangles, pixels = int(counts[casters].sum()), int(np.prod(frame.pixels.size))
        return ShadowCost(TREE_BYTES * triangles + pixels, rays=pixels)
    first, count = int(table.first_map[i]), int(table.maps[i])
    if table.technique[i] == PAGED:
        held = shadow.page_pool // int((table.technique == PAGED).sum()) * PAGE * PAGE
        total += [4 * held, held, 0, 0, 0, 0]
    for k in range(first, first + count):
        edge = int(maps.info[k, EDGE])
        drawn = casters & touches(maps.matrix[k] if table.technique[i] != PAGED else _as_clip(maps, k), geometry.bounds)
        size = 2 if shadow.map_format == "unorm16" and table.kind[i] == DIRECTIONAL else 4
        own = 0 if table.technique[i] == PAGED else edge * edge
        total += [size * own, own, 1, int(drawn.sum()), int(counts[drawn].sum()), 0]
    return ShadowCost(*(int(v) for v in total))


def _as_clip(maps: object, k: int) -> np.ndarray:
    """A paged level's matrix to the clip space of all its pages."""
    matrix = np.array(maps.matrix[k])  # type: ignore[attr-defined]
    wide, high = (int(v) * PAGE for v in maps.pages[k, :2])  # type: ignore[attr-defined]
    matrix[0] *= 2 / wide
    matrix[0, 3] -= 1
    matrix[1] *= 2 / high
    matrix[1, 3] -= 1
    return np.asarray(matrix)
