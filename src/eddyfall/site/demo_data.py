"""Loads the demo: the river front, swept, with one case half worked and one with a kept change and its proof; and the pump hall, baked,
whose sweep the worker makes once it runs."""

import os
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from django.contrib.auth import get_user_model
from django.db import transaction

from eddyfall.core.lineup import line_up
from eddyfall.core.scene.facts import facts_of
from eddyfall.core.sweep import sweep as core_sweep
from eddyfall.demo.hall import NAME as HALL_NAME
from eddyfall.demo.hall import write_hall
from eddyfall.demo.write import NAME, write_demo
from eddyfall.site.launch import DEMO_PROJECTS
from eddyfall.workbench import files, jobs
from eddyfall.workbench.api.views import case_out
from eddyfall.workbench.models import Build, Case, Job, Membership, Project, Proof, Sweep
from eddyfall.workbench.services import builds, cases, ledger, projects, proofs, sweeps
from eddyfall.workbench.studio.room import STUDIO

PROJECT, HALL_PROJECT = DEMO_PROJECTS


def load(username: str, password: str, say: Callable[[str], None]) -> None:
    """Make the demo user and projects, if they are not there yet."""
    users = get_user_model().objects
    user = users.filter(username=username).first() or users.create_user(username, password=password)
    if not user.is_active:
        user.is_active = True
        user.save(update_fields=["is_active"])
    if not Membership.objects.filter(user=user, project__name=PROJECT, project__builds__sweeps__result__isnull=False).exists():
        _river_front(user, say)
    if not Membership.objects.filter(user=user, project__name=HALL_PROJECT, project__builds__isnull=False).exists():
        _pump_hall(user, say)


def _pump_hall(user: Any, say: Callable[[str], None]) -> None:
    """The hall with its lightmaps; its sweep waits for the worker."""
    say("Building and baking the demo's pump hall (half a minute, once)")
    with tempfile.TemporaryDirectory() as folder:
        paths = write_hall(Path(folder))
        scene, setup, core = paths["glb"].read_bytes(), paths["setup"].read_bytes(), _opened(paths["glb"])
    with transaction.atomic():
        Project.objects.filter(name=HALL_PROJECT, memberships__user=user).delete()
        project = projects.create(user, HALL_PROJECT)
        build = _build(project, user, core, HALL_NAME, scene, setup)
        if os.environ.get("EDDYFALL_DEMO_HALL_SWEEP", "1") != "0":
            sweeps.ask(build, user)


def _river_front(user: Any, say: Callable[[str], None]) -> None:
    say("Writing the demo build and sweeping it (half a minute, once)")
    with tempfile.TemporaryDirectory() as folder:
        paths = write_demo(Path(folder))
        scene = paths["glb"].read_bytes()
        setup = paths["setup"].read_bytes()
        core = _opened(paths["glb"])
    with transaction.atomic():
        Project.objects.filter(name=PROJECT, memberships__user=user).delete()
        project = projects.create(user, PROJECT)
        build = _build(project, user, core, NAME, scene, setup)
        finished = STUDIO.draw(lambda renderer: core_sweep(builds.open_core(build), renderer=renderer))
        sweep = Sweep.objects.create(
            build=build, job=_done(project, user, "sweep", f"{len(finished.findings)} findings"), head_version=1
        )
        sweeps.store(sweep, finished)
        _half_worked(build, user, sweep)
        _kept(build, user, sweep)


def _opened(path: Path) -> Any:
    from eddyfall.core.intake import open_build

    return open_build(path)


def _build(project: Project, user: Any, core: Any, name: str, scene: bytes, setup: bytes) -> Build:
    build = Build.objects.create(project=project, number=1, name=f"{name}.glb", setup=core.raw_setup, has_own_setup=True,
                                 facts=facts_of(core), created_by=user)  # fmt: skip
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
