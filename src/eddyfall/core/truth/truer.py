"""Whether light that passes take from the frame alone comes nearer to what is due where it changes between two frames."""

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.truth.response.in_place import drawn_even, due_even, spread_over

ADDED = ("bounced", "reflected")  # what the passes add
LEAST_OF_DUE = 1e-3  # of what is due: less is as good as none


def light_truer(renderer: Renderer, build: Build, request: Request, before: Frame, after: Frame, mask: np.ndarray) -> np.ndarray:
    """(h, w) bool: pixels of a mask where nothing but light from around changed, on drawables on which it comes nearer to what is due, in
    stops on the mean over some of them. build: that of `after`, request: what both frames were drawn for."""
    same = before.drawable == after.drawable
    for name in ("surface", "lit"):
        same &= (before.buffers[name] == after.buffers[name]).all(axis=2)
    alone = mask & same & (after.drawable >= 0)
    result = np.zeros(mask.shape, bool)
    if not alone.any() or all(np.array_equal(before.buffers[name], after.buffers[name]) for name in ADDED):
        return result
    pixels, of = spread_over(np.where(alone, after.drawable, -1), np.unique(after.drawable[alone]))
    due, clear = due_even(renderer, build, after, request, pixels, of)
    old, new = (drawn_even(frame)[pixels[:, 1], pixels[:, 0]] for frame in (before, after))
    for d in np.unique(of):
        mine = clear & (of == d)
        if not mine.any() or not (right := float(due[mine].mean())) > 0:
            continue
        was, now = (abs(np.log2(max(float(v[mine].mean()), LEAST_OF_DUE * right) / right)) for v in (old, new))
        if now < was:
            result |= alone & (after.drawable == d)
    return result
