"""bake.denoise-lines: a denoiser that reaches across gaps and darkens the borders of charts."""

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
from eddyfall.core.scene.changes import Change, set_resolved
from eddyfall.core.shade.srgb import luminance


def denoise_lines(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    if maps.bake.denoise != "across_gaps":
        return
    spoilt = []
    for receiver in maps.baked:
        if not maps.sets_with_map(receiver):
            continue
        marks, across = maps.measured(
            darkened, Finish.from_bake(maps.bake), maps.gathered(receiver, maps.sets_with_map(receiver)[0])
        )
        if int(marks.sum()) >= LEAST_TEXELS:
            spoilt.append((receiver, marks, across))
    if not spoilt:
        return
    mine = [r for r, _, _ in spoilt]
    resolved = maps.survey.resolved(maps.survey.viewpoints[0])

    def change(value: str, title: str) -> Change:
        return set_resolved(
            maps.build, resolved, {"bake.denoise": value}, title=title, reason="the denoiser darkens borders of charts"
        )

    texels = sum(int(m.sum()) for _, m, _ in spoilt)
    worst = max(spoilt, key=lambda s: int(s[1].sum()))
    yield Suspicion(
        code="bake.denoise-lines",
        cause_kind="setting",
        cause="bake.denoise",
        title="black lines where the denoiser reaches across gaps: " + ", ".join(r.name for r in mine[:4]),
        subjects=maps.subjects(mine),
        value=float(texels),
        limit=0.0,
        evidence=(
            Evidence(
                measure="texels darkened along borders",
                value=float(texels),
                unit="texels",
                limit=0.0,
                source="by a tenth",
                picture=map_picture(worst[2], worst[1]) if maps.survey.pictures else None,
            ),
        ),
        pixels=maps.shown(mine, seen),
        regions={},
        candidates=(
            Candidate(
                change=change("within_charts", "denoise each chart by itself"),
                predicts="no dark borders, noise stays smoothed",
                costs=(Cost("memory", 0.0, "bytes"),),
            ),
            Candidate(
                change=change("off", "no denoising"),
                predicts="no dark borders",
                costs=(Cost("memory", 0.0, "bytes"),),
                side_effects=("noise comes back",),
            ),
        ),
    )


def darkened(how: Finish, raw: Raw) -> tuple[np.ndarray, np.ndarray]:
    """((h, w) bool texels that a denoiser across gaps darkens by a tenth, the map it makes)."""
    across, within = finished(raw, how), finished(raw, replace(how, denoise="within_charts"))
    low, high = luminance(across), luminance(within)
    return raw.covered & (high > 0) & (high - low > DIFFERENT * high), across
