"""Sections that more than one pass is given."""

import numpy as np

from eddyfall.core.passes.contract import Stage
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.shade.sky import SkyLight


def sky_light(stage: Stage) -> SkyLight | None:
    """The sky as a light; None if it does not light surfaces."""
    return sky_colours(stage) if stage.resolved[Sky].ambient else None


def sky_colours(stage: Stage) -> SkyLight:
    """The sky's three radiances."""
    sky = stage.resolved[Sky]
    return SkyLight(np.array(sky.zenith_rgb), np.array(sky.horizon_rgb), np.array(sky.ground_rgb))
