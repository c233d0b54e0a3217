"""Fills the demo's projects, as jobs of the worker: the river front, swept, with one case half worked and one with a kept change and its
proof; the pump hall, baked; the tow-path yard; the wheel-house court; the gauge gallery; the meter house;
the glasshouse; the lantern room; the vinery; the kiosk's flat game; the quay,
delivered a second time over twelve edits; and the diving store."""

import os
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from django.db import transaction
from procrastinate.contrib.django import app

from eddyfall import warm
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer
from eddyfall.core.handover.documents.changes import change_json
from eddyfall.core.handover.documents.facts import IntakeDocument
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.changes import read_changes
from eddyfall.core.sweep import sweep as core_sweep
from eddyfall.core.sweep.run import SWEEP_MEMO_BYTES, Progress
from eddyfall.demo.court import NAME as COURT_NAME
from eddyfall.demo.court import write_court
from eddyfall.demo.diving_store import NAME as STORE_NAME
from eddyfall.demo.diving_store import write_diving_store
from eddyfall.demo.gallery import NAME as GALLERY_NAME
from eddyfall.demo.gallery import write_gallery
from eddyfall.demo.glasshouse import NAME as GLASS_NAME
from eddyfall.demo.glasshouse import write_glasshouse
from eddyfall.demo.hall import NAME as HALL_NAME
from eddyfall.demo.hall import write_hall
from eddyfall.demo.kiosk import NAME as KIOSK_NAME
from eddyfall.demo.kiosk import write_kiosk
from eddyfall.demo.lantern_room import NAME as LANTERN_NAME
from eddyfall.demo.lantern_room import write_lantern_room
from eddyfall.demo.meter_house import NAME as METERS_NAME
from eddyfall.demo.meter_house import write_meter_house
from eddyfall.demo.second_delivery import NAME as QUAY_NAME
from eddyfall.demo.second_delivery import SECOND, write_deliveries
from eddyfall.demo.vinery import NAME as VINERY_NAME
from eddyfall.demo.vinery import write_vinery
from eddyfall.demo.write import NAME, write_demo
from eddyfall.demo.yard import NAME as YARD_NAME
from eddyfall.demo.yard import write_yard
from eddyfall.site.demo_start import (
    COURT,
    DELIVERED,
    GALLERY,
    GLASS,
    KIND,
    KIOSK,
    LANTERN,
    METERS,
    PUMP_HALL,
    RIVER_FRONT,
    STORE,
    USER,
    VINERY,
    YARD,
)
from eddyfall.workbench import files, jobs
from eddyfall.workbench.api.views import case_out
from eddyfall.workbench.models import Build, Case, Change, Delivery, Job, Project, Proof, Sweep
from eddyfall.workbench.services import builds, cases, ledger, projects, proofs, sweeps
from eddyfall.workbench.studio.room import STUDIO

Fill = Callable[[Project, Any, Progress], tuple[str, Any]]


@app.task(name=f"eddyfall.{KIND}")
def demo(job_id: int) -> None:
    """Fill a project of the demo: kernels compiled if they are not, the build at hand as soon as it is written, then all else."""

    def work(attempt: jobs.Attempt) -> tuple[str, Any]:
        project = Job.objects.select_related("project").get(pk=job_id).project
        user = project.memberships.get(user__username=USER).user
        warm.once(lambda what, share: attempt.progress(what, 0.4 * share))
        fills = {
            RIVER_FRONT: _river_front,
            PUMP_HALL: _swept_later(HALL_NAME, "the pump hall", write_hall),
            COURT: _swept_later(COURT_NAME, "the wheel-house court", write_court),
            GALLERY: _swept_later(GALLERY_NAME, "the gauge gallery", write_gallery),
            METERS: _swept_later(METERS_NAME, "the meter house", write_meter_house),
            GLASS: _swept_later(GLASS_NAME, "the glasshouse", write_glasshouse),
            LANTERN: _swept_later(LANTERN_NAME, "the lantern room", write_lantern_room),
            VINERY: _swept_later(VINERY_NAME, "the vinery", write_vinery),
            KIOSK: _swept_later(KIOSK_NAME, "the kiosk's game", write_kiosk),
            STORE: _swept_later(STORE_NAME, "the diving store", write_diving_store),
            YARD: _swept_later(YARD_NAME, "the tow-path yard", write_yard),
            DELIVERED: _delivered_twice,
        }
        return fills[project.name](project, user, lambda what, share: attempt.progress(what, 0.4 + 0.6 * share))

    jobs.run(job_id, work)


def _swept_later(name: str, what: str, write_to: Callable[[Path], dict[str, Path]]) -> Fill:
    """Fills a project with a build whose sweep is a job of its own."""

    def fill(project: Project, user: Any, progress: Progress) -> tuple[str, Any]:
        progress(f"building {what}", 0.1)
        with tempfile.TemporaryDirectory() as folder:
            paths = write_to(Path(folder))
            scene, setup, core = paths["glb"].read_bytes(), paths["setup"].read_bytes(), _opened(paths["glb"])

        def write() -> None:
            project.builds.all().delete()
            build = _build(project, user, core, name, scene, setup)
            if os.environ.get("EDDYFALL_DEMO_HALL_SWEEP", "1") != "0":
                sweeps.ask(build, user)

        return f"{what} is here; its sweep is next", write

    return fill


def _delivered_twice(project: Project, user: Any, progress: Progress) -> tuple[str, Any]:
    """The river front with edits kept on it, and a second delivery whose rehearsal is a job of its own."""
    progress("building the river front", 0.1)
    with tempfile.TemporaryDirectory() as folder:
        paths = write_deliveries(Path(folder))
        core = _opened(paths["glb"])
        scene, setup, second = (paths[kind].read_bytes() for kind in ("glb", "setup", "second"))
        changes = read_changes(paths["changes"])

    def write() -> None:
        project.builds.all().delete()
        build = _build(project, user, core, QUAY_NAME, scene, setup)
        for position, change in enumerate(changes, start=1):
            Change.objects.create(build=build, position=position, key=change.id, document=change_json(change), kept_by=user)
        Build.objects.filter(pk=build.pk).update(version=len(changes) + 1)
        job = jobs.new(project, user, "delivery")
        Delivery.objects.create(build=build, job=job, scene=files.add(build, "delivery", SECOND, second))
        jobs.defer("delivery", job)

    return "the quay is here, with twelve edits; the rehearsal of its second delivery is next", write


def _river_front(project: Project, user: Any, progress: Progress) -> tuple[str, Any]:
    """The river front, to be looked at as soon as it is written; then its sweep, and two cases at different stages."""
    progress("building the river front", 0.05)
    with tempfile.TemporaryDirectory() as folder:
        paths = write_demo(Path(folder))
        scene, setup, core = paths["glb"].read_bytes(), paths["setup"].read_bytes(), _opened(paths["glb"])
    with transaction.atomic():
        project.builds.all().delete()
        build = _build(project, user, core, NAME, scene, setup)
    finished = core_sweep(
        core, progress=lambda what, share: progress(what, 0.1 + 0.8 * share), renderer=Renderer(Memo(SWEEP_MEMO_BYTES))
    )

    def write() -> None:
        sweep = Sweep.objects.create(
            build=build, job=_done(project, user, "sweep", f"{len(finished.findings)} findings"), head_version=1
        )
        sweeps.store(sweep, finished)
        _half_worked(build, user, sweep)
        _kept(build, user, sweep)
        STUDIO.memory.clear()

    return f"the river front is swept: {len(finished.findings)} findings", write


def _opened(path: Path) -> Any:
    from eddyfall.core.intake import open_build

    return open_build(path)


def _build(project: Project, user: Any, core: Any, name: str, scene: bytes, setup: bytes) -> Build:
    build = Build.objects.create(project=project, number=1, name=f"{name}.glb", setup=core.raw_setup, has_own_setup=True,
                                 facts=IntakeDocument.from_core(core).model_dump(mode="json"), created_by=user)  # fmt: skip
    files.add(build, "scene", f"{name}.glb", scene)
    files.add(build, "setup", f"{name}.setup.json", setup)
    projects.note(project, user, "build brought in", f"build 1: {name}.glb")
    return build


def _done(project: Project, user: Any, kind: str, message: str) -> Job:
    job = jobs.new(project, user, kind)
    job.state, job.progress, job.message, job.attempts = Job.DONE, 1.0, message, 1
    job.save()
    return job


def _case(build: Build, user: Any, sweep: Sweep, code: str) -> Case:
    finding = next(f for f in sweep.findings.all() if f.document["code"] == code)
    return cases.open_case(build, user, finding=finding, values={})


def _half_worked(build: Build, user: Any, sweep: Sweep) -> None:
    """The nets: spot set, line-up run, nothing kept yet."""
    case = _case(build, user, sweep, "depth.missing-prepass")
    core, (x, y, w, h) = builds.open_core(build), case.spot
    result = STUDIO.draw(lambda renderer: line_up(core, case.viewpoint, (x, y, w, h), case.symptom, renderer=renderer))
    cases.store_lineup(case, result)


def _kept(build: Build, user: Any, sweep: Sweep) -> None:
    """The rail: its remedy kept and proved."""
    case = _case(build, user, sweep, "uv.overlap")
    ledger.keep(build, case.number, case.version, user, trial=None, remedy=0, reason="each copy needs texels of its own",
                current=case_out)  # fmt: skip
    build.refresh_from_db()
    case = cases.case_of(build, case.number)
    job = _done(build.project, user, "proof", "")
    proof = Proof.objects.create(case=case, job=job, head_version=build.version)
    proof.result = STUDIO.draw(lambda renderer: proofs.run(proof, lambda what, share: None, renderer))
    proof.save()
    job.message = proof.result["why"]
    job.save()
