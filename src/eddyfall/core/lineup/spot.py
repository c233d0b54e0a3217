"""The spot of a line-up: a crop of a frame, its subject, and what lies behind that."""

from dataclasses import replace

import numpy as np

from eddyfall.core.defects.symptoms import Spot
from eddyfall.core.frame.backing import backing
from eddyfall.core.frame.render import Frame, Request
from eddyfall.core.layers.capture import covered_by

PLATE_BEHIND_M = 0.5  # less in a scene of less than ten metres


def make_spot(frame: Frame, request: Request, subject: int) -> Spot:
    """The spot of a rendered crop. The plate is square to the view, 0.5 m behind the subject's farthest pixel, and fills the crop."""
    pixels = frame.front == subject
    if frame.stage.state.blended[subject]:
        pixels = covered_by(frame, (subject,))
    behind = frozenset(int(i) for i in np.unique(frame.geometry.owner[frame.buffers["screen"].ids])) | _not_solid(frame)
    depth = frame.view_depth[pixels]
    far = float(depth.max()) if len(depth) else 1.0
    behind_m = min(PLATE_BEHIND_M, frame.geometry.diagonal_m / 20)
    plate = backing(frame.camera, replace(frame.pixels, window=request.window), far + behind_m)
    return Spot(request, subject, pixels, behind - {subject}, plate)


def _not_solid(frame: Frame) -> frozenset[int]:
    over = frame.stage.state.solid == 0
    return frozenset(int(i) for i in frame.buffers["in_view"] if over[i])
