"""Whether light paths of a receiver meet something they did not meet when it was baked: the bake's own first paths, traced again.

A few texels are tried first, all of them only where those meet something new. The same numbers give the same paths while nothing
changes, so whatever they meet beyond the record is new.
"""

import numpy as np

from eddyfall.core.bake.light.gather import gather
from eddyfall.core.bake.light.jobs import job_of, receiver_footprint
from eddyfall.core.bake.light.light_scene import light_scene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.receivers import Receiver
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.scene.setup.tables import BakedMap

PROBE_SAMPLES = 8
PROBE_TEXELS = 256


def newly_met(
    build: Build, geometry: Geometry, light_set: str | None, records: list[tuple[Receiver, BakedMap]], bake: Bake
) -> dict[str, tuple[frozenset[str], frozenset[str], np.ndarray]]:
    """By receiver: (drawables, lights its paths meet that its record does not name, texels (h, w) bool that a new drawable covers)."""

    if not records:
        return {}
    scene = light_scene(build, geometry, light_set)
    result: dict[str, tuple[frozenset[str], frozenset[str], np.ndarray]] = {}
    for receiver, record in records:
        owned, triangles = receiver_footprint(geometry, receiver)
        samples = min(PROBE_SAMPLES, bake.samples)
        names = [d.name for d in geometry.drawables]
        few = np.zeros(len(owned.texel), bool)
        few[:: max(1, len(owned.texel) // PROBE_TEXELS)] = True
        got = gather(scene, job_of(receiver, owned.only(few), triangles, bake, samples=samples))
        if {names[i] for i in np.flatnonzero(got.drawables)} <= set(record.drawables):
            lit = {scene.light_names[i] for i in np.flatnonzero(got.lights)} - set(record.lights)
            result[receiver.name] = (frozenset(), frozenset(lit), np.zeros((owned.edge, owned.edge), bool))
            continue
        got = gather(scene, job_of(receiver, owned, triangles, bake, samples=samples))
        drawables = {names[i] for i in np.flatnonzero(got.drawables)} - set(record.drawables)
        lights = {scene.light_names[i] for i in np.flatnonzero(got.lights)} - set(record.lights)
        covered = np.zeros(owned.edge * owned.edge, bool)
        covered[owned.texel] = np.isin(got.over, [i for i, n in enumerate(names) if n in drawables])
        result[receiver.name] = (frozenset(drawables), frozenset(lights), covered.reshape(owned.edge, owned.edge))
    return result
