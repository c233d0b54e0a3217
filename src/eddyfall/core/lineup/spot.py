"""The spot of a line-up: a crop of a frame, its subject, and what lies behind that."""

import numpy as np

from eddyfall.core.defects.symptoms import Spot
from eddyfall.core.frame.render import Frame, Request
from eddyfall.core.layers.capture import covered_by
from eddyfall.core.passes.contract import View

PLATE_BEHIND_M = 0.5  # less in a scene of less than ten metres


def make_spot(frame: Frame, request: Request, subject: int) -> Spot:
    """The spot of a rendered crop. The plate is square to the view, 0.5 m behind the subject's farthest pixel, and fills the crop."""
    pixels = frame.drawable == subject
    if frame.stage.state.blended[subject]:
        pixels = covered_by(frame, (subject,))
    behind = frozenset(int(i) for i in np.unique(frame.geometry.owner[frame.buffers["screen"].ids])) | _blended(frame)
    depth = frame.view_depth[pixels]
    far = float(depth.max()) if len(depth) else 1.0
    view = View(frame.camera, frame.pixels)
    x0, y0, x1, y1 = request.window
    margin = 2
    behind_m = min(PLATE_BEHIND_M, frame.geometry.diagonal_m / 20)
    corners = [(x0 - margin, y0 - margin), (x0 - margin, y1 + margin), (x1 + margin, y1 + margin), (x1 + margin, y0 - margin)]
    r = view.rays
    plate = np.array([r.eye + (r.d0 + x * r.du + y * r.dv) * (far + behind_m) for x, y in corners])
    return Spot(request, subject, pixels, behind - {subject}, plate)


def _blended(frame: Frame) -> frozenset[int]:
    blended = frame.stage.state.blended
    return frozenset(int(i) for i in frame.buffers["in_view"] if blended[i])
