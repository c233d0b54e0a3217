"""Proofs: the kept changes of a case, looked at from every viewpoint at full size."""

from typing import Any

from django.db import transaction

from eddyfall.core.frame.render import Renderer
from eddyfall.core.handover.documents.proofs import ProofDocument
from eddyfall.core.sweep.proof import prove, sharing
from eddyfall.workbench import jobs
from eddyfall.workbench.errors import Refused
from eddyfall.workbench.models import Build, Case, Job, Proof
from eddyfall.workbench.services.builds import head
from eddyfall.workbench.services.cases import base_of
from eddyfall.workbench.services.projects import note


@transaction.atomic
def ask(case: Case, user: Any) -> Proof:
    """Ask for a proof of what a case has kept."""
    build = Build.objects.select_for_update().get(pk=case.build.pk)
    if not case.changes.filter(dropped=None).exists():
        raise Refused(409, "keep a change first; there is nothing to prove")
    if case.proofs.filter(job__state__in=(Job.WAITING, Job.RUNNING)).exists():
        raise Refused(409, "a proof of this case is under way")
    job = jobs.new(build.project, user, "proof")
    proof = Proof.objects.create(case=case, job=job, head_version=build.version)
    note(build.project, user, "proof asked for", f"case {case.number}")
    jobs.defer("proof", job)
    return proof


def run(proof: Proof, progress: Any, renderer: Renderer) -> dict[str, Any]:
    """Compute a proof; nothing is written."""
    case = proof.case
    before, after = base_of(case), head(case.build)
    subjects: set[str] = set(case.finding.document["subjects"]) if case.finding else set()
    if case.lineup:
        subjects |= sharing(renderer, before, case.lineup["subject"])
    fingerprint = case.finding.fingerprint if case.finding else None
    result = prove(before, after, frozenset(subjects), fingerprint, target=case.target, renderer=renderer, progress=progress)
    return ProofDocument.from_core(result).model_dump(mode="json")
