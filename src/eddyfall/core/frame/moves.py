"""Moves: where a camera stands at each moment between the keys of a move, and the stock moves that any viewpoint has."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Literal, get_args

import numpy as np
from scipy.spatial.transform import Rotation, Slerp

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.stage import look_at, make_camera
from eddyfall.core.passes.contract import Camera
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.tables import Move

Stock = Literal["turn", "approach", "sway"]
MOST_POSES = 2048
AHEAD_M = 5.0  # that lies before a viewpoint which looks into the open
TURNED_DEG, SWAYED_DEG = 45.0, 15.0


@dataclass(frozen=True)
class Key:
    """A camera at a moment in s; cut: it is there at once, and what was before stands still until then."""

    t_s: float
    camera: Camera
    cut: bool = False


@dataclass(frozen=True)
class MovePath:
    """A move as it is looked along: by name; viewpoint whose exposure and lights hold; role (None: the viewpoint's); keys in order of
    time; moments (p,) in s at which it is judged."""

    name: str
    viewpoint: str
    role: str | None
    keys: tuple[Key, ...]
    rate_hz: float

    @property
    def moments(self) -> np.ndarray:
        """(p,) s, from the first key to the last."""
        first, last = self.keys[0].t_s, self.keys[-1].t_s
        return np.asarray(np.minimum(first + np.arange(int((last - first) * self.rate_hz + 1e-6) + 1) / self.rate_hz, last))

    @cached_property
    def _known_turns(self) -> dict[int, Slerp]:
        return {}

    def _turns(self, k: int) -> Slerp:
        """How the camera turns from key number k to the next."""
        if k not in self._known_turns:
            axes = np.stack([self.keys[k].camera.axes, self.keys[k + 1].camera.axes])
            self._known_turns[k] = Slerp([0.0, 1.0], Rotation.from_matrix(axes))
        return self._known_turns[k]

    def at(self, t_s: float) -> Camera:
        """The camera at a moment; before the first key and after the last it stands there."""
        times = [key.t_s for key in self.keys]
        k = int(np.searchsorted(times, t_s, side="right")) - 1
        if k < 0 or k >= len(self.keys) - 1:
            return self.keys[min(max(k, 0), len(self.keys) - 1)].camera
        here, there = self.keys[k], self.keys[k + 1]
        if there.cut or t_s == here.t_s:
            return here.camera
        share = (t_s - here.t_s) / (there.t_s - here.t_s)
        before = self.keys[k - 1].camera if k > 0 and not here.cut else None
        after = self.keys[k + 2].camera if k + 2 < len(self.keys) and not self.keys[k + 2].cut else None
        eye = between(_eye(before), np.array(here.camera.eye), np.array(there.camera.eye), _eye(after), share)
        axes = self._turns(k)(share).as_matrix()
        fov = here.camera.fov_y_rad * (1 - share) + there.camera.fov_y_rad * share
        rows = tuple(tuple(float(v) for v in row) for row in axes)
        return Camera((float(eye[0]), float(eye[1]), float(eye[2])), rows, fov, here.camera.aspect)


def _eye(camera: Camera | None) -> np.ndarray | None:
    return None if camera is None else np.array(camera.eye)


def between(p0: np.ndarray | None, p1: np.ndarray, p2: np.ndarray, p3: np.ndarray | None, share: float) -> np.ndarray:
    """(3,) place at a share of the way from p1 to p2 on the centripetal Catmull-Rom curve through p0 .. p3, which has neither cusps nor
    loops between two keys (Yuksel, Schaefer, Keyser 2011), by the pyramid of Barry and Goldman (1988). A neighbour that is missing, or at
    the same place, is mirrored."""
    length = float(np.linalg.norm(p2 - p1))
    if length == 0:
        return p1
    p0 = 2 * p1 - p2 if p0 is None or not np.any(p0 - p1) else p0
    p3 = 2 * p2 - p1 if p3 is None or not np.any(p3 - p2) else p3
    points = (p0, p1, p2, p3)
    t0, t1, t2, t3 = np.cumsum([0.0, *(np.sqrt(np.linalg.norm(b - a)) for a, b in pairwise(points))])
    t = t1 + share * (t2 - t1)
    a1, a2, a3 = (_mixed(a, b, ta, tb, t) for a, b, ta, tb in ((p0, p1, t0, t1), (p1, p2, t1, t2), (p2, p3, t2, t3)))
    b1, b2 = _mixed(a1, a2, t0, t2, t), _mixed(a2, a3, t1, t3, t)
    return _mixed(b1, b2, t1, t2, t)


def _mixed(a: np.ndarray, b: np.ndarray, ta: float, tb: float, t: float) -> np.ndarray:
    return np.asarray(((tb - t) * a + (t - ta) * b) / (tb - ta))


def path_of(build: Build, name: str, aspect: float) -> MovePath:
    """A move of the setup. RequestError if there is none of that name, or no viewpoint whose settings would hold."""
    moves = build.setup.moves
    if name not in moves:
        there = ", ".join((*moves, *get_args(Stock)))
        raise RequestError(f"move {name!r} does not exist; there are: {there}")
    move: Move = moves[name]
    ordered = [key for _, key in move.in_time]
    named = [key.viewpoint for key in ordered if key.viewpoint is not None]
    viewpoint = next(iter([*named, *build.setup.viewpoints]), None)
    if viewpoint is None:
        raise RequestError(
            f"move {name!r} names no viewpoint, and the build has none: whose exposure and lights hold is not said"
        )
    keys = []
    for key in ordered:
        if key.viewpoint is not None:
            camera = make_camera(build, key.viewpoint, aspect)
        else:
            assert key.eye is not None and key.target is not None
            camera = Camera(key.eye, look_at(key.eye, key.target), float(np.radians(key.fov_y_deg)), aspect)
        keys.append(Key(key.t_s, camera, key.cut))
    return _checked(MovePath(name, viewpoint, move.role, tuple(keys), move.rate_hz))


def stock_move(kind: Stock, viewpoint: str, start: Camera, ahead_m: float, rate_hz: float = 30.0) -> MovePath:
    """What artists do by hand at a viewpoint: turn (to both sides by 45 deg), approach (by 60 % of what lies ahead), sway (to both sides
    by 15 deg, then a metre on, or half of what lies ahead if that is less)."""
    if kind == "turn":
        turned = ((0.0, 0.0), (1.5, TURNED_DEG), (4.5, -TURNED_DEG), (6.0, 0.0))
        keys = [Key(t, _turned(start, by)) for t, by in turned]
    elif kind == "approach":
        keys = [Key(0.0, start), Key(4.0, _further(start, 0.6 * ahead_m))]
    else:
        keys = [Key(0.0, start), Key(1.0, _turned(start, SWAYED_DEG)), Key(2.0, start), Key(3.0, _turned(start, -SWAYED_DEG))]
        keys.append(Key(4.0, _further(start, min(1.0, 0.5 * ahead_m))))
    return _checked(MovePath(kind, viewpoint, None, tuple(keys), rate_hz))


def _checked(path: MovePath) -> MovePath:
    poses = (path.keys[-1].t_s - path.keys[0].t_s) * path.rate_hz + 1
    if poses > MOST_POSES:
        raise RequestError(
            f"move {path.name!r} has {int(poses)} poses at {path.rate_hz:g} Hz; at most {MOST_POSES} are looked at"
        )
    return path


def _turned(camera: Camera, by_deg: float) -> Camera:
    """A camera turned to its right about the world's up."""
    axes = camera.axes @ Rotation.from_euler("y", by_deg, degrees=True).as_matrix()
    return Camera(camera.eye, tuple(tuple(float(v) for v in row) for row in axes), camera.fov_y_rad, camera.aspect)


def _further(camera: Camera, by_m: float) -> Camera:
    """A camera that has gone on, level with the world; one that looks straight up or down, along its view."""
    way = camera.forward * np.array([1.0, 0.0, 1.0])
    way = way if np.linalg.norm(way) > 1e-3 else camera.forward
    eye = np.array(camera.eye) + way / np.linalg.norm(way) * by_m
    return Camera((float(eye[0]), float(eye[1]), float(eye[2])), camera.rotation, camera.fov_y_rad, camera.aspect)
