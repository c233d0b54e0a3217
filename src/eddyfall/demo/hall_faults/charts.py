"""uv.off-grid, uv.split, uv.gutter, uv.degenerate, uv.missing, uv.density, texture.mip-bleed: charts that are not fit to be baked."""

import math

import numpy as np

from eddyfall.core.scene.model import Mesh
from eddyfall.demo.hall_world import HallWorld
from eddyfall.demo.layout import laid_out, whole_page
from eddyfall.demo.shapes import Shape


def sow(world: HallWorld) -> None:
    """One defect of each kind along the walls, each beside a twin."""
    tile = world.material("tile", base_rgba=(0.55, 0.57, 0.5, 1), roughness=0.6)
    wood = world.material("board_wood", base_rgba=(0.4, 0.28, 0.16, 1), roughness=0.7)
    _skew(world, tile)
    _split(world, tile)
    _boxes(world, wood)
    _boards(world, wood)


def _skew(world: HallWorld, tile: int) -> None:
    a = math.radians(7)
    turn = np.array([[math.cos(a), math.sin(a)], [-math.sin(a), math.cos(a)]])
    for name, x in (("screen_wall", 10.6), ("plain_wall", 13.4)):
        shape = Shape().quad((x, 0.15, 0.6), (2.4, 0, 0), (0, 2.4, 0))
        shape.quad((x + 2.4, 0.15, 0.55), (-2.4, 0, 0), (0, 2.4, 0))
        uv = laid_out(shape, 128, 24.0, 12.0)
        if name == "screen_wall":
            for piece in (slice(0, 4), slice(4, 8)):
                middle = uv[piece].mean(axis=0)
                uv[piece] = (uv[piece] - middle) @ turn.T + middle
        world.mapped(name, shape, tile, uv, lightmap_size=128)
    world.truth.append({"code": "uv.off-grid", "cause": "screen_wall", "subjects": ["screen_wall"], "seed": "charts"})
    world.healthy.append({"subject": "plain_wall", "twin_of": "uv.off-grid", "why": "its charts lie on the grid"})


def _split(world: HallWorld, tile: int) -> None:
    for name, x in (("split_panel", 2.0), ("whole_panel", 5.6)):
        shape = Shape().quad((x, 3.6, 0.02), (1.4, 0, 0), (0, 1.6, 0)).quad((x + 1.4, 3.6, 0.02), (1.4, 0, 0), (0, 1.6, 0))
        uv = laid_out(shape, 64, 6.0, 3.0) if name == "split_panel" else whole_page(_one(shape, x))
        world.mapped(name, shape, tile, uv, lightmap_size=64 if name == "split_panel" else 32)
    world.truth.append({"code": "uv.split", "cause": "split_panel", "subjects": ["split_panel"], "seed": "charts"})
    world.healthy.append({"subject": "whole_panel", "twin_of": "uv.split", "why": "its two halves share one chart"})


def _one(shape: Shape, x: float) -> Shape:
    """The shape with UVs by place, so that its pieces lie side by side."""
    joined = Shape()
    for positions, normals, indices in zip(shape.positions, shape.normals, shape.indices):
        joined.positions.append(positions)
        joined.normals.append(normals)
        joined.uvs.append(np.stack([positions[:, 0] - x, -positions[:, 1]], axis=1))
        joined.indices.append(indices)
    return joined


def _boxes(world: HallWorld, wood: int) -> None:
    def box(x: float) -> Shape:
        return Shape().box((x, 1.2, 11.6), (x + 0.6, 2.0, 11.98), 1.0, "xXyYz")

    tight, roomy = box(10.0), box(11.2)
    world.mapped("switch_box", tight, wood, laid_out(tight, 64, 0.6, 2.0), lightmap_size=64)
    world.thing("meter_box", roomy, wood, 64, 5.0)
    world.truth.append({"code": "uv.gutter", "cause": "switch_box", "subjects": ["switch_box"], "seed": "charts"})
    world.healthy.append({"subject": "meter_box", "twin_of": "uv.gutter", "why": "five texels between its charts"})
    folded = box(12.4)
    uv = laid_out(folded, 64, 5.0, 2.0)
    uv[4:8] = uv[4]
    world.mapped("valve_box", folded, wood, uv, lightmap_size=64)
    world.truth.append({"code": "uv.degenerate", "cause": "valve_box", "subjects": ["valve_box"], "seed": "charts"})
    world.healthy.append({"subject": "meter_box", "twin_of": "uv.degenerate", "why": "every face has texels"})
    bare = box(13.6).primitive(wood)
    world.meshes.append(Mesh("fuse_box", (bare,)))
    world.place("fuse_box", len(world.meshes) - 1, (0, 0, 0), lightmap_size=64)
    world.entry("meshes", "fuse_box")["lightmap_uv"] = 1
    world.truth.append({"code": "uv.missing", "cause": "fuse_box", "subjects": ["fuse_box"], "seed": "charts"})
    world.healthy.append({"subject": "meter_box", "twin_of": "uv.missing", "why": "it has lightmap UVs"})


def _boards(world: HallWorld, wood: int) -> None:
    screed = world.material("screed_east", base_rgba=(0.36, 0.35, 0.33, 1), roughness=0.8)
    world.panel("floor_east", (10, 0, 12), (10, 0, 0), (0, 0, -12), screed, lightmap_size=8)
    world.truth.append({"code": "uv.density", "cause": "floor_east", "subjects": ["floor_east"], "seed": "charts"})
    world.healthy.append({"subject": "floor_west", "twin_of": "uv.density", "why": "ten texels a metre"})
    for name, x, gap in (("gauge_board", 16.2, 4.0), ("tally_board", 18.0, 48.0)):
        shape = Shape()
        for i in range(2):
            shape.quad((x + 0.24 * i, 1.4, 0.03 + 0.01 * i), (0.2, 0, 0), (0, 0.22, 0))
        size = 128
        world.mapped(name, shape, wood, laid_out(shape, size, gap, 2.0, 160.0), lightmap_size=size)
    world.truth.append({"code": "texture.mip-bleed", "cause": "gauge_board", "subjects": ["gauge_board"], "seed": "charts"})
    world.healthy.append(
        {"subject": "tally_board", "twin_of": "texture.mip-bleed", "why": "its gutter is safe to the level that is seen"}
    )
