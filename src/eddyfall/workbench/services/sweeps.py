"""Sweeps: asked for, run by the worker, stored whole; findings told as new, still there or gone."""

import contextlib
import io
import time
from typing import Any

from django.db import InterfaceError, OperationalError, transaction
from PIL import Image

from eddyfall.core.handover.documents.findings import FindingDocument, SweepSummary, UnderwayDocument
from eddyfall.core.handover.tide import TideRow, kind_of, tide_row
from eddyfall.core.sweep.findings import SweepResult, Underway
from eddyfall.workbench import files, jobs
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.models import Build, Finding, Job, Sweep
from eddyfall.workbench.services.builds import setup_of
from eddyfall.workbench.services.projects import note

MOST_UNDERWAY = 100  # causes shown while a sweep runs


@transaction.atomic
def ask(build: Build, user: Any, target: str | None = None) -> Sweep:
    """Ask for a sweep of a build's head; one at a time for each build."""
    build = Build.objects.select_for_update().get(pk=build.pk)
    if target is not None and target not in setup_of(build).targets:
        raise NotThere(f"target {target!r}")
    if build.sweeps.filter(job__state__in=(Job.WAITING, Job.RUNNING)).exists():
        raise Refused(409, "a sweep of this build is under way")
    job = jobs.new(build.project, user, "sweep")
    sweep = Sweep.objects.create(build=build, job=job, target=target, head_version=build.version)
    note(build.project, user, "sweep asked for", f"build {build.number}")
    jobs.defer("sweep", job)
    return sweep


class Growing:
    """What a sweep has found so far, written beside its progress, so that the page shows findings while the rest runs."""

    def __init__(self, sweep: Sweep) -> None:
        self.sweep, self.known, self.new, self.written = sweep, dict[str, dict[str, Any]](), False, 0.0

    def found(self, underway: Underway) -> None:
        """Take what the core tells; no more than the page can show."""
        key = underway.suspicion.fingerprint
        if key in self.known or len(self.known) < MOST_UNDERWAY:
            self.known[key] = UnderwayDocument.from_core(underway).model_dump(mode="json")
            self.new = True

    def write(self) -> None:
        """Store it, if there is anything new and the last time is some while ago. A database that is away misses it."""
        now = time.monotonic()
        if not self.new or now - self.written < jobs.TELL_EVERY_S:
            return
        self.new, self.written = False, now
        with contextlib.suppress(OperationalError, InterfaceError):
            Sweep.objects.filter(pk=self.sweep.pk, result__isnull=True).update(underway=list(self.known.values()))


def store(sweep: Sweep, result: SweepResult) -> None:
    """Write a result with its findings and pictures, in the caller's transaction. A second attempt takes the place of the first."""
    sweep.findings.all().delete()
    for i, found in enumerate(result.findings):
        picture = found.picture
        stored = None
        if picture is not None:
            stream = io.BytesIO()
            Image.fromarray(picture).save(stream, "PNG", compress_level=1)
            stored = files.add(sweep.build, "evidence", f"{found.code}.png", stream.getvalue())
        document = FindingDocument.from_core(found).model_dump(mode="json")
        Finding.objects.create(sweep=sweep, position=i, fingerprint=found.fingerprint, document=document, picture=stored)
    sweep.result = SweepSummary.from_core(result).model_dump(mode="json")
    sweep.underway = []
    sweep.save(update_fields=["result", "head_version", "underway"])


def before(sweep: Sweep) -> Sweep | None:
    """The sweep to compare with: the last one done of this build before it, else the last of its parent build."""
    earlier = sweep.build.sweeps.filter(result__isnull=False, id__lt=sweep.pk, target=sweep.target).first()
    if earlier is None and sweep.build.parent is not None:
        earlier = sweep.build.parent.sweeps.filter(result__isnull=False, target=sweep.target).first()
    return earlier


def compared(sweep: Sweep) -> tuple[dict[str, str], list[Finding]]:
    """(fingerprint -> 'new' or 'still there' or 'first sweep', findings that are gone)."""
    earlier = before(sweep)
    mine = set(sweep.findings.values_list("fingerprint", flat=True))
    if earlier is None:
        return dict.fromkeys(mine, "first sweep"), []
    theirs = {f.fingerprint: f for f in earlier.findings.all()}
    return {k: "still there" if k in theirs else "new" for k in mine}, [f for k, f in theirs.items() if k not in mine]


def tide(sweep: Sweep) -> list[TideRow]:
    """Rows of the tide table: viewpoint, and its cells by kind of defect."""
    if sweep.result is None:
        return []
    documents = [FindingDocument.model_validate(f.document) for f in sweep.findings.all()]
    return [tide_row(documents, v, kind_of) for v in sweep.result["viewpoints"]]


def sweep_of(build: Build, sweep_id: int) -> Sweep:
    """A sweep of a build; NotThere if it has none of this id."""
    rows = build.sweeps.select_related("job").prefetch_related("findings")
    sweep = rows.filter(pk=sweep_id).first()
    if sweep is None:
        raise NotThere(f"sweep {sweep_id}")
    return sweep


def standing(build: Build) -> dict[str, int] | None:
    """How many findings of the last sweep of a build block it, are visible, are new; None if it was not swept yet."""
    sweep = build.sweeps.filter(result__isnull=False).first()
    if sweep is None:
        return None
    severities = list(sweep.findings.values_list("document__severity", flat=True))
    standings, _ = compared(sweep)
    counts = {name: severities.count(name) for name in ("blocking", "visible")}
    return {**counts, "new": sum(word == "new" for word in standings.values())}
