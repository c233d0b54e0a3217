"""New deliveries of a build: rehearsed by a job, answered, accepted in one transaction, or let go."""

import contextlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.db.models import Max

from eddyfall.core.delivery.carry import Answer, Carried, carry
from eddyfall.core.delivery.rehearse import rehearse
from eddyfall.core.errors import SetupError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.handover.documents.changes import change_json
from eddyfall.core.handover.documents.delivery import RehearsalDocument
from eddyfall.core.handover.documents.facts import IntakeDocument
from eddyfall.core.handover.documents.supply import SupplyDocument
from eddyfall.core.handover.exr import png_of
from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.core.scene.changes import Change as CoreChange
from eddyfall.core.scene.model import Scene
from eddyfall.core.scene.read.container import parse_json
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import parse_setup
from eddyfall.workbench import files, jobs
from eddyfall.workbench.errors import Conflict, NotThere, Refused
from eddyfall.workbench.models import Build, Capture, Case, Change, Delivery, File, Job
from eddyfall.workbench.reading import read_supply, read_upload
from eddyfall.workbench.services import builds
from eddyfall.workbench.services.intakes import arrive, check_room, scene_name
from eddyfall.workbench.services.projects import note
from eddyfall.workbench.studio.desk import Ref
from eddyfall.workbench.studio.room import STUDIO

PICTURE = (640, 360)
MOST_SUPPLIED = 256 * 1024**2


def delivery_of(build: Build, number: int) -> Delivery:
    """A delivery of a build. NotThere if it has none of that number."""
    row = build.deliveries.select_related("job", "scene", "setup", "accepted").filter(pk=number).first()
    if row is None:
        raise NotThere(f"delivery {number}")
    return row


def upload(build: Build, user: Any, scene: "UploadedFile[bytes]", setup: "UploadedFile[bytes] | None") -> Delivery:
    """Store a new delivery and ask for it to be rehearsed. Refused(422) for other kinds of files, Refused(507) for a full disk."""
    name, paths = scene_name(scene), list[Path]()
    try:
        scene_path, setup_path = arrive(scene, paths), arrive(setup, paths) if setup else None
        return _store(build, user, name, scene_path, (str(setup.name), setup_path) if setup is not None and setup_path else None)
    finally:
        for path in paths:
            path.unlink(missing_ok=True)


@transaction.atomic
def _store(build: Build, user: Any, name: str, scene: Path, setup: tuple[str, Path] | None = None) -> Delivery:
    files_ = [files.add(build, "delivery", name, scene)]
    files_ += [files.add(build, "delivery", *setup)] if setup is not None else []
    job = jobs.new(build.project, user, "delivery")
    row = Delivery.objects.create(build=build, job=job, scene=files_[0], setup=files_[1] if setup is not None else None)
    note(build.project, user, "delivery brought in", f"build {build.number}: {name}")
    jobs.defer("delivery", job)
    return row


def supply(build: Build, user: Any, pictures: list["UploadedFile[bytes]"]) -> tuple[SupplyDocument, Delivery | None]:
    """Find the places of pictures that came later. Where any has one, the scene with them is a new delivery, to be rehearsed and accepted
    like another; without any there is none. Refused(422) for what is no picture, too large or named twice."""
    names = [str(p.name or "picture") for p in pictures]
    if doubled := next((n for n in names if names.count(n) > 1), None):
        raise Refused(422, f"{doubled}: it is supplied twice")
    if sum(p.size or 0 for p in pictures) > MOST_SUPPLIED:
        raise Refused(422, f"pictures of more than {MOST_SUPPLIED >> 20} MiB in one supply")
    paths = list[Path]()
    try:
        came = [(name, arrive(picture, paths)) for name, picture in zip(names, pictures)]
        made = files.temporary()
        paths.append(made)
        older = None if build.parent is None else _scene_of(build.parent)
        told = SupplyDocument.model_validate(read_supply(_scene_of(build), build.name, came, older, made)["supply"])
        if not told.found:
            return told, None
        count = len(told.found)
        name = f"{Path(build.name).stem} with {count} {'picture' if count == 1 else 'pictures'}.glb"
        return told, _store(build, user, name, made)
    finally:
        for path in paths:
            path.unlink(missing_ok=True)


def _scene_of(build: Build) -> Path:
    return files.path_of(build.files.get(kind="scene").sha256)


def run(row: Delivery, progress: Callable[[str, float], None], renderer: Renderer) -> tuple[str, Any]:
    """Read and rehearse a delivery. Returns (message, write); Refused or EddyfallError in one line if it breaks a rule."""
    scene_path, setup_path = files.path_of(row.scene.sha256), files.path_of(row.setup.sha256) if row.setup else None
    read = read_upload(
        scene_path, row.scene.name, setup_path, row.setup.name if row.setup else "", lambda what, share: progress(what, 0.2 * share),
        fits=False,
    )  # fmt: skip
    check_room(row.scene.name, read)
    build = row.build
    head_version, rows = build.version, builds.kept(build)
    old, changes, scene = builds.open_core(build), builds.core_changes(rows), read_scene(scene_path, beside_it=False)
    answers = _asked_answers(row, old, changes, scene)
    found = rehearse(
        old, changes, scene, _setup_of(row), answers, renderer, progress=lambda what, share: progress(what, 0.25 + 0.75 * share)
    )  # fmt: skip
    result = RehearsalDocument.from_core(found).model_dump(mode="json")
    case_of = {change.key: change.case_id for change in rows}
    plan = {
        "stamp": found.stamp,
        "setup": found.carried.base.raw_setup,
        "facts": IntakeDocument.from_core(found.carried.base).model_dump(mode="json"),
        "changes": [change_json(change) for change in found.carried.changes],
        "cases": [case_of.get(origin) for origin in found.carried.origins],
        "viewpoints": list(found.carried.result.setup.viewpoints),
        "subjects": _subjects(build, found.carried),
    }

    def write() -> None:
        Delivery.objects.filter(pk=row.pk).update(result=result, plan=plan, head_version=head_version, answers=answers)

    counts = ", ".join(f"{count} {fate}" for fate, count in result["counts"].items()) or "no edits"
    return counts, write


def _setup_of(row: Delivery) -> dict[str, Any] | None:
    return parse_json(files.path_of(row.setup.sha256).read_bytes(), SetupError) if row.setup else None


def _asked_answers(row: Delivery, old: CoreBuild, changes: Any, scene: Scene) -> dict[str, Answer]:
    """The answers so far, those to what is no longer asked left out."""
    if not row.answers:
        return {}
    asked = {edit.key for edit in carry(old, changes, scene, _setup_of(row)).edits if edit.fate == "asked"}
    return {key: answer for key, answer in row.answers.items() if key in asked}


def _subjects(build: Build, carried: Carried) -> dict[str, str]:
    """What the subjects of cases are called now; those that are gone are not in it."""
    found = {}
    for subject in {case.subject for case in build.cases.all() if case.subject}:
        node, slash, part = subject.partition("/")
        names = carried.matching.new_names("node", subject) or carried.matching.new_names("node", node)
        parts = carried.matching.new_names("material", part) if slash else ()
        if names:
            found[subject] = f"{names[0]}/{parts[0]}" if parts else names[0]
    return found


def answer(row: Delivery, user: Any, answers: dict[str, Answer]) -> Delivery:
    """Take answers to what is asked, and have it rehearsed anew. Refused while it is under way, once it is accepted, and for answers to
    what is not asked."""
    with transaction.atomic():
        locked = Delivery.objects.select_for_update(of=("self",)).select_related("job", "build__project").get(pk=row.pk)
        _open(locked)
        asked = {edit["key"] for edit in (locked.result or {}).get("edits", ()) if edit["fate"] == "asked"}
        if unknown := sorted(set(answers) - asked):
            raise Refused(422, f"nothing is asked of {unknown[0]!r}")
        old = locked.job
        locked.job = jobs.new(locked.build.project, user, "delivery")
        locked.answers = {**locked.answers, **answers}
        locked.save(update_fields=["job", "answers"])
        old.delete()
        jobs.defer("delivery", locked.job)
    return locked


def again(row: Delivery, user: Any) -> Delivery:
    """Have a delivery rehearsed anew, as when the ledger went on."""
    return answer(row, user, {})


def _open(locked: Delivery) -> None:
    if locked.accepted_id is not None:
        raise Refused(409, "this delivery is accepted already")
    if locked.job.state in Job.UNDER_WAY:
        raise Refused(409, "this delivery is being rehearsed")


@transaction.atomic
def accept(row: Delivery, user: Any, stamp: str) -> Build:
    """Make the build that was rehearsed: its setup, ledger, captures and open cases. Conflict if the ledger or the rehearsal went on."""
    build = Build.objects.select_for_update(of=("self",)).select_related("project").get(pk=row.build_id)
    locked = Delivery.objects.select_for_update(of=("self",)).select_related("job", "scene", "setup").get(pk=row.pk)
    _open(locked)
    if locked.plan is None or locked.result is None:
        raise Refused(409, "this delivery was not rehearsed: " + locked.job.message)
    if locked.plan["stamp"] != stamp:
        raise Conflict("it was rehearsed anew since you loaded it", {"stamp": stamp}, {"stamp": locked.plan["stamp"]})
    if locked.head_version != build.version:
        raise Refused(409, "the ledger went on since it was rehearsed: rehearse it again")
    if locked.result["unanswered"]:
        raise Refused(409, f"{len(locked.result['unanswered'])} edits are still asked: {', '.join(locked.result['unanswered'])}")
    made = _made(locked, build, user)
    locked.accepted = made
    locked.save(update_fields=["accepted"])
    note(build.project, user, "delivery accepted", f"build {made.number}: {locked.scene.name}, over build {build.number}")
    return made


def _made(row: Delivery, build: Build, user: Any) -> Build:
    """The new build, in the caller's transaction."""
    plan, project = row.plan, build.project
    number = (project.builds.aggregate(Max("number"))["number__max"] or 0) + 1
    made = Build.objects.create(
        project=project, number=number, name=row.scene.name[:200], parent=build, setup=plan["setup"], has_own_setup=row.setup is not None,
        facts=plan["facts"], created_by=user, version=len(plan["changes"]) + 1,
    )  # fmt: skip
    for kind, file in (("scene", row.scene), ("setup", row.setup)):
        if file is not None:
            File.objects.create(build=made, kind=kind, name=file.name, sha256=file.sha256, size=file.size)
    cases = _cases(plan, build, made, user)
    for position, (document, case) in enumerate(zip(plan["changes"], plan["cases"]), start=1):
        Change.objects.create(
            build=made, case=cases.get(case), position=position, key=document["id"], document=document,
            evidence={"from_build": build.number}, kept_by=user,
        )  # fmt: skip
    for capture in build.captures.select_related("file").filter(viewpoint__in=plan["viewpoints"]):
        old = capture.file
        file = File.objects.create(build=made, kind="capture", name=old.name, sha256=old.sha256, size=old.size)
        Capture.objects.create(build=made, viewpoint=capture.viewpoint, file=file)
    return made


def _cases(plan: dict[str, Any], build: Build, made: Build, user: Any) -> dict[int, Case]:
    """The cases whose viewpoint is there and whose subject is not gone, under the same numbers; by the old one's key."""
    found = {}
    for case in build.cases.order_by("number").filter(viewpoint__in=plan["viewpoints"]):
        if case.subject and case.subject not in plan["subjects"]:
            continue
        found[case.pk] = Case.objects.create(
            build=made, number=case.number, title=case.title, viewpoint=case.viewpoint, target=case.target, symptom=case.symptom,
            spot=case.spot, subject=plan["subjects"].get(case.subject or ""), created_by=user,
        )  # fmt: skip
    return found


@transaction.atomic
def let_go(row: Delivery, user: Any) -> None:
    """Forget a delivery; the build is as it was. Once it is accepted, only the rehearsal goes."""
    locked = (
        Delivery.objects.select_for_update(of=("self",)).select_related("job", "build__project", "scene", "setup").get(pk=row.pk)
    )
    hashes = [file.sha256 for file in (locked.scene, locked.setup) if file is not None]
    note(locked.build.project, user, "delivery let go", f"build {locked.build.number}: {locked.scene.name}")
    with contextlib.suppress(Job.DoesNotExist):
        jobs.cancel(locked.job)
    file_ids, job = [f.pk for f in (locked.scene, locked.setup) if f is not None], locked.job
    locked.delete()
    job.delete()
    File.objects.filter(pk__in=file_ids).delete()
    files.unlink_unnamed(hashes)


@dataclass(frozen=True)
class After(Ref):
    """A build as a delivery was rehearsed, by row."""

    delivery_id: int

    def open(self) -> CoreBuild:
        row = Delivery.objects.select_related("build", "scene", "setup").filter(pk=self.delivery_id).first()
        if row is None or row.plan is None:
            raise NotThere("this delivery")
        return STUDIO.build(f"delivery {row.pk} {row.plan['stamp']}", lambda: _after(row))


def _after(row: Delivery) -> CoreBuild:
    """What was rehearsed: the delivery's scene with the plan's setup and changes."""
    scene = read_scene(files.path_of(row.scene.sha256), beside_it=False)
    base = finish_build(scene, parse_setup(row.plan["setup"]), row.plan["setup"], [])
    return builds.applied(base, [CoreChange.model_validate(document) for document in row.plan["changes"]])


def picture(build: CoreBuild, viewpoint: str) -> bytes:
    """PNG of a viewpoint, before or after."""
    drawn: bytes = STUDIO.draw(lambda renderer: png_of(renderer.frame(build, Request(viewpoint, PICTURE)).display))
    return drawn
