"""A move looked along: anchors forecast at every pose, measured at the worst, the verdict, and what can help.

Drift is the range over time of how much an anchor is drawn brighter than is due, in stops: what stays off by the same much does not
drift, nor does what comes into the frame."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from time import perf_counter
from typing import cast, get_args

import numpy as np

from eddyfall.core import source_hash
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.moves import AHEAD_M, MovePath, Stock, path_of, stock_move
from eddyfall.core.frame.render import Frame, Renderer, Request, check_request, cut
from eddyfall.core.frame.stage import make_camera
from eddyfall.core.hashing import digest
from eddyfall.core.passes import bounce, reflect
from eddyfall.core.passes.contract import Camera
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import vec3
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.moving.anchors import Anchors, anchors_of
from eddyfall.core.truth.moving.forecast import Forecast, Rays, forecast, small_frame
from eddyfall.core.truth.reference.classes import CLASSES, HIDDEN, NOT_COPIED, ON, OTHER_SIDE, projected
from eddyfall.core.truth.reference.of_frame import DRAWN, MOST_BOUNCES, MOST_SAMPLES
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.core.truth.reference.places import Place
from eddyfall.core.truth.reference.where import MARGINS_PX

LIMIT_STOPS = 0.25
WORST = 3  # poses that are drawn because they are forecast to be the worst
APART_S = 0.25
MOST_ANCHORS = 512
FAR_M = 1e4  # what lies beyond is the open
LEAST = 1e-6  # of what is due: drawn less counts as this
MOST_SCALE = 2.0
PATHS = 16_384  # of all anchors together
NOT_FOUND = "on the frame and not found"


@dataclass(frozen=True, kw_only=True)
class Asked:
    """path: the move; request: size, target, role, and the crop of it that anchors are spread over (its camera is not looked at); spot:
    the camera whose frame the crop is of (None: the move's at from_s, at first if that is None); at: a place of the world instead;
    anchors: so many; samples of each (None: as many as make their mean smooth), bounces; every: draw each so-manieth pose as well as so
    many of the worst (None: those alone); subject: a drawable that anchors are to be of; limit_stops."""

    path: MovePath
    request: Request
    spot: Camera | None = None
    at: Place | None = None
    from_s: float | None = None
    anchors: int = 64
    samples: int | None = None
    bounces: int = 8
    every: int | None = None
    worst: int = WORST
    subject: int | None = None
    limit_stops: float = LIMIT_STOPS

    def samples_each(self, anchors: int) -> int:
        """Samples of each of so many anchors."""
        return min(max(PATHS // anchors, 64), 4096) if self.samples is None else self.samples

    def check(self) -> None:
        """RequestError if numbers make no sense."""
        check_request(self.request)
        if not 1 <= self.samples_each(1) <= MOST_SAMPLES or not 0 <= self.bounces <= MOST_BOUNCES:
            raise RequestError(f"{self.samples_each(1)} samples over {self.bounces} bounces are not within their limits")
        if not 1 <= self.anchors <= MOST_ANCHORS:
            raise RequestError(f"{self.anchors} anchors are not within 1 to {MOST_ANCHORS}")
        if self.every is not None and self.every < 1:
            raise RequestError("each pose or one of so many is drawn: a whole number of at least 1")
        if not 0 < self.limit_stops < 100:
            raise RequestError(f"a limit of {self.limit_stops:g} stops makes no sense")


@dataclass(frozen=True)
class Help:
    """What a remedy would leave if it brought the most it can, a prediction: drift in stops, and whether that is within the limit."""

    remedy: str
    drift: float
    enough: bool


@dataclass(frozen=True)
class Along:
    """p moments of a move, over the anchors that are in sight: t_s (p,); eyes (p, 3), forward (p, 3); seen (p,) anchors in sight; due,
    predicted (p,) mean nits, nan where none is; measured (p,): where it was drawn, else nan; away (p,) stops [predicted] and
    measured_away (p,): against each anchor's best moment; light (p, classes) mean nits from other surfaces by where that is, found (p,)
    of it what the passes find; drift: range in stops over all poses [predicted], measured_drift: over those that were drawn (nan: one
    alone was); worst: the pose forecast to be furthest away; exceeds: spans of (from_s, to_s) beyond the limit; cause: what took the
    light at the worst pose (""); helps: what remedies would leave; spot: the anchor that `rays` belong to."""

    asked: Asked
    anchors: int
    t_s: np.ndarray
    eyes: np.ndarray
    forward: np.ndarray
    seen: np.ndarray
    due: np.ndarray
    predicted: np.ndarray
    measured: np.ndarray
    away: np.ndarray
    measured_away: np.ndarray
    light: np.ndarray
    found: np.ndarray
    drift: float
    measured_drift: float
    worst: int
    exceeds: tuple[tuple[float, float], ...]
    cause: str
    helps: tuple[Help, ...]
    spot: tuple[float, float, float]
    rays: Rays

    @property
    def holds(self) -> bool:
        """Whether it stays within the limit; what was drawn has the last word."""
        return max(self.drift if np.isnan(self.measured_drift) else self.measured_drift, 0.0) <= self.asked.limit_stops


def move_of(renderer: Renderer, build: Build, name: str, viewpoint: str | None, request: Request) -> MovePath:
    """A move of the setup, or a stock one from a viewpoint. RequestError if there is none of that name, or no viewpoint is said."""
    aspect = request.size[0] / request.size[1]
    if name in build.setup.moves or name not in get_args(Stock):
        return path_of(build, name, aspect)
    if viewpoint is None:
        raise RequestError(f"move {name} starts at a viewpoint: say which")
    start = make_camera(build, viewpoint, aspect)
    frame = small_frame(renderer, build, replace(request, viewpoint=viewpoint), start)
    height, width = frame.pixels.shape
    ahead = float(np.median(frame.view_depth[height * 2 // 5 : height * 3 // 5 + 1, width * 2 // 5 : width * 3 // 5 + 1]))
    return stock_move(cast(Stock, name), viewpoint, start, ahead if np.isfinite(ahead) and ahead < FAR_M else AHEAD_M)


def spot_of(build: Build, name: str, viewpoint: str | None, request: Request) -> Camera | None:
    """The camera whose frame a crop is of while a move of the setup is looked along from a viewpoint; None: the move's own. RequestError if
    the viewpoint does not exist."""
    if viewpoint is None or name not in build.setup.moves:
        return None
    return make_camera(build, viewpoint, request.size[0] / request.size[1])


def along(
    renderer: Renderer, build: Build, asked: Asked, progress: Callable[[str, float], None] = lambda what, share: None
) -> Along:
    """Look along a move. progress is called as it goes, and may raise. RequestError for what makes no sense, and if nothing is in sight."""
    asked.check()
    path, t_s = asked.path, asked.path.moments
    cameras = [path.at(float(t)) for t in t_s]
    first = 0 if asked.from_s is None else int(np.argmin(np.abs(t_s - asked.from_s)))
    request = replace(asked.request, viewpoint=path.viewpoint, role=path.role or asked.request.role)
    whole = replace(request, crop=None)
    uncut = renderer.uncut(build, replace(whole, camera=asked.spot or cameras[first]), DRAWN)
    start = uncut if uncut.pixels.window == whole.window else cut(uncut, whole)
    scene = path_scene(renderer, build, start)
    anchors = anchors_of(scene, start, request, asked.anchors, asked.at, asked.subject)
    followed_by = replace(asked, every=None, worst=0, limit_stops=LIMIT_STOPS)  # the rest does not change what is followed
    middle, key = len(anchors) // 2, digest("forecast", source_hash(), build.content_hash, followed_by)
    known = renderer.memo.get(key)
    if known is None:
        each, begun = asked.samples_each(len(anchors)), perf_counter()
        known = forecast(
            renderer, build, whole, cameras, scene, start, anchors, each, asked.bounces, lambda what, s: progress(what, 0.7 * s), middle
        )  # fmt: skip
        renderer.memo.put(key, known, perf_counter() - begun)
    told, rays = known
    if not told.visible.any():
        raise RequestError("the place is in sight at no moment of the move")
    if asked.spot is not None or not told.visible[first].any():
        first = int(np.argmax(told.visible.sum(axis=1)))
        uncut = renderer.uncut(build, replace(whole, camera=cameras[first]), DRAWN)
    measured = {first: _measured(uncut, anchors, told.visible[first])}
    if not np.isfinite(measured[first].drawn).any():
        raise RequestError("nothing of the region can be told apart in the frame")
    scale = _scale(told, measured[first], first)
    varies = told.direct + told.brought(scale)
    stays = measured[first].drawn - varies[first]
    # What few rays of a mirror missed there is not taken off elsewhere.
    stays = np.where(anchors.shiny, np.maximum(stays, 0.0), stays)
    told = replace(told, visible=told.visible & np.isfinite(stays))
    predicted = np.where(told.visible, stays + varies, np.nan)
    curve = _Curve(predicted, told.due, told.visible)
    for k in _to_draw(curve.away, t_s, asked.worst, asked.every, first):
        progress(f"frame at {t_s[k]:.2f} s", 0.7 + 0.3 * len(measured) / (len(measured) + asked.worst))
        renderer.between()
        measured[k] = _measured(renderer.uncut(build, replace(whole, camera=cameras[k]), DRAWN), anchors, told.visible[k])
    drawn = np.full(predicted.shape, np.nan)
    for k, m in measured.items():
        drawn[k] = m.drawn
    seen_drawn = np.isfinite(drawn) & told.visible
    true = _Curve(drawn, told.due, seen_drawn, curve.best)
    worst = int(np.nanargmax(np.abs(curve.away)))
    exceeds = _spans(np.abs(curve.away) > asked.limit_stops, t_s)
    return Along(
        asked=asked, anchors=len(anchors), t_s=t_s, eyes=np.array([c.eye for c in cameras]),
        forward=np.array([c.forward for c in cameras]), seen=told.visible.sum(axis=1), due=_mean(told.due, told.visible),
        predicted=_mean(predicted, told.visible), measured=_mean(drawn, seen_drawn), away=curve.away, measured_away=true.away,
        light=np.stack([_mean(told.light[..., c], told.visible) for c in range(len(CLASSES))], axis=1),
        found=_mean(told.found, told.visible), drift=curve.drift, measured_drift=true.drift if len(measured) > 1 else float("nan"),
        worst=worst, exceeds=exceeds, cause=_why(told, scale, curve, worst) if exceeds else "",
        helps=_helps(told, scale, predicted, asked.limit_stops) if exceeds else (), spot=vec3(anchors.place[middle]), rays=rays,
    )  # fmt: skip


@dataclass(frozen=True)
class _Measured:
    """Of each anchor (n,), nan where the frame does not show it: nits drawn, before fog; of it, what passes brought from the frame."""

    drawn: np.ndarray
    brought: np.ndarray


def _measured(uncut: Frame, anchors: Anchors, visible: np.ndarray) -> _Measured:
    """Anchors between the pixels around them, in a frame with its margin, by what its passes tend to: a still is their converged mean."""
    left, top = uncut.pixels.origin
    _, x, y = projected(uncut.camera, uncut.pixels.size, anchors.place)
    height, width = uncut.pixels.shape
    corners, shares = _around(x - left - 0.5, y - top - 0.5, width, height)
    shares = shares * (uncut.drawable[corners] == anchors.drawable) * visible
    mask = np.zeros((height, width), bool)
    mask[corners[0][shares > 0], corners[1][shares > 0]] = True
    b = uncut.buffers
    drawn, brought = b["with_sky"].astype(np.float64), np.zeros((height, width, 3))
    for of, added, onto in ((bounce, "bounced", "shaded"), (reflect, "reflected", "with_sky")):
        if b[added].shape[:2] != (height, width):
            continue  # it is off
        before = {**b, onto: b[onto] - b[added]}
        tends = of.converged(before, of.section(uncut.stage), mask)
        drawn = drawn + tends - b[added]
        brought += tends
    total = shares.sum(axis=0)

    def at_anchors(light: np.ndarray) -> np.ndarray:
        found = ((light[corners] @ REC709_LUMA) * shares).sum(axis=0)
        return np.asarray(np.divide(found, total, out=np.full(len(anchors), np.nan), where=total > 0))

    return _Measured(at_anchors(drawn), at_anchors(brought))


def _around(x: np.ndarray, y: np.ndarray, width: int, height: int) -> tuple[tuple[np.ndarray, np.ndarray], np.ndarray]:
    """((rows, columns) (4, n) of the pixels around places x, y (n,) counted from pixels' middles, shares (4, n) of each)."""
    x, y = np.clip(x, 0, width - 1), np.clip(y, 0, height - 1)
    column, row = np.minimum(x.astype(int), max(width - 2, 0)), np.minimum(y.astype(int), max(height - 2, 0))
    u, v = x - column, y - row
    ways = ((0, 0), (0, 1), (1, 0), (1, 1))
    rows = np.stack([np.minimum(row + dy, height - 1) for dy, _ in ways])
    columns = np.stack([np.minimum(column + dx, width - 1) for _, dx in ways])
    shares = np.stack([(v if dy else 1 - v) * (u if dx else 1 - u) for dy, dx in ways])
    return (rows, columns), shares


def _scale(told: Forecast, measured: _Measured, k: int) -> np.ndarray:
    """(n,) what the passes bring of each nit that they are due to find, as measured at pose k; where they find next to nothing there, the
    mean."""
    found = told.found[k] + told.to_world[k]
    brought = np.where(np.isfinite(measured.brought), measured.brought, 0.0) + told.instead[k] - told.wrong[k]
    some = np.isfinite(measured.drawn) & (found > 0.02 * told.due[k])
    usual = float(np.clip(brought[some].sum() / found[some].sum(), 0.0, MOST_SCALE)) if some.any() else 1.0
    scale = np.full(len(found), usual)
    scale[some] = np.clip(brought[some] / found[some], 0.0, MOST_SCALE)
    return scale


class _Curve:
    """How far anchors are from their best moment, pose by pose: in stops, of all their light against what it would be if each were off by
    as much as at its best. drawn, due (p, n) nits, seen (p, n) bool; best (n,): stops off then, if they are known."""

    def __init__(self, drawn: np.ndarray, due: np.ndarray, seen: np.ndarray, best: np.ndarray | None = None) -> None:
        lit = seen & (due > 0)
        due = np.where(lit, due, 1.0)
        have = np.maximum(np.where(lit, drawn, 1.0), LEAST * due)
        if best is None:
            off = np.log2(have / due)
            nearest = np.argmin(np.where(lit, np.abs(off), np.inf), axis=0)
            best = np.where(lit.any(axis=0), off[nearest, np.arange(off.shape[1])], 0.0)
        self.best = best
        drawn_all, at_best = (np.where(lit, v, 0.0).sum(axis=1) for v in (have, due * 2.0**best))
        ratio = np.divide(drawn_all, at_best, out=np.full(len(have), np.nan), where=at_best > 0)
        self.away = np.log2(ratio)
        told = self.away[np.isfinite(self.away)]
        self.drift = float(told.max() - told.min()) if len(told) else 0.0


def _to_draw(away: np.ndarray, t_s: np.ndarray, worst: int, every: int | None, first: int) -> list[int]:
    """Poses to draw besides the first: the best and the furthest away, some way apart, and each so-manieth."""
    known = np.isfinite(away)
    order = [int(k) for k in np.argsort(-np.where(known, np.abs(away), -1.0)) if known[k]]
    chosen: list[int] = []
    for k in order:
        if len(chosen) == worst:
            break
        if all(abs(t_s[k] - t_s[c]) >= APART_S for c in (*chosen, first)):
            chosen.append(k)
    if chosen:  # without both ends of the range, what is drawn would hold where the whole move does not
        chosen += [int(np.nanargmax(away)), int(np.nanargmin(away))]
    more = range(0, len(t_s), every) if every else ()
    return [k for k in dict.fromkeys([*chosen, *more]) if k != first and known[k]]


def _mean(values: np.ndarray, seen: np.ndarray) -> np.ndarray:
    """(p,) mean over the anchors that are seen; nan where none is."""
    count = seen.sum(axis=1)
    return np.asarray(np.divide(np.where(seen, values, 0.0).sum(axis=1), count, out=np.full(len(count), np.nan), where=count > 0))


def _spans(beyond: np.ndarray, t_s: np.ndarray) -> tuple[tuple[float, float], ...]:
    """(from, to) in s of each run of moments that lie beyond."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], beyond.astype(int), [0]])))
    return tuple((float(t_s[a]), float(t_s[b - 1])) for a, b in edges.reshape(-1, 2))


def _why(told: Forecast, scale: np.ndarray, curve: _Curve, at: int) -> str:
    """Where the light went that is lost at pose `at` against the best one."""
    seen = told.visible & told.visible[at]

    def lost(k: int) -> np.ndarray:
        by_class = (told.asked[k] * scale[:, None])[seen[k]].sum(axis=0)
        by_class[ON] -= (told.found[k] * scale)[seen[k]].sum()
        return np.asarray(by_class / seen[k].sum())

    both = np.flatnonzero(np.isfinite(curve.away) & seen.any(axis=1))
    best = int(both[np.argmin(np.abs(curve.away[both]))])
    grown = lost(at) - lost(best)
    return NOT_FOUND if int(np.argmax(grown)) == ON else CLASSES[int(np.argmax(grown))]


def _helps(told: Forecast, scale: np.ndarray, predicted: np.ndarray, limit: float) -> tuple[Help, ...]:
    """What each kind of remedy would leave of the drift, if it brought the most it can."""
    now, asked = told.brought(scale), told.asked * scale[:, None]

    def left(remedy: str, brings: np.ndarray) -> Help:
        drift = _Curve(predicted - now + brings, told.due, told.visible).drift
        return Help(remedy, drift, drift <= limit)

    margins = [left(f"a margin of {px} px", told.margin[..., m] * scale) for m, px in enumerate(MARGINS_PX) if px]
    return (
        left("dials of a pass that has the frame alone", asked[..., ON]),
        next((m for m in margins if m.enough), margins[-1]),
        left("a second layer of depth", asked[..., [ON, HIDDEN, OTHER_SIDE]].sum(axis=-1)),
        left("a later copy", asked[..., [ON, NOT_COPIED]].sum(axis=-1)),
        left("a bake, a probe, rays into the world", asked.sum(axis=-1)),
    )
