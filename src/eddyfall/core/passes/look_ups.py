"""How passes that read shadow maps are told to look them up: each light's bias and filter, laid beside the maps so that none is redrawn."""

from collections.abc import Sequence

import numpy as np

from eddyfall.core.passes.contract import LookUp, Stage
from eddyfall.core.shade.shadow_maps import ShadowMaps


def look_ups(stage: Stage) -> tuple[LookUp, ...]:
    """That of each light."""
    return tuple(light.look_up for light in stage.lights)


def looked_up(maps: ShadowMaps, by: Sequence[LookUp]) -> ShadowMaps:
    """The same maps, looked up by each light as it says."""
    rows = [(v.constant_m, v.slope, v.normal_texels, v.over, v.along_plane) for v in by]
    return maps._replace(
        bias=np.array(rows, np.float64).reshape(-1, 5),
        filter_px=np.array([v.filter_px for v in by], np.int64),
        soft=np.array([(v.soft, v.size, v.search_texels) for v in by], np.float64).reshape(-1, 3),
        by_plane=int(any(v.slope > 0 or v.along_plane for v in by)),
    )
