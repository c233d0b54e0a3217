"""Drawn shadows against true visibility over a frame: every surface has one class, and what disagrees has its cause.

Truth is traced to what is *intended* to cast: all that is drawn, is not blended and is not told not to cast; shader passes, face sides,
culls and mip levels do not count.
"""

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.shadow_causes import chain_of, writers
from eddyfall.core.truth.shadow_classes import Class, Disagreement, Lost, OfLight
from eddyfall.core.truth.surfaces import Surfaces, surfaces_of


def disagreement(renderer: Renderer, frame: Frame, every: int = 1, mask: np.ndarray | None = None) -> Disagreement:
    """Each light of a frame (drawn up to its direct light) judged at each `every`-th pixel across and down, or at the pixels of a mask."""
    surfaces = surfaces_of(frame, every, mask)
    judge = Judge(renderer, frame)
    lights = tuple(of_light(judge, i, surfaces) for i in range(len(frame.stage.lights)))
    return Disagreement(surfaces, every * every, lights)


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
    return OfLight(judge.frame.stage.lights[i].name, classes, true, drawn, lost, caster, wrote, writer)


__all__ = ["disagreement", "of_light"]
