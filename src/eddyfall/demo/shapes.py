"""Small parts that scenes are built of: boxes, tubes, sheets, chains. Metres; UVs in tiles of a given edge length."""

import math
from dataclasses import dataclass, field

import numpy as np

from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Primitive


@dataclass
class Shape:
    """Growing arrays of one material part."""

    positions: list[np.ndarray] = field(default_factory=list)
    normals: list[np.ndarray] = field(default_factory=list)
    uvs: list[np.ndarray] = field(default_factory=list)
    indices: list[np.ndarray] = field(default_factory=list)
    count: int = 0

    def add(self, positions: np.ndarray, normals: np.ndarray, uvs: np.ndarray, indices: np.ndarray) -> "Shape":
        """Append vertices (n, 3), normals (n, 3), uvs (n, 2) and triangles (t, 3)."""
        self.positions.append(np.asarray(positions, np.float64))
        self.normals.append(np.asarray(normals, np.float64))
        self.uvs.append(np.asarray(uvs, np.float64))
        self.indices.append(np.asarray(indices, np.int64) + self.count)
        self.count += len(positions)
        return self

    def quad(self, corner: tuple[float, ...], along: tuple[float, ...], up: tuple[float, ...], tile_m: float = 1.0) -> "Shape":
        """A rectangle from `corner` along two edge vectors; its front is along x up."""
        c, a, u = (np.array(v, float) for v in (corner, along, up))
        normal = np.cross(a, u)
        normal /= np.linalg.norm(normal)
        la, lu = np.linalg.norm(a) / tile_m, np.linalg.norm(u) / tile_m
        return self.add(
            np.array([c, c + a, c + a + u, c + u]), np.tile(normal, (4, 1)), np.array([[0, lu], [la, lu], [la, 0], [0, 0]]),
            np.array([[0, 1, 2], [0, 2, 3]]),
        )  # fmt: skip

    def box(
        self, low: tuple[float, float, float], high: tuple[float, float, float], tile_m: float = 1.0, faces: str = "xXyYzZ"
    ) -> "Shape":
        """An axis-aligned box; `faces` names those that are made (lower case: low side)."""
        (x0, y0, z0), (x1, y1, z1) = low, high
        dx, dy, dz = x1 - x0, y1 - y0, z1 - z0
        sides = {
            "x": ((x0, y0, z0), (0, 0, dz), (0, dy, 0)), "X": ((x1, y0, z1), (0, 0, -dz), (0, dy, 0)),
            "y": ((x0, y0, z0), (dx, 0, 0), (0, 0, dz)), "Y": ((x0, y1, z1), (dx, 0, 0), (0, 0, -dz)),
            "z": ((x1, y0, z0), (-dx, 0, 0), (0, dy, 0)), "Z": ((x0, y0, z1), (dx, 0, 0), (0, dy, 0)),
        }  # fmt: skip
        for name in faces:
            self.quad(*sides[name], tile_m)
        return self

    def tube(self, start: tuple[float, ...], end: tuple[float, ...], r0: float, r1: float, sides: int = 12, tile_m: float = 1.0,
             caps: bool = True) -> "Shape":  # fmt: skip
        """A cylinder or cone frustum between two points."""
        a, b = np.array(start, float), np.array(end, float)
        axis = (b - a) / np.linalg.norm(b - a)
        ref = np.array([1.0, 0, 0]) if abs(axis[0]) < 0.9 else np.array([0, 0, 1.0])
        e1 = np.cross(axis, ref)
        e1 /= np.linalg.norm(e1)
        e2 = np.cross(axis, e1)
        t = np.linspace(0, 2 * math.pi, sides + 1)
        ring = np.cos(t)[:, None] * e1 + np.sin(t)[:, None] * e2
        length = np.linalg.norm(b - a)
        points = np.concatenate([a + ring * r0, b + ring * r1])
        u = t / (2 * math.pi) * max(1.0, round(2 * math.pi * max(r0, r1) / tile_m))
        uvs = np.concatenate([np.stack([u, np.full_like(u, length / tile_m)], 1), np.stack([u, np.zeros_like(u)], 1)])
        i = np.arange(sides)
        n = sides + 1
        self.add(
            points,
            np.concatenate([ring, ring]),
            uvs,
            np.concatenate([np.stack([i, i + 1, i + 1 + n], 1), np.stack([i, i + 1 + n, i + n], 1)]),
        )
        if caps:
            for centre, r, normal, flip in ((b, r1, axis, False), (a, r0, -axis, True)):
                if r <= 0:
                    continue
                disc = np.concatenate([[centre], centre + ring * r])
                uv = np.concatenate([[[0.5, 0.5]], 0.5 + 0.5 * np.stack([np.cos(t), np.sin(t)], 1)]) * r / tile_m
                tri = np.stack([np.zeros(sides, int), i + 1, i + 2], 1)
                self.add(disc, np.tile(normal, (len(disc), 1)), uv, tri[:, ::-1] if flip else tri)
        return self

    def ring(
        self,
        centre: np.ndarray,
        axes: np.ndarray,
        long_m: float,
        wide_m: float,
        wire_m: float,
        around: int = 16,
        section: int = 6,
    ) -> "Shape":
        """A chain link: an oval of round wire in the plane of axes[0], axes[1]."""
        t = np.linspace(0, 2 * math.pi, around, endpoint=False)
        s = np.linspace(0, 2 * math.pi, section, endpoint=False)
        path = centre + np.cos(t)[:, None] * axes[0] * long_m + np.sin(t)[:, None] * axes[1] * wide_m
        out = np.cos(t)[:, None] * axes[0] * wide_m + np.sin(t)[:, None] * axes[1] * long_m
        out /= np.linalg.norm(out, axis=1, keepdims=True)
        normal = np.cos(s)[None, :, None] * out[:, None] + np.sin(s)[None, :, None] * axes[2]
        points = (path[:, None] + normal * wire_m).reshape(-1, 3)
        i, j = np.meshgrid(np.arange(around), np.arange(section), indexing="ij")
        a, b = i * section + j, ((i + 1) % around) * section + j
        c, d = ((i + 1) % around) * section + (j + 1) % section, i * section + (j + 1) % section
        tri = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
        uv = np.stack(np.broadcast_arrays(t[:, None] / 6.3, s[None, :] / 6.3), -1).reshape(-1, 2)
        return self.add(points, normal.reshape(-1, 3), uv, tri)

    def sheet(self, points: np.ndarray, tile: tuple[float, float]) -> "Shape":
        """A smooth grid surface through points (rows, columns, 3); uv runs 0..tile along columns and rows; +Y-ish up if rows go -z."""
        rows, columns = points.shape[:2]
        du, dv = np.gradient(points, axis=1), np.gradient(points, axis=0)
        normal = np.cross(du, dv)
        normal /= np.maximum(np.linalg.norm(normal, axis=2, keepdims=True), 1e-12)
        u, v = np.meshgrid(np.linspace(0, tile[0], columns), np.linspace(tile[1], 0, rows))
        r, c = np.meshgrid(np.arange(rows - 1), np.arange(columns - 1), indexing="ij")
        a = r * columns + c
        tri = np.concatenate(
            [
                np.stack([a, a + 1, a + columns + 1], -1).reshape(-1, 3),
                np.stack([a, a + columns + 1, a + columns], -1).reshape(-1, 3),
            ]
        )
        return self.add(points.reshape(-1, 3), normal.reshape(-1, 3), np.stack([u, v], -1).reshape(-1, 2), tri)

    def blob(
        self,
        centre: tuple[float, float, float],
        radius: tuple[float, float, float],
        rng: np.random.Generator,
        rings: int = 6,
        sides: int = 9,
    ) -> "Shape":
        """A lumpy ball, for tree crowns."""
        lat = np.linspace(0, math.pi, rings + 1)
        lon = np.linspace(0, 2 * math.pi, sides + 1)
        bump = 1 + 0.22 * rng.standard_normal((rings + 1, sides + 1))
        bump[:, -1], bump[0], bump[-1] = bump[:, 0], 1, 1
        d = np.stack(
            [np.sin(lat)[:, None] * np.cos(lon), np.cos(lat)[:, None] * np.ones_like(lon), np.sin(lat)[:, None] * np.sin(lon)], -1
        )
        points = np.array(centre) + d * bump[..., None] * np.array(radius)
        i, j = np.meshgrid(np.arange(rings), np.arange(sides), indexing="ij")
        a = i * (sides + 1) + j
        upper = np.stack([a, a + 1, a + sides + 2], -1)[1:].reshape(-1, 3)
        lower = np.stack([a, a + sides + 2, a + sides + 1], -1)[:-1].reshape(-1, 3)
        uv = np.stack(np.broadcast_arrays(lon[None] / 2.1, lat[:, None]), -1).reshape(-1, 2)
        return self.add(points.reshape(-1, 3), d.reshape(-1, 3), uv, np.concatenate([upper, lower]))

    def triangles(self) -> int:
        return sum(len(i) for i in self.indices)

    def primitive(self, material: int, lightmap: np.ndarray | None = None) -> Primitive:
        """The finished part; `lightmap` (n, 2) becomes TEXCOORD_1."""
        attributes = {
            "POSITION": freeze(np.concatenate(self.positions).astype(np.float32)),
            "NORMAL": freeze(_unit(np.concatenate(self.normals)).astype(np.float32)),
            "TEXCOORD_0": freeze(np.concatenate(self.uvs).astype(np.float32)),
        }
        if lightmap is not None:
            attributes["TEXCOORD_1"] = freeze(lightmap.astype(np.float32))
        return Primitive(attributes, freeze(np.concatenate(self.indices).astype(np.int32)), material)


def _unit(v: np.ndarray) -> np.ndarray:
    unit: np.ndarray = v / np.maximum(np.linalg.norm(v, axis=1, keepdims=True), 1e-12)
    return unit


def grid_charts(shape: Shape, gap: float = 0.16) -> np.ndarray:
    """Lightmap UVs (n, 2): every piece added to the shape in a cell of its own, none overlapping."""
    cells = math.ceil(math.sqrt(len(shape.positions)))
    result = []
    for i, uv in enumerate(shape.uvs):
        low, high = uv.min(axis=0), uv.max(axis=0)
        unit = (uv - low) / np.maximum(high - low, 1e-9)
        cell = np.array([i % cells, i // cells])
        result.append((cell + gap / 2 + unit * (1 - gap)) / cells)
    return np.concatenate(result)


def card(x: tuple[float, float], y: tuple[float, float], z: float, whole: bool = False) -> Shape:
    """A card that faces +z, x and y from .. to, z in m; whole: one picture is laid over all of it."""
    shape = Shape().quad((x[0], y[0], z), (x[1] - x[0], 0, 0), (0, y[1] - y[0], 0))
    if whole:
        shape.uvs[-1] = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float64)
    return shape
