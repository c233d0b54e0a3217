"""Core sample: everything that touched one pixel, in the order it was laid, by the plain twins of the passes with a recorder.

`sum(layer.colour * layer.weight)` is frame.linear at that pixel (1e-4 relative): twin test and core sample are one thing.
"""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.passes.blended import draw_order, fade_blended
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.direct import section as direct_section
from eddyfall.core.passes.display import exposure_scale
from eddyfall.core.passes.fog import section as fog_section
from eddyfall.core.passes.sections import sky_colours, sky_light
from eddyfall.core.passes.surface import soup_of
from eddyfall.core.passes.triangles import on_screen
from eddyfall.core.raster.rasterise import fragments_at
from eddyfall.core.scene.build import Build
from eddyfall.core.shade.blend import KINDS, blend_plain
from eddyfall.core.shade.coat import even_plain
from eddyfall.core.shade.fog import transmittance
from eddyfall.core.shade.lightmaps import irradiance_at, page_position
from eddyfall.core.shade.lights import direct_plain
from eddyfall.core.shade.sky import ambient_plain, sky_plain
from eddyfall.core.shade.surface import surface_plain

FOG_ALARM = 0.01  # share of fog by which a depth copy may be wrong before a stratum says so
KIND_NAMES = {code: name for name, code in KINDS.items()}


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
class CoreSample:
    """Strata of pixel (x, y), first laid first; linear is their sum; transforms are what is done to it afterwards.

    exposure_scale: what exposure multiplies by (1 is display white after it)."""

    viewpoint: str
    x: int
    y: int
    layers: list[Layer]
    linear: np.ndarray
    transforms: list[str]
    drawable: str | None
    prepass_depth_m: float
    depth_m: float
    exposure_scale: float = 1.0

    @property
    def sum(self) -> np.ndarray:
        """(3,) the layers added up."""
        return np.asarray(np.sum([layer.colour * layer.weight for layer in self.layers], axis=0))


def core_sample(renderer: Renderer, build: Build, request: Request, x: int, y: int) -> CoreSample:
    """Drill pixel (x, y) of the request's full frame. RequestError if it lies outside."""
    width, height = request.size
    if not (0 <= x < width and 0 <= y < height):
        raise RequestError(f"pixel {x},{y} is outside the {width} x {height} frame")
    window = (x, y, x + 1, y + 1)
    frame = renderer.frame(
        build,
        Request(
            request.viewpoint,
            request.size,
            window,
            request.target,
            request.role,
            plate=request.plate,
            hidden=request.hidden,
            paint=request.paint,
        ),
        "linear",
    )
    driller = _Driller(renderer, build, frame, request, x, y)
    return driller.drill()


class _Driller:
    def __init__(self, renderer: Renderer, build: Build, frame: Any, request: Request, x: int, y: int) -> None:
        self.build, self.frame, self.request, self.x, self.y = build, frame, request, x, y
        self.stage, self.geometry, self.values = frame.stage, frame.geometry, frame.buffers
        self.view = View(frame.camera, frame.pixels)
        self.layers: list[Layer] = []
        self.colour = np.zeros(3)
        self.length = float(self.view.ray_lengths[0, 0])
        self.soup = soup_of(self.geometry, self.stage.state.material)
        self.maps = self.values["shadow_maps"]._replace(
            bias_texels=direct_section(self.stage)["bias_texels"], filter_px=direct_section(self.stage)["filter_px"]
        )
        self.paint = dict(self.stage.paint)

    def drill(self) -> CoreSample:
        depth_format = self.stage.depth_format
        surface_colour = self._opaque(depth_format)
        self._fog(surface_colour)
        self._blended(depth_format)
        e = self.stage.resolved.exposure
        transforms = []
        if e.mode != "off":
            transforms.append(f"exposure: x {exposure_scale(e.mode, e.ev100):.4g} (EV100 {e.ev100:g})")
        transforms.append("display: sRGB encoding to 8 bit")
        front = int(self.values["drawable"][0, 0])
        return CoreSample(
            self.request.viewpoint,
            self.x,
            self.y,
            self.layers,
            self.colour,
            transforms,
            self.geometry.drawables[front].name if front >= 0 else None,
            float(depth_format.view_depth(self.values["prepass_depth"])[0, 0]),
            float(depth_format.view_depth(self.values["depth"])[0, 0]),
            float(exposure_scale(e.mode, e.ev100)),
        )

    def _lay(self, name: str, drawable: str, state: str, colour: np.ndarray, keeps: np.ndarray | float, **facts: Any) -> Layer:
        """Lay a stratum that leaves `keeps` of what was there and adds `colour`."""
        before = self.colour
        for layer in self.layers:
            layer.weight = layer.weight * keeps
        self.colour = before * keeps + colour
        layer = Layer(name, drawable, state, np.asarray(colour, float), np.ones(3), before, self.colour, facts=facts)
        self.layers.append(layer)
        return layer

    def _opaque(self, depth_format: Any) -> np.ndarray:
        screen, owner = self.values["screen"], self.geometry.owner
        found = fragments_at(screen, owner, self.values["cutouts"], depth_format.code, self.x, self.y)
        state = self.stage.state
        in_prepass = state.depth_pass & (state.blend < 2)
        depth = depth_format.far_key
        for f in found:
            d = int(owner[f.triangle])
            if not in_prepass[d]:
                continue
            writes = f.kept and f.key <= depth
            if writes:
                depth = f.key
            layer = self._lay("prepass", self.geometry.drawables[d].name, _depth_state(f.kept, writes), np.zeros(3), 1.0)
            layer.depth_m = float(depth_format.view_depth(f.key))
        winner, entries = None, []
        for f in found:
            writes = f.kept and f.key <= depth
            if writes:
                depth, winner = f.key, f
            entries.append((f, writes))
        for f, writes in entries:
            if f is winner:
                continue
            d = int(owner[f.triangle])
            hidden = _depth_state(f.kept, writes) if not writes else "drawn over"
            layer = self._lay("opaque", self.geometry.drawables[d].name, hidden, np.zeros(3), 1.0, in_prepass=bool(in_prepass[d]))
            layer.depth_m = float(depth_format.view_depth(f.key))
        if winner is None:
            rgb = sky_plain(-self._to_eye(), sky_colours(self.stage))
            self._lay("sky", "(sky)", "drawn", rgb, 0.0)
            return rgb
        return self._shade(winner, in_prepass, depth_format)

    def _shade(self, f: Any, in_prepass: np.ndarray, depth_format: Any) -> np.ndarray:
        d = int(self.geometry.owner[f.triangle])
        row, _, used = surface_plain(
            self.x + 0.5, self.y + 0.5, f.triangle, self.view.rays, self.soup, self.values["textures"].surfaces
        )
        if d in self.paint:
            row[:6], row[10:13] = 0, self.paint[d]
        lit, lights = self._light(row, d, row[13] / self.length)
        kind = KIND_NAMES[int(self.stage.state.blend[d])]
        name = self.geometry.drawables[d].name
        layer = self._lay(
            "opaque", name, f"{kind}, writes depth", lit, 0.0, shader=self.stage.state.shader[d], in_prepass=bool(in_prepass[d]),
            textures=[{"role": role, "mip_level": round(level, 2)} for role, _, level in used], lights=lights,
        )  # fmt: skip
        layer.depth_m = float(depth_format.view_depth(f.key))
        sky = sky_light(self.stage)
        total = lit
        if self.stage.state.mapped[d]:
            baked, facts = self._baked(row, d, f.triangle)
            self._lay("indirect", name, "light from its lightmap", baked, 1.0, lightmap=facts)
            total = lit + baked
        elif sky is not None:
            ambient = ambient_plain(row, self._to_eye(), sky)
            self._lay("indirect", name, "light from the sky", ambient, 1.0)
            total = lit + ambient
        return np.asarray(total)

    def _baked(self, row: np.ndarray, drawable: int, triangle: int) -> tuple[np.ndarray, dict[str, Any]]:
        """(radiance, where it was read) of the lightmap at this pixel."""
        store = self.values["lightmaps"]
        bake = self.stage.resolved.bake
        k = int(store.of_drawable[drawable])
        x, y = self.x + 0.5, self.y + 0.5
        nearest = bake.filter == "nearest"
        lux = [irradiance_at(store, k, self.soup, triangle, x, y, self.view.rays, nearest, bake.mips, c) for c in range(3)]
        u, v = page_position(store, k, self.soup, triangle, x, y, self.view.rays)
        edge = int(store.levels[store.maps[k, 0], 1])
        texel = [int(np.floor(u * edge)), int(np.floor(v * edge))]
        diffuse, coat = even_plain(row, min(max(float(row[7:10] @ self._to_eye()), 0.0), 1.0))
        return (diffuse + coat) * row[14] / np.pi * np.array(lux), {
            "texel": texel,
            "edge": edge,
            "lux": [float(e) for e in lux],
            "filter": bake.filter,
        }

    def _to_eye(self) -> np.ndarray:
        r = self.view.rays
        d = r.d0 + (self.x + 0.5) * r.du + (self.y + 0.5) * r.dv
        return -d / np.linalg.norm(d)

    def _light(self, row: np.ndarray, drawable: int, view_depth: float) -> tuple[np.ndarray, list[dict[str, Any]]]:
        place = self.view.rays.eye - self._to_eye() * row[13]
        receives = bool(self.stage.state.receives[drawable])
        mapped = bool(self.stage.state.mapped[drawable])
        parts = direct_plain(row, place, self._to_eye(), view_depth, receives, mapped, self.values["lights"], self.maps)
        lights = [
            {"light": light.name, "rgb": [float(v) for v in rgb], "visible": float(visible)}
            for light, (rgb, visible) in zip(self.stage.lights, parts)
        ]
        return np.sum([rgb for rgb, _ in parts], axis=0) + row[10:13] if parts else np.array(row[10:13]), lights

    def _fog(self, surface: np.ndarray) -> None:
        s = fog_section(self.stage)
        if not s["fog"].enabled:
            return
        if s["copy_from"] == "none":
            distance = np.inf
        else:
            key = self.values["prepass_depth" if s["copy_from"] == "prepass" else "depth"][0, 0]
            distance = float(s["depth"].view_depth(key)) * self.length
        t = float(transmittance(np.array(distance), s["fog"].fog_per_m))
        own = float(s["depth"].view_depth(self.values["depth"])[0, 0]) * self.length
        if self.values["visible"][0, 0] < 0:
            t = 1 - (1 - t) * s["fog"].covers_sky
            own = np.inf
        t_own = float(transmittance(np.array(own), s["fog"].fog_per_m))
        self._lay(
            "fog", "(fog)", f"depth copy from {s['copy_from']}", (1 - t) * np.array(s["fog"].rgb), t,
            copy_distance_m=distance, surface_distance_m=own, distance_error_m=distance - own if np.isfinite(own) else 0.0,
            fog_share=1 - t, fog_share_at_surface=1 - t_own,
        )  # fmt: skip

    def _blended(self, depth_format: Any) -> None:
        state, stage = self.stage.state, self.stage
        section = {"blend": state.blend, "rank": state.rank, "order": stage.resolved.order.key}
        order = draw_order(self.geometry, self.values["in_view"], self.frame.camera, section)
        if not len(order):
            return
        screen = on_screen(self.geometry, order, state.double_sided, self.view, depth_format, self.values["textures"])
        found = fragments_at(screen, self.geometry.owner, self.values["cutouts"], depth_format.code, self.x, self.y)
        c, t = np.zeros(3), np.ones(3)
        opaque, opaque_layers = self.colour, len(self.layers)
        fog = stage.resolved.fog
        start = [layer.weight for layer in self.layers]
        for f in found:
            d = int(self.geometry.owner[f.triangle])
            kind = KIND_NAMES[int(state.blend[d])]
            name = self.geometry.drawables[d].name
            if not f.key <= self.values["depth"][0, 0]:
                layer = self._lay("blended", name, f"{kind}, hidden by depth", np.zeros(3), 1.0)
                layer.depth_m = float(depth_format.view_depth(f.key))
                continue
            surfaces = self.values["textures"].surfaces
            row, alpha, used = surface_plain(self.x + 0.5, self.y + 0.5, f.triangle, self.view.rays, self.soup, surfaces)
            lights: list[dict[str, Any]] = []
            if d in self.paint:
                colour = np.array(self.paint[d])
            else:
                colour, lights = self._light(row, d, row[13] / self.length)
                sky = sky_light(stage)
                if sky is not None:
                    colour = colour + ambient_plain(row, self._to_eye(), sky)
            fade = float(transmittance(row[13], fog.fog_per_m)) if fog.enabled and state.fogs[d] else 1.0
            faded = [fade_blended(int(state.blend[d]), float(colour[i]), alpha, fade, fog.rgb[i]) for i in range(3)]
            value, strength = np.array([v for v, _ in faded]), faded[0][1]
            c2, t2 = blend_plain(kind, c, t, value, strength)
            # What this fragment adds to C; earlier blended layers and the opaque picture are dimmed alike by the equation.
            kept = blend_plain(kind, np.ones(3), np.zeros(3), np.zeros(3) if kind != "multiply" else value, strength)[0]
            added = c2 - c * kept
            before = self.colour
            for layer in self.layers[opaque_layers:]:
                layer.weight = layer.weight * kept
            c, t = c2, t2
            for layer, w in zip(self.layers[:opaque_layers], start):
                layer.weight = w * t
            self.colour = c + t * opaque
            laid = Layer("blended", name, kind, added, np.ones(3), before, self.colour, row[13] / self.length)
            laid.facts = {"alpha": alpha, "fog_share": 1 - fade, "shader": state.shader[d], "lights": lights,
                          "textures": [{"role": r, "mip_level": round(v, 2)} for r, _, v in used]}  # fmt: skip
            self.layers.append(laid)


def _depth_state(kept: bool, writes: bool) -> str:
    if not kept:
        return "cut out by alpha test"
    return "writes depth" if writes else "hidden by depth"
