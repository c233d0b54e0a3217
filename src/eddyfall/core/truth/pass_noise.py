"""How noisy a pass is that sends few rays: what it adds, as filtered, against what it tends to by more and more rays without a filter."""

from __future__ import annotations

from typing import Any

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.passes import bounce, reflect
from eddyfall.core.scene.setup.sections.screen import Bounce, Reflect
from eddyfall.core.shade.srgb import REC709_LUMA

PLACES = 256  # pixels at which a pass is asked, at the most
# By pass: its section, its module, the buffer of what it adds, and the one that it adds it to.
PASSES: dict[str, tuple[type[Bounce] | type[Reflect], Any, str, str]] = {
    "bounce": (Bounce, bounce, "bounced", "shaded"), "reflect": (Reflect, reflect, "reflected", "with_sky"),
}  # fmt: skip


def added_noise(uncut: Frame, name: str, where: np.ndarray | None = None) -> tuple[float, float]:
    """(RMS in nits of luminance of what a pass adds against what it tends to, mean of what it tends to) at some of the pixels that take
    part, of those in where (h, w) bool if it is given; (0, 0) where it is off or none do. uncut: a frame with all that passes look at."""
    _, module, added, onto = PASSES[name]
    b = uncut.buffers
    if b[added].shape[:2] != uncut.pixels.shape:
        return 0.0, 0.0
    section = module.section(uncut.stage)
    before = {**b, onto: b[onto] - b[added]}
    takes = module.takes_part(before, section)
    y, x = np.nonzero(takes if where is None else takes & where)
    if not len(y):
        return 0.0, 0.0
    some = np.unique(np.linspace(0, len(y) - 1, PLACES).astype(int))
    mask = np.zeros(uncut.pixels.shape, bool)
    mask[y[some], x[some]] = True
    tends = module.converged(before, section, mask)[mask] @ REC709_LUMA
    drawn = b[added][mask].astype(np.float64) @ REC709_LUMA
    return float(np.sqrt(((drawn - tends) ** 2).mean())), float(np.abs(tends).mean())


def in_window(uncut: Frame, mask: np.ndarray, origin: tuple[int, int]) -> np.ndarray:
    """(h, w) bool of a frame with its margin of a mask whose first pixel lies at origin (x, y) of the frame."""
    whole = np.zeros(uncut.pixels.shape, bool)
    left, top = origin[0] - uncut.pixels.origin[0], origin[1] - uncut.pixels.origin[1]
    whole[top : top + mask.shape[0], left : left + mask.shape[1]] = mask
    return whole


def noise_of(uncut: Frame, where: np.ndarray) -> dict[str, float]:
    """By pass that is on: its noise over the mean luminance of the frame at pixels (h, w) bool."""
    mean = float((uncut.buffers["linear"][where].astype(np.float64) @ REC709_LUMA).mean()) if where.any() else 0.0
    found = {name: added_noise(uncut, name, where)[0] for name in PASSES if uncut.stage.resolved[PASSES[name][0]].enabled}
    return {name: rms / mean for name, rms in found.items()} if mean > 0 else {}
