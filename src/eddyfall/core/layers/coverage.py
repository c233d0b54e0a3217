"""How much of a cutout is drawn, by the mip level that its alpha is tested at, beside how much of it is there.

Averaged alpha fails the test more and more, or passes it, with each level (Castano, "Computing alpha mipmaps", 2010; from memory): leaves
thin out far off. What is there is the share of a pixel that passes at the finest level."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.triangles import on_screen
from eddyfall.core.raster.fragments import covering
from eddyfall.core.raster.rasterise import keeps_alpha

ACROSS = 4  # places asked in a pixel, across and down


@dataclass(frozen=True)
class Level:
    """Fragments tested nearest to a mip level: their number, how many pass, and how many ought to."""

    level: int
    pixels: int
    drawn: int
    due: float


@dataclass(frozen=True)
class Cover:
    """A cutout's coverage in a frame, over fragments that nothing solid hides: levels by number; where (h, w) share of each pixel that is
    there and is not drawn (below 0: drawn and not there)."""

    levels: tuple[Level, ...]
    where: np.ndarray

    @property
    def pixels(self) -> int:
        """Fragments."""
        return sum(v.pixels for v in self.levels)

    @property
    def drawn(self) -> int:
        """Fragments that pass."""
        return sum(v.drawn for v in self.levels)

    @property
    def due(self) -> float:
        """Fragments that ought to, their parts added up."""
        return sum(v.due for v in self.levels)


def cover_of(frame: Frame, drawables: list[int]) -> Cover:
    """The coverage of some drawables of one cutout material in a frame that was drawn up to its depth."""
    view, geometry, cutouts, textures = (
        View(frame.camera, frame.pixels),
        frame.geometry,
        frame.buffers["cutouts"],
        frame.buffers["textures"],
    )
    depth, alpha_uv, state = frame.depth_format, textures.alpha_uv, frame.stage.state
    screen = on_screen(geometry, np.array(drawables), state.double_sided, view, depth, alpha_uv)
    found, where = covering(screen, depth.code, view.pixels.shape, view.pixels.origin), np.zeros(view.pixels.shape)
    if not len(found.screen):
        return Cover((), where)
    open_to = found.key <= frame.buffers["depth"].ravel()[found.pixel]
    pixel, triangle = found.pixel[open_to], screen.ids[found.screen[open_to]]
    x, y = pixel % view.pixels.shape[1] + view.pixels.origin[0], pixel // view.pixels.shape[1] + view.pixels.origin[1]
    jx, jy = view.pixels.jitter
    met = _Met(view, geometry.positions, geometry.triangles, alpha_uv, triangle)
    at, right, down = met.uv(x + 0.5 + jx, y + 0.5 + jy), met.uv(x + 1.5 + jx, y + 0.5 + jy), met.uv(x + 0.5 + jx, y + 1.5 + jy)
    material = cutouts.material[geometry.owner[triangle]]
    level = np.zeros(len(at))
    pictured = cutouts.table[material, 5] == 1
    size = cutouts.levels[cutouts.table[material, 0], 1:3]
    long = np.maximum((((right - at) * size) ** 2).sum(axis=1), (((down - at) * size) ** 2).sum(axis=1))
    level[pictured] = 0.5 * np.log2(np.maximum(long[pictured], 1e-12)) + cutouts.bias[material[pictured]]
    drawn = np.isin(frame.drawable.ravel()[pixel], drawables) & (found.key[open_to] == frame.buffers["depth"].ravel()[pixel])
    due, finest = np.zeros(len(at)), np.zeros(len(at))
    for j in range(ACROSS):
        for i in range(ACROSS):
            # Within a pixel coordinates run evenly enough: what perspective bends them by is far below a texel of any use.
            within = at + ((i + 0.5) / ACROSS - 0.5) * (right - at) + ((j + 0.5) / ACROSS - 0.5) * (down - at)
            due += keeps_alpha(material, within, finest, cutouts)
    due /= ACROSS**2
    np.add.at(where.reshape(-1), pixel, due - drawn)
    most = cutouts.table[material, 1] - 1
    nearest = np.clip(np.rint(level), 0, most).astype(int)
    levels = [
        Level(int(k), int((nearest == k).sum()), int(drawn[nearest == k].sum()), float(due[nearest == k].sum()))
        for k in np.unique(nearest)
    ]
    return Cover(tuple(levels), where)


@dataclass(frozen=True)
class _Met:
    """Where eye rays meet the planes of triangles (n,), as texture coordinates."""

    view: View
    positions: np.ndarray
    triangles: np.ndarray
    alpha_uv: np.ndarray
    triangle: np.ndarray

    def uv(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        """(n, 2) at pixel positions x, y (n,): weights of the ray's meeting with the plane (Moeller and Trumbore 1997)."""
        rays, corners = self.view.rays, self.positions[self.triangles[self.triangle]].astype(np.float64)
        d = rays.d0 + x[:, None] * rays.du + y[:, None] * rays.dv
        from_eye = rays.eye - corners[:, 0]
        one, other = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
        p, q = np.cross(d, other), np.cross(from_eye, one)
        over = (p * one).sum(axis=1)
        over = np.where(np.abs(over) < 1e-300, 1e-300, over)
        b1, b2 = (p * from_eye).sum(axis=1) / over, (q * d).sum(axis=1) / over
        uv = self.alpha_uv[self.triangles[self.triangle]].astype(np.float64)
        return np.asarray(uv[:, 0] * (1 - b1 - b2)[:, None] + uv[:, 1] * b1[:, None] + uv[:, 2] * b2[:, None])
