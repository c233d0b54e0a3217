"""The account: what the stand-in's frame S lacks or has too much of against the reference R, split exactly into parts.

S - R, in nits, is the sum of its parts at each pixel, whatever the noise of R: shadow is what a light's visibility is off by, in the
stand-in's light; shading what the same visibility shows of a light that is off; the others compare like with like, dimmed by what the
reference's fog and blended surfaces leave."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eddyfall.core.frame.render import Frame
from eddyfall.core.passes import indirect, refract
from eddyfall.core.passes.coated import is_coated
from eddyfall.core.passes.contract import View
from eddyfall.core.passes.look_ups import look_ups, looked_up
from eddyfall.core.passes.silent import silenced, silent_of
from eddyfall.core.scene.setup.sections.fog import Fog
from eddyfall.core.scene.setup.sections.refract import Refract
from eddyfall.core.shade.columns import ALBEDO_RGB, EMITTED_RGB
from eddyfall.core.shade.direct import direct_buffer
from eddyfall.core.shade.fog import transmittance
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.reference.tally import (
    BACKGROUND,
    BOUNCE,
    EMISSION,
    FOG,
    LAYERS,
    REFLECTION,
    SKY_COAT,
    SKY_UNDER,
    Tally,
)

ROWS = ("shadow", "shading", "bounce", "reflection", "transmission", "emission", "fog", "another surface")
MEANS = {
    "shadow": "light that is let through or held back wrongly",
    "shading": "light of lamps and suns on what they reach",
    "bounce": "light from other surfaces and the sky, reflected evenly",
    "reflection": "light from other surfaces and the sky, mirrored",
    "transmission": "what blended surfaces, glass and mist in front bring and leave",
    "emission": "what shines itself, and the sky behind it all",
    "fog": "fog, at the distance it is drawn at",
    "another surface": "pixels whose first surface is another one",
}
FLOOR_STOPS = 0.02  # what the two differ by where they have to agree (measured in tests)


@dataclass(frozen=True)
class Parts:
    """The stand-in's frame at n pixels, kept apart as it draws it, (n, 3) nits each: lights (l, n, 3) as drawn and as if nothing were in
    their way; emission (or the sky behind); even light with what bounces, and what is mirrored; all before glass. glass_keeps, glass (n,
    3): what glass leaves of the pixel behind it, and what it adds, from other pixels of its copy too; bends (n,) bool: it is a body; fade
    (n,) and haze (n, 3): what fog leaves and adds; keeps (n, 3) and layers (n, 3): what blended surfaces leave and add. held (l, n) bool:
    the lightmap holds a light; drawable (n,)."""

    lights: np.ndarray
    unhindered: np.ndarray
    held: np.ndarray
    emission: np.ndarray
    even: np.ndarray
    mirrored: np.ndarray
    glass_keeps: np.ndarray
    glass: np.ndarray
    bends: np.ndarray
    fade: np.ndarray
    haze: np.ndarray
    keeps: np.ndarray
    layers: np.ndarray
    drawable: np.ndarray

    @property
    def radiance(self) -> np.ndarray:
        """(n, 3) nits that reach the eye."""
        return np.asarray(
            self.keeps * (self.fade[:, None] * (self.glass_keeps * self.opaque + self.glass) + self.haze) + self.layers
        )

    @property
    def opaque(self) -> np.ndarray:
        """(n, 3) nits of what lies behind glass, fog and blended surfaces."""
        return np.asarray(self.lights.sum(axis=0) + self.emission + self.even + self.mirrored)


@dataclass(frozen=True)
class Row:
    """One part of an account over a region: nits (3,) of S - R; luminance of it; stops: how much brighter S is with this part than it
    would be with this part alone from the reference (nan where that leaves nothing); error: standard error of the reference's mean,
    which every row is held against; shown: whether it is beyond floor and noise."""

    part: str
    nits: np.ndarray
    luminance: float
    stops: float
    error: float
    shown: bool


@dataclass(frozen=True)
class Account:
    """S against R over a region. standin, reference: mean luminance in nits; stops of all of it; error: standard error of the reference's
    mean; samples; rows; by_light: of each light, mean nits as drawn and as due."""

    pixels: int
    standin: float
    reference: float
    stops: float
    error: float
    samples: int
    rows: tuple[Row, ...]
    by_light: tuple[tuple[str, float, float], ...]


def parts_of(frame: Frame, pixels: np.ndarray) -> Parts:
    """The stand-in's frame, drawn up to `linear`, kept apart at pixels (n, 2) x y of the full frame, which lie in its window."""
    b, view = frame.buffers, View(frame.camera, frame.pixels)
    x, y = pixels[:, 0] - frame.pixels.origin[0], pixels[:, 1] - frame.pixels.origin[1]
    at = (y, x)
    state, maps = frame.stage.state, looked_up(b["shadow_maps"], look_ups(frame.stage))
    faces = (b["triangle"], frame.geometry.positions, frame.geometry.triangles)
    surface, lights = silenced(b["surface"], b["drawable"], silent_of(state.answers_direct)), b["lights"]
    dark = surface.copy()
    dark[..., EMITTED_RGB] = 0.0
    coats = b["coat_share"][at][:, None] if is_coated(b) else np.zeros((len(pixels), 1))
    layers = [(dark, 1 - coats)]
    if is_coated(b):
        layers.append((silenced(b["coat_rows"], b["drawable"], silent_of(state.answers_direct)), coats))

    def direct(light: int, receives: np.ndarray) -> np.ndarray:
        alone = np.zeros_like(lights.power)
        alone[light] = lights.power[light]
        total = np.zeros((len(pixels), 3))
        for rows, share in layers:
            lit, _ = direct_buffer(
                rows, b["visible"], b["drawable"], faces, receives.astype(np.uint8), state.mapped.astype(np.uint8),
                frame.pixels.origin, frame.pixels.jitter, view.rays, lights._replace(power=alone), maps, b["traced"], b["tints"],
            )  # fmt: skip
            total += lit[at] * share
        return total

    count = len(lights.kind)
    lit = np.array([direct(i, state.receives) for i in range(count)]).reshape(count, len(pixels), 3)
    free = np.array([direct(i, np.zeros_like(state.receives)) for i in range(count)]).reshape(count, len(pixels), 3)
    seen = b["visible"][at] >= 0
    emission = np.where(seen[:, None], surface[at][:, EMITTED_RGB] * (1 - coats), b["behind_panes"][at]).astype(np.float64)
    even = np.where(seen[:, None], b["shaded"][at].astype(np.float64) - lit.sum(axis=0) - emission, 0.0)
    mirrored = np.where(seen[:, None], _mirrored(frame)[at], 0.0)
    mirrored = np.minimum(mirrored, np.maximum(even, 0.0))
    even = even - mirrored
    mirrored = mirrored + np.where(seen[:, None], b["behind_panes"][at].astype(np.float64) - b["shaded"][at], 0.0)
    shown = b["with_sky"][at].astype(np.float64)
    fade, haze = _fog(frame, at, shown)
    kept, bends = _glass(frame, at)
    layer = b["layer"][at].astype(np.float64)
    drawable = np.asarray(b["drawable"][at])
    held = (state.mapped[drawable] & seen) & (lights.baked[:, None] > 0)
    return Parts(
        lights=lit, unhindered=free, held=held, emission=emission, even=even, mirrored=mirrored, glass_keeps=kept,
        glass=shown - kept * b["behind_panes"][at], bends=bends, fade=fade, haze=haze, keeps=layer[:, 3:], layers=layer[:, :3],
        drawable=drawable,
    )  # fmt: skip


def _glass(frame: Frame, at: tuple[np.ndarray, np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
    """((n, 3) what all that is drawn from copies, or laid straight, leaves of what is behind it; (n,) bool: the nearest is a body)."""
    kept, state = np.ones((*frame.pixels.shape, 3)), frame.stage.state
    panes = refract.panes_of(frame.buffers | {"with_sky": frame.buffers["behind_panes"]}, refract.section(frame.stage))
    if panes is not None:
        layers = frame.stage.resolved[Refract].layers
        drawn = panes.open & ((panes.rank < layers) | state.inside_blend[panes.drawable])
        np.multiply.at(kept.reshape(-1, 3), panes.pixel[drawn], panes.kept[drawn])
    pane = frame.pane[at]
    return kept[at], (pane >= 0) & state.bends[pane]


def _mirrored(frame: Frame) -> np.ndarray:
    """(h, w, 3) what the coat mirrors of even light, of lightmaps or of the sky: the same pass with the layer under the coat black."""
    coat = frame.buffers["surface"].copy()
    coat[..., ALBEDO_RGB] = 0.0
    inputs = {**frame.buffers, "surface": coat, "lit": np.zeros_like(frame.buffers["lit"])}
    return np.asarray(indirect.run(inputs, indirect.section(frame.stage))["shaded"])


def _fog(frame: Frame, at: tuple[np.ndarray, np.ndarray], opaque: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(share that fog leaves (n,), what it adds (n, 3))."""
    fog, n = frame.stage.resolved[Fog], len(opaque)
    if not fog.enabled:
        return np.ones(n), np.zeros((n, 3))
    fade = transmittance(frame.buffers["fog_distance"][at], fog.fog_per_m)
    fade = np.where(frame.buffers["visible"][at] < 0, 1.0 - (1.0 - fade) * fog.covers_sky, fade)
    return fade, frame.buffers["fogged"][at].astype(np.float64) - fade[:, None] * opaque


def differences(s: Parts, r: Tally) -> dict[str, np.ndarray]:
    """(n, 3) nits of each row of an account at each pixel; they add up to S - R."""
    n, count = len(r.pixels), max(r.count, 1)
    clear = r.clear / count
    fade = np.divide(r.fades, r.clear, out=np.ones((n, 3)), where=r.clear > 0)
    veil = np.maximum(clear * fade, 1e-30)  # by which the reference's parts are dimmed on their way
    found = {name: np.zeros((n, 3)) for name in ROWS}
    baked = np.zeros((n, 3))
    for i in range(len(r.light_names)):
        arrives, free = r.light(i) / veil, r.light(i, hindered=False) / veil
        lit = ~s.held[i][:, None]
        baked += np.where(lit, 0.0, arrives)
        share = np.divide(arrives, free, out=np.zeros_like(free), where=free > 0)
        found["shadow"] += np.where(lit, veil * (s.lights[i] - s.unhindered[i] * share), 0.0)
        found["shading"] += np.where(lit, veil * (s.unhindered[i] * share - arrives), 0.0)
    found["bounce"] = veil * (s.even - (r.part(BOUNCE) + r.part(SKY_UNDER)) / veil - baked)
    found["reflection"] = veil * (s.mirrored - (r.part(REFLECTION) + r.part(SKY_COAT)) / veil)
    found["emission"] = veil * (s.emission - (r.part(EMISSION) + r.part(BACKGROUND)) / veil)
    fogged = s.fade[:, None] * s.opaque + s.haze
    haze = r.part(FOG) / np.maximum(clear, 1e-30)
    found["fog"] = clear * (fogged - fade * s.opaque - haze)
    through = s.fade[:, None] * (s.glass_keeps * s.opaque + s.glass) + s.haze
    found["transmission"] = s.keeps * through - clear * fogged + s.layers - r.part(LAYERS)
    other = (s.drawable != r.first) & (clear.min(axis=1) > 0.999)
    total = s.radiance - r.radiance
    # What is seen through a body is not what lies straight behind it, and what is drawn shut shows nothing behind it: all that differs
    # there is theirs.
    shut = (
        (clear.min(axis=1) <= 0.999) & (s.keeps == 1).all(axis=1) & (s.glass_keeps == 1).all(axis=1) & (s.layers == 0).all(axis=1)
    )
    for name, where in (("another surface", other), ("transmission", (s.bends | shut) & ~other)):
        for row in ROWS:
            found[row] = np.where(where[:, None], total if row == name else 0.0, found[row])
    return found


def account(s: Parts, r: Tally, inside: np.ndarray | None = None) -> Account:
    """The account of the pixels (n,) bool that lie inside, or of all."""
    inside = np.ones(len(r.pixels), bool) if inside is None else inside
    pixels = int(inside.sum())
    found = differences(s, r)
    standin = float((s.radiance[inside] @ REC709_LUMA).mean()) if pixels else 0.0
    reference = float(r.luminance[inside].mean()) if pixels else 0.0
    error = float(np.sqrt((r.error[inside] ** 2).sum()) / pixels) if pixels else 0.0
    rows = []
    for name in ROWS:
        nits = found[name][inside].mean(axis=0) if pixels else np.zeros(3)
        luminance = float(nits @ REC709_LUMA)
        stops = stops_of(standin, standin - luminance)
        shown = abs(luminance) > 2 * error and not abs(stops) < 3 * FLOOR_STOPS
        rows.append(Row(name, nits, luminance, stops, error if name != "another surface" else 0.0, shown))
    return Account(pixels, standin, reference, stops_of(standin, reference), error, r.count, tuple(rows), _by_light(s, r, inside))


def _by_light(s: Parts, r: Tally, inside: np.ndarray) -> tuple[tuple[str, float, float], ...]:
    """Of each light: mean luminance as the stand-in draws it, and as it ought to be."""
    if not inside.any():
        return ()
    veil = s.keeps * s.fade[:, None] * s.glass_keeps
    return tuple(
        (
            name,
            float((veil * s.lights[i])[inside].mean(axis=0) @ REC709_LUMA),
            float(r.light(i)[inside].mean(axis=0) @ REC709_LUMA),
        )
        for i, name in enumerate(r.light_names)
    )


def stops_of(a: float, b: float) -> float:
    """log2(a / b); nan where either is not positive."""
    return float(np.log2(a / b)) if a > 0 and b > 0 else float("nan")
