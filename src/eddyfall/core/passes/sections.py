"""Sections that more than one pass is given."""

import numpy as np

from eddyfall.core.passes.contract import Stage
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.shade.sky import SkyLight
from eddyfall.core.shade.sky_maps import SkyMaps


def sky_light(stage: Stage) -> SkyLight | None:
    """The sky as a light; None if it does not light surfaces."""
    return sky_colours(stage) if stage.resolved[Sky].ambient else None


def sky_colours(stage: Stage) -> SkyLight:
    """The sky's three radiances."""
    sky = stage.resolved[Sky]
    return SkyLight(np.array(sky.zenith_rgb), np.array(sky.horizon_rgb), np.array(sky.ground_rgb))


def no_sky(stage: Stage) -> SkyLight:
    """The sky where it lights no surface."""
    return sky_colours(stage)._replace(zenith=np.zeros(3), horizon=np.zeros(3), ground=np.zeros(3))


def with_picture(sky: SkyLight, maps: SkyMaps) -> SkyLight:
    """The sky with the maps of its picture, if it has one."""
    return sky._replace(**maps._asdict())
