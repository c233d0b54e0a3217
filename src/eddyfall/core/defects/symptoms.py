"""Symptoms with a score: defined and measured, not eyeballed. A score of 0 means the symptom is gone.

A symptom registers itself when its module is imported, as a family does; a line-up can then be asked about it by name.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer, Request
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build


@dataclass(frozen=True)
class Spot:
    """Where and what: the crop's request, the subject drawable, its pixels in the crop (h, w) bool, what lies behind it."""

    request: Request
    subject: int
    pixels: np.ndarray
    behind: frozenset[int]
    plate: np.ndarray


@dataclass(frozen=True, kw_only=True)
class Symptom:
    """A named symptom. score(renderer, build, spot, rays) in `unit`; cleared when the score falls to clear_share of the base's.

    shares(before, after, spot, rays) -> (h, w) bool of the preview frame: pixels elsewhere that have the same cause, so that their
    change is no collateral. of_layers: it is one of what is blended, which then is the subject rather than what is solid."""

    name: str
    unit: str
    means: str
    score: Callable[[Renderer, Build, Spot, Callable[[Frame], RayScene]], float]
    clear_share: float
    shares: Callable[[Frame, Frame, Spot, Callable[[Frame], RayScene]], np.ndarray]
    of_layers: bool = False


_symptoms: dict[str, Symptom] = {}


def register_symptom(symptom: Symptom) -> Symptom:
    """Add a symptom (or replace one of the same name)."""
    _symptoms[symptom.name] = symptom
    return symptom


def unregister_symptom(name: str) -> None:
    """Take a symptom out again."""
    _symptoms.pop(name, None)


def symptoms() -> dict[str, Symptom]:
    """All symptoms that have a score, by name, in the order they registered."""
    return dict(_symptoms)
