"""What a surface's shadow of one light can be, which test lost it, what wrote it: the words that all shadow questions share."""

from dataclasses import dataclass
from enum import IntEnum

import numpy as np

from eddyfall.core.truth.map_reading import Reading
from eddyfall.core.truth.surfaces import Surfaces

SAME = 0.02  # of the light: drawn and true within it agree


class Class(IntEnum):
    """What a surface's shadow is, of one light."""

    UNLIT = 0  # turned away from the light, or out of its reach
    BAKED = 1  # its lightmap holds this light
    AGREE = 2
    MISSING = 3
    FALSE = 4
    EDGE = 5  # within the filter of a true edge
    TERMINATOR = 6  # the face is turned away under a normal that is not


class Lost(IntEnum):
    """The test that lost a missing shadow, in the order of the chain."""

    SWITCHED_OFF = 0
    LIGHT = 1
    RECEIVER = 2
    CASTS = 3
    PASS = 4
    FACE = 5
    CULLED = 6
    REACH = 7
    DEPTH_RANGE = 8
    ALPHA = 9
    WIDTH = 10
    BIAS = 11
    UNEXPLAINED = 12


class Wrote(IntEnum):
    """What a false shadow is of."""

    OWN_SURFACE = 0
    HOLE_LOST = 1
    UNSEEN = 2  # a caster that no camera draws
    MOVED = 3  # a caster whose true shadow falls beside it: the bias moved the look-up
    UNEXPLAINED = 4
    MARCHED = 5  # a march in screen space met what the frame shows


LOST_WORDS = {
    Lost.SWITCHED_OFF: "shadows are on",
    Lost.LIGHT: "the light casts",
    Lost.RECEIVER: "the surface receives",
    Lost.CASTS: "the caster casts",
    Lost.PASS: "its shader is in the shadow pass",
    Lost.FACE: "a face of it turned to the light is drawn",
    Lost.CULLED: "it survives the technique's cull",
    Lost.REACH: "a map serves this depth",
    Lost.DEPTH_RANGE: "the caster lies in the map's depth range",
    Lost.ALPHA: "the alpha test at the map's mip level keeps it",
    Lost.WIDTH: "texels' centres meet a caster",
    Lost.BIAS: "the bias is below the gap",
    Lost.UNEXPLAINED: "unexplained",
}
WROTE_WORDS = {
    Wrote.OWN_SURFACE: "its own surface",
    Wrote.HOLE_LOST: "a hole that the map lost",
    Wrote.UNSEEN: "a caster that no camera draws",
    Wrote.MOVED: "a caster whose shadow the bias moved",
    Wrote.UNEXPLAINED: "unexplained",
    Wrote.MARCHED: "a march in the frame",
}


@dataclass(frozen=True)
class OfLight:
    """One light over n surfaces. classes (n,) of `Class`; true, drawn (n,) share of the light that arrives and that the picture has.

    lost (n,) of `Lost`, -1 where nothing is missing; caster (n,) drawable that a missing shadow is due to, -1; wrote (n,) of `Wrote`, -1
    where nothing is false; writer (n,) drawable whose depth darkens falsely, -1."""

    light: str
    classes: np.ndarray
    true: np.ndarray
    drawn: np.ndarray
    lost: np.ndarray
    caster: np.ndarray
    wrote: np.ndarray
    writer: np.ndarray

    def counts(self, each: int = 1) -> dict[str, int]:
        """Pixels by class, each surface standing for so many."""
        return {c.name.lower(): int((self.classes == c).sum()) * each for c in Class}


@dataclass(frozen=True)
class Disagreement:
    """A frame's shadows: the surfaces that were asked, how many pixels each stands for, every light that shines."""

    surfaces: Surfaces
    each: int
    lights: tuple[OfLight, ...]


@dataclass(frozen=True)
class Chain:
    """The tests of n surfaces: passed (n, tests) in the order of `Lost`; the caster (n,) and its way off in m; cast (n,): whether what the
    technique draws stands before the light; what the maps hold at the place itself, if there are any; share (n,) of the filter's texels
    there that hold something before the surface."""

    passed: np.ndarray
    caster: np.ndarray
    caster_m: np.ndarray
    cast: np.ndarray
    reading: Reading | None
    share: np.ndarray

    def first_lost(self, row: int) -> Lost | None:
        """The first test that a surface fails."""
        failed = np.flatnonzero(~self.passed[row])
        return Lost(int(failed[0])) if len(failed) else None
