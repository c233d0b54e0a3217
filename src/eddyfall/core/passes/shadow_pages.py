"""Pass 3.2: a sun's shadow map in pages. Only pages that the frame's surfaces read are drawn, each with texels near a pixel's own size.

Which pages are wanted follows from what eye rays over the full frame meet, so that a crop has the same pages as the
whole. If the pool does not hold them, all levels become coarser by two until it does, and the map says by how much.
"""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Camera, Pass, Stage, Values
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.sun_maps import along_sun, draw_map, sun_axes
from eddyfall.core.raster.page_grid import each_once, marks
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.shadow import Faces, Shadow
from eddyfall.core.shade.shadow_maps import PAGE, PAGED, ShadowMaps, of_planes

MARGIN_TEXELS = 8.0  # around a place: filter and bias may look as far
BLOCK = 16  # pages along the edge of what is drawn at once
COARSEST = 12  # halvings at most


@dataclass(frozen=True, kw_only=True)
class PagesSection:
    """What the pass is set by."""

    by_default: bool
    texel_px: float
    pool: int
    casts_both: np.ndarray
    faces: tuple[Faces, ...]


def section(stage: Stage) -> PagesSection:
    s, shadow = stage.state, stage.resolved[Shadow]
    return PagesSection(
        by_default=shadow.enabled and shadow.technique == "paged",
        texel_px=shadow.page_texel_px,
        pool=shadow.page_pool,
        casts_both=s.casts_both,
        faces=tuple(light.faces for light in stage.lights),
    )


def run(inputs: Values, section: PagesSection) -> dict[str, Any]:
    table, maps = inputs["lights"], inputs["shadow_maps"]
    paged = [int(i) for i in np.flatnonzero(table.technique == PAGED)]
    if not paged:
        return {"lights": table, "shadow_maps": maps, "shadow_pages": ()}
    places, away = inputs["page_marks"]
    pixel_m = _pixel_m(inputs["camera"], inputs["frame_size"]) * section.texel_px
    told, first, counts = [], np.array(table.first_map), np.array(table.maps)
    for number in paged:
        towards = table.towards[number]
        wanted = _wanted(places, away, pixel_m, towards, section.pool // len(paged))
        first[number], counts[number] = len(maps.info), len(wanted.levels)
        maps = _drawn(maps, wanted, towards, inputs, inputs["paged_casters"][number], section.casts_both, section.faces[number])
        told.append((number, wanted.pages, wanted.coarser))
    return {"lights": table._replace(first_map=first, maps=counts), "shadow_maps": maps, "shadow_pages": tuple(told)}


def _pixel_m(camera: Camera, size: tuple[int, int]) -> float:
    """Size of a pixel in the middle of the frame at 1 m from the eye."""
    return 2 * math.tan(camera.fov_y_rad / 2) / size[1]


@dataclass(frozen=True)
class Wanted:
    """Pages by level, finest first: texel in m and (k, 2) page numbers along right and up; how many in all; how often coarsened;
    pixel_m: texel wanted at 1 m with that."""

    levels: tuple[tuple[float, np.ndarray], ...]
    pages: int
    coarser: int
    pixel_m: float


def _wanted(places: np.ndarray, away: np.ndarray, pixel_m: float, towards: np.ndarray, pool: int) -> Wanted:
    axes = sun_axes(towards)
    across = np.ascontiguousarray(places @ axes[:2].T)
    if not len(places):
        across, away = np.zeros((1, 2)), np.ones(1)
    for coarser in range(COARSEST + 1):
        level = np.floor(np.log2(np.maximum(pixel_m * 2.0**coarser * away, 1e-12)) + 0.5).astype(int)
        found: dict[int, np.ndarray] = {}
        above = np.zeros((0, 2), np.int64)
        for number in range(int(level.min()), int(level.max()) + 1):
            above = each_once(marks(across, level, number, 2.0**number * PAGE, 2.0**number * MARGIN_TEXELS), above // 2)
            found[number] = above
        count = sum(len(v) for v in found.values())
        if count <= pool or coarser == COARSEST:
            break
    kept = tuple((2.0**number, found[number][:pool]) for number in sorted(found))
    return Wanted(kept, min(count, sum(len(v) for _, v in kept)), coarser, pixel_m * 2.0**coarser)


def _drawn(
    maps: ShadowMaps, wanted: Wanted, towards: np.ndarray, inputs: Values, casters: np.ndarray, casts_both: np.ndarray,
    faces: Faces,
) -> ShadowMaps:  # fmt: skip
    """The maps with the levels of a paged one after them."""
    geometry: Geometry = inputs["caster_geometry"]
    axes = sun_axes(towards)
    nearest, farthest = along_sun(towards, geometry.scene_bounds)
    towards_d = np.append(-axes[2], nearest) / (nearest - farthest)
    pool = np.ones((wanted.pages, PAGE, PAGE), np.float32)
    matrices, infos, pages, tables = [], [], [], []
    slot, table_at = 0, len(maps.table)
    scratch = np.empty((BLOCK * PAGE, BLOCK * PAGE), np.float32)
    for texel_m, numbers in wanted.levels:
        low, high = numbers.min(axis=0), numbers.max(axis=0) + 1
        across, down = (int(v) for v in high - low)
        # Rows run down from the highest page, as those of every picture here do.
        matrix = np.zeros((4, 4))
        matrix[0, :3], matrix[0, 3] = axes[0] / texel_m, -low[0] * PAGE
        matrix[1, :3], matrix[1, 3] = -axes[1] / texel_m, high[1] * PAGE
        matrix[2], matrix[3, 3] = towards_d, 1.0
        lookup = np.full((down, across), -1, np.int32)
        columns, rows = numbers[:, 0] - low[0], high[1] - 1 - numbers[:, 1]
        lookup[rows, columns] = np.arange(slot, slot + len(numbers))
        for block in np.unique(np.stack([columns, rows], axis=1) // BLOCK, axis=0):
            _draw_block(block, lookup, matrix, pool, scratch, inputs, casters, casts_both, faces)
        matrices.append(matrix)
        infos.append([PAGE, 0.0, np.inf, texel_m, len(maps.pool), 0.0])
        pages.append([across, down, table_at, 1])
        tables.append(lookup.ravel())
        slot, table_at = slot + len(numbers), table_at + lookup.size
    return maps._replace(
        matrix=np.concatenate([maps.matrix, np.stack(matrices)]),
        planes=np.concatenate([maps.planes, of_planes(np.stack(matrices))]),
        info=np.concatenate([maps.info, np.array(infos, np.float64)]),
        pool=np.concatenate([maps.pool, pool.ravel()]) if len(maps.pool) else pool.ravel(),
        pages=np.concatenate([maps.pages, np.array(pages, np.int32)]),
        table=np.concatenate([maps.table, *tables]),
        pixel_m=wanted.pixel_m,
    )


def _draw_block(
    block: np.ndarray, lookup: np.ndarray, matrix: np.ndarray, pool: np.ndarray, depth: np.ndarray, inputs: Values, casters: np.ndarray,
    casts_both: np.ndarray, faces: Faces,
) -> None:  # fmt: skip
    """Draw a square of pages at once and keep those of it that are wanted."""
    column, row = (int(v) * BLOCK for v in block)
    part = lookup[row : row + BLOCK, column : column + BLOCK]
    edge = BLOCK * PAGE
    clip = np.array(matrix)
    clip[0] = matrix[0] * (2 / edge)
    clip[0, 3] -= 2 * column * PAGE / edge + 1
    clip[1] = -matrix[1] * (2 / edge)
    clip[1, 3] += 2 * row * PAGE / edge + 1
    depth.fill(1.0)
    draw_map(clip, depth, inputs, casters, casts_both, faces)
    for j, i in np.argwhere(part >= 0):
        pool[part[j, i]] = depth[j * PAGE : (j + 1) * PAGE, i * PAGE : (i + 1) * PAGE]


def page_bytes(section: PagesSection) -> int:
    """Bytes of the pool, four a texel, where suns are drawn by it."""
    return 4 * PAGE * PAGE * section.pool if section.by_default else 0


PASS = register(
    Pass(
        number=3.2,
        name="shadow pages",
        does="a sun's shadow map in pages of texels near a pixel's size, as many as the frame reads",
        reads=(
            "caster_geometry",
            "camera",
            "frame_size",
            "alpha_uv",
            "shadow_cutouts",
            "lights",
            "shadow_maps",
            "paged_casters",
            "page_marks",
        ),
        writes=("lights", "shadow_maps", "shadow_pages"),
        by_content=("lights",),
        section=section,
        other_bytes=page_bytes,
        run=run,
    )
)
