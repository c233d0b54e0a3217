"""The alpha that a blended material really shows: of the texels that its triangles cover, and what kind of blending that asks for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.ndimage import label

from eddyfall.core.layers.kernels import mark
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.maps import overridden_maps, with_maps
from eddyfall.core.scene.model import Material, TextureUse
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.shade.textures import WRAPS

Kind = Literal["opaque", "cutout", "blended", "unsure"]
OPEN, HOLE, COHERENT = 0.05, 0.5, 16  # mean open share of what is opaque; what is a hole, of at least so many texels together
CLEAR, CLEAR_SHARE, EDGE_TEXELS = 0.05, 0.9, 1.5  # of a cutout: near 0 or 1, on such a share of its texels, edges so wide
FOLLOWS, VARIES, GONE = (
    0.98,
    0.02,
    0.01,
)  # wired: alpha goes with brightness so closely, varies so much, is near 0 on no larger share
SOLID = 0.01  # share of a cutout's texels that are all there, at the least
NEAR = 0.15  # of a limit, within which nothing is advised
EACH_TEXEL, MOST_SAMPLES = 4, 1_500_000  # samples that find out what is covered
SEED = 7


@dataclass(frozen=True)
class Census:
    """A material's alpha: covered texels (1 without a picture), mean open share (1 - alpha), share of them that is clear (near 0 or 1),
    solid: share that is all there; edge_texels: how wide the rest is along the border of holes (0: none), hole: texels of the largest
    coherent hole, holes: how many there are of 16 texels or more; most: the largest open share of any texel; area_m2: of what shows it;
    follows: how closely alpha goes with the brightness of the colour (Pearson's r), varies: alpha's standard deviation, gone: share of
    texels that are not there at all."""

    material: str
    texels: int
    open: float
    clear: float
    solid: float
    edge_texels: float
    hole: int
    most: float = 0.0
    holes: int = 0
    area_m2: float = 0.0
    follows: float = 0.0
    varies: float = 0.0
    gone: float = 0.0

    @property
    def wired(self) -> bool:
        """Whether its colour was wired to its opacity: alpha is nothing but how bright the colour is, and there is no hole."""
        return self.follows >= FOLLOWS and self.varies > VARIES and self.gone < GONE

    @property
    def advice(self) -> Kind:
        """What its alpha asks for; unsure near a limit."""
        if self.wired:
            return "opaque"
        solid = self.open < OPEN and self.hole < COHERENT
        near_solid = abs(self.open - OPEN) < NEAR * OPEN or (self.open < OPEN and COHERENT / 2 < self.hole < 2 * COHERENT)
        if near_solid:
            return "unsure"
        if solid:
            return "opaque"
        edges = self.edge_texels <= EDGE_TEXELS
        if self.solid < SOLID:
            return "blended"  # there is hardly anything that a cutout would leave
        if self.hole >= COHERENT and self.clear >= CLEAR_SHARE and edges:
            slim = self.clear - CLEAR_SHARE < NEAR * (1 - CLEAR_SHARE) or self.edge_texels > (1 - NEAR) * EDGE_TEXELS
            return "unsure" if slim else "cutout"
        near_cut = self.clear > CLEAR_SHARE - NEAR * CLEAR_SHARE and self.edge_texels < (1 + NEAR) * EDGE_TEXELS
        return "unsure" if near_cut and self.hole >= COHERENT and self.open > OPEN else "blended"


def census(build: Build, geometry: Geometry, material: int) -> Census:
    """The alpha of a material, over all that it is on."""
    name = build.scene.material_keys[material]
    m: Material = with_maps(build.scene.materials, overridden_maps(build))[material]
    factor = float(m.base_rgba[3])
    use = m.base_texture
    area = area_m2(geometry, material)
    if use is None or build.scene.images[use.image].pixels.shape[2] < 4:
        return counted(name, np.full((1, 1), factor), np.ones((1, 1), bool), area=area)
    pixels = build.scene.images[use.image].pixels
    alpha = np.asarray(pixels[..., 3], float) / 255 * factor
    bright = pixels[..., :3].astype(float) @ REC709_LUMA
    return counted(name, alpha, covered(geometry, material, alpha.shape, use), bright, area)


def area_m2(geometry: Geometry, material: int) -> float:
    """Area in m^2 of the faces that have a material."""
    mine = np.isin(geometry.owner, [i for i, d in enumerate(geometry.things) if d.material == material])
    a, b, c = geometry.positions[geometry.triangles[mine]].astype(np.float64).transpose(1, 0, 2)
    return float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2)


def counted(name: str, alpha: np.ndarray, mask: np.ndarray, bright: np.ndarray | None = None, area: float = 0.0) -> Census:
    """The census of an alpha picture (h, w) over the texels of a mask (h, w) bool; bright (h, w): how bright its colours are."""
    a = alpha[mask]
    if not len(a):
        return Census(name, 0, 0.0, 1.0, 1.0, 0.0, 0)
    holes = mask & (alpha < HOLE)
    parts, count = label(holes)
    sizes = np.bincount(parts[holes]) if count else np.zeros(1, int)
    hole = int(sizes.max())
    between = mask & (alpha > CLEAR) & (alpha < 1 - CLEAR)
    border = sum(
        int((np.roll(holes, 1, axis) ^ holes)[np.roll(mask, 1, axis) & mask].sum()) for axis in (0, 1)
    )  # texel sides between a hole and what is none
    edge = float(between.sum()) / border if border else (np.inf if between.any() else 0.0)
    clear = float(((a < CLEAR) | (a > 1 - CLEAR)).mean())
    solid = float((a > 1 - CLEAR).mean())
    varies, follows = float(a.std()), 0.0
    if bright is not None and varies > 0 and bright[mask].std() > 0:
        follows = float(np.corrcoef(a, bright[mask])[0, 1])
    return Census(
        name, int(mask.sum()), float((1 - a).mean()), clear, solid, edge, hole, float((1 - a).max()), int((sizes >= COHERENT).sum()), area,
        follows, varies, float((a < CLEAR).mean()),
    )  # fmt: skip


def covered(geometry: Geometry, material: int, shape: tuple[int, int], use: TextureUse) -> np.ndarray:
    """(h, w) bool: texels of a picture that triangles of a material cover, found by some points in each texel's worth of them."""
    height, width = shape
    mask = np.zeros(shape, bool)
    owners = [i for i, d in enumerate(geometry.things) if d.material == material]
    chosen = np.flatnonzero(np.isin(geometry.owner, owners))
    uv = use.turned((geometry.uv1 if use.uv_set == 1 else geometry.uv0)[geometry.triangles[chosen]].astype(np.float64)) * (
        width,
        height,
    )
    one, other = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    area = np.abs(one[:, 0] * other[:, 1] - one[:, 1] * other[:, 0]) / 2
    # What is tiled many times over is seen as a whole long before each of its tiles has been asked for.
    scale = min(1.0, MOST_SAMPLES / max(float(area.sum()) * EACH_TEXEL, 1.0))
    counts = np.ceil(area * EACH_TEXEL * scale).astype(np.int64) + 4
    u, v = np.random.default_rng(SEED).random((2, int(counts.sum())))
    mark(mask, uv[:, 0], one, other, counts, u, v, WRAPS[use.wrap_u], WRAPS[use.wrap_v])
    return mask
