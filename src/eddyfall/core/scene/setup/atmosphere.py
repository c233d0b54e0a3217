"""Sections `sky` and `fog`: what is behind everything, what fills shade, and what lies between."""

from eddyfall.core.scene.setup.leaf import Rgb, Section, leaf


class Sky(Section):
    zenith_rgb: Rgb = leaf((0.0, 0.0, 0.0), "nit", "radiance straight up")
    horizon_rgb: Rgb = leaf((0.0, 0.0, 0.0), "nit", "radiance at the horizon")
    ground_rgb: Rgb = leaf((0.0, 0.0, 0.0), "nit", "radiance from below, as light on downward faces")
    ambient: bool = leaf(True, "-", "whether the sky lights surfaces")


class Fog(Section):
    enabled: bool = leaf(False, "-", "whether fog is drawn over the opaque picture, from the depth copy")
    fog_per_m: float = leaf(0.0, "1/m", "extinction; transmittance over d metres is exp(-fog_per_m d)", ge=0, le=100)
    rgb: Rgb = leaf((0.0, 0.0, 0.0), "nit", "radiance of fog so thick that nothing shows through")
    covers_sky: float = leaf(1.0, "-", "share of the fog that is drawn where only sky is", ge=0, le=1)
