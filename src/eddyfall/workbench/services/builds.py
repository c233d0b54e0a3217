"""Builds: upload, open with the core, what is in them, their head, captures."""

import io
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from PIL import Image, UnidentifiedImageError

from eddyfall.core import defects  # noqa: F401  (registers the buffer operations)
from eddyfall.core.bake.maps.store import StoredLight
from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.core.scene.changes import Change as CoreChange
from eddyfall.core.scene.changes import apply_changes
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import Setup, parse_setup
from eddyfall.workbench import files, jobs
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.models import Build, Capture, Change, File, Project
from eddyfall.workbench.services.projects import note
from eddyfall.workbench.studio.desk import Ref
from eddyfall.workbench.studio.room import STUDIO

CAPTURE_EDGE = 4096
DOCUMENTS = ("setup", "facts", "patch")  # what of a build is large


def build_of(project: Project, number: int) -> Build:
    """A build of a project by number, its documents read when asked for; NotThere if it has none."""
    build = Build.objects.defer(*DOCUMENTS).filter(project=project, number=number).first()
    if build is None:
        raise NotThere(f"build {number}")
    return build


@dataclass(frozen=True)
class Built(Ref):
    """A build as it came in, by row."""

    build_id: int

    def open(self) -> CoreBuild:
        return open_core(_row(self.build_id))


@dataclass(frozen=True)
class Head(Ref):
    """A build with its ledger, by row; what one case has kept left out."""

    build_id: int
    without_case: int | None = None

    def open(self) -> CoreBuild:
        return head(_row(self.build_id), self.without_case)


def _row(build_id: int) -> Build:
    build = Build.objects.filter(pk=build_id).first()
    if build is None:
        raise NotThere("this build")
    return build


def setup_of(build: Build) -> Setup:
    """The settings a build came in with, without opening its scene."""
    return parse_setup(build.setup)


def open_core(build: Build) -> CoreBuild:
    """The core's build as it was uploaded (kept open between requests)."""

    def read() -> CoreBuild:
        scene = build.files.filter(kind="scene").first()
        path = files.path_of(scene.sha256) if scene else None
        if scene is None or path is None or not path.exists():
            raise NotThere(f"build {build.number}")
        with STUDIO.alone_if_large(scene.size):
            core_scene = read_scene(path, beside_it=False)
        return finish_build(core_scene, parse_setup(build.setup), build.setup, list(core_scene.notes))

    return STUDIO.build(f"{build.pk}", read)


def kept(build: Build, without_case: int | None = None) -> list[Change]:
    """Kept changes of a build in order, those of one case left out."""
    rows = build.changes.filter(dropped=None)
    return list(rows.exclude(case_id=without_case) if without_case is not None else rows)


def core_changes(rows: list[Change]) -> list[CoreChange]:
    """Rows of the ledger as the core's changes."""
    return [CoreChange.model_validate(row.document) for row in rows]


def head(build: Build, without_case: int | None = None) -> CoreBuild:
    """The core's build with its kept changes (those of one case left out)."""
    rows = kept(build, without_case)
    if not rows:
        return open_core(build)
    key = f"{build.pk}+" + ",".join(str(row.pk) for row in rows)
    return STUDIO.build(key, lambda: applied(open_core(build), core_changes(rows)))


def applied(base: CoreBuild, changes: Sequence[CoreChange]) -> CoreBuild:
    """A core build with changes, for looking at: kept bakes are read from the store, and what is not there is shown as stale."""
    return apply_changes(base, changes, StoredLight(gathers=False))


@transaction.atomic
def delete(build: Build, user: Any) -> None:
    """Delete a build; its jobs end, and its files go once nothing else names them."""
    jobs.cancel_of([build.pk], f"build {build.number} was deleted")
    files.unlink_unnamed(list(build.files.values_list("sha256", flat=True)))
    note(build.project, user, "build deleted", f"build {build.number}: {build.name}")
    build.delete()


def set_capture(build: Build, user: Any, viewpoint: str, upload_: "UploadedFile[bytes]") -> Capture:
    """Store the user's own frame of a viewpoint (PNG or JPEG), as PNG."""
    if viewpoint not in setup_of(build).viewpoints:
        raise NotThere(f"viewpoint {viewpoint!r}")
    if (upload_.size or 0) > 64 * 1024**2:
        raise Refused(422, f"{upload_.name}: a capture may have 64 MiB")
    try:
        picture = Image.open(upload_, formats=("PNG", "JPEG"))
        if max(picture.size) > CAPTURE_EDGE:
            raise Refused(422, f"{upload_.name}: a capture may be {CAPTURE_EDGE} px wide and high")
        stream = io.BytesIO()
        picture.convert("RGB").save(stream, "PNG", compress_level=1)
    except (UnidentifiedImageError, OSError, SyntaxError, ValueError, Image.DecompressionBombError):
        raise Refused(422, f"{upload_.name}: is no readable PNG or JPEG") from None
    with transaction.atomic():
        old = Capture.objects.filter(build=build, viewpoint=viewpoint).select_related("file").first()
        file = files.add(build, "capture", str(upload_.name), stream.getvalue())
        if old is not None:
            before = old.file
            old.file = file
            old.save()
            files.unlink_unnamed([before.sha256])
            before.delete()
            note(build.project, user, "capture replaced", f"build {build.number}, {viewpoint}")
            return old
        note(build.project, user, "capture brought in", f"build {build.number}, {viewpoint}")
        return Capture.objects.create(build=build, viewpoint=viewpoint, file=file)


def file_of(build: Build, kind: str) -> File | None:
    """The scene or setup file of a build as it was uploaded."""
    return build.files.filter(kind=kind).first()
