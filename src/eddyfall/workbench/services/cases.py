"""Cases: opened from a finding or from a spot, worked by trials, kept, dropped. Every write needs the version it was made on."""

import io
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.db.models import Max
from PIL import Image

from eddyfall.core.bake.maps.run import settled
from eddyfall.core.defects.registry import code_of, looks
from eddyfall.core.defects.symptoms import symptoms
from eddyfall.core.errors import EddyfallError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import DEFAULT_SIZE, Renderer, Request, check_request
from eddyfall.core.handover.documents.core_samples import CoreSampleDocument
from eddyfall.core.handover.documents.lineups import LineUpSummary, TrialDocument
from eddyfall.core.handover.documents.shadows import AutopsyDocument
from eddyfall.core.lineup import line_up
from eddyfall.core.lineup.run import LineUp
from eddyfall.core.lineup.run import Trial as CoreTrial
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.core.scene.changes import Change as CoreChange
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.sweep.proving import TRIAL_SAMPLES
from eddyfall.core.truth.autopsy import shadow_autopsy
from eddyfall.workbench import files
from eddyfall.workbench.errors import Conflict, NotThere, Refused
from eddyfall.workbench.models import Build, Case, Finding, Trial
from eddyfall.workbench.services.builds import Head, applied, head
from eddyfall.workbench.services.projects import note
from eddyfall.workbench.studio import desk
from eddyfall.workbench.studio.room import STILL_WANTED, STUDIO

SPOT_PX = 110


def case_of(build: Build, number: int, lock: bool = False) -> Case:
    """A case of a build by number; NotThere if it has none."""
    rows = Case.objects.select_for_update() if lock else Case.objects.select_related("finding")
    case = rows.filter(build=build, number=number).first()
    if case is None:
        raise NotThere(f"case {number}")
    return case


def base_of(case: Case) -> CoreBuild:
    """The build a case's trials start from: the head without the case's own changes."""
    return head(case.build, without_case=case.pk)


@dataclass(frozen=True)
class Shown(desk.Ref):
    """The build behind a picture of a case, by row."""

    case_id: int
    what: str

    def open(self) -> CoreBuild:
        case = Case.objects.select_related("build", "finding").filter(pk=self.case_id).first()
        if case is None:
            raise NotThere("this case")
        return shown(case, self.what)


@transaction.atomic
def open_case(build: Build, user: Any, *, finding: Finding | None, values: dict[str, Any]) -> Case:
    """Open a case on a finding (its worst viewpoint and region are taken) or on a viewpoint and spot of one's own."""
    build = Build.objects.select_for_update().get(pk=build.pk)
    if finding is not None:
        known = build.cases.filter(finding__fingerprint=finding.fingerprint).first()
        if known is not None:
            return known
        values = {**from_finding(finding), **{k: v for k, v in values.items() if v is not None}}
    case = Case(
        build=build, number=(build.cases.aggregate(Max("number"))["number__max"] or 0) + 1, finding=finding, created_by=user,
        title=values.get("title") or f"{values.get('symptom')} at {values.get('viewpoint')}", viewpoint=values["viewpoint"] or "",
        target=values.get("target"), symptom=values.get("symptom") or "see-through", spot=values.get("spot"),
        subject=values.get("subject"),
    )  # fmt: skip
    _check(case, Head(build.pk), user)
    case.save()
    note(build.project, user, "case opened", f"case {case.number}: {case.title}")
    return case


def from_finding(finding: Finding) -> dict[str, Any]:
    """Where to look first: the viewpoint with most spoilt pixels, and a spot within its region there."""
    document = finding.document
    pixels: dict[str, int] = document["pixels"]
    view = max(pixels, key=lambda v: pixels[v]) if pixels else finding.sweep.result["viewpoints"][0]
    spot = None
    if view in document["regions"]:
        x, y, w, h = document["regions"][view]
        wide, high = min(w, SPOT_PX), min(h, SPOT_PX * 9 // 11)
        spot = [x + (w - wide) * 3 // 4, y + (h - high) // 2, wide, high]
    return {
        "title": document["title"], "viewpoint": view, "spot": spot, "target": finding.sweep.target,
        "symptom": code_of(document["code"]).symptom,
    }  # fmt: skip


def _check(case: Case, build: desk.Ref, user: Any) -> None:
    """Refused(422) if the case names what does not exist."""
    known = {**symptoms(), **looks()}
    if case.symptom not in known:
        raise Refused(422, f"symptom {case.symptom!r} does not exist; there are: {', '.join(known)}")
    question = (build, case.viewpoint, case.target, case.spot)
    desk.ask(desk.Question("open", str(user.pk), check_place, question))


def check_place(build: CoreBuild, viewpoint: str, target: str | None, spot: list[int] | None) -> None:
    """Refused(422) if a viewpoint or target does not exist in a build, or the spot does not lie in its frame."""
    try:
        if viewpoint not in build.setup.viewpoints:
            raise Refused(422, f"viewpoint {viewpoint!r} does not exist")
        resolve(build.setup, target, None, viewpoint)
        if spot is not None:
            x, y, w, h = spot
            check_request(Request(viewpoint, DEFAULT_SIZE, (x, y, x + w, y + h)))
    except EddyfallError as error:
        raise Refused(422, str(error)) from None


@transaction.atomic
def change_case(build: Build, number: int, version: int, values: dict[str, Any], user: Any, current: Any) -> Case:
    """Set symptom, spot, subject, viewpoint or title. A new question takes the old line-up away."""
    case = case_of(build, number, lock=True)
    _same_version(case, version, values, current)
    asked = [k for k in ("symptom", "spot", "subject", "viewpoint") if k in values and getattr(case, k) != values[k]]
    for key, value in values.items():
        setattr(case, key, value)
    if "viewpoint" in asked and "spot" not in values:
        case.spot = None
    _check(case, Head(build.pk, case.pk), user)
    if asked:
        _forget_trials(case)
    case.version += 1
    case.save()
    changed = ", ".join(asked) or "title"
    note(build.project, user, "case edited", f"case {case.number} of build {build.number}: {changed}")
    return case


def _same_version(case: Case, version: int, yours: Any, current: Any) -> None:
    if case.version != version:
        raise Conflict("someone else has worked on this case since you loaded it", yours, current(case))


def _forget_trials(case: Case) -> None:
    pictures = [t.picture for t in case.trials.select_related("picture")]
    case.trials.all().delete()
    case.lineup = None
    for picture in pictures:
        picture.delete()
    files.unlink_unnamed([p.sha256 for p in pictures])


def drill(build: CoreBuild, viewpoint: str, x: int, y: int, target: str | None) -> CoreSampleDocument:
    """The core sample of one pixel of the standard frame, as the command line gives it."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)
    sample = STUDIO.draw(lambda renderer: core_sample(renderer, build, request, x, y))
    return CoreSampleDocument.from_core(sample)


def autopsy(build: CoreBuild, viewpoint: str, x: int, y: int, target: str | None) -> AutopsyDocument:
    """The shadows of one pixel of the standard frame, as the command line gives them."""
    request = Request(viewpoint, DEFAULT_SIZE, None, target)
    return AutopsyDocument.from_core(STUDIO.draw(lambda renderer: shadow_autopsy(renderer, build, request, x, y)))


def run_lineup(case_id: int, try_all: bool, tell: Callable[[dict[str, Any]], None]) -> int:
    """Run a case's line-up: {"trial"} and {"progress", "what"} are told as they come. The ranked result is stored whole at the end, if the
    case is still as it was and somebody still waits; returns the case's number."""
    case = Case.objects.select_related("build").filter(pk=case_id).first()
    if case is None:
        raise NotThere("this case")
    if case.spot is None:
        raise Refused(422, "drag a spot first")
    wanted, base, (x, y, w, h) = STILL_WANTED.get(), base_of(case), case.spot

    def run(renderer: Renderer) -> LineUp:
        return line_up(
            base, case.viewpoint, (x, y, w, h), case.symptom, target=case.target, subject=case.subject, try_all=try_all,
            renderer=renderer, on_trial=lambda t: tell({"trial": TrialDocument.from_core(t)}),
            progress=lambda what, share: tell({"progress": share, "what": what}),
        )  # fmt: skip

    result = STUDIO.draw(run)
    wanted()
    return store_lineup(case, result).number


@transaction.atomic
def store_lineup(case: Case, result: LineUp) -> Case:
    """Put a line-up's trials and pictures in place of the last ones. Refused(409) if the question changed meanwhile."""
    now = case_of(case.build, case.number, lock=True)
    if (now.spot, now.symptom, now.viewpoint, now.subject) != (case.spot, case.symptom, case.viewpoint, case.subject):
        raise Refused(409, "the case was changed while its line-up ran")
    _forget_trials(now)
    now.lineup = LineUpSummary.from_core(result).model_dump(mode="json")
    now.version += 1
    now.save()
    for rank, trial in enumerate(result.trials):
        _store_trial(now, rank, trial)
    return now


def _store_trial(case: Case, rank: int, trial: CoreTrial) -> None:
    stream = io.BytesIO()
    Image.fromarray(trial.picture).save(stream, "PNG", compress_level=1)
    picture = files.add(case.build, "trial", f"{rank}.png", stream.getvalue())
    Trial.objects.create(case=case, rank=rank, document=TrialDocument.from_core(trial).model_dump(mode="json"), picture=picture)


def candidate(case: Case, trial: int | None, remedy: int | None) -> tuple[CoreChange, dict[str, Any]]:
    """(the change of a trial or of a remedy of the case's finding, what is known about it)."""
    if trial is not None:
        row = case.trials.filter(rank=trial).first()
        if row is None:
            raise NotThere(f"trial {trial}")
        if row.document["change"] is None:
            raise Refused(422, "this trial changes nothing; it only shows which drawable is meant")
        known = {k: row.document[k] for k in ("verdict", "before", "after", "collateral_share", "also_changed_share")}
        return CoreChange.model_validate(row.document["change"]), {"from": "trial", **known}
    remedies = case.finding.document["remedies"] if case.finding else []
    if remedy is None or not 0 <= remedy < len(remedies):
        raise NotThere(f"remedy {remedy}")
    row = remedies[remedy]
    return CoreChange.model_validate(row["change"]), {"from": "remedy", **{k: row[k] for k in ("verdict", "costs", "warnings")}}


def shown(case: Case, what: str) -> CoreBuild:
    """The build behind a picture of the Bench: 'before', 'head', 'trial:N' or 'remedy:N' (with its subjects' lightmaps baked coarsely)."""
    base = base_of(case)
    kind, _, number = what.partition(":")
    if kind == "before":
        return base
    if kind == "head":
        return head(case.build)
    if kind in ("trial", "remedy") and number.isdigit():
        change, _ = candidate(case, int(number) if kind == "trial" else None, int(number) if kind == "remedy" else None)
        key = f"{case.build.pk}/{base.content_hash}/{change.model_dump_json()}"
        if kind == "trial" or case.finding is None:
            return STUDIO.build(key, lambda: applied(base, [change]))
        subjects = case.finding.document["subjects"]
        return STUDIO.build(key + "/baked", lambda: settled(applied(base, [change]), subjects, TRIAL_SAMPLES))
    raise NotThere(f"picture {what!r}")


__all__ = ["candidate", "case_of", "change_case", "drill", "open_case", "run_lineup", "shown", "store_lineup"]
