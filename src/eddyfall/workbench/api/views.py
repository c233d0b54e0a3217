"""Rows as answers."""

from typing import Any

from eddyfall.workbench.models import (
    Bake,
    Build,
    Case,
    Change,
    Delivery,
    Event,
    Finding,
    Intake,
    Invitation,
    Job,
    Membership,
    Package,
    Project,
    Proof,
    Sweep,
)
from eddyfall.workbench.services import builds as build_service
from eddyfall.workbench.services import sweeps as sweep_service


def name_of(user: Any) -> str | None:
    return user.get_username() if user else None


MOST_PEOPLE = 8
MOST_SHOWN = 400  # characters of a text in a change


def project_out(project: Project, role: str) -> dict[str, Any]:
    newest = project.builds.first()
    people = project.memberships.order_by("pk").values_list("user__username", flat=True)
    under_way = project.jobs.filter(state__in=Job.UNDER_WAY)
    return {"id": project.pk, "name": project.name, "role": role, "builds": project.builds.count(),
            "newest": newest.number if newest else None, "created": project.created,
            "viewpoint": next(iter(newest.setup.get("viewpoints", {})), None) if newest else None,
            "found": sweep_service.standing(newest) if newest else None,
            "people": list(people[:MOST_PEOPLE]), "jobs": [job_out(j) for j in under_way]}  # fmt: skip


def member_out(membership: Membership) -> dict[str, Any]:
    return {"username": membership.user.get_username(), "role": membership.role, "invited": False}


def invited_out(invitation: Invitation) -> dict[str, Any]:
    return {"username": invitation.username, "role": invitation.role, "invited": True}


def event_out(event: Event) -> dict[str, Any]:
    return {"at": event.at, "who": name_of(event.user), "what": event.what, "about": event.about}


def build_line(build: Build) -> dict[str, Any]:
    return {"number": build.number, "name": build.name, "created": build.created, "created_by": name_of(build.created_by),
            "kept": build.changes.filter(dropped=None).count(), "version": build.version}  # fmt: skip


def build_out(build: Build) -> dict[str, Any]:
    setup = build_service.setup_of(build)
    captures = set(build.captures.values_list("viewpoint", flat=True))
    views = [
        {"key": key, "role": view.role, "fov_y_deg": view.fov_y_deg, "camera": view.camera, "capture": key in captures}
        for key, view in setup.viewpoints.items()
    ]
    facts = {k: v for k, v in build.facts.items() if k != "setup"}
    over = Delivery.objects.filter(accepted=build, setup=None).select_related("build").first()
    return {**build_line(build), "has_own_setup": build.has_own_setup, "settings_of": over.build.number if over else None,
            "facts": facts, "viewpoints": views, "files": list(build.files.filter(kind__in=("scene", "setup"))),
            "targets": list(setup.targets)}  # fmt: skip


ABOUT = {"sweep": "sweep", "proof": "proof", "handover": "package", "bake": "bake", "intake": "intake", "delivery": "delivery"}
WORDS = {"sweep": "sweep", "handover": "hand over", "bake": "bake"}


def about(job: Job) -> str:
    """What a job is for, in words."""
    row = getattr(job, ABOUT.get(job.kind, ""), None)
    if row is None:
        return "filling of the demo" if job.kind == "demo" else job.kind
    if isinstance(row, Delivery):
        return f"delivery over build {row.build.number}"
    if isinstance(row, Intake):
        return f"intake of {row.scene_name}"
    if job.kind == "proof":
        return f"proof of case {row.case.number}"
    return f"{WORDS[job.kind]} of build {row.build.number}"


def job_out(job: Job) -> dict[str, Any]:
    keys = ("kind", "state", "progress", "message", "attempts", "created", "ended")
    row = getattr(job, "intake", None) if job.kind == "intake" else None
    build = row.build.number if row is not None and row.build is not None else None
    return {"id": job.pk, "about": about(job), "build": build, **{k: getattr(job, k) for k in keys}}


def sweep_line(sweep: Sweep) -> dict[str, Any]:
    return {"id": sweep.pk, "target": sweep.target, "head_version": sweep.head_version, "created": sweep.created,
            "findings": len(sweep.findings.all()), "underway": sweep.underway if sweep.job.state == Job.RUNNING else [],
            "job": job_out(sweep.job)}  # fmt: skip


def finding_out(finding: Finding, standing: str, case: int | None) -> dict[str, Any]:
    return {"id": finding.pk, "fingerprint": finding.fingerprint, "standing": standing, "case": case,
            "has_picture": finding.picture_id is not None, "document": finding.document}  # fmt: skip


def sweep_out(sweep: Sweep) -> dict[str, Any]:
    from eddyfall.core.handover.tide import tide_columns

    standing, gone = sweep_service.compared(sweep) if sweep.result else ({}, [])
    of_cases = Case.objects.filter(build_id=sweep.build_id, finding__isnull=False).values_list("finding__fingerprint", "number")
    known: dict[str, int] = {}
    for fingerprint, number in of_cases.order_by("-id"):
        known.setdefault(fingerprint, number)
    items = [finding_out(f, standing.get(f.fingerprint, ""), known.get(f.fingerprint)) for f in sweep.findings.all()]
    return {**sweep_line(sweep), "tide": sweep_service.tide(sweep), "codes": tide_columns(), "items": items,
            "gone": [{"code": f.document["code"], "title": f.document["title"]} for f in gone],
            "left_out": (sweep.result or {}).get("left_out", [])}  # fmt: skip


def _shortened(document: dict[str, Any]) -> dict[str, Any]:
    """A change's document; of text that no one reads (a mesh that is brought along) only how much there is."""
    operation = document.get("operation")
    if not operation or all(not isinstance(v, str) or len(v) <= MOST_SHOWN for v in operation["params"].values()):
        return document
    params = {
        k: f"{len(v)} characters" if isinstance(v, str) and len(v) > MOST_SHOWN else v for k, v in operation["params"].items()
    }
    return {**document, "operation": {**operation, "params": params}}


def change_out(change: Change) -> dict[str, Any]:
    d = change.document
    return {"id": change.pk, "key": change.key, "title": d["title"], "scope": d["scope"], "reason": d["reason"],
            "author": d["author"], "case": change.case.number if change.case else None, "kept": change.kept,
            "kept_by": name_of(change.kept_by), "dropped": change.dropped, "dropped_by": name_of(change.dropped_by),
            "document": _shortened(d), "evidence": change.evidence}  # fmt: skip


def proof_out(proof: Proof) -> dict[str, Any]:
    return {"id": proof.pk, "fresh": proof.head_version == proof.case.build.version, "job": job_out(proof.job),
            "result": proof.result}  # fmt: skip


def stage_of(case: Case, kept: int, proof: Proof | None) -> str:
    """The stage a case has come to: symptom, spot, trials, fix or proof."""
    if proof is not None and proof.result is not None and proof.head_version == case.build.version:
        return "proof"
    if kept:
        return "fix"
    if case.lineup is not None:
        return "trials"
    return "spot" if case.spot is not None else "symptom"


def standing_of(case: Case, kept: int, proof: Proof | None) -> str:
    """What a case has come to, in words."""
    stage = stage_of(case, kept, proof)
    if stage == "proof" and proof is not None:
        return "proved" if proof.result["proved"] else f"not proved: {proof.result['why']}"
    if stage == "fix":
        return f"{kept} kept, not proved" + (" since the ledger changed" if proof is not None and proof.result else " yet")
    if stage == "trials":
        verdicts = list(case.trials.values_list("document__verdict", flat=True))
        return f"{sum(v == 'clears it' for v in verdicts)} of {len(verdicts)} trials clear it"
    if case.finding is not None:
        cures = sum(r["verdict"] == "cures" for r in case.finding.document["remedies"])
        return f"{cures} remed{'y' if cures == 1 else 'ies'} of the sweep cure{'s' if cures == 1 else ''} it"
    return ""


def case_line(case: Case) -> dict[str, Any]:
    kept = case.changes.filter(dropped=None).count()
    proof = case.proofs.select_related("job").first()
    found = case.finding.document if case.finding else None
    return {"number": case.number, "title": case.title, "viewpoint": case.viewpoint, "symptom": case.symptom,
            "code": found["code"] if found else None, "stage": stage_of(case, kept, proof), "version": case.version,
            "severity": found["severity"] if found else None, "impact": found["impact"] if found else None,
            "standing": standing_of(case, kept, proof), "opened_by": name_of(case.created_by), "opened": case.created,
            "stamp": f"{case.version}.{case.build.version}"}  # fmt: skip


def case_out(case: Case) -> dict[str, Any]:
    case = (
        Case.objects.select_related("finding", "build", "created_by")
        .defer(*(f"build__{d}" for d in build_service.DOCUMENTS))
        .get(pk=case.pk)
    )
    proof = case.proofs.select_related("job", "case__build").first()
    return {
        **case_line(case), "target": case.target, "spot": case.spot, "subject": case.subject, "lineup": case.lineup,
        "finding": finding_out(case.finding, "", case.number) if case.finding else None,
        "trials": [{"rank": t.rank, "document": t.document} for t in case.trials.all()],
        "kept": [change_out(c) for c in case.changes.filter(dropped=None).select_related("kept_by", "case")],
        "proof": proof_out(proof) if proof else None, "build_version": case.build.version,
    }  # fmt: skip


def ledger_out(build: Build, user: Any) -> dict[str, Any]:
    from eddyfall.workbench.services.ledger import patch_of

    build.refresh_from_db()
    rows = build.changes.select_related("kept_by", "dropped_by", "case")
    return {"version": build.version, "changes": [change_out(c) for c in rows], "patch": patch_of(build, user)}


def package_out(package: Package) -> dict[str, Any]:
    return {"id": package.pk, "fresh": package.head_version == package.build.version, "job": job_out(package.job),
            "size": package.file.size if package.file else None}  # fmt: skip


def bake_out(bake: Bake) -> dict[str, Any]:
    return {"id": bake.pk, "wanted": bake.wanted, "done": bake.done, "rays": bake.rays, "change": bake.change_id,
            "job": job_out(bake.job)}  # fmt: skip
