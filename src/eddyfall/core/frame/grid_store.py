"""From captured light grids to what passes read."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.errors import SetupError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import Image
from eddyfall.core.scene.receivers import NO_SET
from eddyfall.core.scene.setup.tables import Grid
from eddyfall.core.shade.grids import DEPTH_SIDE, NO_GRIDS, NUMBERS, Grids, bands_of

WIDTH = (
    NUMBERS + DEPTH_SIDE**2
)  # texels of a row: nine numbers r g b, then distances: their mean, the root of their squares' mean


@dataclass(frozen=True)
class GridStore:
    """Grids that are on and captured, by name in the order of their numbers, and what kernels read of them."""

    names: tuple[str, ...]
    grids: Grids


def codes_of_grid(numbers: np.ndarray, depths: np.ndarray) -> np.ndarray:
    """(points, WIDTH, 4) uint16 codes of numbers (points, 9, 3) and distances (points, side * side, 2) as `Grids` has them."""
    row = np.zeros((len(numbers), WIDTH, 4))
    row[:, :NUMBERS, :3] = numbers
    row[:, NUMBERS:, 0], row[:, NUMBERS:, 1] = depths[..., 0], np.sqrt(depths[..., 1])
    return np.asarray(np.clip(row, -65504, 65504), np.float16).view(np.uint16)


def captured_grid(build: Build, name: str, light_set: str | None) -> tuple[np.ndarray, np.ndarray] | None:
    """(numbers (points, 9, 3), distances (points, side * side, 2)) of a grid for a light set; None if nothing was captured for it as it is.
    SetupError if its picture is torn."""
    record = build.setup.grid_maps.get(name, {}).get(light_set or NO_SET)
    if record is None or record.image not in build.scene.image_keys or name not in build.setup.grids:
        return None
    image = build.scene.images[build.scene.image_keys.index(record.image)]
    values = _values(image, record.image, name)
    if len(values) != int(np.prod(build.setup.grids[name].counts)):
        return None  # its points were changed since
    depths = np.stack([values[:, NUMBERS:, 0], values[:, NUMBERS:, 1].astype(np.float64) ** 2], axis=2)
    return values[:, :NUMBERS, :3], depths


def _values(image: Image, key: str, name: str) -> np.ndarray:
    where = f"grid_maps.{name}"
    if image.wide is None or image.wide.shape[1:] != (WIDTH, 4):
        raise SetupError(f"picture {key!r} is no grid's: its rows are not {WIDTH} texels of four channels of 16 bits", where)
    values = np.ascontiguousarray(image.wide).view(np.float16).astype(np.float32)
    if not np.isfinite(values).all():
        point = int(np.nonzero(~np.isfinite(values).all(axis=(1, 2)))[0][0])
        raise SetupError(f"picture {key!r} is torn: point {point} holds no light", where)
    return values


def grid_store(build: Build, light_set: str | None) -> GridStore:
    """All grids of a build that are on and captured in a light set."""
    there: list[tuple[str, Grid, tuple[np.ndarray, np.ndarray]]] = []
    for name, grid in build.setup.grids.items():
        found = captured_grid(build, name, light_set) if grid.on else None
        if found is not None:
            there.append((name, grid, found))
    if not there:
        return GridStore((), NO_GRIDS)
    sizes = [len(numbers) for _, _, (numbers, _) in there]

    def column(name: str, kind: Any) -> np.ndarray:
        return freeze(np.array([getattr(grid, name) for _, grid, _ in there], kind))

    grids = Grids(
        numbers=freeze(np.concatenate([numbers for _, _, (numbers, _) in there]).astype(np.float32)),
        depths=freeze(np.concatenate([depths for _, _, (_, depths) in there]).astype(np.float32)),
        first=freeze(np.cumsum([0, *sizes[:-1]]).astype(np.int64)), counts=column("counts", np.int64), low=column("low_m", np.float64),
        high=column("high_m", np.float64), sees=column("sees", np.uint8),
        bands=freeze(np.stack([bands_of(g.smoothed) for _, g, _ in there])),
    )  # fmt: skip
    return GridStore(tuple(name for name, _, _ in there), grids)
