"""The changes to keep of a sweep: the best remedy of each finding, in an order in which they apply."""

from eddyfall.core.errors import ChangeError
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Operation, apply_change, rename_clashes
from eddyfall.core.sweep.findings import SweepResult


def best_changes(build: Build, result: SweepResult) -> tuple[Change, ...]:
    """The best remedy of each finding that has one, ids made unique.

    A change that no longer applies after those before it is left out: one cause was cured along with another. Bakes come last and as
    one, since other changes make lightmaps stale.
    """
    kept: list[Change] = []
    bakes: list[Change] = []
    for change in [f.best.change for f in result.findings if f.best]:
        if change.operation is not None and change.operation.name == "bake.run":
            bakes.append(change)
            continue
        try:
            build = apply_change(build, change)
        except ChangeError:
            continue
        kept.append(change)
    if bakes or (kept and build.setup.lightmaps):
        reason = "the changes before it leave lightmaps stale" if kept else bakes[0].reason
        title = "bake every stale lightmap again"
        kept.append(Change(id="bake.run", title=title, scope="project", reason=reason, operation=Operation(name="bake.run")))
    return rename_clashes(kept)
