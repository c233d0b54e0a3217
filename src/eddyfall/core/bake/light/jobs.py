"""What is gathered for a receiver: the texels that it owns, as a job."""

from dataclasses import replace
from typing import Any

import numpy as np

from eddyfall.core.bake.light.footprint import Footprint, footprint
from eddyfall.core.bake.light.gather import Job
from eddyfall.core.hashing import digest
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.receivers import Receiver, triangles_of, uv_of
from eddyfall.core.scene.setup.sections.bake import Bake


def receiver_footprint(geometry: Geometry, receiver: Receiver) -> tuple[Footprint, np.ndarray]:
    """(texel ownership, world triangles its triangle numbers index) of a receiver."""
    triangles = triangles_of(geometry, receiver.drawables)
    uv = uv_of(geometry, receiver.uv_set)[geometry.triangles[triangles]]
    return footprint(receiver.page_uv(uv), receiver.resolution, receiver.wraps), triangles


def job_of(receiver: Receiver, owned: Footprint, triangles: np.ndarray, bake: Bake, **changes: Any) -> Job:
    """The job that gathers some texels of a receiver."""
    page = (0.0, 0.0, 1.0) if receiver.wraps else (*receiver.low, receiver.side)
    seed = int(digest("receiver", receiver.name)[:15], 16)
    return replace(Job(owned, triangles, page, receiver.uv_set, seed, bake.samples, bake.bounces), **changes)
