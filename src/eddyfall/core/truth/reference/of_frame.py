"""The reference of a viewpoint, and the account of its frame: what commands, screens and sweeps ask for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from time import perf_counter

import numpy as np

from eddyfall.core import source_hash
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame, Renderer, Request, check_request
from eddyfall.core.hashing import digest
from eddyfall.core.passes.display import encode_display, exposure_scale
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.sections.exposure import Exposure
from eddyfall.core.truth.reference.account import Account, Parts, account, parts_of
from eddyfall.core.truth.reference.noise import Noise, noise_of, noted
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.core.truth.reference.tally import Tally
from eddyfall.core.truth.reference.trace import Asked, grow, rounds

MOST_SAMPLES, MOST_BOUNCES, MOST_POINTS = 65_536, 64, 100_000
MOST_TRACED = 2**31  # pixels times samples of one request
DRAWN = "linear"  # what a frame has to be drawn up to for an account


@dataclass(frozen=True, kw_only=True)
class Wanted:
    """request: size, and the crop that is wanted; samples a pixel at the most; noise: it may end sooner at this (None: not); points: so
    many places spread over the window instead of all of its pixels (None: all); asked: as `trace` has it."""

    request: Request
    samples: int = 64
    noise: float | None = None
    points: int | None = None
    asked: Asked = field(default_factory=Asked)

    def check(self) -> None:
        """RequestError if numbers make no sense."""
        check_request(self.request)
        if not 1 <= self.samples <= MOST_SAMPLES:
            raise RequestError(f"{self.samples} samples are not within 1 to {MOST_SAMPLES}")
        if not 0 <= self.asked.bounces <= MOST_BOUNCES:
            raise RequestError(f"{self.asked.bounces} bounces are not within 0 to {MOST_BOUNCES}")
        if self.noise is not None and not 0 < self.noise < 1:
            raise RequestError(f"a noise of {self.noise:g} is not between 0 and 1")
        if self.points is not None and not 1 <= self.points <= MOST_POINTS:
            raise RequestError(f"{self.points} points are not within 1 to {MOST_POINTS}")
        x0, y0, x1, y1 = self.request.window
        if self.samples * min((x1 - x0) * (y1 - y0), self.points or MOST_TRACED) > MOST_TRACED:
            raise RequestError(f"{x1 - x0} x {y1 - y0} px of {self.samples} samples are more than {MOST_TRACED:,} paths")

    def pixels(self) -> np.ndarray:
        """(n, 2) x y of the full frame."""
        x0, y0, x1, y1 = self.request.window
        w, h = x1 - x0, y1 - y0
        if self.points is None or self.points >= w * h:
            return np.stack(np.meshgrid(np.arange(x0, x1), np.arange(y0, y1)), -1).reshape(-1, 2)
        # Places of a low-discrepancy sequence by powers of the plastic number (Roberts 2018, from memory), each pixel once.
        i = np.arange(1, 4 * self.points + 1)
        x, y = (((0.5 + i * a) % 1 * edge).astype(int) for a, edge in ((0.7548776662466927, w), (0.5698402909980532, h)))
        _, first = np.unique(y * w + x, return_index=True)
        chosen = np.sort(first)[: self.points]
        return np.stack([x[chosen] + x0, y[chosen] + y0], axis=1)


@dataclass(frozen=True)
class Reference:
    """A tally with the frame whose reference it is."""

    frame: Frame
    tally: Tally
    noise: Noise


@dataclass(frozen=True)
class Comparison:
    """The stand-in's frame, kept apart, its reference, and the account of the two."""

    reference: Reference
    parts: Parts
    account: Account

    @property
    def frame(self) -> Frame:
        """The stand-in's."""
        return self.reference.frame


def reference_of(
    renderer: Renderer, build: Build, wanted: Wanted, held: Tally | None = None,
    progress: Callable[[str, float], None] = lambda what, share: None, put: Callable[[Tally], None] = lambda tally: None,
) -> Reference:  # fmt: skip
    """The reference of a viewpoint. held: a tally to go on from; else one that the renderer still remembers. progress is called as it
    goes, and may raise: what was there before the round then stays, in the memo too; put is called with what is there after each.
    RequestError for what makes no sense, and for a held tally of something else."""
    wanted.check()
    frame = renderer.frame(build, wanted.request, DRAWN)
    scene = path_scene(renderer, build, frame)
    pixels = wanted.pixels()
    stamp = digest("reference", source_hash(), build.content_hash, wanted.request, wanted.points, wanted.asked)
    if held is not None and not (held.asked == stamp and np.array_equal(held.pixels, pixels)):
        raise RequestError("the reference that was put away is of another build, view, window, way to follow light or version")
    known = renderer.memo.get(stamp) if held is None else held
    tally: Tally = known or Tally.empty(scene.light_names, pixels, wanted.request.size, stamp)
    took_s = 0.0
    for step in rounds(tally, wanted.samples):
        if wanted.noise is not None and tally.count >= 8 and noise_of(tally).value <= wanted.noise:
            break
        done, begun = tally.count, perf_counter()

        def between(done: int = done) -> None:
            renderer.between()
            progress(f"sample {done + 1} of {wanted.samples}", done / wanted.samples)

        with renderer.clock.timing("reference"):
            tally = noted(grow(scene, frame.camera, tally, wanted.asked, step, between))
        took_s += perf_counter() - begun
        renderer.memo.renew(stamp, tally, took_s)
        put(tally)
    return Reference(frame, tally, noise_of(tally))


def compare(
    renderer: Renderer, build: Build, wanted: Wanted, held: Tally | None = None,
    progress: Callable[[str, float], None] = lambda what, share: None, put: Callable[[Tally], None] = lambda tally: None,
) -> Comparison:  # fmt: skip
    """The account of a viewpoint's window. As `reference_of`."""
    reference = reference_of(renderer, build, wanted, held, progress, put)
    parts = parts_of(reference.frame, reference.tally.pixels)
    return Comparison(reference, parts, account(parts, reference.tally))


def picture_of(reference: Reference) -> np.ndarray:
    """(h, w, 3) uint8 sRGB of a reference of all pixels of its window, exposed as its frame."""
    height, width = reference.frame.pixels.shape
    return encode_display(reference.tally.radiance.reshape(height, width, 3).astype(np.float32) * exposed(reference.frame))


def drawn_picture(frame: Frame) -> np.ndarray:
    """(h, w, 3) uint8 sRGB of a frame that was drawn up to its light."""
    return encode_display(frame.linear * exposed(frame))


def exposed(frame: Frame) -> np.float32:
    """What the frame's exposure multiplies by."""
    e = frame.stage.resolved[Exposure]
    return np.float32(exposure_scale(e.mode, e.ev100))
