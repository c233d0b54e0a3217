"""The ledger of a build: keep, drop, and the patch of the user's own setup that follows."""

from typing import Any

from django.db import transaction
from django.db.models import F, Max
from django.utils import timezone
from pydantic import ValidationError

from eddyfall.core.bake.run import from_store_only
from eddyfall.core.errors import EddyfallError
from eddyfall.core.handover.package import setup_patch
from eddyfall.core.handover.report import change_json
from eddyfall.core.scene.changes import Change as CoreChange
from eddyfall.core.scene.changes import drop_change
from eddyfall.core.scene.setup.document import first_fault
from eddyfall.workbench.errors import Conflict, NotThere, Refused
from eddyfall.workbench.models import Build, Case, Change
from eddyfall.workbench.services.builds import applied, core_changes, head, kept, open_core
from eddyfall.workbench.services.cases import candidate, case_of
from eddyfall.workbench.services.projects import note


@transaction.atomic
def keep(
    build: Build, number: int, version: int, user: Any, *, trial: int | None, remedy: int | None, reason: str, current: Any
) -> Change:
    """Keep the change of a trial or remedy of a case. Conflict if someone wrote first; Refused if it no longer applies."""
    locked = Build.objects.select_for_update().get(pk=build.pk)
    case = case_of(locked, number, lock=True)
    change, evidence = candidate(case, trial, remedy)
    if case.version != version:
        raise Conflict("someone else has worked on this case since you loaded it", {"change": change.title}, current(case))
    row = append(locked, case, change, user, evidence, reason)
    note(locked.project, user, "change kept", f"{row.document['title']} (case {case.number})")
    return row


@transaction.atomic
def keep_change(
    build: Build, version: int, user: Any, *, document: dict[str, Any], evidence: dict[str, Any], reason: str, current: Any
) -> Change:
    """Keep a change made outside a case. Conflict if someone wrote first; Refused if it is none, or does not apply."""
    locked = Build.objects.select_for_update().get(pk=build.pk)
    if locked.version != version:
        raise Conflict("someone else has changed the ledger since you loaded it", {"change": document}, current(locked))
    change = change_of(document)
    row = append(locked, None, change, user, evidence, reason)
    note(locked.project, user, "change kept", row.document["title"])
    return row


def change_of(document: dict[str, Any]) -> CoreChange:
    """The core's change of a document. Refused(422) with the rule it breaks."""
    try:
        change = CoreChange.model_validate(document)
    except ValidationError as error:
        rule, where = first_fault(error)
        raise Refused(422, f"this is no change: {where + ': ' if where else ''}{rule}") from None
    if not change.patch and change.operation is None:
        raise Refused(422, "this is no change: it has neither a patch nor an operation")
    return change


def append(locked: Build, case: Case | None, change: CoreChange, user: Any, evidence: dict[str, Any], reason: str = "") -> Change:
    """Put a change at the end of a locked build's ledger. Refused if it is there already or does not apply on top of what is kept."""
    rows = kept(locked)
    bakes = change.operation is not None and change.operation.name == "bake.run"  # the same maps again, after other changes
    if not bakes and any(row.document["patch" if change.operation is None else "operation"] == _body(change) for row in rows):
        raise Refused(409, "this change is kept already")
    taken = {row.key for row in locked.changes.all()}
    key, n = change.id, 1
    while key in taken:
        n += 1
        key = f"{change.id}~{n}"
    named = change.model_copy(update={"id": key, "author": user.get_username(), "reason": reason or change.reason})
    try:
        applied(open_core(locked), [*core_changes(rows), named])
    except EddyfallError as error:
        raise Refused(409, f"it does not apply on top of what is kept: {error}") from None
    row = Change.objects.create(
        build=locked, case=case, position=(locked.changes.aggregate(Max("position"))["position__max"] or 0) + 1, key=key,
        document=change_json(named), evidence=evidence, kept_by=user,
    )  # fmt: skip
    _bump(locked, case)
    return row


def _body(change: CoreChange) -> Any:
    document = change_json(change)
    return document.get("patch", document.get("operation"))


@transaction.atomic
def drop(build: Build, change_id: int, version: int, user: Any, current: Any) -> Change:
    """Drop a kept change; the rest is applied again, and one that no longer applies stops the drop with its name."""
    locked = Build.objects.select_for_update().get(pk=build.pk)
    row = locked.changes.filter(pk=change_id).first()
    if row is None:
        raise NotThere(f"change {change_id}")
    if locked.version != version:
        raise Conflict("someone else has changed the ledger since you loaded it", {"drop": row.key}, current(locked))
    if row.dropped is not None:
        raise Refused(409, "this change was dropped already")
    try:
        with from_store_only():
            drop_change(open_core(locked), core_changes(kept(locked)), row.document["id"])
    except EddyfallError as error:
        raise Refused(409, str(error)) from None
    row.dropped, row.dropped_by = timezone.now(), user
    row.save(update_fields=["dropped", "dropped_by"])
    _bump(locked, row.case)
    note(locked.project, user, "change dropped", row.document["title"])
    return row


def _bump(build: Build, case: Case | None) -> None:
    Build.objects.filter(pk=build.pk).update(version=F("version") + 1)
    if case is not None:
        Case.objects.filter(pk=case.pk).update(version=F("version") + 1)


def patch_of(build: Build) -> list[dict[str, Any]]:
    """RFC 6902 patch from the user's own setup to the head: one hunk for each changed leaf."""
    return setup_patch(open_core(build), head(build))
