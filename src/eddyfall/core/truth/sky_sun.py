"""The sun in a picture of the sky: where it stands, how much it gives, how large it is, and what sky is left without it.

What stands out of the ring around the brightest place is the sun: its weighted mean is the direction, its sum over solid angle the
illuminance on a face turned to it, its second moment the size (less what a pixel's own extent adds). The picture without it keeps the rest,
so that sun and sky together give what the picture gave. A picture whose brightest place was cut off gives a lower bound and says so."""

import math
from collections import OrderedDict
from dataclasses import dataclass
from typing import Literal

import numpy as np

from eddyfall.core.hashing import digest, freeze
from eddyfall.core.scene.model import SkyPicture
from eddyfall.core.shade.sky_maps import cleaned, directions_of, solid_of_rows

LUMINANCE = np.array([0.2126, 0.7152, 0.0722])  # ITU-R BT.709
DISC_RAD = math.radians(3.0)  # what stands out within it is taken for the sun
RING_RAD = math.radians(6.0)  # and held against the sky out to here
LEAST_OF_PEAK = 0.004  # of what stands out most: less is glow, and stays in the sky
LARGEST_RAD = math.radians(1.5)  # anything larger is a bright cloud
LEAST_CONTRAST = 10.0  # of the brightest place to the ring around it
SURE_CONTRAST = 1e4  # at less, equal brightest pixels are a ceiling and not a disc
LEAST_SHARE = 0.05  # of the light on level ground
HALF_MOST = 65504.0
RESOLVED_PX = 0.5

Verdict = Literal["sun", "clipped", "none"]


@dataclass(frozen=True)
class SkySun:
    """verdict: a sun; one that is cut off, of which all values are lower bounds; none. towards (3,): unit direction to it; lux: on a face
    turned to it, rgb (3,) its tint, 1 the largest; radius_deg: of a disc, None if it is smaller than the pixels tell; sun_lux, sky_lux: on
    level ground, from the sun and from the upper half of what is left; peak: brightest luminance, contrast: to the ring around it; sky
    (h, w, 3) float32: the picture without it; why: what speaks against a sun, or for its being cut off."""

    verdict: Verdict
    towards: tuple[float, float, float]
    lux: float
    rgb: tuple[float, float, float]
    radius_deg: float | None
    sun_lux: float
    sky_lux: float
    peak: float
    contrast: float
    sky: np.ndarray
    why: str

    @property
    def strongest_lux(self) -> float:
        """Illuminance of the strongest channel of its tint: a light of tint x this has its luminance."""
        return self.lux / max(float(np.dot(self.rgb, LUMINANCE)), 1e-30)

    @property
    def unshadowed_share(self) -> float:
        """Share of the light on level ground that would throw no shadow if the picture alone lit the scene."""
        return self.sun_lux / max(self.sun_lux + self.sky_lux, 1e-30)

    @property
    def stops(self) -> float:
        """By how many stops level ground in the sun's shadow should be darker than in the sun."""
        return math.log2(max(self.sky_lux, 1e-30) / max(self.sun_lux + self.sky_lux, 1e-30))


def sun_of(picture: SkyPicture) -> SkySun:
    """The sun of a sky picture (h, w, 3) in nits. Only the rows around its brightest place are looked at closely."""
    height, width = picture.radiance.shape[:2]
    broken = ~np.isfinite(picture.radiance).all(axis=2)
    finite = np.where(np.isfinite(picture.radiance), picture.radiance, 0.0) if broken.any() else picture.radiance
    ceiling = HALF_MOST if picture.half else float(finite.max(initial=0.0))
    radiance = cleaned(picture.radiance, ceiling)
    light = radiance @ LUMINANCE.astype(np.float32)
    at, column = np.unravel_index(int(np.argmax(np.where(broken, np.inf, light) if broken.any() else light)), light.shape)
    reach = math.ceil(RING_RAD / math.pi * height) + 1
    rows = slice(max(int(at) - reach, 0), min(int(at) + reach + 1, height))
    directions, near = directions_of(height, width, rows), radiance[rows].astype(np.float64)
    solid = np.repeat((2 * np.pi / width * solid_of_rows(height)[rows])[:, None], width, axis=1)
    away = np.arccos(np.clip(directions @ directions[int(at) - rows.start, column], -1.0, 1.0))
    ring = (away > DISC_RAD) & (away <= RING_RAD)
    around = np.median(near[ring], axis=0) if ring.any() else np.zeros(3)
    excess = np.where((away <= DISC_RAD)[..., None], np.maximum(near - around, 0.0), 0.0)
    standing = excess @ LUMINANCE
    excess[standing < LEAST_OF_PEAK * standing.max(initial=0.0)] = 0.0
    weight = (excess @ LUMINANCE) * solid
    total = float(weight.sum())
    if total <= 0:
        return _none(radiance, "nothing stands out of the sky around it")
    middle = np.einsum("hw,hwk->k", weight, directions)
    towards = middle / np.linalg.norm(middle)
    cosine = np.clip(directions @ towards, -1.0, 1.0)
    lux = np.einsum("hwk,hw->k", excess, solid * np.maximum(cosine, 0.0))
    radius = _radius(weight, np.arccos(cosine), float(np.arcsin(np.clip(towards[1], -1, 1))), (height, width))
    peak, ground = float(light.max()), float(around @ LUMINANCE)
    contrast = peak / max(ground, 1e-30)
    sky = np.array(radiance)
    sky[rows] = near - excess
    sun_lux, sky_lux = float(lux @ LUMINANCE) * max(float(towards[1]), 0.0), level_lux(sky)
    verdict, why = _judged(light, broken, picture.half, contrast, radius, sun_lux / max(sun_lux + sky_lux, 1e-30))
    return SkySun(
        verdict, (float(towards[0]), float(towards[1]), float(towards[2])), float(lux @ LUMINANCE),
        tuple(float(v) for v in lux / max(float(lux.max()), 1e-30)), None if radius is None else math.degrees(radius),  # type: ignore[arg-type]
        sun_lux, sky_lux, peak, contrast, freeze(radiance if verdict == "none" else sky), why,
    )  # fmt: skip


_found: OrderedDict[str, SkySun] = OrderedDict()
REMEMBERED = 8


def sun_in(picture: SkyPicture) -> SkySun:
    """`sun_of`, remembered by what the picture holds."""
    key = digest(picture.radiance, picture.half)
    if key not in _found:
        _found[key] = sun_of(picture)
        while len(_found) > REMEMBERED:
            _found.popitem(last=False)
    return _found[key]


def turned(towards: tuple[float, float, float], yaw_deg: float) -> tuple[float, float, float]:
    """A direction of a picture in the world, which the picture is laid around with a yaw."""
    (x, y, z), yaw = towards, math.radians(yaw_deg)
    return x * math.cos(yaw) + z * math.sin(yaw), y, z * math.cos(yaw) - x * math.sin(yaw)


def _judged(
    light: np.ndarray, broken: np.ndarray, half: bool, contrast: float, radius: float | None, share: float
) -> tuple[Verdict, str]:
    peak = float(light.max())
    equal = int((light >= peak * (1 - 1e-6)).sum())
    if broken.any():
        return "clipped", f"{int(broken.sum())} px are not finite"
    if half and peak >= HALF_MOST * 0.999:
        return "clipped", "its brightest pixels are at the end of half floats"
    if contrast >= LEAST_CONTRAST and equal > 1 and contrast < SURE_CONTRAST:
        return "clipped", f"{equal} px are equally bright, {contrast:.3g} times the sky around them: a ceiling"
    if contrast < LEAST_CONTRAST:
        return "none", f"the brightest place is {contrast:.3g} times the sky around it"
    if radius is not None and radius > LARGEST_RAD:
        return "none", f"what stands out is {math.degrees(2 * radius):.3g} deg wide"
    if share < LEAST_SHARE:
        return "none", f"it gives {share * 100:.2g} % of the light on level ground"
    return "sun", ""


def _radius(weight: np.ndarray, away: np.ndarray, elevation: float, shape: tuple[int, ...]) -> float | None:
    """Radius in rad of the disc with the same second moment (R^2 / 2), less that of a pixel of its own; None if it is not resolved."""
    high, wide = np.pi / shape[0], 2 * np.pi / shape[1] * math.cos(elevation)
    moment = float((weight * away**2).sum() / weight.sum()) - (high**2 + wide**2) / 12
    radius = math.sqrt(max(2 * moment, 0.0))
    return radius if radius > RESOLVED_PX * high else None


def _none(radiance: np.ndarray, why: str) -> SkySun:
    peak = float((radiance @ LUMINANCE.astype(np.float32)).max())
    return SkySun(
        "none", (0.0, 1.0, 0.0), 0.0, (1.0, 1.0, 1.0), None, 0.0, level_lux(radiance), peak, 1.0, freeze(radiance), why
    )  # fmt: skip


def level_lux(radiance: np.ndarray) -> float:
    """Illuminance in lx on level ground from the upper half of a sky (h, w, 3) nit."""
    height, width = radiance.shape[:2]
    up = np.maximum(np.sin(np.pi / 2 - (np.arange(height) + 0.5) / height * np.pi), 0.0)
    rows = radiance.sum(axis=1, dtype=np.float64) @ LUMINANCE
    return float((rows * solid_of_rows(height) * up).sum() * 2 * np.pi / width)
