"""Orchestrates a line-up: round 1 switches off each pass that wrote the spot and each light, round 2 tries the families' levers
in the passes that moved the score. Each trial starts from the same base."""

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np

from eddyfall.core.compare.ciede2000 import delta_e_2000
from eddyfall.core.defects import families
from eddyfall.core.defects.contract import Lever
from eddyfall.core.defects.registry import looks
from eddyfall.core.defects.survey import Survey
from eddyfall.core.defects.symptoms import Symptom, symptoms
from eddyfall.core.errors import EddyfallError, RequestError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import DEFAULT_SIZE, Frame, Renderer, Request, check_request
from eddyfall.core.frame.schedule import schedule
from eddyfall.core.layers.capture import layers_of
from eddyfall.core.lineup.spot import make_spot
from eddyfall.core.passes.contract import Asked
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import SCOPE_ORDER, Change, apply_change
from eddyfall.core.scene.names import short_id
from eddyfall.core.truth.visibility import would_cast

MOST_TRIALS = 24
LEVERS_A_PASS = 3
PREVIEW_SIZE = (240, 135)
MOVED = 0.10
COLLATERAL_LIMIT = 0.001
IDENTITY_RGB = (0.0044, 0.1119, 0.1022)  # #0E5A5F in linear light
VERDICTS = ("clears it", "clears it but breaks something else", "helps", "confirms identity", "no effect")
Verdict = Literal["clears it", "clears it but breaks something else", "helps", "confirms identity", "no effect"]


@dataclass(frozen=True)
class Trial:
    """One single change, rendered: score before and after, what else moved. picture: uint8 (h, w, 3) of the spot.

    collateral: share of the preview frame off the spot that changes and does not share the cause; also_changed: that shares it.
    new_findings: what it breaks elsewhere than at the viewpoint, where the symptom's family looks further.
    """

    title: str
    pass_name: str
    change: Change | None
    predicts: str
    because: str
    before: float
    after: float
    collateral: float
    also_changed: float
    verdict: Verdict
    surprise: bool
    picture: np.ndarray
    new_findings: tuple[str, ...] = ()


@dataclass
class LineUp:
    """Trials in order of rank, the base picture, what was not tried, and how the spot was read."""

    viewpoint: str
    symptom: str
    unit: str
    spot: tuple[int, int, int, int]
    subject: str
    base_score: float
    base_picture: np.ndarray
    trials: list[Trial]
    not_tried: list[str]
    wrote: list[str]
    facts: dict[str, Any] = field(default_factory=dict)


def line_up(
    build: Build, viewpoint: str, spot: tuple[int, int, int, int], symptom: str, *, target: str | None = None,
    size: tuple[int, int] = DEFAULT_SIZE, subject: str | None = None, try_all: bool = False, renderer: Renderer | None = None,
    progress: Callable[[str, float], None] | None = None, on_trial: Callable[[Trial], None] | None = None,
) -> LineUp:  # fmt: skip
    """Try single changes on spot (x, y, width, height) px of a viewpoint for a symptom that has a score.

    subject: drawable whose pixels count (default: the one in front on most of the spot). RequestError for anything that does
    not exist. on_trial is called with each trial as it finishes, before ranking.
    """
    scored = symptoms()
    if symptom not in scored:
        why = "has no score yet, so that no trial could be judged by it" if symptom in looks() else "does not exist"
        raise RequestError(f"symptom {symptom!r} {why}; there are: {', '.join(scored)}")
    x, y, w, h = spot
    request = Request(viewpoint, size, (x, y, x + w, y + h), target)
    check_request(request)
    runner = _LineUp(build, request, scored[symptom], renderer or Renderer(), subject)
    return runner.run(try_all, progress or (lambda what, share: None), on_trial or (lambda trial: None))


class _LineUp:
    def __init__(self, build: Build, request: Request, symptom: Symptom, renderer: Renderer, subject: str | None) -> None:
        self.build, self.request, self.symptom, self.renderer = build, request, symptom, renderer
        self.survey = Survey(build, renderer, request.target, None, request.size, spot=request.crop)
        self.frame = renderer.frame(build, request)
        self.spot = make_spot(self.frame, request, self._subject(subject))
        # Exposure is locked to the base frame; the preview frame finds what else a trial changes.
        self.preview_request = Request(request.viewpoint, PREVIEW_SIZE, None, request.target)
        self.preview = renderer.frame(build, self.preview_request)
        self.base = self._score(build)
        self._known: dict[str, set[str]] = {}

    def _subject(self, name: str | None) -> int:
        if name is not None:
            if name not in self.frame.geometry.names:
                raise RequestError(f"drawable {name!r} does not exist")
            return self.frame.geometry.names[name]
        ids, counts = np.unique(self.frame.front[self.frame.front >= 0], return_counts=True)
        if not len(ids) or self.symptom.of_layers:
            blended, on = np.unique(layers_of(self.frame).shown.drawable, return_counts=True)
            ids, counts = (blended, on) if len(blended) else (ids, counts)
        if not len(ids):
            raise RequestError("nothing solid is in front anywhere on the spot, nor anything blended")
        return int(ids[np.argmax(counts)])

    def _rays(self, build: Build) -> Callable[[Frame], RayScene]:
        survey = self.survey.on(build)
        return lambda frame: survey.rays(frame, would_cast(frame))

    def _score(self, build: Build) -> float:
        return self.symptom.score(self.renderer, build, self.spot, self._rays(build))

    def run(self, try_all: bool, progress: Callable[[str, float], None], on_trial: Callable[[Trial], None]) -> LineUp:
        wrote = self._passes_that_wrote()
        first = [self._identity_lever(), *self._round_one(wrote)]
        trials: list[Trial] = []
        moved: set[str] = set()
        for i, lever in enumerate(first):
            progress(lever.change.title if lever.change.patch else lever.predicts, 0.5 * i / len(first))
            trial = self._trial(lever)
            if trial is not None:
                trials.append(trial)
                on_trial(trial)
                if abs(trial.before - trial.after) > MOVED * max(trial.before, 1e-12):
                    moved.add(lever.pass_name)
        second, skipped = self._round_two(moved, {t.change.id for t in trials if t.change}, try_all)
        room = len(second) if try_all else max(MOST_TRIALS - len(trials), 0)
        skipped += [lever.change.title for lever in second[room:]]
        for i, lever in enumerate(second[:room]):
            progress(lever.change.title, 0.5 + 0.5 * i / max(len(second), 1))
            trial = self._trial(lever)
            if trial is not None:
                trials.append(trial)
                on_trial(trial)
        trials.sort(key=_rank)
        progress("done", 1.0)
        x0, y0, x1, y1 = self.request.window
        return LineUp(
            self.request.viewpoint, self.symptom.name, self.symptom.unit, (x0, y0, x1 - x0, y1 - y0),
            self.frame.geometry.drawables[self.spot.subject].name, self.base, self.frame.display, trials, skipped, sorted(wrote),
            {"subject_pixels": int(self.spot.pixels.sum()), "at": self._pixel()},
        )  # fmt: skip

    def _pixel(self) -> list[int]:
        """The pixel of the subject nearest the middle of the spot: where a core sample says most."""
        x0, y0, x1, y1 = self.request.window
        rows, columns = np.nonzero(self.spot.pixels)
        if not len(rows):
            return [(x0 + x1) // 2, (y0 + y1) // 2]
        nearest = int(np.argmin((columns - (x1 - x0) / 2) ** 2 + (rows - (y1 - y0) / 2) ** 2))
        return [int(columns[nearest]) + x0, int(rows[nearest]) + y0]

    def _passes_that_wrote(self) -> set[str]:
        """Names of the passes that touched the spot, from core samples at 9 points of it."""
        x0, y0, x1, y1 = self.request.window
        full = replace(self.request, crop=None)
        wrote: set[str] = set()
        for fy in (0.17, 0.5, 0.83):
            for fx in (0.17, 0.5, 0.83):
                x, y = int(x0 + fx * (x1 - x0)), int(y0 + fy * (y1 - y0))
                sample = core_sample(self.renderer, self.build, full, x, y)
                wrote |= {layer.pass_name for layer in sample.layers}
        return wrote | ({"direct", "shadow"} if "opaque" in wrote else set())

    def _round_one(self, wrote: set[str]) -> list[Lever]:
        asked = Asked(
            self.build, self.frame.stage, self.frame.geometry, self.frame.buffers["in_view"], self.spot.subject
        )  # fmt: skip
        return [
            Lever(p.name, change, "if the symptom goes, this pass makes it", because or f"the {p.name} pass wrote the spot")
            for p in schedule()
            if p.name in wrote
            for off in p.off
            for change, because in off.changes(asked)
        ]

    def _identity_lever(self) -> Lever:
        name = self.frame.geometry.drawables[self.spot.subject].name
        change = Change(id=short_id(f"paint:{name}"), title=f"paint {name} flat", scope="node")
        return Lever("surface", change, "the spot turns the identity colour", "proves which drawable is meant")

    def _round_two(self, moved: set[str], tried: set[str], try_all: bool) -> tuple[list[Lever], list[str]]:
        chosen: list[Lever] = []
        skipped: list[str] = []
        used: dict[str, int] = {}
        for family in families():
            for lever in family.levers(self.survey, self.spot.subject, self.request.viewpoint):
                if lever.change.id in tried or lever.change.id in {c.change.id for c in chosen}:
                    continue
                reached = lever.pass_name in moved or self._feeds(lever.pass_name, moved)
                if not (
                    try_all
                    or (reached and used.get(f"{family.name}/{lever.pass_name}", 0) < LEVERS_A_PASS)
                    or self._is_own(family.symptoms)
                ):
                    skipped.append(f"{lever.change.title}: the {lever.pass_name} pass did not move the score")
                    continue
                used[f"{family.name}/{lever.pass_name}"] = used.get(f"{family.name}/{lever.pass_name}", 0) + 1
                chosen.append(lever)
        return chosen, skipped

    def _feeds(self, pass_name: str, moved: set[str]) -> bool:
        """Whether a pass writes a buffer that a pass that moved the score reads."""
        by_name = {p.name: p for p in schedule()}
        return any(set(by_name[pass_name].writes) & set(by_name[m].reads) for m in moved)

    def _is_own(self, symptoms: tuple[str, ...]) -> bool:
        return self.symptom.name in symptoms

    def _trial(self, lever: Lever) -> Trial | None:
        paint = lever.change.id.startswith("paint:")
        request, preview = self.request, self.preview_request
        changed = self.build
        if paint:
            nit = float(np.percentile(self.frame.linear, 95)) or 1.0
            rgb = tuple(c * nit for c in IDENTITY_RGB)
            request = replace(request, paint=((self.spot.subject, rgb),))  # type: ignore[arg-type]
            preview = replace(preview, paint=request.paint)
        else:
            try:
                changed = apply_change(self.build, lever.change)
            except EddyfallError:
                return None
        frame = self.renderer.frame(changed, request)
        after = self.base if paint else self._score(changed)
        collateral, also = self._collateral(changed, preview)
        cleared = after <= self.symptom.clear_share * self.base and self.base > 0
        helped = after < (1 - MOVED) * self.base
        broken = self._broken(changed) if cleared and not paint else ()
        verdict: Verdict
        if paint:
            turned = delta_e_2000(frame.display, self.frame.display)[self.spot.pixels] > 2.0
            verdict = "confirms identity" if turned.size and turned.mean() > 0.5 else "no effect"
        elif cleared:
            verdict = "clears it but breaks something else" if broken or collateral > COLLATERAL_LIMIT else "clears it"
        else:
            verdict = "helps" if helped else "no effect"
        surprise = after > (1 + MOVED) * self.base and self.base > 0
        return Trial(
            lever.change.title,
            lever.pass_name,
            None if paint else lever.change,
            lever.predicts,
            lever.because,
            self.base,
            after,
            collateral,
            also,
            verdict,
            surprise,
            frame.display,
            broken,
        )

    def _broken(self, changed: Build) -> tuple[str, ...]:
        """Titles of what a changed build newly has at the viewpoint and on its moves, by families that look beyond the frame."""
        found: list[str] = []
        looking = replace(self.survey, only=(self.request.viewpoint,), pictures=False, spot=None)
        for family in (f for f in families() if f.beyond_the_frame and self._is_own(f.symptoms)):
            if family.name not in self._known:
                self._known[family.name] = {s.fingerprint for s in family.inspect(looking)}
            found += [s.title for s in family.inspect(looking.on(changed)) if s.fingerprint not in self._known[family.name]]
        return tuple(found)

    def _collateral(self, changed: Build, request: Request) -> tuple[float, float]:
        """(share of the preview frame off the spot that changes without sharing the cause, share that changes and shares it)."""
        after = self.renderer.frame(changed, request)
        delta = delta_e_2000(self.preview.display, after.display) > 2.0
        sx, sy = PREVIEW_SIZE[0] / self.request.size[0], PREVIEW_SIZE[1] / self.request.size[1]
        x0, y0, x1, y1 = self.request.window
        delta[int(y0 * sy) : int(np.ceil(y1 * sy)), int(x0 * sx) : int(np.ceil(x1 * sx))] = False
        shares = self.symptom.shares(self.preview, after, self.spot, self._rays(changed))
        return float((delta & ~shares).mean()), float((delta & shares).mean())


def _rank(trial: Trial) -> tuple[Any, ...]:
    scope = SCOPE_ORDER.index(trial.change.scope) if trial.change else 0
    return VERDICTS.index(trial.verdict), round(trial.collateral, 4), scope, trial.after, trial.title
