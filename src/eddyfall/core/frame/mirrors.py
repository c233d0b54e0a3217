"""Planar mirrors: which plane each mirrors in, and the frame from the mirrored eye that its coat shows.

Of what lies behind the plane nothing is drawn: the near plane of the mirrored camera is the mirror itself (Lengyel 2005, Oblique view
frustum depth projection and clipping, from memory)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.errors import SetupError
from eddyfall.core.frame.derive import Known
from eddyfall.core.hashing import digest, freeze
from eddyfall.core.passes.contract import Camera, MirrorPicture
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry, pack
from eddyfall.core.scene.model import vec3

LEAST_SHARE = 0.25  # of a thing's area that lies in one plane, for it to be flat enough to mirror
SAME_DIRECTION = 0.9999  # cosine between normals of one plane
SEEDS = 64  # planes that are tried
FLAT = 1e-4  # of a thing's size, that it may leave its plane


@dataclass(frozen=True)
class MirrorPlane:
    """A plane that a mirror shows things in: name, its drawables (k,), unit normal (3,) and offset, n.x + offset = 0 on it; corners (v, 3)
    of what lies in it; slack_m: how far off it a place still is on it; divisor of its frame."""

    name: str
    drawables: np.ndarray
    normal: np.ndarray
    offset: float
    corners: np.ndarray
    slack_m: float
    divisor: int

    def off(self, place: np.ndarray) -> np.ndarray:
        """Metres in front of the plane of places (..., 3)."""
        return np.asarray(place @ self.normal + self.offset)


@dataclass(frozen=True)
class MirrorPlanes:
    """All planes of a build's mirrors that are on."""

    planes: tuple[MirrorPlane, ...]


def mirror_planes(build: Build, geometry: Geometry) -> MirrorPlanes:
    """The planes of a build's mirrors. SetupError for a mirror that is not there, or not flat."""
    found: list[MirrorPlane] = []
    for name, mirror in build.setup.mirrors.items():
        if mirror.on:
            found += planes_of(name, mirror.node, mirror.divisor, geometry)
    return MirrorPlanes(tuple(found))


def check_mirrors(build: Build) -> None:
    """SetupError for the first mirror of a build that is not there or not flat."""
    if any(mirror.on for mirror in build.setup.mirrors.values()):
        mirror_planes(build, pack(build.scene, build.setup))


def planes_of(name: str, node: str, divisor: int, geometry: Geometry) -> list[MirrorPlane]:
    """The planes of a mirror on a node. SetupError for a node that is not there, or not flat."""
    where = f"mirrors.{name}.node"
    drawables = np.array([i for i, d in enumerate(geometry.things) if d.node == node], int)
    if not len(drawables):
        raise SetupError(f"node {node!r} is not there, or has no mesh", where)
    triangles = np.flatnonzero(np.isin(geometry.owner, drawables))
    corners = geometry.positions[geometry.triangles[triangles]].astype(np.float64)
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(cross, axis=1) / 2
    normal = cross / np.maximum(2 * area, 1e-300)[:, None]
    points = corners.reshape(-1, 3)
    size = float(np.linalg.norm(points.max(axis=0) - points.min(axis=0)))
    left, planes, total = area > 0, [], float(area.sum())
    for at in _likely(normal, corners.mean(axis=1), area, size):
        if not left[at]:
            continue
        n, offset = normal[at], -float(normal[at] @ corners[at].mean(axis=0))
        flat = left & (normal @ n > SAME_DIRECTION) & (np.abs(corners @ n + offset).max(axis=1) <= FLAT * size)
        left &= ~flat
        if area[flat].sum() >= LEAST_SHARE * total:
            planes.append(MirrorPlane(name, drawables, n, offset, corners[flat].reshape(-1, 3), max(FLAT * size, 1e-4), divisor))
    if not planes:
        most = (
            max(float(area[normal @ normal[k] > SAME_DIRECTION].sum()) for k in np.argsort(-area)[:8]) / total if total else 0.0
        )
        raise SetupError(f"node {node!r} is not flat: no more than {most:.0%} of it looks the same way", where)
    return planes


def _likely(normal: np.ndarray, middle: np.ndarray, area: np.ndarray, size: float) -> np.ndarray:
    """(k,) triangles whose planes may hold a good share of a thing's area: the largest of each of those bins of like planes that hold most.
    A plane's area falls into no more than sixteen bins."""
    offset = np.einsum("nk,nk->n", normal, middle)
    bins = np.round(np.column_stack([normal * 20, offset / max(size * 0.01, 1e-9)])).astype(np.int64)
    _, of = np.unique(bins, axis=0, return_inverse=True)
    of = of.ravel()
    held = np.bincount(of, area)
    order = np.lexsort((-area, of))
    largest = order[np.r_[True, np.diff(of[order]) > 0]]  # the first of each bin, in the order of bins
    return np.asarray(largest[np.argsort(-held)][:SEEDS])


def mirrored_camera(camera: Camera, plane: MirrorPlane) -> Camera:
    """The camera on the other side of a plane; its frame is turned left to right against what a mirror shows."""
    n = plane.normal
    eye, axes = np.array(camera.eye), camera.axes
    forward, up = -axes[2], axes[1]
    forward, up = (v - 2 * (v @ n) * n for v in (forward, up))
    rows = np.stack([np.cross(forward, up), up, -forward])
    there = eye - 2 * plane.off(eye) * n
    clip = (float(n[0]), float(n[1]), float(n[2]), plane.offset - plane.slack_m)
    rotation = tuple(tuple(float(v) for v in row) for row in rows)
    return replace(camera, eye=vec3(there), rotation=rotation, clip=clip)


@dataclass(frozen=True)
class Mirrored:
    """The frame that a mirror asks for: size, crop (x0, y0, x1, y1) of it in px, the mirrored camera, drawables left out of it."""

    size: tuple[int, int]
    crop: tuple[int, int, int, int]
    camera: Camera
    hidden: frozenset[int]


def pictures(
    planes: MirrorPlanes, camera: Camera, size: tuple[int, int], window: tuple[int, int, int, int], hidden: frozenset[int],
    draw: Callable[[Mirrored], Known],
) -> Known:  # fmt: skip
    """What each plane that looks at the eye and may be in a window of a frame shows of it; draw: gives the picture (h, w, 3) in nits of a
    frame, and its key."""
    found, keys = [], []
    for plane in planes.planes:
        if plane.off(np.array(camera.eye)) <= plane.slack_m:
            continue
        part = _window(plane, camera, size, window)
        if part is None:
            continue
        d = plane.divisor
        small = (-(-size[0] // d), -(-size[1] // d))
        x0, y0, x1, y1 = part
        left, top, right, bottom = x0 // d, y0 // d, -(-x1 // d), -(-y1 // d)
        left_out = hidden | frozenset(int(i) for i in plane.drawables)
        asked = Mirrored(small, (small[0] - right, top, small[0] - left, bottom), mirrored_camera(camera, plane), left_out)
        drawn, key = draw(asked)
        picture = np.repeat(np.repeat(drawn[:, ::-1], d, axis=0), d, axis=1)
        picture = picture[y0 - top * d :, x0 - left * d :][: y1 - y0, : x1 - x0]
        found.append(MirrorPicture(plane.drawables, plane.normal, plane.offset, plane.slack_m, part, freeze(picture)))
        keys.append(digest(plane, part, key))
    return Known(tuple(found), digest("mirrors", keys))


def _window(
    plane: MirrorPlane, camera: Camera, size: tuple[int, int], window: tuple[int, int, int, int]
) -> tuple[int, int, int, int] | None:
    """The part of a window (x0, y0, x1, y1) that a plane may show in; all of it where it reaches behind the eye."""
    depth = camera.view_depth(plane.corners)
    if (depth <= 0).all():
        return None
    if (depth <= 1e-6).any():
        return window
    half = np.tan(camera.fov_y_rad / 2)
    away = plane.corners - np.array(camera.eye)
    x = ((away @ camera.axes[0]) / (depth * half * camera.aspect) + 1) / 2 * size[0]
    y = (1 - (away @ camera.axes[1]) / (depth * half)) / 2 * size[1]
    x0, y0 = max(window[0], int(np.floor(x.min())) - 1), max(window[1], int(np.floor(y.min())) - 1)
    x1, y1 = min(window[2], int(np.ceil(x.max())) + 2), min(window[3], int(np.ceil(y.max())) + 2)
    return (x0, y0, x1, y1) if x0 < x1 and y0 < y1 else None
