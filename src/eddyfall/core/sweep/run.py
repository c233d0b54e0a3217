"""Orchestrates a sweep: observe every viewpoint once for all families and roles, conclude, prove remedies, measure impact."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from scipy.ndimage import binary_erosion

from eddyfall.core.defects import families
from eddyfall.core.defects.contract import Family, Suspicion
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.memo import Memo, give_back
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.sweep.findings import Finding, RoleView, Severity, SweepResult, Underway, severity_of
from eddyfall.core.sweep.proving import PROOFS, Proved, Prover

OUTLINE_PX = 3
MOST_OUTLINED = 12
SWEEP_MEMO_BYTES = 272 * 1024**2

Progress = Callable[[str, float], None]
OnFound = Callable[[Underway], None]


def sweep(
    build: Build, *, target: str | None = None, size: tuple[int, int] = DEFAULT_SIZE, progress: Progress | None = None,
    renderer: Renderer | None = None, budget: int = PROOFS, on_found: OnFound | None = None,
) -> SweepResult:  # fmt: skip
    """Run all families over all play viewpoints and roles of a build.

    progress(what, share 0..1) is called as it goes; on_found with each suspicion once it is measured, and again once its remedies are
    proved; budget: how many proofs of remedies it may spend.
    RequestError if the target does not exist; families never fail silently:
    one that raises an EddyfallError is named in left_out.
    """
    return _Sweep(
        build, target, size, progress or (lambda what, share: None), renderer or Renderer(Memo(SWEEP_MEMO_BYTES)), budget,
        on_found or (lambda underway: None),
    ).run()  # fmt: skip


class _Sweep:
    def __init__(
        self, build: Build, target: str | None, size: tuple[int, int], progress: Progress, renderer: Renderer, budget: int,
        on_found: OnFound,
    ) -> None:  # fmt: skip
        resolve(build.setup, target)
        self.survey = Survey(build, renderer, target, None, size)
        self.progress = progress
        self.left_out: list[str] = list(build.notes)
        self.budget, self.on_found = budget, on_found
        self.leaf_trials: dict[tuple[str, str, str, str, tuple[str, ...]], set[str]] = {}

    def run(self) -> SweepResult:
        views = self.survey.viewpoints
        if not self.survey.geometry.plate or not views:
            left = [note for note in self.left_out if note.startswith(("left out", "not drawn yet"))]
            raise RequestError(
                "nothing can be judged: " + ("; ".join(left[:2]) or "the build has nothing to draw, or no viewpoints")
            )
        roles: list[str | None] = [None, *self._other_roles()]
        observed = self._observe(roles)
        found: list[tuple[Family, Suspicion]] = []
        elsewhere: dict[str, dict[str, Suspicion]] = {}
        for family in families():
            for role in roles:
                with self.survey.renderer.clock.timing(f"family {family.name}"):
                    suspicions = family.conclude(
                        replace(self.survey, role=role, pictures=role is None), observed[family.name, role]
                    )
                if role is None:
                    found += [(family, s) for s in suspicions]
                else:
                    elsewhere.setdefault(role, {}).update({s.fingerprint: s for s in suspicions})
        for _, suspicion in found:
            self.on_found(Underway(suspicion))
        self.progress("proving remedies", 0.5)
        known = {family.name: observed[family.name, None] for family in families()}
        prover = Prover(self.survey, lambda what, share: self.progress(what, 0.5 + 0.5 * share), self.budget, known)
        findings, outlined = [], 0
        for (family, suspicion), proved in zip(found, prover.prove(found, self._tell)):
            views_of_roles = tuple(
                RoleView(role, True) if suspicion.fingerprint in seen else self._hidden_by(family, suspicion, role)
                for role, seen in elsewhere.items()
            )
            severity = self._severity(proved)
            shown = None
            if all(e.picture is None for e in suspicion.evidence) and outlined < MOST_OUTLINED:
                shown = self._outlined(suspicion)
                outlined += shown is not None
            findings.append(Finding(suspicion, severity, proved.impact, proved.remedies, views_of_roles, shown))
        if prover.unproved:
            some = len(set(prover.unproved))
            self.left_out.append(
                f"not proved: {len(prover.unproved)} remedies of {some} finding{'s' if some != 1 else ''}, among them "
                f"{prover.unproved[0]}; the budget is {self.budget} proofs"
            )
        order = {"measured": 0, "exposed": 1, "none": 2}
        findings.sort(key=lambda f: (order[f.impact.kind], -f.impact.share, f.fingerprint))
        self.progress("swept", 1.0)
        return SweepResult(tuple(findings), tuple(self.left_out), tuple(views), self.survey.size, self.survey.target)

    def _severity(self, proved: Proved) -> Severity:
        width, height = self.survey.size
        return severity_of(proved.suspicion, proved.impact, width * height)

    def _tell(self, proved: Proved) -> None:
        finding = Finding(proved.suspicion, self._severity(proved), proved.impact, proved.remedies)
        self.on_found(Underway(proved.suspicion, finding))

    def _other_roles(self) -> list[str]:
        """Roles that differ from what the play viewpoints resolve to by themselves."""
        setup = self.survey.build.setup
        return [name for name, entry in setup.roles.items() if name != "play" and entry.set]

    def _observe(self, roles: list[str | None]) -> dict[tuple[str, str | None], dict[str, Any]]:
        observed: dict[tuple[str, str | None], dict[str, Any]] = {(f.name, r): {} for f in families() for r in roles}
        views = self.survey.viewpoints
        for i, viewpoint in enumerate(views):
            self.progress(f"looking from {viewpoint}", 0.5 * i / len(views))
            for role in roles:
                survey = replace(self.survey, role=role, pictures=role is None)
                for family in families():
                    with survey.renderer.clock.timing(f"family {family.name}"):
                        observed[family.name, role][viewpoint] = family.observe(survey, viewpoint)
            give_back()
        return observed

    def _outlined(self, suspicion: Suspicion) -> np.ndarray | None:
        """The frame of the viewpoint that shows most of the subjects, pale, with their outline; None if none shows them."""
        if not suspicion.pixels:
            return None
        view = max(suspicion.pixels, key=lambda v: suspicion.pixels[v])
        glass = self.survey.stage(view).state.refracts.any()
        frame = self.survey.frame(view, "linear" if glass else "drawable")
        ids = [i for i, d in enumerate(frame.geometry.drawables) if d.name in suspicion.subjects]
        inside = np.isin(frame.front, ids)
        return self.survey.painted(view, inside & ~binary_erosion(inside, iterations=OUTLINE_PX)) if inside.any() else None

    def _hidden_by(self, family: Family, suspicion: Suspicion, role: str) -> RoleView:
        """Find the one leaf of a role's overrides that hides the finding: put each back to its play value alone and look again."""
        setup = self.survey.build.setup
        where = tuple(suspicion.pixels) or tuple(self.survey.viewpoints)
        overlay = setup.roles[role].set
        for section, fields in overlay.items():
            for name, value in fields.items():
                play = resolve(setup, self.survey.target, None, where[0])
                play_value = getattr(play.sections[section], name)
                if play_value == value:
                    continue
                left = {s: {k: v for k, v in f.items() if (s, k) != (section, name)} for s, f in overlay.items()}
                entry = setup.roles[role].model_copy(update={"set": {s: f for s, f in left.items() if f}})
                trial = replace(self.survey.build, setup=setup.model_copy(update={"roles": {**setup.roles, role: entry}}))
                key = (family.name, role, section, name, where)
                if key not in self.leaf_trials:
                    after = family.inspect(replace(self.survey, build=trial, role=role, pictures=False, only=where))
                    self.leaf_trials[key] = {s.fingerprint for s in after}
                if suspicion.fingerprint in self.leaf_trials[key]:
                    return RoleView(role, False, f"{section}.{name}", play_value, value)
        return RoleView(role, False)
