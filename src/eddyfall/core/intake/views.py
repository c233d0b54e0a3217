"""Viewpoints for a scene that brings none: its own cameras, else poses from which everything is seen, nothing is cut and what faces
one way is looked at from its front."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from eddyfall.core.frame.render import Renderer
from eddyfall.core.intake.looks import MOSTLY_BEHIND, SEEN_PIXELS, Look, Looker
from eddyfall.core.intake.poses import Pose, direction, pose_around, poses_inside
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.model import Scene
from eddyfall.core.scene.setup import Setup, empty_setup

FIRST = (("fitted_front", 20.0, 15.0), ("fitted_side", 110.0, 15.0), ("fitted_above", 235.0, 45.0))
AROUND = ((200.0, 15.0), (290.0, 15.0), (65.0, 40.0), (20.0, -30.0), (200.0, -50.0), (20.0, 80.0), (110.0, -80.0))
MOST_POINTS = 200_000
MOST_ADDED = 6
MOST_CLOSE = 8  # drawables that are looked for one by one
MOST_LOOKS = 90
VAST = 4_000_000  # triangles
LEAST_ROOM = 0.2  # nothing else may stand nearer to the eye than this share of the way to what is looked at


@dataclass
class Views:
    """Viewpoints as a setup document holds them, what each shows, drawables that stand around the rest, and why all this."""

    entries: dict[str, dict[str, Any]]
    looks: dict[str, Look]
    around: frozenset[int] = frozenset()
    reasons: list[str] = field(default_factory=list)

    @property
    def best(self) -> str:
        """The first viewpoint that shows something."""
        return next((name for name, look in self.looks.items() if look.front.sum()), next(iter(self.entries)))


def fitted_viewpoints(scene: Scene, setup: Setup, renderer: Renderer) -> Views:
    """Viewpoints from the scene's cameras, and fitted ones for what they do not show, or for everything if there are none."""
    looker = Looker(scene, setup, renderer)
    cameras = [key for key, node in zip(scene.node_keys, scene.nodes) if node.camera is not None]
    views = Views({key: {"camera": key} for key in cameras}, {})
    if not any(node.mesh is not None and scene.meshes[node.mesh].primitives for node in scene.nodes):
        if not cameras:
            views.entries = {name: Pose(name, (0.0, 0.0, 2.0), (0.0, 0.0, 0.0)).entry() for name, _, _ in FIRST[:1]}
        return views
    views.looks = {key: looker.of_viewpoint(key, entry) for key, entry in views.entries.items()}
    geometry = renderer.geometry(_looked_at(looker))
    _Fitter(geometry, looker, views).run()
    return views


def _looked_at(looker: Looker) -> Any:
    from eddyfall.core.scene.build import Build

    return Build(looker.scenes[True], empty_setup())


class _Fitter:
    def __init__(self, geometry: Geometry, looker: Looker, views: Views) -> None:
        self.geometry, self.looker, self.views = geometry, looker, views
        self.count = len(geometry.drawables) - 1
        self.seen = np.zeros(self.count, bool)
        # A look draws the whole scene: a vast one is looked at less often, and the vastest from the first three poses only.
        triangles = max(len(geometry.triangles), 1)
        self.left = 0 if triangles > VAST else min(MOST_LOOKS, max(16, 45_000_000 // triangles))
        for look in views.looks.values():
            self._count(look)

    def run(self) -> None:
        whole = frozenset(range(self.count))
        if not self.views.entries:
            self._start(whole)
        cameras = not self.views.looks or not any(name.startswith("fitted_") for name in self.views.entries)
        if not self.seen.all():
            inner = whole - self.views.around
            poses = [pose_around(f"fitted_{i}", self._points(inner), direction(*angles)) for i, angles in enumerate(AROUND, 4)]
            self._add([*poses, *(poses_inside(self._points(whole)) if self.views.around else [])])
        if not self.seen.all():
            self._add(self._close())
        if not self.views.entries:
            self._keep(pose_around("fitted_front", self._points(whole), direction(*FIRST[0][1:])))
        unseen = [self.geometry.drawables[d].name for d in np.flatnonzero(~self.seen)]
        names = ", ".join(self.views.entries)
        self.views.reasons.insert(0, f"viewpoints: {names}" + (" (the file's cameras first)" if cameras else ""))
        if unseen:
            more = f" and {len(unseen) - 5} more" if len(unseen) > 5 else ""
            self.views.reasons.append(f"hidden inside other things or too small from all of them: {', '.join(unseen[:5])}{more}")

    def _start(self, whole: frozenset[int]) -> None:
        """Three poses around the scene; from the other side where they meet only backs, within what stands around everything."""
        around = self._around(whole)
        inner = whole - around if around and around != whole else whole
        points = self._points(inner)
        for name, azimuth, elevation in FIRST:
            chosen = None
            for a, e in ((azimuth, elevation), (azimuth + 180, elevation), (azimuth, -elevation), (azimuth + 180, -elevation)):
                pose = pose_around(name, points, direction(a, e))
                look = self._look(pose)
                if look is None:  # no looks are left: the pose is taken as it is
                    chosen = (pose, self.looker(pose))
                    break
                if look.front.sum() >= SEEN_PIXELS and look.behind_share < MOSTLY_BEHIND and self._shows(look, inner):
                    chosen = (pose, look)
                    break
            if chosen is not None and chosen[0].eye not in [tuple(e["eye"]) for e in self.views.entries.values()]:
                self._keep(*chosen)
        if around:
            names = ", ".join(self.geometry.drawables[d].name for d in sorted(around)[:3])
            self.views.around = around
            self.views.reasons.append(f"{names} stands around the rest, so the viewpoints are within it")

    def _shows(self, look: Look, inner: frozenset[int]) -> bool:
        """Whether at least one of the things that a pose is fitted to is seen in it."""
        return bool(look.seen[sorted(inner)].any())

    def _around(self, whole: frozenset[int]) -> frozenset[int]:
        """Drawables that stand around the rest and hide it, or are turned inwards: seen from outside they show nothing else, or backs."""
        around: set[int] = set()
        while True:
            rest = whole - around
            if len(rest) == 0:
                return frozenset(around)
            looks = [
                self._look(pose_around("look", self._points(rest), direction(a, e)), frozenset(around))
                for a, e in ((20.0, 15.0), (200.0, 15.0), (110.0, -40.0), (290.0, 60.0))
            ]
            known = [look for look in looks if look is not None]
            if len(known) < 4:
                return frozenset(around)
            met = np.stack([look.front + look.behind for look in known])[:, : self.count]
            share = met / np.maximum(met.sum(axis=1, keepdims=True), 1)
            inwards = np.stack([look.behind for look in known])[:, : self.count] >= MOSTLY_BEHIND * np.maximum(met, 1)
            bounds = self.geometry.bounds[sorted(rest)]
            low, high = bounds[:, 0].min(axis=0), bounds[:, 1].max(axis=0)
            found = None
            for d in np.flatnonzero((share > 0.5).all(axis=0)):
                slack = 1e-6 * (high - low)
                box = self.geometry.bounds[d]
                holds = bool((box[0] <= low + slack).all() and (box[1] >= high - slack).all())
                hides = len(rest) > 1 and holds and (share[:, d] > 0.98).all()
                if hides or (inwards[:, d].all() and self._meant_so(int(d))):
                    found = int(d)
                    break
            if found is None:
                return frozenset(around)
            around.add(found)

    def _meant_so(self, drawable: int) -> bool:
        """Whether the normals of a drawable point where its faces do: a thing turned inside out by mistake has them apart."""
        d, g = self.geometry.drawables[drawable], self.geometry
        corners = g.triangles[d.first : d.last]
        p = g.positions[corners].astype(np.float64)
        face = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
        return float((face * g.normals[corners].sum(axis=1)).sum()) > 0

    def _points(self, drawables: Iterable[int]) -> np.ndarray:
        """World points whose hull holds the drawables: their vertices, or corners of their boxes where there are very many."""
        chosen = sorted(drawables)
        spans = [self.geometry.drawables[d] for d in chosen]
        if sum(s.last - s.first for s in spans) * 3 <= MOST_POINTS:
            corners = np.unique(np.concatenate([self.geometry.triangles[s.first : s.last].ravel() for s in spans]))
            return np.asarray(self.geometry.positions[corners], np.float64)
        bounds = self.geometry.bounds[chosen]
        pick = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)])
        return np.stack([bounds[:, pick[:, axis], axis] for axis in range(3)], axis=-1).reshape(-1, 3)

    def _look(self, pose: Pose, aside: frozenset[int] = frozenset()) -> Look | None:
        if self.left <= 0:
            return None
        self.left -= 1
        return self.looker(pose, aside)

    def _count(self, look: Look) -> None:
        self.seen |= look.seen[: self.count]

    def _keep(self, pose: Pose, look: Look | None = None) -> None:
        look = look or self.looker(pose)
        self.views.entries[pose.name] = pose.entry()
        self.views.looks[pose.name] = look
        self._count(look)

    def _add(self, poses: list[Pose]) -> None:
        """Keep the poses that show most of what no viewpoint shows yet, one after the other."""
        looks = [
            (pose, look)
            for pose in poses
            if (look := self._look(pose)) is not None and look.behind_share < 0.5 and look.nearest_m > LEAST_ROOM * pose.distance
        ]
        for _ in range(MOST_ADDED):
            gains = [int((look.seen[: self.count] & ~self.seen).sum()) for _, look in looks]
            if not gains or max(gains) == 0:
                return
            self._keep(*looks[int(np.argmax(gains))])

    def _close(self) -> list[Pose]:
        """Poses close up to each thing that is not seen yet, from two sides."""
        poses = []
        for d in np.flatnonzero(~self.seen)[:MOST_CLOSE]:
            points = self._points([int(d)])
            for k, angles in enumerate(((20.0, 15.0), (200.0, 35.0), (110.0, -60.0))):
                poses.append(pose_around(f"fitted_near_{d}_{k}", points, direction(*angles)))
        return poses
