"""The sun of a sky picture, as a document."""

from typing import Literal, Self

from eddyfall.core.handover.documents.base import Document
from eddyfall.core.truth.sky_sun import SkyPicture, SkySun


class SunLightDocument(Document):
    """The light that gives the same: an entry of the setup's table of lights."""

    kind: Literal["sun"] = "sun"
    towards: tuple[float, float, float]
    illuminance_lux: float
    rgb: tuple[float, float, float]


class SkySunDocument(Document):
    """verdict: sun, clipped (all values are lower bounds), none; why. towards: unit direction, -Z in the middle of the picture; lux: on a
    face turned to it; radius_deg of its disc, null if the pixels do not tell; sun_lux, sky_lux: on level ground; unshadowed_share of that,
    if the picture alone lit the scene; stops: how much darker its shade is due; peak in nit, contrast to the ring around it; light: what
    gives the same beside the picture without it, null where there is no sun."""

    picture: str
    width: int
    height: int
    verdict: Literal["sun", "clipped", "none"]
    why: str
    towards: tuple[float, float, float]
    lux: float
    rgb: tuple[float, float, float]
    radius_deg: float | None
    sun_lux: float
    sky_lux: float
    unshadowed_share: float
    stops: float
    peak: float
    contrast: float
    light: SunLightDocument | None

    @classmethod
    def from_core(cls, picture: SkyPicture, s: SkySun) -> Self:
        height, width = picture.radiance.shape[:2]
        light = SunLightDocument(towards=s.towards, illuminance_lux=s.lux, rgb=s.rgb) if s.verdict != "none" else None
        return cls(
            picture=picture.name, width=width, height=height, verdict=s.verdict, why=s.why, towards=s.towards, lux=s.lux, rgb=s.rgb,
            radius_deg=s.radius_deg, sun_lux=s.sun_lux, sky_lux=s.sky_lux, unshadowed_share=s.unshadowed_share, stops=s.stops,
            peak=s.peak, contrast=s.contrast, light=light,
        )  # fmt: skip
