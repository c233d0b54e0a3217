"""What a sky picture that still holds its sun does to a frame: light that no shadow takes away, and where shade of it is due."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import sky_named
from eddyfall.core.scene.setup.sections.sky import Sky
from eddyfall.core.shade.lights import DIRECTIONAL
from eddyfall.core.truth.judge import Judge, reflects
from eddyfall.core.truth.sky_sun import LUMINANCE, SkySun, sun_in, turned
from eddyfall.core.truth.surfaces import surfaces_of

LIMIT = 0.05  # share of the light on level ground, from which on a sun without shadows is a finding
SAME_DEG = 3.0  # a light this near stands where the picture's sun does
LEAST_TURNED = 0.05  # cosine: less is grazing, and hardly lit


@dataclass(frozen=True)
class SkyShade:
    """picture: its name; sun: as found in it, in its own units and turn; towards: to it in the world; nits: of 1.0 in the picture;
    yaw_deg: its turn; sun_lux, sky_lux, lights_lux: on level ground, of the picture's sun, of the rest of its sky, of the suns that are
    lights; as_light: the light that stands where the picture's sun does, if one does, and what it gives on a face turned to it in lx; due
    (h, w) bool: pixels turned to the picture's sun and behind something."""

    picture: str
    sun: SkySun
    towards: tuple[float, float, float]
    nits: float
    yaw_deg: float
    sun_lux: float
    sky_lux: float
    lights_lux: float
    as_light: str | None
    as_light_lux: float
    due: np.ndarray

    @property
    def share(self) -> float:
        """Of the light on level ground, what comes from the picture's sun and throws no shadow."""
        return self.sun_lux / max(self.sun_lux + self.sky_lux + self.lights_lux, 1e-30)


def sky_shade(renderer: Renderer, build: Build, frame: Frame, every: int = 2) -> SkyShade | None:
    """Of a frame drawn up to its shadows; None if no picture lights it, or none that holds a sun."""
    sky = frame.stage.resolved[Sky]
    picture = sky_named(build.scene.skies, sky.picture)
    if picture is None or not sky.ambient or sky.picture_nits <= 0:
        return None
    sun = sun_in(picture)
    if sun.verdict == "none":
        return None
    towards = turned(sun.towards, sky.yaw_deg)
    suns = [light for light in frame.stage.lights if light.kind == DIRECTIONAL]
    level = sum(float(np.dot(light.power, LUMINANCE)) * max(light.towards[1], 0.0) for light in suns)
    same = [v for v in suns if np.degrees(np.arccos(np.clip(np.dot(v.towards, towards), -1, 1))) < SAME_DEG]
    return SkyShade(
        picture.name, sun, towards, sky.picture_nits, sky.yaw_deg, sun.sun_lux * sky.picture_nits, sun.sky_lux * sky.picture_nits, level,
        same[0].name if same else None, float(np.dot(same[0].power, LUMINANCE)) if same else 0.0,
        _due(renderer, frame, np.array(towards), every),
    )  # fmt: skip


def _due(renderer: Renderer, frame: Frame, towards: np.ndarray, every: int) -> np.ndarray:
    """(h, w) bool: where the sun would be hidden, by rays from every `every`-th pixel, which stands for those around it."""
    due = np.zeros(frame.drawable.shape, bool)
    s = surfaces_of(frame, every)
    state = frame.stage.state
    s = s.of((s.face @ towards > LEAST_TURNED) & state.receives[s.drawable] & ~state.mapped[s.drawable] & reflects(frame, s))
    if not len(s):
        return due
    judge = Judge(renderer, frame)
    hidden = judge.blocked(judge.scene(judge.intended), s, np.tile(towards, (len(s), 1)), np.full(len(s), np.inf))
    x, y = s.pixels[hidden].T
    for dx in range(every):
        for dy in range(every):
            due[np.maximum(y - dy, 0), np.maximum(x - dx, 0)] = True
    return due
