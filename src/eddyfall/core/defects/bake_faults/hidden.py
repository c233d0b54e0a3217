"""bake.hidden-faces and bake.wasted: faces nothing can see, that bleed black into joins or only cost memory."""

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from eddyfall.core.bake.maps.finish import Finish, Raw, finished
from eddyfall.core.defects.contract import Candidate, Cost, Evidence, Suspicion
from eddyfall.core.defects.lightmap_survey import (
    DIFFERENT,
    LEAST_TEXELS,
    Lightmaps,
    Seen,
    map_picture,
)
from eddyfall.core.defects.uv_charts import mesh_operation
from eddyfall.core.scene.changes import set_resolved
from eddyfall.core.scene.receivers import Receiver
from eddyfall.core.shade.srgb import luminance

WASTED_LIMIT = 25.0


def hidden(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    spoilt: list[tuple[Receiver, np.ndarray]] = []
    for receiver in maps.baked:
        if not maps.sets_with_map(receiver):
            continue
        covered, wasted, marks = maps.measured(
            hidden_of, maps.bake.dilate_texels, *[maps.gathered(receiver, s) for s in maps.sets_with_map(receiver)]
        )
        if maps.bake.hidden == "keep" and int(marks.sum()) >= LEAST_TEXELS:
            spoilt.append((receiver, marks))
        if wasted > WASTED_LIMIT:
            yield _wasted(maps, receiver, wasted, covered, seen)
    if spoilt:
        yield _hidden_finding(maps, spoilt, seen)


def hidden_of(dilate_texels: int, *raws: Raw) -> tuple[int, float, np.ndarray]:
    """(covered texels, per cent of them that nothing can see, (h, w) bool seen texels that hidden samples darken by a tenth)."""
    covered = int(raws[0].covered.sum())
    wasted = int(raws[0].hidden_texels.sum()) / max(covered, 1) * 100
    marks = np.zeros(raws[0].covered.shape, bool)
    if (raws[0].hidden > 0).any():
        how = Finish("keep", "off", dilate_texels)
        for raw in raws:
            low, high = luminance(finished(raw, how)), luminance(finished(raw, replace(how, hidden="mask")))
            marks |= raw.covered & (raw.hidden < 0.9) & (np.abs(low - high) > DIFFERENT * np.maximum(high, 1e-9))
            marks |= _next_to(raw.hidden_texels) & raw.covered & (raw.hidden < 0.5) & (luminance(raw.mean) > 0)
    return covered, wasted, marks


def _next_to(mask: np.ndarray) -> np.ndarray:
    from scipy.ndimage import binary_dilation

    return np.asarray(binary_dilation(mask, np.ones((3, 3), bool)) & ~mask)


def _hidden_finding(maps: Lightmaps, spoilt: list[tuple[Receiver, np.ndarray]], seen: Seen) -> Suspicion:
    mine = [r for r, _ in spoilt]
    worst, marks = max(spoilt, key=lambda s: int(s[1].sum()))
    values = maps.raw(worst, maps.sets_with_map(worst)[0]).mean if maps.survey.pictures else np.zeros((1, 1, 3))
    texels = sum(int(m.sum()) for _, m in spoilt)
    change = set_resolved(
        maps.build,
        maps.survey.resolved(maps.survey.viewpoints[0]),
        {"bake.hidden": "mask"},
        title="fill texels that nothing can see from their neighbours",
        reason="faces nothing can see darken joins",
    )
    delete = [
        mesh_operation(
            "face.delete_hidden",
            maps.mesh_of(r),
            f"delete the faces of {maps.mesh_of(r)} that nothing can see",
            "they bake black",
            node=maps.node_of(r),
        )
        for r in mine[:1]
    ]
    evidence = (
        Evidence(
            measure="texels darkened by hidden faces",
            value=float(texels),
            unit="texels",
            limit=0.0,
            source="hidden samples left out change them by a tenth",
            picture=map_picture(values, marks) if maps.survey.pictures else None,
        ),
        Evidence(measure=f"of them on {worst.name}", value=float(marks.sum()), unit="texels"),
    )
    return Suspicion(
        code="bake.hidden-faces",
        cause_kind="setting",
        cause="bake.hidden",
        title="faces nothing can see darken joins: " + ", ".join(r.name for r in mine[:4]),
        subjects=maps.subjects(mine),
        value=float(texels),
        limit=0.0,
        evidence=evidence,
        pixels=maps.shown(mine, seen),
        regions={},
        candidates=(
            Candidate(
                change=change,
                predicts="joins as bright as what is seen beside them",
                costs=(Cost("memory", 0.0, "bytes"),),
                side_effects=("all lightmaps are made again",),
            ),
            *(
                Candidate(change=d, predicts="no hidden face is left", costs=(), side_effects=("old bakes are stale",))
                for d in delete
            ),
        ),
    )


def _wasted(maps: Lightmaps, receiver: Receiver, wasted: float, covered: int, seen: Seen) -> Suspicion:
    mesh = maps.mesh_of(receiver)
    change = mesh_operation(
        "face.delete_hidden",
        mesh,
        f"delete the faces of {mesh} that nothing can see and pack the rest",
        "their texels are never seen",
        node=maps.node_of(receiver),
        pack=True,
    )
    evidence = (
        Evidence(
            measure="texels on faces that nothing can see", value=wasted, unit="%", limit=WASTED_LIMIT, source="common practice"
        ),
        Evidence(measure="covered texels", value=float(covered), unit="texels"),
    )
    return Suspicion(
        code="bake.wasted",
        cause_kind="mesh",
        cause=mesh,
        title=f"{receiver.name}: a lightmap spent on hidden faces",
        subjects=maps.subjects([receiver]),
        value=wasted,
        limit=WASTED_LIMIT,
        evidence=evidence,
        pixels=maps.shown([receiver], seen),
        regions={},
        candidates=(
            Candidate(
                change=change,
                predicts="all texels lie on faces that can be seen",
                costs=(),
                side_effects=("old bakes are stale",),
            ),
        ),
        not_drawn_yet="nothing of it is seen: it costs memory and time only",
    )
