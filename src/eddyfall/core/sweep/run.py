"""Orchestrates a sweep: observe every viewpoint once for all families and roles, conclude, prove remedies, measure impact."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from eddyfall.core.bake.run import settled
from eddyfall.core.compare.ciede2000 import delta_e_2000
from eddyfall.core.defects import families
from eddyfall.core.defects.contract import Family, Suspicion
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import EddyfallError, RequestError
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import SCOPE_ORDER, apply_change
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.sweep.findings import Finding, Impact, Remedy, RoleView, SweepResult, severity_of

IMPACT_SIZE = (480, 270)
VISIBLE_DIFFERENCE = 2.0
TRIAL_SAMPLES = 8  # remedies are tried on lightmaps of this many samples; impact is measured at the set number
SWEEP_MEMO_BYTES = 256 * 1024**2

Progress = Callable[[str, float], None]


def sweep(
    build: Build, *, target: str | None = None, size: tuple[int, int] = DEFAULT_SIZE, progress: Progress | None = None,
    renderer: Renderer | None = None,
) -> SweepResult:  # fmt: skip
    """Run all families over all play viewpoints and roles of a build.

    progress(what, share 0..1) is called as it goes. RequestError if the target does not exist; families never fail silently:
    one that raises an EddyfallError is named in left_out.
    """
    return _Sweep(build, target, size, progress or (lambda what, share: None), renderer or Renderer(Memo(SWEEP_MEMO_BYTES))).run()


class _Sweep:
    def __init__(self, build: Build, target: str | None, size: tuple[int, int], progress: Progress, renderer: Renderer) -> None:
        resolve(build.setup, target)
        self.survey = Survey(build, renderer, target, None, size)
        self.progress = progress
        self.left_out: list[str] = list(build.notes)
        self.small: dict[tuple[str, str], tuple[np.ndarray, np.ndarray]] = {}

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
                suspicions = family.conclude(replace(self.survey, role=role, pictures=role is None), observed[family.name, role])
                if role is None:
                    found += [(family, s) for s in suspicions]
                else:
                    elsewhere.setdefault(role, {}).update({s.fingerprint: s for s in suspicions})
        findings = []
        for i, (family, suspicion) in enumerate(found):
            self.progress(f"proving remedies: {suspicion.title}", 0.5 + 0.5 * i / len(found))
            findings.append(self._finding(family, suspicion, elsewhere))
        order = {"measured": 0, "exposed": 1, "none": 2}
        findings.sort(key=lambda f: (order[f.impact.kind], -f.impact.share, f.fingerprint))
        self.progress("done", 1.0)
        return SweepResult(tuple(findings), tuple(self.left_out), tuple(views), self.survey.size, self.survey.target)

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
                    observed[family.name, role][viewpoint] = family.observe(survey, viewpoint)
        return observed

    def _finding(self, family: Family, suspicion: Suspicion, elsewhere: dict[str, dict[str, Suspicion]]) -> Finding:
        remedies = [self._remedy(family, suspicion, i) for i in range(len(suspicion.candidates))]
        rank = {"cures": 0, "masks": 1, "no effect": 2, "does not apply": 3}
        remedies.sort(key=lambda r: (rank[r.verdict], len(r.warnings) + len(r.new_findings), SCOPE_ORDER.index(r.change.scope)))
        best = next((r for r in remedies if r.verdict == "cures"), None)
        impact = self._impact(suspicion, best)
        width, height = self.survey.size
        roles = tuple(
            RoleView(role, True) if suspicion.fingerprint in seen else self._hidden_by(family, suspicion, role)
            for role, seen in elsewhere.items()
        )
        return Finding(suspicion, severity_of(suspicion, impact, width * height), impact, tuple(remedies), roles)

    def _remedy(self, family: Family, suspicion: Suspicion, index: int) -> Remedy:
        candidate = suspicion.candidates[index]
        where = tuple(suspicion.pixels) or tuple(self.survey.viewpoints)
        try:
            changed = settled(apply_change(self.survey.build, candidate.change), suspicion.subjects, TRIAL_SAMPLES)
        except EddyfallError as error:
            return Remedy(
                candidate.change, "does not apply", str(error), candidate.costs, candidate.side_effects, candidate.warnings, 0.0
            )
        looking = replace(self.survey, only=where, pictures=False)
        after = family.inspect(replace(looking, build=changed))
        cured = suspicion.fingerprint not in {s.fingerprint for s in after}
        known = {s.fingerprint for s in family.inspect(looking)} if len(after) > int(not cured) else set()
        # Other lightmaps that a change makes stale are baked once all changes are kept, not for each trial.
        others = [s for s in after if s.fingerprint not in known and s.fingerprint != suspicion.fingerprint]
        new = tuple(s.title for s in others if s.code != "bake.stale")
        worst = max(where, key=lambda v: suspicion.pixels.get(v, 0))
        collateral, moved = self._collateral(suspicion, changed, worst)
        verdict: Any = "cures" if cured else ("masks" if moved > 0 else "no effect")
        return Remedy(
            candidate.change,
            verdict,
            candidate.predicts,
            candidate.costs,
            (*candidate.side_effects, *_until_baked([s.title for s in others if s.code == "bake.stale"])),
            candidate.warnings,
            collateral,
            new,
        )

    def _small(self, build: Build, viewpoint: str) -> tuple[np.ndarray, np.ndarray]:
        """(display, front drawable) at the size impact is measured at; kept, since they are small and asked for often."""
        key = (build.content_hash, viewpoint)
        if key not in self.small:
            frame = replace(self.survey, size=IMPACT_SIZE, build=build).frame(viewpoint, "display")
            self.small[key] = (frame.display, frame.drawable)
        return self.small[key]

    def _changed(self, changed: Build, viewpoint: str) -> np.ndarray:
        """(h, w) bool: pixels that differ visibly between the build and a changed one."""
        before, after = self._small(self.survey.build, viewpoint)[0], self._small(changed, viewpoint)[0]
        return np.asarray(delta_e_2000(before, after) > VISIBLE_DIFFERENCE)

    def _collateral(self, suspicion: Suspicion, changed: Build, viewpoint: str) -> tuple[float, float]:
        """(share of pixels off the subjects that change visibly, share of pixels that change at all) at one viewpoint."""
        delta = self._changed(changed, viewpoint)
        ids = [i for i, d in enumerate(self.survey.geometry.drawables) if d.name in suspicion.subjects]
        off = ~np.isin(self._small(self.survey.build, viewpoint)[1], ids)
        return float((delta & off).mean()), float(delta.mean())

    def _impact(self, suspicion: Suspicion, best: Remedy | None) -> Impact:
        width, height = self.survey.size
        shown = {v: n / (width * height) for v, n in suspicion.pixels.items()}
        worst_view = max(shown, key=lambda v: shown[v]) if shown else None
        views = self.survey.viewpoints
        if not shown:
            return Impact("none", 0.0, 0.0, None, "no play viewpoint shows it")
        if suspicion.not_drawn_yet or best is None:
            why = suspicion.not_drawn_yet or "no remedy cures it, so there is no picture without it"
            return Impact("exposed", max(shown.values()), sum(shown.values()) / len(views), worst_view, why)
        changed = settled(apply_change(self.survey.build, best.change), suspicion.subjects)
        shares = {viewpoint: float(self._changed(changed, viewpoint).mean()) for viewpoint in shown}
        worst_view = max(shares, key=lambda v: shares[v])
        return Impact("measured", shares[worst_view], sum(shares.values()) / len(views), worst_view)

    def _hidden_by(self, family: Family, suspicion: Suspicion, role: str) -> RoleView:
        """Find the one leaf of a role's overrides that hides the finding: put each back to its play value alone and look again."""
        setup = self.survey.build.setup
        where = tuple(suspicion.pixels) or tuple(self.survey.viewpoints)
        overlay = setup.roles[role].set
        for section, fields in overlay.items():
            for name, value in fields.items():
                play = resolve(setup, self.survey.target, None, where[0])
                play_value = getattr(getattr(play, section), name)
                if play_value == value:
                    continue
                left = {s: {k: v for k, v in f.items() if (s, k) != (section, name)} for s, f in overlay.items()}
                entry = setup.roles[role].model_copy(update={"set": {s: f for s, f in left.items() if f}})
                trial = replace(self.survey.build, setup=setup.model_copy(update={"roles": {**setup.roles, role: entry}}))
                after = family.inspect(replace(self.survey, build=trial, role=role, only=where, pictures=False))
                if suspicion.fingerprint in {s.fingerprint for s in after}:
                    return RoleView(role, False, f"{section}.{name}", play_value, value)
        return RoleView(role, False)


def _until_baked(titles: list[str]) -> list[str]:
    """What stays stale until everything is baked again, in one line."""
    if not titles:
        return []
    more = f", and {len(titles) - 1} more such things" if len(titles) > 1 else ""
    return [f"until they are baked again: {titles[0]}{more}"]
