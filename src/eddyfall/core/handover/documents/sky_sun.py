"""The sun of a sky picture, as a document."""

from typing import Literal, Self

from eddyfall.core.handover.documents.base import Document
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import SkyPicture, sky_named
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.truth.sky_shade import LIMIT, SkyShade
from eddyfall.core.truth.sky_sun import SkySun, sun_in


class SunLightDocument(Document):
    """The light that gives the same: an entry of the setup's table of lights, whose illuminance is that of the strongest channel of its
    tint (a channel gets illuminance x tint), so that luminance comes out as it was."""

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
        light = None
        if s.verdict != "none":
            light = SunLightDocument(towards=s.towards, illuminance_lux=s.strongest_lux, rgb=s.rgb)
        return cls(
            picture=picture.name, width=width, height=height, verdict=s.verdict, why=s.why, towards=s.towards, lux=s.lux, rgb=s.rgb,
            radius_deg=s.radius_deg, sun_lux=s.sun_lux, sky_lux=s.sky_lux, unshadowed_share=s.unshadowed_share, stops=s.stops,
            peak=s.peak, contrast=s.contrast, light=light,
        )  # fmt: skip


class SkyOfFrameDocument(Document):
    """The sky picture that a frame is drawn with, and its sun there. picture: empty if the three radiances are drawn; there: names of all
    pictures; towards: to its sun in the world; lux, sun_lux, sky_lux as drawn, lights_lux: of suns that are lights, on level ground; share:
    of all that, what throws no shadow, limit: from which on it is a finding; as_light: the light that stands where the picture's sun does;
    due_px: pixels that lie in its shade."""

    picture: str
    there: list[str]
    ambient: bool
    nits: float
    yaw_deg: float
    found: SkySunDocument | None
    towards: tuple[float, float, float]
    lux: float
    sun_lux: float
    sky_lux: float
    lights_lux: float
    share: float
    limit: float
    as_light: str | None
    due_px: int

    @classmethod
    def from_core(cls, build: Build, sky: Sky, shade: SkyShade | None) -> Self:
        picture = sky_named(build.scene.skies, sky.picture)
        sun = None if picture is None else sun_in(picture)
        return cls(
            picture="" if picture is None else picture.name, there=[s.name for s in build.scene.skies], ambient=sky.ambient,
            nits=sky.picture_nits, yaw_deg=sky.yaw_deg,
            found=None if picture is None or sun is None else SkySunDocument.from_core(picture, sun),
            towards=(0.0, 1.0, 0.0) if shade is None else shade.towards, lux=0.0 if shade is None else shade.sun.lux * shade.nits,
            sun_lux=0.0 if shade is None else shade.sun_lux, lights_lux=0.0 if shade is None else shade.lights_lux,
            sky_lux=0.0 if sun is None else sun.sky_lux * sky.picture_nits, share=0.0 if shade is None else shade.share,
            limit=LIMIT, as_light=None if shade is None else shade.as_light, due_px=0 if shade is None else int(shade.due.sum()),
        )  # fmt: skip
