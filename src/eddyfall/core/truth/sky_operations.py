"""The sun of a sky picture taken out of it, and put beside it as a light, in one step: neither is right without the other."""

from dataclasses import replace
from typing import Any

from eddyfall.core.errors import ChangeError
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.model import SkyPicture, sky_named
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.scene.setup.tables import LightSetup
from eddyfall.core.truth.sky_sun import sun_in, turned

MOST_LUX = 1e7


@operation("sky.take_sun_out")
def take_sun_out(build: Build, params: dict[str, Any]) -> Build:
    """Put `picture` without its sun in its place, and its sun as the light `light` of the setup (left out: the light is there already);
    nits and yaw_deg are those that the picture is drawn with, the project's if they are left out.

    ChangeError for an unknown picture, one without a sun, or a light that stands in the scene or setup under that name."""
    name, light = params.get("picture"), params.get("light")
    picture = sky_named(build.scene.skies, name) if isinstance(name, str) else None
    if picture is None:
        raise ChangeError(
            f"sky picture {name!r} is not there; there are: {', '.join(s.name for s in build.scene.skies) or 'none'}"
        )
    sun = sun_in(picture)
    if sun.verdict == "none":
        raise ChangeError(f"sky picture {name!r} has no sun to take out: {sun.why}")
    lights = dict(build.setup.lights)
    if light is not None:
        if not isinstance(light, str) or not 0 < len(light) <= 200:
            raise ChangeError("light must be a name")
        if light in lights or light in build.scene.light_keys:
            raise ChangeError(f"light {light!r} is there already")
        nits, yaw = (_number(build, params, name) for name in ("nits", "yaw_deg"))
        lux = min(sun.strongest_lux * nits, MOST_LUX)
        lights[light] = LightSetup(kind="sun", towards=turned(sun.towards, yaw), illuminance_lux=lux, rgb=sun.rgb)
    left = SkyPicture(picture.name, sun.sky)
    return replace(build, scene=build.scene.with_sky(left), setup=build.setup.model_copy(update={"lights": lights}))


def _number(build: Build, params: dict[str, Any], name: str) -> float:
    sky = build.setup[Sky]
    value = params.get(name, sky.picture_nits if name == "nits" else sky.yaw_deg)
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not abs(value) <= 1e9:
        raise ChangeError(f"{name} must be a number")
    return float(value)
