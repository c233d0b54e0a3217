"""Bakes: asked for, run by the worker receiver by receiver, kept in the ledger. A cancelled one keeps what it has finished."""

from typing import Any

from django.db import transaction

from eddyfall.core.bake.maps.run import bake as core_bake
from eddyfall.core.bake.maps.run import light_sets
from eddyfall.core.bake.maps.stamps import stale
from eddyfall.core.bake.questions.overview import map_state
from eddyfall.core.errors import EddyfallError
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.core.scene.changes import Change as CoreChange
from eddyfall.core.scene.changes import Operation
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.receivers import NO_SET
from eddyfall.workbench import jobs
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.models import Bake, Build, Job
from eddyfall.workbench.services.builds import Head, head
from eddyfall.workbench.services.ledger import append
from eddyfall.workbench.services.projects import note
from eddyfall.workbench.studio import desk


def wanted(core: CoreBuild, receivers: list[str] | None, sets: list[str | None] | None) -> list[list[str | None]]:
    """[receiver, light set] of every map that is missing or stale, of those asked for (default: all). NotThere for unknown names."""
    geometry = pack(core.scene, core.setup)
    known = light_sets(core)
    for light_set in sets or ():
        if light_set not in known:
            raise NotThere(f"light set {light_set!r}")
    result: list[list[str | None]] = []
    for light_set in known if sets is None else sets:
        states = stale(core, geometry, light_set)
        missing = set(receivers or ()) - {s.receiver.name for s in states}
        if missing:
            raise NotThere(f"lightmapped asset {min(missing)!r}")
        result += [
            [s.receiver.name, light_set]
            for s in states
            if map_state(s, light_set).state != "fresh" and (receivers is None or s.receiver.name in receivers)
        ]
    return result


def ask(build: Build, user: Any, receivers: list[str] | None, sets: list[str | None] | None) -> Bake:
    """Ask for a bake of what is missing or stale; one at a time for each build."""
    maps = desk.ask(desk.Question("measure", str(user.pk), wanted, (Head(build.pk), receivers, sets)))
    if not maps:
        raise Refused(409, "every lightmap asked for is fresh: there is nothing to bake")
    with transaction.atomic():
        locked = Build.objects.select_for_update().get(pk=build.pk)
        if locked.bakes.filter(job__state__in=(Job.WAITING, Job.RUNNING)).exists():
            raise Refused(409, "a bake of this build is under way")
        job = jobs.new(locked.project, user, "bake")
        row = Bake.objects.create(build=locked, job=job, head_version=locked.version, wanted=maps)
        note(locked.project, user, "bake asked for", f"build {locked.number}, {len(maps)} lightmaps")
        jobs.defer("bake", job)
    return row


def run(row: Bake, attempt: jobs.Attempt) -> tuple[str, Any]:
    """Bake what a row wants. Returns (message, write), for what was finished if it was cancelled."""
    cancelled: list[bool] = []
    done: list[list[str | None]] = []

    def progress(what: str, share: float) -> None:
        try:
            attempt.progress(what, share)
        except jobs.Cancelled:
            cancelled.append(True)

    def finished(name: str, light_set: str | None) -> None:
        done.append([name, light_set])
        Bake.objects.filter(pk=row.pk).update(done=done)

    core = head(row.build)
    maps = [(str(name), light_set) for name, light_set in row.wanted]
    sets = [s for s in light_sets(core) if s in {m[1] for m in maps}]
    result = core_bake(
        core, sorted({m[0] for m in maps}), sets, only=frozenset(maps), progress=progress, cancelled=lambda: bool(cancelled),
        on_receiver=finished,
    )  # fmt: skip

    def write() -> None:
        records = result.build.setup.lightmaps
        keep(row, [list(m) for m in result.done], result.rays, sorted({records[n][s or NO_SET].raw for n, s in result.done}))

    count = len(result.done)
    light = f"{result.rays / 1e6:.1f} M rays" if result.rays else "their light was at hand"
    return f"{count} of {len(row.wanted)} lightmaps baked, {light}", write


def keep(row: Bake, done: list[list[str | None]], rays: int, raws: list[str]) -> None:
    """Write what was baked into the ledger, in the caller's transaction; raws: keys of the light gathered, which upkeep then spares."""
    row.done, row.rays = done, rays
    if done:
        locked = Build.objects.select_for_update().get(pk=row.build.pk)
        names = sorted({str(name) for name, _ in done})
        what = names[0] if len(names) == 1 else f"{len(names)} assets"
        change = CoreChange(
            id=f"bake {row.pk}", title=f"bake {len(done)} lightmap{'s' if len(done) > 1 else ''} of {what}", scope="project",
            reason="what is baked fits the build again", operation=Operation(name="bake.run", params={"maps": done}),
        )  # fmt: skip
        user = row.job.created_by
        if user is None:
            raise EddyfallError("the user who asked for this bake is gone")
        row.change = append(locked, None, change, user, {"from": "bake", "maps": len(done), "rays": rays, "raws": raws})
        note(locked.project, user, "lightmaps baked", f"build {locked.number}: {what}")
    row.save(update_fields=["done", "rays", "change"])
