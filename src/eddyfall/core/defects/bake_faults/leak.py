"""bake.leak: texels that hold both sides of an occluder, with how far light reaches past it."""

from collections.abc import Iterator

import numpy as np

from eddyfall.core.bake.light.light_scene import LitScene
from eddyfall.core.bake.questions.leaks import Leak, find_leaks
from eddyfall.core.defects.contract import Candidate, Cost, Evidence, Suspicion
from eddyfall.core.defects.lightmap_survey import (
    DIFFERENT,
    Lightmaps,
    Seen,
    map_picture,
)
from eddyfall.core.defects.uv_charts import mesh_operation
from eddyfall.core.scene.changes import set_leaf
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.receivers import Receiver
from eddyfall.core.scene.setup.sections.bake import Bake


def leaks(maps: Lightmaps, seen: Seen) -> Iterator[Suspicion]:
    for receiver in maps.baked:
        sets = maps.sets_with_map(receiver)
        found: dict[str, Leak] = maps.measured(worst_leaks, *maps.lit(receiver, sets), receiver, maps.bake)
        for occluder, leak in sorted(found.items()):
            mesh = maps.mesh_of(receiver)
            picture = None
            if maps.survey.pictures:
                mark = np.zeros((receiver.resolution, receiver.resolution), bool)
                mark.reshape(-1)[leak.texels] = True
                picture = map_picture(maps.raw(receiver, sets[0]).mean, mark)
            split = mesh_operation(
                "uv.split",
                mesh,
                f"cut {mesh} at {occluder} and part its charts there",
                "its texels hold both sides",
                node=maps.node_of(receiver),
                point_m=[round(float(v), 6) for v in leak.point_m],
                normal=[round(float(v), 6) for v in leak.normal],
            )
            double = set_leaf(
                maps.build,
                ("nodes", maps.node_of(receiver), "lightmap_size"),
                receiver.resolution * 2,
                scope="node",
                title=f"lightmap of {maps.node_of(receiver)} twice as fine",
                reason="texels hold both sides of an occluder",
            )
            more = float(3 * maps.bytes_of(receiver, maps.bake.encoding))
            evidence = (
                Evidence(
                    measure="light reaches past it, linear",
                    value=leak.reach_linear_mm,
                    unit="mm",
                    limit=0.0,
                    source="no texel may hold both sides",
                    picture=picture,
                ),
                Evidence(
                    measure="light reaches past it, nearest",
                    value=leak.reach_nearest_mm,
                    unit="mm",
                    limit=0.0,
                    source="the mixed texel itself",
                ),
                Evidence(
                    measure="brighter than the dark side",
                    value=leak.contrast,
                    unit="times",
                    limit=1.0 + DIFFERENT,
                    source="a tenth shows",
                ),
                Evidence(
                    measure="mixed texels",
                    value=float(len(leak.texels)),
                    unit="texels",
                    limit=0.0,
                    source="sides that cannot see each other",
                ),
            )
            yield Suspicion(
                code="bake.leak",
                cause_kind="pair",
                cause=f"{receiver.name} | {occluder}",
                title=f"light leaks past {occluder} on {receiver.name}",
                subjects=maps.subjects([receiver]),
                value=leak.reach_linear_mm,
                limit=0.0,
                evidence=evidence,
                pixels=maps.shown([receiver], seen),
                regions={},
                candidates=(
                    Candidate(
                        change=split,
                        predicts="no texel holds both sides",
                        costs=(Cost("triangles", float(leak.cut_triangles), "triangles"),),
                        side_effects=("charts are packed anew; the bake must be made again",),
                        warnings=("the denoiser reaches across gaps: it darkens the new border too, until it is told not to",)
                        if maps.bake.denoise == "across_gaps"
                        else (),
                    ),
                    Candidate(
                        change=double,
                        predicts=f"a reach of {leak.reach_linear_mm / 2:.0f} mm is left: a larger map only narrows it",
                        costs=(Cost("memory", more, "bytes"),),
                    ),
                ),
                facts={"receiver": receiver.name, "occluder": occluder, "texels": [int(t) for t in leak.texels[:64]]},
            )


def worst_leaks(geometry: Geometry, scenes: list[LitScene], receiver: Receiver, bake: Bake) -> dict[str, Leak]:
    """By occluder, the leak in the light set where it is strongest."""
    return {leak.occluder: leak for leak in find_leaks(geometry, receiver, scenes, bake)}
