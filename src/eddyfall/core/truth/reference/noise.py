"""How noisy a reference is, and how many samples a given noise takes: by the slope of what was measured, not by faith in 1/sqrt N."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from eddyfall.core.truth.reference.sums import BIN_STOPS, BINS, LOWEST
from eddyfall.core.truth.reference.tally import Tally

FLATTEST = -0.4  # slope of noise over samples, log to log, from which on a forecast is refused (-.5 is 1/sqrt N)
BRIGHT, CARRY = 0.001, 0.1  # the brightest share of samples may carry no more than this share of the light
LEAST_ROUNDS = 3  # doublings that a slope is taken over


@dataclass(frozen=True)
class Noise:
    """value: RMS standard error over mean luminance of a region, edges of what shines apart; samples so far; slope over doublings (nan:
    not enough of them); bright_share: of the light, what the brightest thousandth of samples carries; edges: share of pixels left out;
    pixels: how many there are; curve: (samples, noise) of the whole tally at each doubling."""

    value: float
    samples: int
    slope: float
    bright_share: float
    edges: float
    pixels: int
    curve: tuple[tuple[int, float], ...] = ()

    @property
    def refused(self) -> str:
        """Why no forecast is given; empty if one is."""
        if not self.pixels:
            return "nothing but edges of what shines"
        if self.value > 0 and math.isnan(self.slope):
            return "too few samples to tell"
        if self.slope > FLATTEST:
            return f"not 1/sqrt N here: over doublings noise falls by a power of {self.slope:.2f}"
        if self.bright_share > CARRY:
            return f"not 1/sqrt N here: the brightest thousandth of samples carries {self.bright_share * 100:.0f} % of the light"
        return ""

    def samples_for(self, wanted: float) -> int | None:
        """Samples a pixel that a noise takes, N (e / wanted)^2; None where `refused` says why not."""
        if self.refused or wanted <= 0:
            return None
        return max(math.ceil(self.samples * (self.value / wanted) ** 2 - 1e-9), 1)


def noise_of(tally: Tally, inside: np.ndarray | None = None) -> Noise:
    """Noise of a tally over some of its pixels (n,) bool, or all."""
    inside = np.ones(len(tally.pixels), bool) if inside is None else inside
    edges = tally.silhouette & inside
    judged = inside & ~edges
    calm = ~tally.silhouette
    return Noise(
        value=_over_mean(rms_error(tally, judged), tally, judged),
        samples=tally.count,
        slope=slope_of(tally.curve),
        bright_share=bright_share(tally),
        edges=float(edges.sum() / max(inside.sum(), 1)),
        pixels=int(judged.sum()),
        curve=tuple((count, _over_mean(error, tally, calm)) for count, error in tally.curve),
    )


def rms_error(tally: Tally, judged: np.ndarray) -> float:
    """RMS standard error in nits of pixels (n,) bool; 0 where there are none."""
    return float(np.sqrt(np.mean(tally.error[judged] ** 2))) if judged.any() else 0.0


def _over_mean(error: float, tally: Tally, judged: np.ndarray) -> float:
    mean = float(tally.luminance[judged].mean()) if judged.any() else 0.0
    return error / mean if mean > 0 else 0.0


def noted(tally: Tally) -> Tally:
    """The tally with its error put on its curve, if its samples have just doubled: in nits, as the mean moves when edges are recognised."""
    count = tally.count
    if count >= 2 and count & (count - 1) == 0 and (not tally.curve or tally.curve[-1][0] < count):
        tally.curve.append((count, rms_error(tally, ~tally.silhouette)))
    return tally


def slope_of(curve: list[tuple[int, float]]) -> float:
    """Slope of log error over log samples, from the fourth sample on (the first errors are told from too few); nan if too few are left."""
    told = [(n, e) for n, e in curve if n >= 4 and e > 0]
    if len(told) < LEAST_ROUNDS:
        return math.nan
    n, e = (np.log([row[k] for row in told]) for k in (0, 1))
    return float(np.polyfit(n, e, 1)[0])


def bright_share(tally: Tally) -> float:
    """Share of what samples brought from other surfaces that the brightest thousandth of them carries."""
    values = 2.0 ** (LOWEST + (np.arange(BINS) + 0.5) * BIN_STOPS)
    values[0] = 0.0
    light = tally.bins * values
    total, brightest = float(light.sum()), BRIGHT * float(tally.bins.sum())
    if total <= 0 or brightest < 1:
        return 0.0
    counted = np.cumsum(tally.bins[::-1])
    before = counted - tally.bins[::-1]
    part = np.clip(brightest - before, 0, tally.bins[::-1]) * values[::-1]
    return float(part.sum() / total)
