"""Shadows that stand off what throws them: a light's bias passes them by at their foot."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Frame
from eddyfall.core.truth.bias.ground import contact_as_set, lift_m
from eddyfall.core.truth.bias.steps import Loss
from eddyfall.core.truth.judge import Judge
from eddyfall.core.truth.shadow_classes import Class, Disagreement, Lost
from eddyfall.core.truth.surfaces import to_light

# Of its shadow, laid to the bias by the chain, before a light is asked that only shifts along the normal: feet stay whole under that.
LEAST_BIASED = 0.1


@dataclass(frozen=True)
class Detached:
    """rows of the surfaces that are lit where the shadow should be, the caster of each, and the loss of the caster that loses most."""

    rows: np.ndarray
    casters: np.ndarray
    loss: Loss


def detached(survey: Survey, frame: Frame, whole: Disagreement, number: int) -> Detached | None:
    """What a light's bias takes from the feet of its shadows, if that is more than may be."""
    judge, light, s = Judge(survey.renderer, frame), whole.lights[number], whole.surfaces
    own = judge.look_up(number)
    if judge.traced(number) or not judge.table.maps[number]:
        return None
    asked = (light.classes == Class.AGREE) | (light.classes == Class.MISSING) | (light.classes == Class.EDGE)
    dark = np.flatnonzero(asked & (light.true == 0) & judge.state.receives[s.drawable])
    biased = int((light.lost == Lost.BIAS).sum())
    if not len(dark) or (own.constant_m == 0 and own.slope == 0 and biased < LEAST_BIASED * len(dark)):
        return None
    losses = [v for v in contact_as_set(judge, number, s.of(dark)) if not v.inside]
    if not losses:
        return None
    # Of what is lit there by the maps, whatever a march in the frame adds: what stands no farther behind its caster than the bias lifts it.
    lit = dark[judge.drawn(number, s.of(dark), *to_light(s.of(dark), number, frame), marched=False) >= 0.5]
    towards, distance = to_light(s.of(lit), number, frame)
    triangle, away = judge.first_drawn_face(judge.cast_in(number), number, s.of(lit), towards, distance)
    caster = np.where(triangle >= 0, frame.geometry.owner[triangle], -1)
    lift = lift_m(judge, number, s.of(lit), own)
    mine = np.isin(caster, [v.caster for v in losses]) & (away <= lift)
    return Detached(lit[mine], caster[mine], max(losses, key=lambda v: v.lost_m / v.limit_m)) if mine.any() else None
