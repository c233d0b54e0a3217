"""Surfaces whose base shader does not answer a kind of light: for it they reflect nothing."""

import numpy as np

from eddyfall.core.shade.columns import REFLECTING


def silent_of(answers: np.ndarray) -> np.ndarray | None:
    """(d,) bool: drawables that do not answer; None if all do."""
    return None if answers.all() else ~answers


def silenced(surface: np.ndarray, drawable: np.ndarray, silent: np.ndarray | None) -> np.ndarray:
    """Surface rows (h, w, row) of which those of silent drawables (h, w) reflect nothing."""
    if silent is None:
        return surface
    changed = surface.copy()
    changed[silent[drawable] & (drawable >= 0), REFLECTING] = 0.0
    return changed


def silent_row(row: np.ndarray, answers: bool) -> np.ndarray:
    """The same of one row."""
    if answers:
        return row
    changed = row.copy()
    changed[REFLECTING] = 0.0
    return changed
