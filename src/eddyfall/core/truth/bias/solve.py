"""The bias of a light's shadow: what each way of biasing takes to end acne, what it then loses, and which is the smallest that does both.

A way is right if no viewpoint has more than 16 px darkened by their own surface and no caster's shadow is lost at its foot by more than
20 mm or two pixels. All counts come from thresholds; the points of the front are drawn again (`proved`).
"""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from eddyfall.core.passes.contract import LookUp
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.bias.ground import Ground, lift_m
from eddyfall.core.truth.bias.steps import Loss, Steps

LEAST_PX = 16  # false pixels that a viewpoint may have
ROUND_MM, ROUND_SLOPE, ROUND_NORMAL = 0.1, 0.01, 0.25
MOST_MM, MOST_SLOPE = 1e5, 64.0  # that the leaves may hold
MOST_FRONT = 12
HALVINGS = 12
MOST_SCALED = 2  # biases of a way for which a finer texel is reckoned
LEAST_SCALE = 1 / 512


@dataclass(frozen=True)
class Bias:
    """What a light's leaves say: constant in mm, slope factor, shift along the normal in texels (None: the project's own), filter along
    the plane."""

    constant_mm: float = 0.0
    slope: float = 0.0
    normal_texels: float | None = 0.0
    along_plane: bool = False

    @property
    def words(self) -> str:
        """In short, for a title."""
        parts = [f"{self.constant_mm:g} mm"] if self.constant_mm else []
        parts += [f"{self.slope:g} x slope"] if self.slope else []
        if self.normal_texels is None:
            parts.append("the project's shift along the normal")
        elif self.normal_texels:
            parts.append(f"{self.normal_texels:g} texel{'' if self.normal_texels == 1 else 's'} along the normal")
        parts += ["filter along the plane"] if self.along_plane else []
        return ", ".join(parts) or "no bias"


@dataclass(frozen=True)
class Lost:
    """What a caster's shadow loses, in mm, against the most that may be: the worst of all casters and viewpoints; "" and None if no caster
    stands anywhere."""

    caster: str
    lost_mm: float
    limit_mm: float | None

    @property
    def share(self) -> float:
        """Of what may be lost."""
        return self.lost_mm / self.limit_mm if self.limit_mm else 0.0


@dataclass(frozen=True)
class Outcome:
    """One bias: pixels that darken themselves at the viewpoint with most of them, what shadows lose at their foot and at their tip,
    by how much it lifts a surface towards the light (the middle of all asked) in mm; inside: both limits are kept."""

    way: str
    bias: Bias
    false_px: int
    foot: Lost
    tip: Lost
    lift_mm: float
    inside: bool


@dataclass(frozen=True)
class Way:
    """One way of biasing. best: the smallest bias inside both limits; else least: what ends acne with the least loss, and the texel (the
    largest there may be, in mm) and edge of the light's maps at which it would be inside: a prediction."""

    name: str
    best: Outcome | None
    least: Outcome | None
    texel_mm: float | None
    resolution: int | None


@dataclass(frozen=True)
class BiasFront:
    """A light's bias at some viewpoints. texel_mm: smallest and largest that serve what was asked; set_to: as it is; chosen: the smallest
    bias inside both limits of all ways; front: biases that no other betters in false pixels, foot and tip at once."""

    light: str
    viewpoints: tuple[str, ...]
    technique: str
    filter_px: int
    resolution: int
    texel_mm: tuple[float, float]
    asked_px: int
    lines: int
    set_to: Outcome
    ways: tuple[Way, ...]
    chosen: Outcome | None
    front: tuple[Outcome, ...]
    limit_px: int = LEAST_PX


def solve_bias(grounds: Sequence[Ground]) -> BiasFront:
    """The front of one light over the grounds of some viewpoints (at least one)."""
    return _Search(grounds).front()


class _Search:
    def __init__(self, grounds: Sequence[Ground]) -> None:
        self.grounds = grounds
        first = grounds[0]
        self.light = first.judge.frame.stage.lights[first.light]
        self.filter_px = self.light.look_up.filter_px
        self._known: dict[Bias, list[Steps]] = {}
        self._by_rays: dict[Bias, list[Steps]] = {}

    # What a bias gives

    def steps(self, bias: Bias) -> list[Steps]:
        """Thresholds at each viewpoint; constant and slope factor do not matter to them."""
        key = replace(bias, constant_mm=0.0, slope=0.0)
        if key not in self._known:
            self._known[key] = [g.steps(self._look_up(g, key)) for g in self.grounds]
        return self._known[key]

    def without_texels(self, bias: Bias) -> list[Steps]:
        """The same by rays."""
        key = replace(bias, constant_mm=0.0, slope=0.0, along_plane=False)
        if key not in self._by_rays:
            self._by_rays[key] = [g.without_texels(self._look_up(g, key)) for g in self.grounds]
        return self._by_rays[key]

    def _look_up(self, ground: Ground, bias: Bias) -> LookUp:
        """How maps are looked up with a bias: the filter, and the project's shift, are those of the viewpoint's role."""
        own = ground.judge.look_up(ground.light)
        base = own if bias.normal_texels is None else LookUp(normal_texels=bias.normal_texels, filter_px=own.filter_px)
        return replace(base, constant_m=bias.constant_mm / 1000, slope=bias.slope, along_plane=bias.along_plane)

    def outcome(self, way: str, bias: Bias) -> Outcome:
        """What a bias leaves and loses."""
        steps = self.steps(bias)
        false = max(s.false_px(bias.constant_mm / 1000, bias.slope) for s in steps)
        foot, tip = self._worst(steps, bias)
        inside = false <= LEAST_PX and foot.share <= 1
        return Outcome(way, bias, false, foot, tip, self._lift_mm(steps, bias), inside)

    def _worst(self, steps: list[Steps], bias: Bias) -> tuple[Lost, Lost]:
        """What is lost at feet and at tips, at the viewpoint where it is most."""
        found = [s.worst(bias.constant_mm / 1000, bias.slope) for s in steps]
        foot, tip = (self._named(max(ends, key=lambda v: v.lost_m / v.limit_m)) for ends in zip(*found))
        return foot, tip

    def _named(self, loss: Loss) -> Lost:
        if loss.caster < 0:
            return Lost("", 0.0, None)
        name = self.grounds[0].judge.frame.geometry.drawables[loss.caster].name
        return Lost(name, loss.lost_m * 1000, loss.limit_m * 1000)

    def _lift_mm(self, steps: list[Steps], bias: Bias) -> float:
        lifts = [0.0]
        for g, s in zip(self.grounds, steps):
            if len(g.lit):
                lifts.append(float(np.median(lift_m(g.judge, g.light, g.lit, self._look_up(g, bias), s.own_slope_m))))
        return max(lifts) * 1000

    # Ways

    @cached_property
    def normals(self) -> list[float]:
        """Shifts along the normal that are tried, in texels: up to as many as the filter is wide, in about eight steps."""
        step = ROUND_NORMAL * ((self.filter_px + 1) // 2)
        return [float(n) for n in np.arange(step, max(self.filter_px, 2) + step / 2, step)]

    def biases(self, way: str, most: Sequence[int]) -> Iterator[Bias]:
        """The smallest biases of a way that leave no more than so many pixels false."""
        levels = np.array(most)
        match way:
            case "constant":
                yield from self._constants(Bias(), levels)
            case "slope":
                exact = np.max([s.slopes(0.0, levels) for s in self.steps(Bias())], axis=0)
                for factor in exact[np.isfinite(exact) & (exact < MOST_SLOPE)]:
                    yield Bias(slope=_up(factor, ROUND_SLOPE))
                for factor in np.arange(1, self.filter_px + 1) * 1.0:
                    yield from self._constants(Bias(slope=float(factor)), levels)
            case "along the normal":
                for n in self.normals:
                    yield from self._constants(Bias(normal_texels=n), levels)
            case _:
                yield from self._constants(Bias(along_plane=True), levels)

    def _constants(self, bias: Bias, levels: np.ndarray) -> Iterator[Bias]:
        steps = self.steps(bias)
        for constant in np.max([s.constants_m(bias.slope, levels) for s in steps], axis=0):
            if constant * 1000 < MOST_MM:
                yield replace(bias, constant_mm=_up(constant * 1000, ROUND_MM))

    def way(self, name: str) -> Way:
        """The smallest bias of a way inside both limits, or what it would take."""
        tried = [self.outcome(name, bias) for bias in dict.fromkeys(self.biases(name, [LEAST_PX]))]
        ends = [v for v in tried if v.false_px <= LEAST_PX]
        inside = min((v for v in ends if v.inside), key=_size, default=None)
        if inside is not None or not ends:
            return Way(name, inside, None, None, None)
        near = sorted(ends, key=lambda v: v.foot.share)[:MOST_SCALED]
        scale, least = max(((self._scale(v.bias), v) for v in near), key=lambda pair: pair[0])
        if scale <= LEAST_SCALE:
            return Way(name, None, least, None, None)
        texel = max(float(g.texel_m.max()) for g in self.grounds if len(g.texel_m)) * scale * 1000
        return Way(name, None, least, texel, math.ceil(self.resolution / scale))

    def _scale(self, bias: Bias) -> float:
        """The largest share of today's texel at which a bias that shrinks with it loses no more than may be: acne shrinks with the texel,
        the gap to a caster does not."""

        def kept(scale: float) -> bool:
            smaller = replace(
                bias,
                constant_mm=bias.constant_mm * scale,
                normal_texels=None if bias.normal_texels is None else bias.normal_texels * scale,
            )
            steps = [replace(s, slope_m=s.slope_m * scale) for s in self.without_texels(smaller)]
            return self._worst(steps, smaller)[0].share <= 1

        low, high = LEAST_SCALE, 1.0
        if not kept(low):
            return LEAST_SCALE
        for _ in range(HALVINGS):
            middle = math.sqrt(low * high)
            low, high = (middle, high) if kept(middle) else (low, middle)
        return low

    @property
    def resolution(self) -> int:
        """Edge of the light's maps."""
        shadow = self.grounds[0].judge.shadow
        by_project = shadow.resolution if self.light.kind == DIRECTIONAL else shadow.light_resolution
        return self.light.resolution or by_project

    def front(self) -> BiasFront:
        """All ways, what is chosen of them, and the front."""
        own = self.light.look_up
        as_set = Bias(own.constant_m * 1000, own.slope, None if own.over > 0 else own.normal_texels, own.along_plane)
        ways = tuple(self.way(name) for name in WAYS)
        chosen = min((w.best for w in ways if w.best is not None), key=_size, default=None)
        asked = sum(len(g.lit) * g.each for g in self.grounds)
        levels = [0, LEAST_PX, *(4 * LEAST_PX * 4**n for n in range(8) if 4 * LEAST_PX * 4**n < asked)]
        tried = [self.outcome(name, bias) for name in WAYS for bias in dict.fromkeys((*self.biases(name, levels), Bias()))]
        texels = np.concatenate([g.texel_m for g in self.grounds])
        return BiasFront(
            light=self.light.name,
            viewpoints=tuple(g.viewpoint for g in self.grounds),
            technique=self.light.technique,
            filter_px=self.filter_px,
            resolution=self.resolution,
            texel_mm=(float(texels.min()) * 1000, float(texels.max()) * 1000) if len(texels) else (0.0, 0.0),
            asked_px=asked,
            lines=sum(len(g.lines.caster) for g in self.grounds),
            set_to=self.outcome("as set", as_set),
            ways=ways,
            chosen=chosen,
            front=_thinned(_best_of(tried), chosen),
        )


WAYS = ("constant", "slope", "along the normal", "along the plane")


def _size(outcome: Outcome) -> tuple[float, float, float]:
    """What is smaller: less lost at tips than may be, then less lift."""
    return (max(outcome.tip.share - 1, 0.0), outcome.lift_mm, outcome.foot.lost_mm)


def _up(value: float, step: float) -> float:
    """Rounded up to whole steps, so that it surely is beyond the threshold that it was made from."""
    return round((math.floor(value / step + 1e-9) + 1) * step, 6) if value > 0 else 0.0


def _best_of(tried: list[Outcome]) -> list[Outcome]:
    """Those that no other betters in false pixels, foot and tip at once, fewest false pixels first."""
    marks = np.array([(v.false_px, v.foot.share, v.tip.share, v.lift_mm) for v in tried])
    kept = []
    for n, mark in enumerate(marks):
        better = (marks[:, :3] <= mark[:3] + 1e-9).all(axis=1) & (marks[:, :3] < mark[:3] - 1e-9).any(axis=1)
        same = (np.abs(marks[:, :3] - mark[:3]) <= 1e-9).all(axis=1) & (
            (marks[:, 3] < mark[3] - 1e-9) | ((np.abs(marks[:, 3] - mark[3]) <= 1e-9) & (np.arange(len(marks)) < n))
        )
        if not (better | same).any():
            kept.append(tried[n])
    return sorted(kept, key=lambda v: (v.false_px, v.foot.lost_mm, v.tip.lost_mm))


def _thinned(front: list[Outcome], chosen: Outcome | None) -> tuple[Outcome, ...]:
    """No more than MOST_FRONT of a front: both ends, what is chosen, and others evenly between."""
    if len(front) <= MOST_FRONT:
        return tuple(front)
    picked = set(np.linspace(0, len(front) - 1, MOST_FRONT - 1).round().astype(int).tolist())
    picked |= {n for n, v in enumerate(front) if chosen is not None and v.bias == chosen.bias}
    return tuple(front[n] for n in sorted(picked))
