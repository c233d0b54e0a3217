"""A forecast of what a move does to the light of anchors: their rays are followed once, and each pose only says where the ends are then.

A prediction: what a pass finds in a small depth picture of the pose, scaled by what it was measured to bring where the anchors were
chosen."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.passes.contract import Camera
from eddyfall.core.passes.screen import frame_margin_px
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.shade.columns import EMITTED_RGB, ROW
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.moving.anchors import Anchors, Ends, Followed, followed
from eddyfall.core.truth.reference.answers import FOUND, WRONG, Answers
from eddyfall.core.truth.reference.classes import CLASSES, OFF, ON, SKY, classified
from eddyfall.core.truth.reference.path_scene import PathScene
from eddyfall.core.truth.reference.where import MARGINS_PX

FINER = 4  # px of a frame to one of the depth picture, along each edge
SHINY_SAMPLES = 4  # fewer rays by this, where they are followed anew from each pose


@dataclass(frozen=True)
class Forecast:
    """p poses, n anchors, nits of luminance. visible (p, n) bool; due (p, n): light that an anchor sends to the eye; direct (p, n): of it
    straight from lights; light (p, n, classes): of it from other surfaces and the sky, by where that is; found (p, n): of that, what the
    passes find as they are set; wrong (p, n): what shines that they take for something else; instead (p, n): of the sky's light, what
    stands aside for it; to_world (p, n): what falls back on rays into the world; asked (p, n, classes): light that passes answer for, by
    where it is; margin (p, n, margins): of that, what a frame with a margin of so many px holds."""

    visible: np.ndarray
    due: np.ndarray
    direct: np.ndarray
    light: np.ndarray
    found: np.ndarray
    wrong: np.ndarray
    instead: np.ndarray
    to_world: np.ndarray
    asked: np.ndarray
    margin: np.ndarray

    def brought(self, scale: np.ndarray) -> np.ndarray:
        """(p, n) nits that the passes bring, if what they find has scale (n,) of what is due of it."""
        return np.asarray((self.found + self.to_world) * scale + self.wrong - self.instead)


@dataclass(frozen=True)
class Rays:
    """Rays of one place for a drawing: ends (m, 3) in m, class (poses, m)."""

    ends: np.ndarray
    classes: np.ndarray


def small_frame(renderer: Renderer, build: Build, request: Request, camera: Camera) -> Frame:
    """The depth picture of a pose, a quarter of a request's size, with the passes' margin; drawn up to its surfaces and depth copy."""
    width, height = (max(edge // FINER, 1) for edge in request.size)
    small = replace(request, size=(width, height), crop=None, camera=camera)
    margin = math.ceil(frame_margin_px(resolve(build.setup, request.target, request.role, request.viewpoint)) / FINER)
    window = (-margin, -margin, width + margin, height + margin)
    copied = renderer.uncut(build, small, "copied_depth", window=window)
    surface = renderer.uncut(build, small, "surface", window=window)
    return replace(surface, buffers={**copied.buffers, **surface.buffers})


def forecast(
    renderer: Renderer, build: Build, request: Request, cameras: Sequence[Camera], scene: PathScene, start: Frame, anchors: Anchors,
    samples: int, bounces: int, progress: Callable[[str, float], None], traced: int = 0,
) -> tuple[Forecast, Rays]:  # fmt: skip
    """What becomes of the light of anchors over poses (p,), with rays of one of them (`traced`) for a drawing."""
    n, poses = len(anchors), len(cameras)
    matt, shiny = np.flatnonzero(~anchors.shiny), np.flatnonzero(anchors.shiny)
    eye = np.array(start.camera.eye)
    known = followed(scene, start, anchors, matt, eye, samples, bounces) if len(matt) else None
    sums = _Sums(scene, n, poses)
    drawn: list[np.ndarray] = []
    mine = np.flatnonzero(known.ends.anchor == traced)[:48] if known is not None else np.zeros(0, int)
    for k, camera in enumerate(cameras):
        renderer.between()
        progress(f"pose {k + 1} of {poses}", k / poses)
        frame = small_frame(renderer, build, request, camera)
        margin = -frame.pixels.origin[0]
        width, height = frame.pixels.size
        whole = _inner(frame, margin, width, height) if margin else frame
        visible = anchors.visible(whole)
        sums.visible[k] = visible
        answers = Answers(frame, FINER)
        classes = sums.add(k, known, matt, samples, whole, answers)
        drawn.append(classes[mine] if len(mine) else np.zeros(0, int))
        there = shiny[visible[shiny]]
        if len(there):
            each = max(samples // SHINY_SAMPLES, 8)
            now = followed(scene, start, anchors, there, np.array(camera.eye), each, bounces)
            sums.add(k, now, there, each, whole, answers)
    ends = known.ends.place[mine] if known is not None else np.zeros((0, 3))
    return sums.told(), Rays(ends, np.array(drawn, int).reshape(poses, -1))


def _inner(frame: Frame, margin: int, width: int, height: int) -> Frame:
    """A frame without its margin: what `classified` looks at."""
    held = dict(frame.buffers)
    for name in ("depth", "drawable", "copied_depth"):
        if held[name].shape[:2] == frame.pixels.shape:
            held[name] = held[name][margin : margin + height, margin : margin + width]
    return replace(frame, buffers=held, pixels=replace(frame.pixels, window=(0, 0, width, height)))


class _Sums:
    """Sums over the rays of each anchor, pose by pose."""

    def __init__(self, scene: PathScene, anchors: int, poses: int) -> None:
        self.scene = scene
        self.visible = np.zeros((poses, anchors), bool)
        self.due, self.direct, self.found = (np.zeros((poses, anchors)) for _ in range(3))
        self.wrong, self.instead, self.to_world = (np.zeros((poses, anchors)) for _ in range(3))
        self.light, self.asked = (np.zeros((poses, anchors, len(CLASSES))) for _ in range(2))
        self.margin = np.zeros((poses, anchors, len(MARGINS_PX)))

    def add(self, k: int, f: Followed | None, which: np.ndarray, samples: int, whole: Frame, answers: Answers) -> np.ndarray:
        """Anchors `which` at pose k. Returns the class of each of their ends."""
        if f is None:
            return np.zeros(0, int)
        ends, n = f.ends, self.due.shape[1]
        self.due[k, which], self.direct[k, which], self.light[k, which, SKY] = f.due, f.direct, f.sky
        blended = self.scene.covers[ends.drawable] > 0
        classes, off_px, _ = classified(whole, ends.place, ends.facing, blended, answers.copied)
        total = ends.light.sum(axis=1) / samples
        summed = np.bincount(ends.anchor * len(CLASSES) + classes, total, n * len(CLASSES)).reshape(n, -1)
        self.light[k, which] += summed[which]
        for name, setting in answers.settings.items():
            takes = answers.takes(name, ends.vertices)
            light = (ends.light * takes).sum(axis=1) / samples
            summed = np.bincount(ends.anchor * len(CLASSES) + classes, light, n * len(CLASSES)).reshape(n, -1)
            self.asked[k, which] += summed[which]
            for m, px in enumerate(MARGINS_PX):
                inside = (classes == ON) | ((classes == OFF) & (off_px * FINER <= px))
                self.margin[k, which, m] += np.bincount(ends.anchor, light * inside, n)[which]
            self._answered(k, ends, takes, which, samples, answers, name, setting.fallback)
        return classes

    def _answered(
        self, k: int, ends: Ends, takes: np.ndarray, which: np.ndarray, samples: int, answers: Answers, name: str, fallback: str
    ) -> None:
        asked = np.flatnonzero(takes.any(axis=1) & self.visible[k, ends.anchor])
        if not len(asked):
            return
        part, n = ends.of(asked), self.due.shape[1]
        way = part.place - part.vertices.place
        way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)
        pixel, counts = answers.met(name, part.vertices, way)
        outcome = answers.outcome_of(name, pixel, part.place, part.drawable)
        light = (part.light * takes[asked]).sum(axis=1) / samples
        known, mistaken = (np.where(outcome == what, counts, 0.0) for what in (FOUND, WRONG))
        self.found[k, which] += np.bincount(part.anchor, light * known, n)[which]
        shines = answers.frame.buffers["surface"].reshape(-1, ROW)[np.maximum(pixel, 0), EMITTED_RGB] @ REC709_LUMA
        asked_of = (part.weight @ REC709_LUMA * takes[asked]).sum(axis=1) / samples
        self.wrong[k, which] += np.bincount(part.anchor, asked_of * shines * mistaken, n)[which]
        if fallback == "sky":
            sky = (part.sky * takes[asked]).sum(axis=1) / samples
            self.instead[k, which] += np.bincount(part.anchor, sky * (known + mistaken), n)[which]
        if fallback == "world":
            self.to_world[k, which] += np.bincount(part.anchor, light * (1 - known - mistaken), n)[which]

    def told(self) -> Forecast:
        return Forecast(
            self.visible, self.due, self.direct, self.light, self.found, self.wrong, self.instead, self.to_world, self.asked, self.margin
        )  # fmt: skip
