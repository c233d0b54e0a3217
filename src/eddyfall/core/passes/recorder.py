"""A core sample as it is recorded: one pixel, the strata laid on it, and what the twins of the passes need to lay theirs."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from eddyfall.core.passes.contract import Stage, Values, View
from eddyfall.core.passes.look_ups import look_ups, looked_up
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.shade.columns import DISTANCE, EMITTED_RGB
from eddyfall.core.shade.direct import direct_plain, face_normal
from eddyfall.core.shade.surface import soup_of

FOG_ALARM = 0.01  # share of fog by which a depth copy may be wrong before a stratum says so


@dataclass
class Layer:
    """One stratum. colour rgb it laid (nits); weight rgb: share of it left in the end; before, after: pixel colour around it."""

    pass_name: str
    drawable: str
    state: str
    colour: np.ndarray
    weight: np.ndarray
    before: np.ndarray
    after: np.ndarray
    depth_m: float | None = None
    facts: dict[str, Any] = field(default_factory=dict)

    @property
    def alarm(self) -> str:
        """What is wrong with this stratum, in a few words; empty if nothing is."""
        f = self.facts
        if self.pass_name == "opaque" and f.get("in_prepass") is False:
            return "not in the depth prepass"
        if self.pass_name == "fog" and np.isfinite(f["surface_distance_m"]):
            if abs(f["fog_share"] - f["fog_share_at_surface"]) <= FOG_ALARM:
                return ""
            off = f["copy_distance_m"] - f["surface_distance_m"]
            where = "as far as can be" if np.isinf(off) else f"{abs(off):,.3g} m too {'far' if off > 0 else 'near'}"
            return f"{where} · {f['fog_share'] * 100:.0f} % fog instead of {f['fog_share_at_surface'] * 100:.0f} %"
        return ""


@dataclass
class Recorder:
    """Pixel (x, y) of a frame. values: the frame's buffers cut to this pixel. inputs(name): the buffers as the pass of that name was
    given them, on the window that its support asks for. notes: what one twin leaves for those after it."""

    x: int
    y: int
    stage: Stage
    geometry: Geometry
    values: Values
    view: View
    inputs: Callable[[str], Values]
    layers: list[Layer] = field(default_factory=list)
    transforms: list[str] = field(default_factory=list)
    colour: np.ndarray = field(default_factory=lambda: np.zeros(3))
    notes: dict[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.length = float(self.view.ray_lengths[0, 0])
        self.soup = soup_of(self.geometry, self.stage.state.material)
        self.paint = dict(self.stage.paint)

    def lay(self, name: str, drawable: str, state: str, colour: np.ndarray, keeps: np.ndarray | float, **facts: Any) -> Layer:
        """Lay a stratum that leaves `keeps` of what was there and adds `colour`."""
        before = self.colour
        for layer in self.layers:
            layer.weight = layer.weight * keeps
        self.colour = before * keeps + colour
        layer = Layer(name, drawable, state, np.asarray(colour, float), np.ones(3), before, self.colour, facts=facts)
        self.layers.append(layer)
        return layer

    @property
    def to_eye(self) -> np.ndarray:
        """(3,) unit vector from the pixel's surface to the eye."""
        r = self.view.rays
        d = r.d0 + (self.x + 0.5) * r.du + (self.y + 0.5) * r.dv
        return np.asarray(-d / np.linalg.norm(d))

    def light(
        self, row: np.ndarray, drawable: int, triangle: int, opaque: bool = False
    ) -> tuple[np.ndarray, list[dict[str, Any]]]:
        """(radiance of direct light and emission of a surface row on a triangle, what each light gives and whether it is seen). opaque:
        rays were traced from it."""
        parts = self._parts(row, drawable, triangle, bool(self.stage.state.mapped[drawable]), opaque)
        lights: list[dict[str, Any]] = [
            {"light": light.name, "rgb": [float(v) for v in rgb], "visible": float(visible)}
            for light, (rgb, visible) in zip(self.stage.lights, parts)
        ]
        if opaque and self.values["tints"].size and self.stage.state.receives[drawable]:
            for told, left in zip(lights, self.values["tints"][0, 0]):
                told["through"] = [float(v) for v in left]  # what things that it goes through leave of it
        return np.sum([rgb for rgb, _ in parts], axis=0) + row[EMITTED_RGB] if parts else np.array(row[EMITTED_RGB]), lights

    def visibility(self, row: np.ndarray, drawable: int, triangle: int) -> list[float]:
        """How much of each light reaches an opaque surface row by its drawn shadow, whether its lightmap holds that light or not."""
        return [seen for _, seen in self._parts(row, drawable, triangle, False, True)]

    def _parts(self, row: np.ndarray, drawable: int, triangle: int, mapped: bool, opaque: bool) -> list[tuple[np.ndarray, float]]:
        maps = looked_up(self.values["shadow_maps"], look_ups(self.stage))
        face = np.array(face_normal(self.geometry.positions, self.geometry.triangles, triangle))
        place = self.view.rays.eye - self.to_eye * row[DISTANCE]
        return direct_plain(
            row, place, self.to_eye, row[DISTANCE] / self.length, bool(self.stage.state.receives[drawable]), mapped,
            self.values["lights"], maps, self.values["traced"][0, 0] if opaque else None, face,
            self.values["tints"][0, 0] if opaque and self.values["tints"].size else None,
        )  # fmt: skip


def depth_state(kept: bool, writes: bool) -> str:
    """What a depth test did to a fragment, in words."""
    if not kept:
        return "cut out by alpha test"
    return "writes depth" if writes else "hidden by depth"
