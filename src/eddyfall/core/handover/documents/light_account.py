"""A frame held against its reference, and how noisy that is, as documents."""

from typing import Self

import numpy as np

from eddyfall.core.handover.documents.base import Document, Finite, Triple, WholePair
from eddyfall.core.truth.reference.account import FLOOR_STOPS, MEANS, Account
from eddyfall.core.truth.reference.against import Against
from eddyfall.core.truth.reference.noise import Noise, noise_of
from eddyfall.core.truth.reference.of_frame import Comparison, Reference, Wanted
from eddyfall.core.truth.reference.tally import PARTS


class PointDocument(Document):
    """Noise at a number of samples."""

    samples: int
    noise: Finite


class NoiseDocument(Document):
    """value: RMS standard error over mean luminance, edges of what shines apart (share `edges` of the pixels); samples of each pixel so
    far; slope of its fall over doublings; refused: why no forecast is given, else empty; at_2_percent: samples that 2 % take, a
    prediction; curve: noise at each doubling."""

    value: Finite
    samples: int
    slope: Finite
    bright_share: float
    edges: float
    pixels: int
    refused: str
    at_2_percent: int | None
    curve: list[PointDocument]

    @classmethod
    def from_core(cls, n: Noise) -> Self:
        return cls(
            value=n.value, samples=n.samples, slope=n.slope, bright_share=n.bright_share, edges=n.edges, pixels=n.pixels,
            refused=n.refused, at_2_percent=n.samples_for(0.02),
            curve=[PointDocument(samples=count, noise=value) for count, value in n.curve],
        )  # fmt: skip


class PartDocument(Document):
    """A part of the reference: mean nits, rgb."""

    part: str
    nits: Triple


class ReferenceDocument(Document):
    """The reference of a viewpoint's window: mean nits by part, by light as it arrives; its noise."""

    viewpoint: str
    size: WholePair
    pixels: int
    bounces: int
    mean_nits: Triple
    parts: list[PartDocument]
    lights: list[PartDocument]
    noise: NoiseDocument

    @classmethod
    def from_core(cls, wanted: Wanted, r: Reference) -> Self:
        t = r.tally
        return cls(
            viewpoint=wanted.request.viewpoint, size=t.size, pixels=len(t.pixels), bounces=wanted.asked.bounces,
            mean_nits=t.radiance.mean(axis=0), noise=NoiseDocument.from_core(r.noise),
            parts=[PartDocument(part=name, nits=t.part(i).mean(axis=0)) for i, name in enumerate(PARTS)],
            lights=[PartDocument(part=name, nits=t.light(i).mean(axis=0)) for i, name in enumerate(t.light_names)],
        )  # fmt: skip


class RowDocument(Document):
    """One part of the difference: nits and luminance of stand-in less reference; stops: how much brighter the stand-in is with this part
    than with this part alone put right; shown: whether it is beyond floor and noise."""

    part: str
    means: str
    nits: Triple
    luminance: float
    stops: Finite
    error: float
    shown: bool


class LightRowDocument(Document):
    """One light: mean nits as the stand-in draws it, and as it ought to be."""

    light: str
    standin: float
    reference: float


class AccountDocument(Document):
    """A frame's window held against its reference: mean luminance in nits, stops of all of it, standard error of the reference's mean; rows
    add up to the difference; floor_stops: what the two differ by where they have to agree; region (x, y, width, height) of a frame of the
    default size that all this is of, if it is not the whole window."""

    viewpoint: str
    size: WholePair
    crop: list[int] | None
    region: list[int] | None
    pixels: int
    bounces: int
    standin: float
    reference: float
    stops: Finite
    error: float
    floor_stops: float
    rows: list[RowDocument]
    lights: list[LightRowDocument]
    noise: NoiseDocument

    @classmethod
    def from_core(
        cls, wanted: Wanted, c: Comparison, part: Account | None = None, region: tuple[int, int, int, int] | None = None,
        inside: np.ndarray | None = None,
    ) -> Self:  # fmt: skip
        a, noise = part or c.account, c.reference.noise if inside is None else noise_of(c.reference.tally, inside)
        rows = [
            RowDocument(
                part=r.part, means=MEANS[r.part], nits=r.nits, luminance=r.luminance, stops=r.stops, error=r.error, shown=r.shown
            )
            for r in a.rows
        ]
        crop = wanted.request.crop
        return cls(
            viewpoint=wanted.request.viewpoint, size=wanted.request.size, crop=None if crop is None else list(crop),
            region=None if region is None else list(region), pixels=a.pixels,
            bounces=wanted.asked.bounces, standin=a.standin, reference=a.reference, stops=a.stops, error=a.error,
            floor_stops=FLOOR_STOPS, rows=rows, noise=NoiseDocument.from_core(noise),
            lights=[LightRowDocument(light=n, standin=s, reference=r) for n, s, r in a.by_light],
        )  # fmt: skip


class AgainstDocument(Document):
    """A frame held against a picture of the user's: scale_stops that the picture is exposed by to meet the frame (fitted); misaligned px
    right and down; stops of the frame over the picture so exposed: median, and the largest of a grid of regions with where it lies."""

    viewpoint: str
    picture: str
    scale_stops: float
    misaligned_px: WholePair
    median_off_stops: float
    worst_stops: float
    worst_region: list[int]
    pixels: int

    @classmethod
    def from_core(cls, viewpoint: str, picture: str, a: Against) -> Self:
        return cls(
            viewpoint=viewpoint, picture=picture, scale_stops=a.scale_stops, misaligned_px=a.misaligned_px,
            median_off_stops=a.median_off_stops, worst_stops=a.worst_stops, worst_region=list(a.worst_region), pixels=a.pixels,
        )  # fmt: skip
