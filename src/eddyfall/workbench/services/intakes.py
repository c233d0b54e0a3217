"""Bringing a build in: the upload is stored as it came and answered at once; a job reads it and makes the build, or says what is wrong."""

import contextlib
import os
import shutil
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.db.models import Max

from eddyfall.workbench import files, jobs
from eddyfall.workbench.errors import Refused
from eddyfall.workbench.models import Build, File, Intake, Job, Project
from eddyfall.workbench.reading import read_upload
from eddyfall.workbench.services.projects import note

SCENE_ENDINGS = (".glb", ".gltf", ".zip", ".obj", ".usd", ".usda", ".usdc", ".usdz")
OPEN_TIMES = 3  # an open build with its world arrays and a frame's buffers, against its scene alone


def upload(project: Project, user: Any, scene: "UploadedFile[bytes]", setup: "UploadedFile[bytes] | None") -> Intake:
    """Store an upload and ask for it to be read. Refused(422) for other kinds of files, Refused(507) for a full disk."""
    name = scene_name(scene)
    paths: list[Path] = []
    try:
        scene_path = arrive(scene, paths)
        setup_path = arrive(setup, paths) if setup else None
        return _store(project, user, name, scene_path, str(setup.name) if setup else "", setup_path)
    finally:
        for path in paths:
            path.unlink(missing_ok=True)


def scene_name(scene: "UploadedFile[bytes]") -> str:
    """The name of an uploaded scene. Refused(422) for other kinds of files."""
    name = str(scene.name or "scene")
    if not name.lower().endswith(SCENE_ENDINGS):
        raise Refused(422, f"{name}: a scene is a .glb, a .gltf, .obj or USD without files beside it, or a .zip")
    return name


def arrive(upload_: "UploadedFile[bytes]", paths: list[Path]) -> Path:
    """The upload beside the store: a second name of the file it already is, else a copy."""
    path = files.temporary()
    paths.append(path)
    already = getattr(upload_, "temporary_file_path", None)
    with files.room_on_disk():
        if already is not None:
            upload_.flush()
            path.unlink()
            with contextlib.suppress(OSError):
                os.link(already(), path)
                return path
        upload_.seek(0)
        with path.open("wb") as out:
            shutil.copyfileobj(upload_, out, 1024 * 1024)
    return path


@transaction.atomic
def _store(project: Project, user: Any, name: str, scene: Path, setup_name: str, setup: Path | None) -> Intake:
    scene_sha256, _ = files.put_file(scene)
    setup_sha256 = files.put_file(setup)[0] if setup is not None else ""
    job = jobs.new(project, user, "intake")
    row = Intake.objects.create(
        project=project, job=job, scene_name=name[-255:], scene_sha256=scene_sha256, setup_name=setup_name[-255:],
        setup_sha256=setup_sha256,
    )  # fmt: skip
    jobs.defer("intake", job)
    return row


def run(row: Intake, attempt: jobs.Attempt) -> tuple[str, Any]:
    """Read what was uploaded. Returns (message, write); Refused with one line if it breaks a rule or its limits."""
    scene = files.path_of(row.scene_sha256)
    setup = files.path_of(row.setup_sha256) if row.setup_sha256 else None
    read = read_upload(scene, row.scene_name, setup, row.setup_name, attempt.progress)
    check_room(row.scene_name, read)
    return "ready", lambda: _make(row, read)


def check_room(name: str, read: dict[str, Any]) -> None:
    """Refused(422) for what takes more memory when it is open than this server has. read: as `read_upload` gives it."""
    need = read["open_bytes"] * OPEN_TIMES
    if need > settings.MEMORY_BYTES:
        raise Refused(
            422, f"{name}: open it would take about {need >> 20} MiB, and this server's budget is "
            f"{settings.MEMORY_BYTES >> 20} MiB (EDDYFALL_MEMORY_MIB)",
        )  # fmt: skip


def _make(row: Intake, read: dict[str, Any]) -> None:
    """The build, in the caller's transaction."""
    user = row.job.created_by
    project = Project.objects.select_for_update().get(pk=row.project.pk)
    last = project.builds.first()
    number = (project.builds.aggregate(Max("number"))["number__max"] or 0) + 1
    build = Build.objects.create(
        project=project, number=number, name=row.scene_name[:200], parent=last, setup=read["setup"],
        has_own_setup=bool(row.setup_sha256), facts=read["facts"], created_by=user,
    )  # fmt: skip
    _name(build, "scene", row.scene_name, row.scene_sha256)
    if row.setup_sha256:
        _name(build, "setup", row.setup_name, row.setup_sha256)
    Intake.objects.filter(pk=row.pk).update(build=build)
    note(project, user, "build brought in", f"build {number}: {row.scene_name}")


def _name(build: Build, kind: str, name: str, sha256: str) -> None:
    size = files.path_of(sha256).stat().st_size
    File.objects.create(build=build, kind=kind, name=name, sha256=sha256, size=size)


def let_go(job_id: int) -> None:
    """What an intake that has ended still holds goes, unless a build names it."""
    with transaction.atomic():
        row = Intake.objects.select_for_update().filter(job_id=job_id).exclude(job__state__in=Job.UNDER_WAY).first()
        if row is None or not row.scene_sha256:
            return
        files.unlink_unnamed([sha for sha in (row.scene_sha256, row.setup_sha256) if sha])
        Intake.objects.filter(pk=row.pk).update(scene_sha256="", setup_sha256="")


def let_go_of_ended() -> None:
    """The same of every intake that was cancelled before it began, or whose worker died as it ended."""
    ended = Intake.objects.exclude(scene_sha256="").exclude(job__state__in=Job.UNDER_WAY)
    for job_id in ended.values_list("job_id", flat=True):
        let_go(job_id)
