"""What a bias leaves and loses at one viewpoint, as exact step functions of its constant and slope factor."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np


@dataclass(frozen=True)
class Loss:
    """What is lost of a caster's shadow: median over its lines, against the most that may be."""

    caster: int
    lost_m: float
    limit_m: float

    @property
    def inside(self) -> bool:
        """Whether no more is lost than may be."""
        return self.lost_m <= self.limit_m


NO_LOSS = Loss(-1, 0.0, np.inf)


@dataclass(frozen=True)
class Steps:
    """Thresholds of one look-up: a bias of `constant + factor x slope` m stands against each.

    own_m, own_slope_m (n,): of each surface that truth lights the largest gap in its filter, and what a slope factor of 1 is worth there;
    each: pixels that it stands for. gap_m, slope_m (l, k): of each point of the lines the gap that its filter's
    middle texel has (not a number where the point does not count). caster, tip, step_m, limit_m (l,) as `contact.Lines` has them."""

    own_m: np.ndarray
    own_slope_m: np.ndarray
    each: int
    gap_m: np.ndarray
    slope_m: np.ndarray
    caster: np.ndarray
    tip: np.ndarray
    step_m: np.ndarray
    limit_m: np.ndarray

    # Surfaces that shade themselves

    def false_px(self, constant_m: float, slope: float = 0.0) -> int:
        """Pixels that their own surface darkens, at least by one texel of the filter."""
        return int((self.own_m > constant_m + slope * self.own_slope_m).sum()) * self.each

    def constants_m(self, slope: float, most: np.ndarray) -> np.ndarray:
        """The smallest constants at which no more than `most` (k,) pixels are false; 0 where none is needed."""
        left = np.sort(self.own_m - slope * self.own_slope_m)[::-1]
        rank = np.asarray(most) // self.each
        return np.array([max(left[r], 0.0) if r < len(left) else 0.0 for r in rank])

    def slopes(self, constant_m: float, most: np.ndarray) -> np.ndarray:
        """The same for the slope factor; infinite where no slope would do."""
        over = self.own_m - constant_m
        with np.errstate(divide="ignore", invalid="ignore"):
            factor = np.where(over > 0, over / self.own_slope_m, 0.0)
        left = np.sort(np.nan_to_num(factor, nan=0.0, posinf=np.inf))[::-1]
        rank = np.asarray(most) // self.each
        return np.array([left[r] if r < len(left) else 0.0 for r in rank])

    # Shadows that are passed by

    def lost_points(self, constant_m: float, slope: float = 0.0) -> int:
        """Points that count and are mostly lit."""
        return int((self.gap_m - slope * self.slope_m <= constant_m).sum())

    def lost_m(self, constant_m: float, slope: float = 0.0) -> np.ndarray:
        """(l,) how far along each line the shadow is lost: as far as all points that count are mostly lit, and between the last of them and
        the next in even proportion to what they need."""
        if not self.gap_m.size:
            return np.zeros(len(self.gap_m))
        counts, up_to = self._passed_at(slope)
        lost = counts & (up_to <= constant_m)
        rows, k = np.arange(len(lost)), np.arange(lost.shape[1])
        last = np.where(lost, k, -1).max(axis=1)
        beyond = np.where(counts & (k > last[:, None]), k, lost.shape[1]).min(axis=1)
        known = (last >= 0) & (beyond < lost.shape[1])
        # What no texel darkens needs no bias at all to be lost: minus infinity, and half way to the next is as good as any guess.
        a, b = up_to[rows, np.maximum(last, 0)], up_to[rows, np.minimum(beyond, lost.shape[1] - 1)]
        between = known & np.isfinite(a) & np.isfinite(b) & (b > a)
        start, span = np.where(between, a, 0.0), np.where(between, np.where(between, b, 1.0) - np.where(between, a, 0.0), 1.0)
        share = np.where(between, (constant_m - start) / span, 0.5)
        way = np.where(known, beyond - last, 1)
        return np.asarray(np.where(last >= 0, last + 0.5 + share * way, 0.0) * self.step_m)

    def _passed_at(self, slope: float) -> tuple[np.ndarray, np.ndarray]:
        """((l, k) whether a point counts, the constant at which it and all before it are passed)."""
        if slope not in self._passed:
            need = self.gap_m - slope * self.slope_m
            counts = ~np.isnan(need)
            self._passed[slope] = counts, np.maximum.accumulate(np.where(counts, need, -np.inf), axis=1)
        return self._passed[slope]

    @cached_property
    def _passed(self) -> dict[float, tuple[np.ndarray, np.ndarray]]:
        return {}

    def losses(self, constant_m: float, slope: float, tips: bool) -> list[Loss]:
        """What each caster's shadow loses at its foot, or at its tip."""
        return _by_caster(self.lost_m(constant_m, slope), self, tips)

    def worst(self, constant_m: float, slope: float = 0.0) -> tuple[Loss, Loss]:
        """The caster that loses most of what it may at its foot, and the one at its tip."""
        lost = self.lost_m(constant_m, slope)
        foot, tip = (
            max(_by_caster(lost, self, tips), key=lambda v: v.lost_m / v.limit_m, default=NO_LOSS) for tips in (False, True)
        )
        return foot, tip

    @cached_property
    def groups(self) -> dict[bool, list[tuple[int, np.ndarray, float]]]:
        """By foot (False) and tip (True): (caster, its lines, their middle limit), of lines with points that count where a loss would
        begin."""
        near = np.arange(self.gap_m.shape[1])[None] * self.step_m[:, None] < 4 * self.limit_m[:, None]
        counts = (~np.isnan(self.gap_m) & near).any(axis=1)
        return {
            tips: [
                (int(d), mine, float(np.median(self.limit_m[mine])))
                for d in np.unique(self.caster[counts & (self.tip == tips)])
                for mine in [np.flatnonzero(counts & (self.tip == tips) & (self.caster == d))]
            ]
            for tips in (False, True)
        }


def _by_caster(lost_m: np.ndarray, steps: Steps, tips: bool) -> list[Loss]:
    """Medians over each caster's lines."""
    return [Loss(caster, float(np.median(lost_m[mine])), limit) for caster, mine, limit in steps.groups[tips]]
