"""Drawn shadows against true visibility over a frame: every surface has one class, and what disagrees has its cause.

Truth is traced to what is *intended* to cast: all that is drawn, is not blended and is not told not to cast; shader passes, face sides,
culls and mip levels do not count.
"""

from dataclasses import replace
from functools import partial

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.hashing import digest
from eddyfall.core.scene.setup.sections.shadow import Shadow
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.shadow_causes import chain_of, writers
from eddyfall.core.truth.shadow_classes import Class, Disagreement, Lost, OfLight
from eddyfall.core.truth.surfaces import Surfaces, surfaces_of

# All of a frame that the judge is shown, so that nothing it goes by is left out of what its judgement is remembered under.
JUDGED_BY = (
    "geometry", "caster_geometry", "camera", "pixels", "textures", "cutouts", "shadow_cutouts", "drawable", "triangle", "surface", "lights",
    "shadow_maps", "shadow_casters", "traced",
)  # fmt: skip


def disagreement(renderer: Renderer, frame: Frame, every: int = 1, mask: np.ndarray | None = None) -> Disagreement:
    """Each light of a frame (drawn up to its shadows) judged at each `every`-th pixel across and down, or at the pixels of a mask.

    What was judged of a light over a whole frame is remembered under all that it was judged by."""
    judge = Judge(renderer, replace(frame, buffers={name: frame.buffers[name] for name in JUDGED_BY}))
    stage, surfaces = frame.stage, surfaces_of(frame, every, mask)
    if mask is not None:
        lights = tuple(of_light(judge, i, surfaces) for i in range(len(stage.lights)))
        return Disagreement(surfaces, every * every, lights)
    known = digest(every, [frame.keys[name] for name in JUDGED_BY], stage.state, stage.resolved[Shadow])
    remembered = []
    for i, light in enumerate(stage.lights):
        key = digest("shadows of a light", known, i, light)
        remembered.append(renderer.memo.once(key, partial(of_light, judge, i, surfaces)))
    return Disagreement(surfaces, every * every, tuple(remembered))


def of_light(judge: Judge, i: int, s: Surfaces) -> OfLight:
    """The classes of surfaces in light i, and what lost or wrote each shadow that is not as it should be."""
    classes, true, drawn = judge.classes(i, s)
    lost, caster, wrote, writer = (np.full(len(s), -1) for _ in range(4))
    missing, false = np.flatnonzero(classes == Class.MISSING), np.flatnonzero(classes == Class.FALSE)
    if len(missing):
        chain = chain_of(judge, i, s.of(missing))
        lost[missing] = np.where(chain.passed.all(axis=1), Lost.UNEXPLAINED, np.argmax(~chain.passed, axis=1))
        caster[missing] = chain.caster
    if len(false):
        wrote[false], writer[false] = writers(judge, i, s.of(false))
    name, narrow = judge.frame.stage.lights[i].name, np.int8  # remembered, so kept small
    return OfLight(
        name, classes.astype(narrow), true, drawn, lost.astype(narrow), caster.astype(np.int32), wrote.astype(narrow),
        writer.astype(np.int32),
    )  # fmt: skip


__all__ = ["disagreement", "of_light"]
