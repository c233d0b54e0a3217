"""Hand over: one ZIP with the patch, the repaired build, the changes, the HTML sheet and SARIF."""

import datetime
import io
import json
import tempfile
import zipfile
from pathlib import Path
from typing import Any

from django.db import transaction

from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer
from eddyfall.core.handover.html import html_sheet
from eddyfall.core.handover.package import slug, write_package
from eddyfall.core.handover.sarif import sarif
from eddyfall.core.scene.changes import apply_changes
from eddyfall.core.sweep import sweep
from eddyfall.core.sweep.run import SWEEP_MEMO_BYTES
from eddyfall.workbench import jobs
from eddyfall.workbench.errors import Refused
from eddyfall.workbench.models import Build, Job, Package
from eddyfall.workbench.services.builds import core_changes, kept, open_core
from eddyfall.workbench.services.projects import note


def make(build: Build, progress: Any) -> bytes:
    """The ZIP's bytes. The sheet and SARIF come from a sweep of the build as it was uploaded and of its head."""
    base, rows = open_core(build), kept(build)
    # What is handed over depends on build and changes alone: a kept bake whose light is not at hand any more is gathered again.
    progress("applying what is kept", 0.0)
    result = apply_changes(base, core_changes(rows))
    stem = slug(Path(build.name).stem)
    renderer = Renderer(Memo(SWEEP_MEMO_BYTES))
    before = sweep(base, renderer=renderer, progress=lambda what, share: progress(what, share * 0.45))
    after = before
    if rows:
        after = sweep(result, renderer=renderer, progress=lambda what, share: progress(what, 0.45 + share * 0.45))
    progress("writing the sheet", 0.9)
    today = datetime.date.today().isoformat()
    sheet = html_sheet(base, before, name=stem, renderer=renderer, after=after, repaired=result if rows else None, when=today)
    stream = io.BytesIO()
    with tempfile.TemporaryDirectory() as folder, zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        for path in write_package(base, result, core_changes(rows), Path(folder), stem, []).values():
            archive.write(path, path.name)
        archive.writestr(f"{stem}.sheet.html", sheet)
        archive.writestr(f"{stem}.sarif", json.dumps(sarif(after, f"{stem}.glb"), indent=2))
    return stream.getvalue()


@transaction.atomic
def ask(build: Build, user: Any) -> Package:
    """Ask for the ZIP of a build's head; Refused if nothing is kept yet. One that is made already for this head is given again."""
    build = Build.objects.select_for_update().get(pk=build.pk)
    if not kept(build):
        raise Refused(409, "nothing is kept yet: keep a change on the Bench first")
    fresh = build.packages.filter(head_version=build.version, job__state__in=(Job.WAITING, Job.RUNNING, Job.DONE)).first()
    if fresh is not None:
        return fresh
    job = jobs.new(build.project, user, "handover")
    package = Package.objects.create(build=build, job=job, head_version=build.version)
    note(build.project, user, "hand over asked for", f"build {build.number}")
    jobs.defer("handover", job)
    return package


__all__ = ["ask", "make", "slug"]
