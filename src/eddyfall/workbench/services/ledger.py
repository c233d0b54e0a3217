"""The ledger of a build: keep, drop, put in another order, and the patch of the user's own setup that follows."""

import json
from typing import Any

from django.db import transaction
from django.db.models import F, Max
from django.utils import timezone
from pydantic import ValidationError

from eddyfall.core.errors import EddyfallError
from eddyfall.core.handover.documents.changes import change_json
from eddyfall.core.handover.package import setup_patch
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.core.scene.changes import Change as CoreChange
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.receivers import receivers
from eddyfall.core.scene.setup.document import first_fault
from eddyfall.workbench.errors import Conflict, NotThere, Refused
from eddyfall.workbench.models import Build, Case, Change
from eddyfall.workbench.services.builds import Built, applied, kept
from eddyfall.workbench.services.cases import candidate, case_of
from eddyfall.workbench.services.projects import note
from eddyfall.workbench.studio import desk

MAX_EVIDENCE_BYTES = 64 * 1024


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
    _same_version(locked, version, {"change": document}, current)
    change = change_of(document)
    if len(json.dumps(evidence)) > MAX_EVIDENCE_BYTES:
        raise Refused(422, f"evidence: may have {MAX_EVIDENCE_BYTES >> 10} KiB as JSON")
    row = append(locked, None, change, user, evidence, reason, names_checked=True)
    note(locked.project, user, "change kept", row.document["title"])
    return row


def reasons(build: Build) -> dict[str, str]:
    """Why each thing that the ledger has written was kept, by JSON pointer; the last change that wrote it counts."""
    found: dict[str, str] = {}
    for row in kept(build):
        why = row.document["reason"] or row.document["title"]
        for op in row.document.get("patch", ()):
            if op["op"] != "test":
                found[op["path"]] = f"{why} ({row.document['author']})" if row.document["author"] else why
    return found


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


def append(
    locked: Build, case: Case | None, change: CoreChange, user: Any, evidence: dict[str, Any], reason: str = "",
    names_checked: bool = False,
) -> Change:  # fmt: skip
    """Put a change at the end of a locked build's ledger. Refused if it is there already or does not apply on top of what is kept.

    names_checked: a bake must name assets that exist; one that ran names those that existed when it was asked for.
    """
    rows = kept(locked)
    bakes = change.operation is not None and change.operation.name == "bake.run"  # the same maps again, after other changes
    if not bakes and any(_body(row.document) == _body(change_json(change)) for row in rows):
        raise Refused(409, "this change is kept already")
    taken = {row.key for row in locked.changes.all()}
    key, n = change.id, 1
    while key in taken:
        n += 1
        key = f"{change.id[:190]}~{n}"
    named = change.model_copy(update={"id": key, "author": user.get_username(), "reason": reason or change.reason})
    document = change_json(named)
    try:
        patch = _patch(locked, user, [*(row.document for row in rows), document], names_checked and bakes)
    except EddyfallError as error:
        raise Refused(409, f"it does not apply on top of what is kept: {error}") from None
    row = Change.objects.create(
        build=locked, case=case, position=(locked.changes.aggregate(Max("position"))["position__max"] or 0) + 1, key=key,
        document=document, evidence=evidence, kept_by=user,
    )  # fmt: skip
    _bump(locked, case, patch)
    return row


def _patch(build: Build, user: Any, documents: list[dict[str, Any]], names_checked: bool = False) -> list[dict[str, Any]]:
    """What changes in this order come to. EddyfallError if one does not apply."""
    question = desk.Question("open", str(user.pk), patch_after, (Built(build.pk), documents, names_checked))
    patch: list[dict[str, Any]] = desk.ask(question)
    return patch


def patch_after(base: CoreBuild, documents: list[dict[str, Any]], names_checked: bool = False) -> list[dict[str, Any]]:
    """RFC 6902 patch from the user's own setup to a build with changes: one hunk for each changed leaf. EddyfallError if one does not
    apply; names_checked: Refused(422) if the last is a bake of assets that do not exist."""
    changes = [CoreChange.model_validate(d) for d in documents]
    if names_checked and changes[-1].operation is not None:
        _check_maps(applied(base, changes[:-1]), changes[-1].operation.params.get("maps"))
    return setup_patch(base, applied(base, changes))


def _check_maps(build: CoreBuild, maps: Any) -> None:
    there = {r.name for r in receivers(build, pack(build.scene, build.setup))}
    pairs = maps if isinstance(maps, list) else []
    unknown = [m[0] for m in pairs if isinstance(m, list) and m and m[0] not in there]
    if unknown:
        raise Refused(422, f"bake.run: lightmapped asset {unknown[0]!r} does not exist")


def _body(document: dict[str, Any]) -> tuple[Any, Any]:
    """What a change does: (patch, operation), the one it does not use None."""
    return document.get("patch"), document.get("operation")


@transaction.atomic
def drop(build: Build, change_id: int, version: int, user: Any, current: Any) -> Change:
    """Drop a kept change; the rest is applied again, and one that no longer applies stops the drop with its name."""
    locked = Build.objects.select_for_update().get(pk=build.pk)
    row = locked.changes.filter(pk=change_id).first()
    if row is None:
        raise NotThere(f"change {change_id}")
    _same_version(locked, version, {"drop": row.key}, current)
    if row.dropped is not None:
        raise Refused(409, "this change was dropped already")
    try:
        patch = _patch(locked, user, [r.document for r in kept(locked) if r.pk != row.pk])
    except EddyfallError as error:
        why = f"{error.where or 'a later change'} {error.rule}"
        raise Refused(409, f"change {row.key}: cannot be dropped: {why}") from None
    row.dropped, row.dropped_by = timezone.now(), user
    row.save(update_fields=["dropped", "dropped_by"])
    _bump(locked, row.case, patch)
    note(locked.project, user, "change dropped", row.document["title"])
    return row


@transaction.atomic
def reorder(build: Build, order: list[int], version: int, user: Any, current: Any) -> None:
    """Put the kept changes in another order. Refused if they are not all named once, or one does not apply in its new place."""
    locked = Build.objects.select_for_update().get(pk=build.pk)
    _same_version(locked, version, {"order": order}, current)
    rows = {row.pk: row for row in kept(locked)}
    if sorted(order) != sorted(rows):
        raise Refused(422, "order: must name every kept change once")
    try:
        patch = _patch(locked, user, [rows[pk].document for pk in order])
    except EddyfallError as error:
        raise Refused(409, f"they do not apply in this order: {error}") from None
    for pk, position in zip(order, sorted(row.position for row in rows.values())):
        Change.objects.filter(pk=pk).update(position=position)
    _bump(locked, None, patch)
    note(locked.project, user, "ledger put in order", f"build {locked.number}: {len(order)} changes")


def _same_version(locked: Build, version: int, yours: Any, current: Any) -> None:
    if locked.version != version:
        raise Conflict("someone else has changed the ledger since you loaded it", yours, current(locked))


def _bump(build: Build, case: Case | None, patch: list[dict[str, Any]]) -> None:
    Build.objects.filter(pk=build.pk).update(version=F("version") + 1, patch=patch)
    if case is not None:
        Case.objects.filter(pk=case.pk).update(version=F("version") + 1)


def patch_of(build: Build, user: Any) -> list[dict[str, Any]]:
    """RFC 6902 patch from the user's own setup to the head, worked out once for each state of the ledger."""
    rows = kept(build)
    if not rows:
        return []
    if build.patch is None:
        build.patch = _patch(build, user, [row.document for row in rows])
        Build.objects.filter(pk=build.pk, version=build.version).update(patch=build.patch)
    return list(build.patch)
