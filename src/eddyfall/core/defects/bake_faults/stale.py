"""bake.stale: lightmaps baked from something else than the scene as it is, by what changed."""

from collections.abc import Iterator
from typing import Any

from eddyfall.core.defects.contract import Candidate, Cost, Evidence, Suspicion
from eddyfall.core.defects.lightmap_survey import Lightmaps, Seen
from eddyfall.core.scene.changes import Change, Operation
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.receivers import Receiver


def stale_maps(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    causes: dict[str, dict[str, Any]] = {}
    by_name = {r.name: r for r in maps.receivers}
    for light_set in maps.sets:
        for state in maps.stale(light_set):
            whys = ("was never baked",) if state.missing else state.why[:1]
            for why in whys:
                key = f"{why}"
                if state.missing or "receiver" in why:
                    key = state.receiver.name
                entry = causes.setdefault(key, {"receivers": {}, "why": why, "texels": 0})
                entry["receivers"][state.receiver.name] = by_name[state.receiver.name]
                entry["texels"] += int(state.texels.sum()) if state.texels is not None else 0
    for key, entry in sorted(causes.items()):
        mine: list[Receiver] = list(entry["receivers"].values())
        names = sorted(entry["receivers"])
        change = Change(
            id=short_id(f"bake.run:{key}"),
            title=f"bake {', '.join(names[:3])}{f' and {len(names) - 3} more' if len(names) > 3 else ''} again",
            scope="node",
            reason=entry["why"],
            operation=Operation(name="bake.run", params={"receivers": names}),
        )
        evidence = (
            Evidence(measure="stale lightmaps", value=float(len(mine)), unit="lightmaps", limit=0.0, source=entry["why"]),
            Evidence(measure="stale texels", value=float(entry["texels"]), unit="texels"),
        )
        shown_as = f"{names[0]}: {entry['why']}" if len(names) == 1 else f"{entry['why']}: {len(names)} lightmaps are stale"
        yield Suspicion(
            code="bake.stale",
            cause_kind="baked from",
            cause=key,
            title=shown_as,
            subjects=maps.subjects(mine),
            value=float(len(mine)),
            limit=0.0,
            evidence=evidence,
            pixels=maps.shown(mine, seen),
            regions={},
            candidates=(
                Candidate(
                    change=change,
                    predicts="the lightmaps fit the scene again",
                    costs=(Cost("lightmaps baked", float(len(mine) * len(maps.sets)), "maps"),),
                ),
            ),
        )
