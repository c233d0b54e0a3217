"""What the workers do: sweeps, proofs, bakes, hand overs; and intakes, which are quick and have a worker of their own."""

from typing import Any

from procrastinate.contrib.django import app

from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer
from eddyfall.core.sweep import sweep as core_sweep
from eddyfall.core.sweep.run import SWEEP_MEMO_BYTES
from eddyfall.workbench import files
from eddyfall.workbench.jobs import Attempt, run
from eddyfall.workbench.models import Bake, Delivery, Intake, Package, Proof, Sweep
from eddyfall.workbench.services import bakes, builds, deliveries, intakes, proofs, sweeps
from eddyfall.workbench.services import handover as handovers


@app.task(name="eddyfall.sweep")
def sweep(job_id: int) -> None:
    """Sweep a build's head and store the findings."""

    def work(attempt: Attempt) -> tuple[str, Any]:
        row = Sweep.objects.select_related("build").get(job_id=job_id)
        build, row.head_version = builds.head(row.build), row.build.version
        renderer = Renderer(Memo(SWEEP_MEMO_BYTES))
        growing = sweeps.Growing(row)

        def progress(what: str, share: float) -> None:
            attempt.progress(what, share)
            growing.write()

        result = core_sweep(build, target=row.target, progress=progress, renderer=renderer, on_found=growing.found)
        return f"{len(result.findings)} findings", lambda: sweeps.store(row, result)

    run(job_id, work)


@app.task(name="eddyfall.proof")
def proof(job_id: int) -> None:
    """Prove what a case has kept."""

    def work(attempt: Attempt) -> tuple[str, Any]:
        row = Proof.objects.select_related("case__build", "case__finding").get(job_id=job_id)
        row.head_version = row.case.build.version
        result = proofs.run(row, attempt.progress, Renderer(Memo(SWEEP_MEMO_BYTES)))

        def write() -> None:
            row.result = result
            row.save(update_fields=["result", "head_version"])

        return result["why"], write

    run(job_id, work)


@app.task(name="eddyfall.bake")
def bake(job_id: int) -> None:
    """Bake lightmaps of a build's head; what is finished when it is cancelled stays."""

    def work(attempt: Attempt) -> tuple[str, Any]:
        return bakes.run(Bake.objects.select_related("build__project", "job__created_by").get(job_id=job_id), attempt)

    run(job_id, work, keeps=True)


@app.task(name="eddyfall.handover")
def handover(job_id: int) -> None:
    """Make the ZIP of a build's hand over."""

    def work(attempt: Attempt) -> tuple[str, Any]:
        row = Package.objects.select_related("build").get(job_id=job_id)
        row.head_version = row.build.version
        data = handovers.make(row.build, attempt.progress)

        def write() -> None:
            row.file = files.add(row.build, "package", f"{handovers.slug(row.build.name)}.zip", data)
            row.save(update_fields=["file", "head_version"])

        return "ready", write

    run(job_id, work)


@app.task(name="eddyfall.intake")
def intake(job_id: int) -> None:
    """Read an upload and make a build of it."""

    def work(attempt: Attempt) -> tuple[str, Any]:
        return intakes.run(Intake.objects.select_related("project", "job__created_by").get(job_id=job_id), attempt)

    run(job_id, work)
    intakes.let_go(job_id)


@app.task(name="eddyfall.delivery")
def delivery(job_id: int) -> None:
    """Read a new delivery of a build and rehearse it."""

    def work(attempt: Attempt) -> tuple[str, Any]:
        row = Delivery.objects.select_related("build__project", "scene", "setup").get(job_id=job_id)
        return deliveries.run(row, attempt.progress, Renderer(Memo(SWEEP_MEMO_BYTES)))

    run(job_id, work)
