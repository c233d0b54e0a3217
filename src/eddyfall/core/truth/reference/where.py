"""Where the light is that surfaces get from others: in the frame, or outside of what a pass that only has the frame can ever find.

Each ray that goes on from a surface meets something; the first of these that holds says where that is: sky, behind the camera, off the
frame (by so many pixels of margin), hidden (by what stands before it), on the other side of a sheet, not in the copy (blended), on the
frame. From it follows the most that each kind of remedy can bring: a prediction, until one is drawn."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Frame, Renderer, Request, check_request, cut
from eddyfall.core.passes.contract import Pixels, View
from eddyfall.core.scene.build import Build
from eddyfall.core.shade.columns import EMITTED_RGB
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.answers import FELL_BACK, FOUND, MARCHED, NOT_ASKED, OUTCOMES, Answers, Vertices
from eddyfall.core.truth.reference.classes import CLASSES, HIDDEN, NOT_COPIED, OFF, ON, OTHER_SIDE, SKY, classified
from eddyfall.core.truth.reference.of_frame import MOST_BOUNCES, MOST_SAMPLES, Wanted
from eddyfall.core.truth.reference.path_scene import PathScene, path_scene
from eddyfall.core.truth.reference.places import Place, onto
from eddyfall.core.truth.reference.secondary import Secondary
from eddyfall.core.truth.reference.shown import Shown, Trial, shown_of
from eddyfall.core.truth.reference.tally import BOUNCE, EMISSION, PARTS, REFLECTION, SKY_COAT, SKY_UNDER
from eddyfall.core.truth.reference.trace import follow, keys_of, seen_by
from eddyfall.core.truth.reference.walks import numbers_of

MARGINS_PX = (0, 16, 32, 64, 128, 256, 512)
MOST_PLACES = 4096
PATHS_AT_ONCE = 65_536
SOURCES = 8
TRIED = 4  # one in so many rays is tried with a probe that is not there


@dataclass(frozen=True)
class Row:
    """One class: share of rays; luminance in nits of bounced and of mirrored light."""

    where: str
    share: float
    bounce: float
    reflection: float


@dataclass(frozen=True)
class Answer:
    """What a pass that has the frame alone makes of the light it is asked for, as it is set: luminance in nits (classes, outcomes); of each
    surface that was seen, (drawables, classes, outcomes) on the mean of its own places."""

    name: str
    fallback: str
    light: np.ndarray
    by_surface: np.ndarray

    def of(self, where: str, outcome: str) -> float:
        """Nits of a class that come out so."""
        return float(self.light[CLASSES.index(where), OUTCOMES.index(outcome)])


@dataclass(frozen=True)
class Ceiling:
    """The most a kind of remedy can bring: luminance in nits, and stops of the whole against what is due (0: all of it)."""

    remedy: str
    nits: float
    stops: float
    why: str


@dataclass(frozen=True)
class Where:
    """Of places or of one place, before fog: how many; luminance due in nits, of it from other surfaces and the sky; rows by class; sources
    (drawable, class, nits), most first; hidden_by (drawable, nits); margin (px of it, share of pixels more, nits then on the frame);
    answers of the passes that are on; in_lightmaps: nits of it that lightmaps hold already; ceilings of the rest; of each drawable in front
    (drawables,): seen at how many places, nits due there, nits drawn there."""

    places: int
    samples: int
    due: float
    from_others: float
    rows: tuple[Row, ...]
    sources: tuple[tuple[str, str, float], ...]
    hidden_by: tuple[tuple[str, float], ...]
    margin: tuple[tuple[int, float, float], ...]
    answers: tuple[Answer, ...]
    in_lightmaps: float
    ceilings: tuple[Ceiling, ...]
    seen: np.ndarray
    due_of: np.ndarray
    drawn_of: np.ndarray

    def row(self, where: str) -> Row:
        """The row of a class."""
        return next(r for r in self.rows if r.where == where)


def where_light(
    renderer: Renderer, build: Build, request: Request, *, at: Place | None = None, samples: int = 64,
    bounces: int = 8, places: int = 512, seed: int = 1, progress: Callable[[str, float], None] = lambda what, share: None,
) -> Where:  # fmt: skip
    """Where the light of a crop's surfaces is (or of the whole frame's), seen from the request's viewpoint; at: a place of the world
    instead, whether the frame shows it or not. samples of each of `places` pixels spread over it. RequestError for what makes no sense."""
    check_request(request)
    if not 1 <= samples <= MOST_SAMPLES or not 0 <= bounces <= MOST_BOUNCES or not 1 <= places <= MOST_PLACES:
        raise RequestError(f"{samples} samples of {places} places over {bounces} bounces are not within their limits")
    whole = replace(request, crop=None)
    drawn = renderer.uncut(build, whole, "linear")
    frame = cut(drawn, whole) if drawn.pixels.window != whole.window else drawn
    scene = path_scene(renderer, build, frame)
    pixels = Wanted(request=request, points=places).pixels() if at is None else np.zeros((1, 2), np.int64)
    counts = _Counts(frame, scene, Answers(drawn), shown_of(renderer, frame))
    at_once = max(1, PATHS_AT_ONCE // samples)
    for first in range(0, len(pixels), at_once):
        renderer.between()
        progress(f"place {first + 1} of {len(pixels)}", first / len(pixels))
        counts.add(_traced(scene, frame, pixels[first : first + at_once], at, samples, bounces, seed))
    return counts.told(len(pixels), samples)


@dataclass(frozen=True)
class _Traced:
    """What n paths brought (n, parts + 2 lights, 3), before fog, and where it came from; where they start, on drawables that the frame
    shows in front there, else -1; drawn (n,): luminance in nits that it shows there, before fog."""

    found: np.ndarray
    secondary: Secondary
    vertices: Vertices
    drawn: np.ndarray


def _traced(
    scene: PathScene, frame: Frame, pixels: np.ndarray, at: Place | None, samples: int, bounces: int, seed: int
) -> _Traced:
    size = frame.pixels.size
    key = keys_of(pixels, size[0], seed, samples)
    rays, out = View(frame.camera, Pixels(size, (0, 0, *size))).rays, None
    if at is not None:
        rays, out = onto(scene, np.array(at, float), rays.eye)
    x, y = (np.repeat(pixels[:, k] + (0.5 if at is None else 0.0), samples) for k in (0, 1))
    eye = seen_by(scene, rays, x, y, key)
    walk = eye.walk if out is None else eye.walk._replace(out=np.tile(out, (len(key), 1)))
    mapped = np.asarray(frame.stage.state.mapped)[eye.drawable] & (eye.drawable >= 0)
    at_start = walk.place.copy(), walk.normal.copy(), walk.rough.copy()
    vertices = Vertices(*at_start, mapped, eye.drawable.copy(), 1.0 - numbers_of(key, MARCHED))
    found = np.zeros((len(key), len(PARTS) + 2 * len(scene.light_names), 3))
    secondary = Secondary.empty(len(key))
    follow(scene, walk, eye.reflecting, bounces, found, secondary)
    found[:, EMISSION] = eye.rows[:, EMITTED_RGB]
    found *= eye.arrived.weight[:, None]
    if at is not None:
        vertices.drawable[:] = -1
        return _Traced(found, secondary, vertices, np.zeros(len(key)))
    column, row = (np.repeat(pixels[:, k], samples) for k in (0, 1))
    same = (frame.drawable[row, column] == eye.drawable) & (eye.drawable >= 0)
    vertices.drawable[~same] = -1
    return _Traced(found, secondary, vertices, frame.buffers["with_sky"][row, column] @ REC709_LUMA)


class _Counts:
    """Sums over all paths, by class."""

    def __init__(self, frame: Frame, scene: PathScene, answers: Answers, shown: Shown) -> None:
        self.frame, self.scene, self.answers, self.shown = frame, scene, answers, shown
        drawables = len(frame.geometry.drawables)
        # The last row is of paths that start on what the frame does not show in front.
        names = (*answers.settings, *shown.names)
        self.answered = {name: np.zeros((drawables + 1, len(CLASSES), len(OUTCOMES))) for name in names}
        self.seen, self.due_of, self.drawn_of = np.zeros(drawables), np.zeros(drawables), np.zeros(drawables)
        self.paths = 0
        self.in_maps, self.widest = np.zeros(len(CLASSES)), 0.0
        self.by_mirror = self.by_probe = 0.0
        self.trial: Trial | None = None
        self.rays = np.zeros(len(CLASSES))
        self.light = np.zeros((len(CLASSES), 2))
        self.due = self.asked_for = 0.0
        self.by_drawable = np.zeros((len(CLASSES), len(frame.geometry.drawables)))
        self.hidden_by = np.zeros(len(frame.geometry.drawables))
        self.margin = np.zeros(len(MARGINS_PX))

    def add(self, t: _Traced) -> None:
        s, lights = t.secondary, len(self.scene.light_names)
        self.paths += len(t.found)
        due = t.found[:, : len(PARTS) + lights].sum(axis=1) @ REC709_LUMA
        self.due += float(due.sum())
        there = np.flatnonzero(t.vertices.drawable >= 0)
        front = t.vertices.drawable[there]
        np.add.at(self.seen, front, 1)
        np.add.at(self.due_of, front, due[there])
        np.add.at(self.drawn_of, front, t.drawn[there])
        others = t.found[:, [BOUNCE, REFLECTION, SKY_UNDER, SKY_COAT]].sum(axis=1)
        self.asked_for += float((others @ REC709_LUMA).sum())
        self.light[SKY] += (s.sky_light @ REC709_LUMA).sum(axis=0)
        self.rays[SKY] += float((s.went & (s.triangle < 0)).sum())
        self._of(t.vertices, s.place, s.facing, s.triangle, s.went_light @ REC709_LUMA, counted=True)
        self._of(t.vertices, s.asked_place, s.asked_facing, s.asked_triangle, s.asked_light @ REC709_LUMA, counted=False)

    def _of(
        self, vertices: Vertices, place: np.ndarray, facing: np.ndarray, triangle: np.ndarray, light: np.ndarray, counted: bool
    ) -> None:
        met = triangle >= 0
        place, facing, light, vertices = place[met], facing[met], light[met], vertices.of(met)
        drawable = self.scene.soup.owner[triangle[met]]
        copied = self.answers.copied
        classes, off_px, before = classified(self.frame, place, facing, self.scene.covers[drawable] > 0, copied)
        held = self._answered(vertices, place, drawable, classes, light)
        self._around(vertices, place, drawable, light[:, 1])
        np.add.at(self.in_maps, classes, held)
        total = light.sum(axis=1)
        for k in range(len(CLASSES)):
            there = classes == k
            self.light[k] += light[there].sum(axis=0)
            if counted:
                self.rays[k] += float(there.sum())
        np.add.at(self.by_drawable, (classes, drawable), total)
        blocked = (classes == HIDDEN) & (before >= 0)
        np.add.at(self.hidden_by, before[blocked], total[blocked])
        for k, px in enumerate(MARGINS_PX):
            inside = (classes == ON) | ((classes == OFF) & (off_px <= px))
            self.margin[k] += float(total[inside].sum())
        self.widest += float((total - held)[inside].sum())

    def _answered(
        self, v: Vertices, place: np.ndarray, drawable: np.ndarray, classes: np.ndarray, light: np.ndarray
    ) -> np.ndarray:
        """Note what the passes make of light (n, 2) from places (n, 3): of what each is asked for, and of what it is not. Returns nits (n,)
        that lightmaps hold already."""
        direction = place - v.place
        direction /= np.maximum(np.linalg.norm(direction, axis=1, keepdims=True), 1e-12)
        held, in_mirror = light * v.mapped[:, None], self.shown.in_mirrors(v)
        probed, share = self.shown.by_probes(v, direction, place, drawable)
        coat = self.shown.takes(v) & ~in_mirror
        for name, setting in self.answers.settings.items():
            takes, mine = self.answers.takes(name, v), self.answers.concerns(name, v)
            takes[:, 1] &= ~in_mirror
            mine[:, 1] &= ~in_mirror
            outcome, counts = self.answers.outcomes(name, v, direction, place, drawable)
            to_probes = share if setting.fallback == "probe" or (name == "reflect" and setting.fallback == "sky") else 0 * share
            asked = (takes * light).sum(axis=1)
            self._note(name, v, classes, outcome, asked * counts)
            self._note(name, v, classes, probed, asked * (1 - counts) * to_probes)
            self._note(name, v, classes, self.answers.unfound(name), asked * (1 - counts) * (1 - to_probes))
            self._note(name, v, classes, NOT_ASKED, (mine * light).sum(axis=1) - asked)
            held = held * ~takes
            coat &= ~takes[:, 1] if name == "reflect" else True
        if "probes" in self.answered:
            self._note("probes", v, classes, probed, light[:, 1] * coat * share)
            held[:, 1] *= 1 - coat * share
        if "mirrors" in self.answered:
            self._note("mirrors", v, classes, self.shown.by_mirrors(drawable), light[:, 1] * in_mirror)
            held[:, 1] *= ~in_mirror
        return np.asarray(held.sum(axis=1))

    def _around(self, v: Vertices, place: np.ndarray, drawable: np.ndarray, light: np.ndarray) -> None:
        """Note what of mirrored light (n,) from places (n, 3) a planar mirror would show, and a probe in a box fitted to the room."""
        if not light.any():
            return
        if self.trial is None:
            self.trial = Trial.around(self.shown, v)
        self.by_mirror += float(light[self.trial.flat(v)].sum())
        some = np.flatnonzero(light > 0)[::TRIED]
        self.by_probe += float(light[some][self.trial.shows(v.of(some), place[some], drawable[some])].sum()) * TRIED

    def _note(self, name: str, v: Vertices, classes: np.ndarray, outcome: np.ndarray | int, nits: np.ndarray) -> None:
        np.add.at(self.answered[name], (v.drawable, classes, np.broadcast_to(outcome, len(nits))), nits)

    def _fallback(self, name: str) -> str:
        """What light a pass leaves to others falls back on; of mirrors nothing, of probes what lights the surface otherwise."""
        return (
            self.answers.settings[name].fallback if name in self.answers.settings else "nothing" if name == "mirrors" else "sky"
        )

    def told(self, places: int, samples: int) -> Where:
        n = max(self.paths, 1)
        names = [d.name for d in self.frame.geometry.drawables]
        light, due, in_maps = self.light / n, self.due / n, self.in_maps / n
        share = self.rays / max(self.rays.sum(), 1)
        rows = tuple(Row(name, float(share[k]), float(light[k, 0]), float(light[k, 1])) for k, name in enumerate(CLASSES))
        order = np.dstack(np.unravel_index(np.argsort(-self.by_drawable, axis=None), self.by_drawable.shape))[0][:SOURCES]
        sources = tuple((names[d], CLASSES[k], float(self.by_drawable[k, d] / n)) for k, d in order if self.by_drawable[k, d] > 0)
        before = [int(d) for d in np.argsort(-self.hidden_by)[:SOURCES] if self.hidden_by[d] > 0]
        width, height = self.frame.pixels.size
        more = [((width + 2 * px) * (height + 2 * px)) / (width * height) - 1 for px in MARGINS_PX]
        margin = tuple((px, more[k], float(self.margin[k] / n)) for k, px in enumerate(MARGINS_PX))
        paths = np.maximum(self.seen, 1)
        answers = tuple(
            Answer(name, self._fallback(name), sums.sum(axis=0) / n, sums[:-1] / paths[:, None, None])
            for name, sums in self.answered.items()
        )
        hidden_by = tuple((names[d], float(self.hidden_by[d] / n)) for d in before)
        ceilings = _ceilings(light.sum(axis=1) - in_maps, due, self.widest / n, answers, (self.by_mirror / n, self.by_probe / n))
        return Where(
            places=places, samples=samples, due=due, from_others=self.asked_for / n, rows=rows, sources=sources, hidden_by=hidden_by,
            margin=margin, answers=answers, in_lightmaps=float(in_maps.sum()), ceilings=ceilings, seen=self.seen / samples,
            due_of=self.due_of / paths, drawn_of=self.drawn_of / paths,
        )  # fmt: skip


def _ceilings(
    light: np.ndarray, due: float, with_margin: float, answers: tuple[Answer, ...], around: tuple[float, float]
) -> tuple[Ceiling, ...]:
    """What each kind of remedy can bring at the most of light (classes,) that no lightmap holds; all of them have what lightmaps hold and
    what does not come from other surfaces. around: what a mirror and a probe would show."""
    others = float(light.sum() - light[SKY])
    rest = due - others
    everything = others

    def made(remedy: str, nits: float, why: str) -> Ceiling:
        have = rest + nits
        return Ceiling(remedy, nits, float(np.log2(have / due)) if have > 0 and due > 0 else float("-inf"), why)

    on = float(light[ON])
    now = sum(float(a.light[:, FOUND].sum() + (a.light[:, FELL_BACK].sum() if a.fallback == "world" else 0.0)) for a in answers)
    as_set = (made("the passes as they are set", now, "what they find now"),) if answers else ()
    return (
        *as_set,
        made("dials of a pass that has the frame alone", on, "what is on the frame, and nothing else"),
        made(f"a margin of {MARGINS_PX[-1]} px", float(with_margin), "and what lies that far off the frame"),
        made("a second layer of depth", on + float(light[HIDDEN] + light[OTHER_SIDE]), "and what is hidden, or on a sheet's other side"),
        made("a later copy", on + float(light[NOT_COPIED]), "and what is blended"),
        made("a planar mirror", around[0], "what flat and smooth surfaces mirror, and nothing else"),
        made("a probe in a box fitted to the room", around[1], "of what is mirrored what it would show where it is, and nothing else"),
        made("a bake, a probe, rays into the world", everything, "wherever it is, as long as it stands still"),
    )  # fmt: skip
