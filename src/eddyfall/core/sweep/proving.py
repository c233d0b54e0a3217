"""Proves remedies: applies each, inspects anew and looks at the frames. Many like findings are proved together, within a budget.

Each remedy of a few findings is tried by itself. Where many findings are alike (same code, same kinds of remedies), the k-th remedies
of all of them are applied at once and inspected once; each finding is then judged by its own measure and by the pixels of its own
subjects. What this leaves unclear is proved by itself as long as the budget lasts; what is left then says that it was not proved."""

from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from eddyfall.core.bake.maps.run import settled
from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE, delta_e_2000
from eddyfall.core.defects.contract import Candidate, Family, Suspicion
from eddyfall.core.defects.registry import code_of
from eddyfall.core.defects.survey import Survey
from eddyfall.core.errors import EddyfallError
from eddyfall.core.frame.memo import give_back
from eddyfall.core.layers.capture import shows
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import SCOPE_ORDER, Change, apply_change, apply_together
from eddyfall.core.sweep.findings import Impact, Remedy, Verdict

IMPACT_SIZE = (480, 270)
SCENE_WIDE = ("project", "role", "target")  # scopes of changes that reach every viewpoint
NEARER = 0.1  # a look that masks has come this share nearer to what it ought to be
TRIAL_SAMPLES = 8  # remedies are tried on lightmaps of this many samples; impact is measured at the set number
ALONE = 8  # so many like findings are proved one by one
PROOFS = 400  # inspections that a sweep spends on remedies
FRAMES_KEPT = 16
TRIAL_BAKES = "lightmaps baked for trials"  # their name on the clock
SPENT = "the budget of this sweep was spent"
RANK: dict[str, int] = {"cures": 0, "masks": 1, "no effect": 2, "not proved": 3, "does not apply": 4}

Found = tuple[Family, Suspicion]


@dataclass(frozen=True)
class Proved:
    """The remedies of one suspicion, best first, and its impact."""

    suspicion: Suspicion
    remedies: tuple[Remedy, ...]
    impact: Impact


@dataclass
class Seen:
    """A changed build at one viewpoint: which pixels differ visibly, and the front drawables before and after (h, w)."""

    changed: np.ndarray
    before: np.ndarray
    after: np.ndarray
    names_after: tuple[str, ...]

    def counts(self, names: tuple[str, ...]) -> np.ndarray:
        """(d,) changed pixels that show each of the drawables `names`, before or after."""
        number = {name: i for i, name in enumerate(names)}
        back = np.array([number.get(name, -1) for name in self.names_after] + [-1])
        before, after = self.before[self.changed], back[self.after[self.changed]]
        total = np.bincount(before[before >= 0], minlength=len(names))
        other = after[(after >= 0) & (after != before)]
        return np.asarray(total + np.bincount(other, minlength=len(names)))


class Prover:
    """Proves the remedies of suspicions found on the build of a survey."""

    def __init__(
        self, survey: Survey, progress: Callable[[str, float], None], budget: int = PROOFS,
        observed: Mapping[str, Mapping[str, Any]] | None = None,
    ) -> None:  # fmt: skip
        """observed: by family and viewpoint, what families have seen of the build as it is; what is not there is looked at when it is
        asked for."""
        self.survey, self.progress, self.budget = survey, progress, budget
        self.observed = observed or {}
        self.spent = 0
        self.unproved: list[str] = []
        self._found: dict[tuple[str, tuple[str, ...], frozenset[str] | None], set[str]] = {}
        self._base: dict[str, tuple[np.ndarray, np.ndarray]] = {}
        self._frames: OrderedDict[tuple[str, str], tuple[np.ndarray, np.ndarray, tuple[str, ...]]] = OrderedDict()

    def prove(self, found: list[Found], on_proved: Callable[[Proved], None] = lambda proved: None) -> list[Proved]:
        """All suspicions with their remedies proved, in the order given. on_proved is called with each as it is done."""
        groups: dict[Any, list[int]] = {}
        for i, (family, suspicion) in enumerate(found):
            groups.setdefault((family.name, _likeness(suspicion)), []).append(i)
        result: dict[int, Proved] = {}
        for members in sorted(groups.values(), key=len):
            chosen = [found[i] for i in members]
            several = iter(self._together(chosen)) if len(chosen) > ALONE else (self._alone(*f) for f in chosen)
            for i, proved in zip(members, several):
                result[i] = proved
                on_proved(proved)
            self.progress(f"proved: {chosen[0][1].title}", len(result) / len(found))
        return [result[i] for i in range(len(found))]

    # One by one

    def _alone(self, family: Family, suspicion: Suspicion) -> Proved:
        tried = self._trials(family, suspicion, suspicion.candidates)
        best = min((t for t in tried if t[0].verdict == "cures"), key=lambda t: _rank(t[0]), default=None)
        ought = best[1] if best else None
        remedies = [self._looked_at(suspicion, remedy, changed, ought) for remedy, changed in tried]
        remedies.sort(key=_rank)
        return Proved(
            suspicion, tuple(remedies), self._impact(suspicion, next((r for r in remedies if r.verdict == "cures"), None))
        )

    def _trials(
        self, family: Family, suspicion: Suspicion, candidates: Sequence[Candidate]
    ) -> list[tuple[Remedy, Build | None]]:  # fmt: skip
        """(the remedy as its measure judges it, the changed build; None if it does not apply or was not tried) of each candidate."""
        tried: list[tuple[Remedy, Build | None]] = []
        looking: dict[int, Survey] = {}
        for number, candidate in enumerate(candidates):
            where = tuple(suspicion.pixels) or tuple(self.survey.viewpoints)
            if family.beyond_the_frame and candidate.change.scope in SCENE_WIDE:
                where = tuple(self.survey.viewpoints)  # what it newly breaks may be anywhere
            if self.spent >= self.budget:
                self.unproved.append(suspicion.title)
                tried.append((_remedy(candidate, "not proved", SPENT), None))
                continue
            try:
                changed = self._settled(apply_change(self.survey.build, candidate.change), suspicion.subjects, TRIAL_SAMPLES)
            except EddyfallError as error:
                tried.append((_remedy(candidate, "does not apply", str(error)), None))
                continue
            self.spent += 1
            about = frozenset(suspicion.subjects) if _leaves_set(candidate.change) <= family.colours else None
            looking[number] = replace(self.survey, only=where, pictures=False, about=about, masked=True, build=changed)
            tried.append((_remedy(candidate, "no effect", candidate.predicts), changed))
        for number, after in self._inspected(family, looking, self._worst(suspicion)).items():
            tried[number] = (self._judged(family, suspicion, candidates[number], looking[number], after), tried[number][1])
        return tried

    def _inspected(self, family: Family, looking: dict[int, Survey], last: str) -> dict[int, list[Suspicion]]:
        """What a family finds in each survey. One viewpoint after the other, so that what is drawn of it serves all of them; `last` comes
        last, if it is among them: what was drawn there serves what looks at it next."""
        seen: dict[int, dict[str, Any]] = {number: {} for number in looking}
        with self.survey.renderer.clock.timing(f"family {family.name}"):
            for viewpoint in sorted(dict.fromkeys(v for survey in looking.values() for v in survey.viewpoints), key=last.__eq__):
                for number, survey in looking.items():
                    if viewpoint in survey.viewpoints:
                        seen[number][viewpoint] = family.observe(survey, viewpoint)
                give_back()
            return {
                number: family.conclude(survey, {v: seen[number][v] for v in survey.viewpoints})
                for number, survey in looking.items()
            }

    def _judged(
        self, family: Family, suspicion: Suspicion, candidate: Candidate, looking: Survey, after: list[Suspicion]
    ) -> Remedy:  # fmt: skip
        """A remedy by what its family finds where it is looked for, with the candidate's change."""
        still = next((s for s in after if s.fingerprint == suspicion.fingerprint), None)
        cured = still is None
        known = self._known(family, looking) if len(after) > int(not cured) else set()
        # What ends once all changes are kept (other lightmaps are baked again) is told, and not held against a remedy.
        others = [s for s in after if s.fingerprint not in known and s.fingerprint != suspicion.fingerprint and not s.masked]
        new = tuple(s.title for s in others if not code_of(s.code).ends_with)
        until = until_ended([s for s in others if code_of(s.code).ends_with])
        verdict: Verdict = "cures" if still is None else "masks" if still.masked else "no effect"
        remedy = _remedy(candidate, verdict, candidate.predicts)
        return replace(remedy, side_effects=(*candidate.side_effects, *until), new_findings=new)

    def _known(self, family: Family, looking: Survey) -> set[str]:
        """Fingerprints that a family finds on the build as it is, looked at alike; remembered."""
        key = (family.name, tuple(looking.viewpoints), looking.about)
        if key not in self._found:
            base, seen = replace(looking, build=self.survey.build, masked=False), self.observed.get(family.name, {})
            known = {v: seen[v] if v in seen else family.observe(base, v) for v in looking.viewpoints}
            self._found[key] = {s.fingerprint for s in family.conclude(base, known)}
        return self._found[key]

    def _looked_at(self, suspicion: Suspicion, remedy: Remedy, changed: Build | None, ought: Build | None) -> Remedy:
        """The remedy with its collateral, and with `masks` where the measure stayed while the look came nearer to the cured one's."""
        if changed is None:
            return remedy
        worst = self._worst(suspicion)
        delta = self._seen(changed, worst)
        ids = [i for i, d in enumerate(self.survey.geometry.drawables) if d.name in suspicion.subjects]
        own = np.isin(delta.before, ids) | self._covered(worst, ids)
        if suspicion.restores:
            own |= np.isin(delta.after, [i for i, name in enumerate(delta.names_after) if name in suspicion.subjects])
        collateral = float((delta.changed & ~own).mean())
        verdict: Verdict = remedy.verdict
        if verdict == "no effect" and ought is not None and delta.changed.any():
            mine = np.isin(delta.before, ids) | np.isin(self._small(ought, worst)[1], ids)
            aim = self._small(ought, worst)[0]
            apart, left = (delta_e_2000(self._small(b, worst)[0], aim) for b in (self.survey.build, changed))
            spoilt = mine & (apart > VISIBLE_DIFFERENCE)
            if spoilt.any() and float(left[spoilt].mean()) < (1 - NEARER) * float(apart[spoilt].mean()):
                verdict = "masks"
        return replace(remedy, collateral=collateral, verdict=verdict)

    def _worst(self, suspicion: Suspicion) -> str:
        """The viewpoint that shows most of it."""
        where = tuple(suspicion.pixels) or tuple(self.survey.viewpoints)
        return max(where, key=lambda v: suspicion.pixels.get(v, 0))

    def _covered(self, viewpoint: str, ids: list[int]) -> np.ndarray | bool:
        """(h, w) bool: where subjects lie that are no part of the opaque picture, at the size impact is measured at; False: none is."""
        state = self.survey.stage(viewpoint).state
        if not any(state.solid[i] == 0 for i in ids):
            return False
        return shows(replace(self.survey, size=IMPACT_SIZE).frame(viewpoint), ids)

    def _impact(self, suspicion: Suspicion, best: Remedy | None) -> Impact:
        shown = self._shown(suspicion)
        if not shown or suspicion.not_drawn_yet or best is None:
            return self._exposed(suspicion, best)
        changed = self._settled(apply_change(self.survey.build, best.change), suspicion.subjects)
        return _measured({v: float(self._seen(changed, v).changed.mean()) for v in shown}, len(self.survey.viewpoints))

    # Many at once

    def _together(self, group: list[Found]) -> list[Proved]:
        family, members = group[0][0], [s for _, s in group]
        names = tuple(d.name for d in self.survey.geometry.drawables)
        number = {name: i for i, name in enumerate(names)}
        own = _own_subjects(members)
        ids = [[number[n] for n in subjects if n in number] for subjects in own]
        remedies: list[list[Remedy]] = [[] for _ in members]
        looks: list[dict[str, np.ndarray]] = []
        for k in range(len(members[0].candidates)):
            verdicts, counts, off = self._trial_together(family, members, k, names, ids)
            looks.append(counts)
            for i, member in enumerate(members):
                verdict, why = verdicts[i]
                candidate = member.candidates[k]
                remedies[i].append(replace(_remedy(candidate, verdict, why), collateral=off, together=len(members)))
        return [self._proved(member, remedies[i], looks, ids[i]) for i, member in enumerate(members)]

    def _trial_together(
        self, family: Family, members: list[Suspicion], k: int, names: tuple[str, ...], ids: list[list[int]]
    ) -> tuple[list[tuple[Verdict, str]], dict[str, np.ndarray], float]:
        """(verdict and words of the k-th remedy of each member, changed pixels by viewpoint and drawable, collateral share)."""
        self.progress(f"proving {len(members)} like remedies: {members[0].candidates[k].change.title}", 0.0)
        if self.spent >= self.budget:
            self.unproved += [member.title for member in members]
            return [("not proved", SPENT)] * len(members), {}, 0.0
        changes = {member.candidates[k].change.id: member.candidates[k].change for member in members}
        subjects = tuple({s for m in members for s in m.subjects})
        where = tuple({v: None for m in members for v in m.pixels}) or tuple(self.survey.viewpoints)
        refused: dict[str, str] = {}
        changed = self._applied(list(changes.values()), subjects, refused)
        self.spent += 1
        looking = replace(self.survey, only=where, pictures=False, masked=True, build=changed)
        after = {s.fingerprint: s.masked for s in family.inspect(looking)}
        unclear = [i for i, m in enumerate(members) if m.fingerprint in after and m.candidates[k].change.id not in refused]
        verdicts: list[tuple[Verdict, str]] = []
        for member in members:
            candidate = member.candidates[k]
            if candidate.change.id in refused:
                verdicts.append(("does not apply", refused[candidate.change.id]))
            else:
                hidden = after.get(member.fingerprint)
                verdicts.append(("cures" if hidden is None else "masks" if hidden else "no effect", candidate.predicts))
        if len(changes) > 1:  # like remedies may have been in each other's way
            for i in unclear[:ALONE]:
                ((remedy, _),) = self._trials(family, members[i], (members[i].candidates[k],))
                verdicts[i] = (remedy.verdict, remedy.predicts)
            for i in unclear[ALONE:]:
                verdicts[i] = ("not proved", "tried together with its like it did not cure; not tried by itself")
                self.unproved.append(members[i].title)
        counts, off = {}, 0.0
        everyone = np.zeros(len(names) + 1, bool)
        everyone[[d for row in ids for d in row]] = True
        for viewpoint in where:
            seen = self._seen(changed, viewpoint)
            counts[viewpoint] = seen.counts(names)
            off = max(off, float((seen.changed & ~everyone[seen.before]).mean()))
        return verdicts, counts, off

    def _applied(self, changes: list[Change], subjects: tuple[str, ...], refused: dict[str, str]) -> Build:
        """The build with all changes that apply; `refused` takes why the others do not, by id."""
        try:
            return self._settled(apply_together(self.survey.build, changes), subjects, TRIAL_SAMPLES)
        except EddyfallError as error:
            if len(changes) == 1:
                refused[changes[0].id] = str(error)
                return self.survey.build
        kept = []
        for change in changes:
            try:
                apply_change(self.survey.build, change)
                kept.append(change)
            except EddyfallError as error:
                refused[change.id] = str(error)
        try:
            return self._settled(apply_together(self.survey.build, kept), subjects, TRIAL_SAMPLES)
        except EddyfallError as error:
            refused.update({change.id: f"not along with its like: {error}" for change in kept})
            return self.survey.build

    def _proved(self, suspicion: Suspicion, remedies: list[Remedy], looks: list[dict[str, np.ndarray]], ids: list[int]) -> Proved:
        order = sorted(range(len(remedies)), key=lambda k: _rank(remedies[k]))
        best = next((k for k in order if remedies[k].verdict == "cures"), None)
        shown = self._shown(suspicion)
        if not shown or suspicion.not_drawn_yet or best is None:
            impact = self._exposed(suspicion, None if best is None else remedies[best])
        else:
            total = IMPACT_SIZE[0] * IMPACT_SIZE[1]
            shares = {v: float(looks[best][v][ids].sum()) / total for v in shown}
            impact = _measured(shares, len(self.survey.viewpoints))
        return Proved(suspicion, tuple(remedies[k] for k in order), impact)

    # What both need

    def _shown(self, suspicion: Suspicion) -> dict[str, float]:
        width, height = self.survey.size
        return {v: n / (width * height) for v, n in suspicion.pixels.items()}

    def _exposed(self, suspicion: Suspicion, best: Remedy | None) -> Impact:
        shown = self._shown(suspicion)
        if not shown:
            return Impact("none", 0.0, 0.0, None, "no play viewpoint shows it")
        why = suspicion.not_drawn_yet or "no remedy cures it, so there is no picture without it"
        worst = max(shown, key=lambda v: shown[v])
        return Impact("exposed", shown[worst], sum(shown.values()) / len(self.survey.viewpoints), worst, why)

    def _settled(self, changed: Build, subjects: tuple[str, ...], samples: int | None = None) -> Build:
        with self.survey.renderer.clock.timing(TRIAL_BAKES):
            return settled(changed, subjects, samples)

    def _small(self, build: Build, viewpoint: str) -> tuple[np.ndarray, np.ndarray, tuple[str, ...]]:
        """(display, front drawable, drawables' names) at the size impact is measured at; the last few are kept."""
        key = (build.content_hash, viewpoint)
        if key not in self._frames:
            frame = replace(self.survey, size=IMPACT_SIZE, build=build).frame(viewpoint, "display")
            self._frames[key] = (frame.display, frame.front, tuple(d.name for d in frame.geometry.drawables))
            give_back()
        self._frames.move_to_end(key)
        while len(self._frames) > FRAMES_KEPT:
            self._frames.popitem(last=False)
        return self._frames[key]

    def _seen(self, changed: Build, viewpoint: str) -> Seen:
        """What differs visibly between the build and a changed one."""
        if viewpoint not in self._base:
            self._base[viewpoint] = self._small(self.survey.build, viewpoint)[:2]
        display, drawable = self._base[viewpoint]
        after, shown, names = self._small(changed, viewpoint)
        return Seen(np.asarray(delta_e_2000(display, after) > VISIBLE_DIFFERENCE), drawable, shown, names)


def _likeness(suspicion: Suspicion) -> tuple[Any, ...]:
    """What findings that are proved together have in common: code, kind of cause, and what their remedies do, part for part."""
    return suspicion.code, suspicion.cause_kind, tuple(_kind(c.change) for c in suspicion.candidates)


def _kind(change: Change) -> tuple[Any, ...]:
    if change.operation is not None:
        return change.scope, change.operation.name
    ends = tuple(
        (op.op, op.path.split("/")[1], op.path.rsplit("/", 1)[-1] if op.path.count("/") > 2 else "") for op in change.patch
    )
    return change.scope, ends


def _own_subjects(members: list[Suspicion]) -> list[tuple[str, ...]]:
    """Of each member, the subjects that few others have: a wall with a thousand decals belongs to none of them."""
    times: dict[str, int] = {}
    for member in members:
        for name in member.subjects:
            times[name] = times.get(name, 0) + 1
    shared = max(2, len(members) // 10)
    return [tuple(n for n in m.subjects if times[n] <= shared) or m.subjects for m in members]


def _remedy(candidate: Candidate, verdict: Verdict, predicts: str) -> Remedy:
    c = candidate
    return Remedy(c.change, verdict, predicts, c.costs, c.side_effects, c.warnings, 0.0)


def _leaves_set(change: Change) -> set[str]:
    """Names of the leaves that a change sets; "" for what is more than a leaf or two of an entry."""
    if change.operation is not None:
        return {""}
    found: set[str] = set()
    for op in change.patch:
        found |= set(op.value) if isinstance(op.value, dict) else {op.path.rsplit("/", 1)[-1]}
    return found


def _rank(remedy: Remedy) -> tuple[int, int, int]:
    return RANK[remedy.verdict], len(remedy.warnings) + len(remedy.new_findings), SCOPE_ORDER.index(remedy.change.scope)


def _measured(shares: dict[str, float], viewpoints: int) -> Impact:
    worst = max(shares, key=lambda v: shares[v])
    return Impact("measured", shares[worst], sum(shares.values()) / viewpoints, worst, "", shares)


def until_ended(passing: list[Suspicion]) -> list[str]:
    """What a remedy brings on that ends once all changes are kept, in a line for each way that it ends."""
    ways: dict[str, list[str]] = {}
    for suspicion in passing:
        ways.setdefault(code_of(suspicion.code).ends_with, []).append(suspicion.title)
    more = {way: f", and {len(titles) - 1} more such things" if len(titles) > 1 else "" for way, titles in ways.items()}
    return [f"until {way}: {titles[0]}{more[way]}" for way, titles in ways.items()]
