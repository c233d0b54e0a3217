"""Pass 10: blended drawables, farthest first by the order key and draw rank, in a layer of their own; frame = C + T * opaque."""

import math
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, NamedTuple

import numpy as np
from numba import njit, prange

from eddyfall.core.kernel import light_helper
from eddyfall.core.passes.contract import LookUp, Pass, Stage, Target, Values, View
from eddyfall.core.passes.draw_order import Sorting, draw_order, sorting, triangles_in
from eddyfall.core.passes.look_ups import look_ups, looked_up
from eddyfall.core.passes.off_switches import off_by_blend
from eddyfall.core.passes.recorder import Layer, Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.sections import no_sky, sky_light, with_picture
from eddyfall.core.raster.depth_format import DepthFormat, depth_key
from eddyfall.core.raster.edges import biases, row_span, upright
from eddyfall.core.raster.project import SUBPIXEL, ScreenTriangles, project
from eddyfall.core.raster.rasterise import BANDS, fragments_at
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.fog import Fog
from eddyfall.core.scene.setup.tables import VOLUME_SORTS, WRITES_DEPTH
from eddyfall.core.shade.blend import KIND_NAMES, KINDS, VOLUME, blend_channel, blend_plain, kept_and_laid
from eddyfall.core.shade.columns import DISTANCE, ROW
from eddyfall.core.shade.fog import transmittance
from eddyfall.core.shade.lit import lit_at
from eddyfall.core.shade.orderless import average_plain, composed
from eddyfall.core.shade.sky import SkyLight, ambient_plain
from eddyfall.core.shade.surface import soup_of, surface_at, surface_plain
from eddyfall.core.shade.volumes import Volumes, count_parts, cut, shares, way_through, way_through_plain

CODES = {name: code for code, name in KIND_NAMES.items()}
LAY, COUNT, KEEP = 0, 1, 2  # what becomes of a fragment
HIDDEN, SHOWN, WRITTEN_OVER = 0, 1, 2
NODE_BYTES = 16  # of a layer that is kept for a pixel: half RGBA, and as much for coverage, depth and links
_NO_LAYER, _NO_STARTS, _NO_COUNTS = np.zeros((0, 0, 6), np.float32), np.zeros(0, np.int64), np.zeros((0, 0), np.int64)


@dataclass(frozen=True, kw_only=True)
class BlendedSection:
    """What the pass is set by."""

    blend: np.ndarray
    sorting: Sorting
    fogs: np.ndarray
    receives: np.ndarray
    double_sided: np.ndarray
    material: np.ndarray
    fog: Fog
    depth: DepthFormat
    paint: Any
    sky: SkyLight | None
    no_sky: SkyLight
    look_ups: tuple[LookUp, ...]
    per_m: np.ndarray
    volume_rgb: np.ndarray
    splits: np.ndarray
    writes: np.ndarray


def section(stage: Stage) -> BlendedSection:
    s = stage.state
    return BlendedSection(
        blend=s.blend,
        sorting=sorting(stage),
        fogs=s.fogs,
        receives=s.receives,
        double_sided=s.double_sided,
        material=s.material,
        fog=stage.resolved[Fog],
        depth=stage.depth_format,
        paint=stage.paint,
        sky=sky_light(stage),
        no_sky=no_sky(stage),
        look_ups=look_ups(stage),
        per_m=np.where(s.blend == VOLUME, s.per_m, 0.0),
        volume_rgb=s.volume_rgb,
        splits=(s.blend == VOLUME) & (s.volume_sort == VOLUME_SORTS.index("split")) & s.drawn & ~s.camera_hidden,
        writes=writes_of(stage),
    )


def writes_of(stage: Stage) -> np.ndarray:
    """(d,) bool: blended drawables that write their depth where they are drawn. Where nothing is sorted none does: which of them is drawn
    first is not said."""
    s = stage.state
    chosen = s.blended & (s.blend != VOLUME) & (s.writes_depth > WRITES_DEPTH.index("no"))
    return np.asarray(chosen & (sorting(stage).method == "sorted"))


def run(inputs: Values, section: BlendedSection) -> dict[str, Any]:
    fogged = inputs["fogged"]
    layer = np.zeros((*inputs["pixels"].shape, 6), np.float32)
    layer[..., 3:] = 1.0
    if section.sorting.method != "sorted":
        f = shown_of(fragments_of(inputs, section))
        without_order(f, section.sorting, layer.reshape(-1, 6))
        return {"layer": layer, "linear": (layer[..., :3] + layer[..., 3:] * fogged).astype(np.float32)}
    if section.splits[inputs["in_view"]].any():
        in_turn(shown_of(fragments_of(inputs, section)), layer.reshape(-1, 6))
        return {"layer": layer, "linear": (layer[..., :3] + layer[..., 3:] * fogged).astype(np.float32)}
    given = _given(inputs, section)
    if given is None:
        return {"layer": layer, "linear": fogged}
    _blend_layer(*given, LAY, layer, _NO_STARTS, _NO_COUNTS, *_no_fragments(0))
    return {"layer": layer, "linear": (layer[..., :3] + layer[..., 3:] * fogged).astype(np.float32)}


class Fragments(NamedTuple):
    """n fragments of blended drawables, by pixel, within a pixel as they are drawn; those of pixel i (row by row) are starts[i] ..
    starts[i + 1]. Each makes k f + p + q O of what lies there, f (O: what is opaque; both in nits): drawable, triangle (n,), far (n,) m
    from the eye; open (n,) uint8: it passes the depth test (SHOWN), is hidden by what is solid (HIDDEN) or by the depth that something
    blended wrote before it (WRITTEN_OVER); k (n, 3), p (n, 3) nits, q (n,); long (n,) m of the ray that it takes up, 0 for
    surfaces: parts of volumes, cut where other fragments of the pixel lie, far being the middle of each."""

    starts: np.ndarray
    drawable: np.ndarray
    triangle: np.ndarray
    far: np.ndarray
    open: np.ndarray
    k: np.ndarray
    p: np.ndarray
    q: np.ndarray
    long: np.ndarray


def fragments_of(inputs: Values, section: BlendedSection, least: int = 1) -> Fragments:
    """Every fragment of a frame, also those that the depth test drops, from all that the pass reads: its own kernel with another sink.
    least: pixels that have fewer are left out."""
    height, width = inputs["pixels"].shape
    counts = np.zeros((height, width), np.int64)
    given, starts = _given(inputs, section), np.zeros(height * width + 1, np.int64)
    if given is None:
        return Fragments(starts, *_no_fragments(0))
    _blend_layer(*given, COUNT, _NO_LAYER, _NO_STARTS, counts, *_no_fragments(0))
    counts[counts < least] = 0
    starts[1:] = np.cumsum(counts.ravel())
    if not starts[-1]:
        return Fragments(starts, *_no_fragments(0))
    found = _no_fragments(int(starts[-1]))
    counts[:] = 0
    _blend_layer(*given, KEEP, _NO_LAYER, starts, counts, *found)
    whole = Fragments(starts, *found)
    return in_parts(whole, section.splits) if section.per_m[inputs["in_view"]].any() else whole


def in_parts(f: Fragments, splits: np.ndarray) -> Fragments:
    """Fragments with those of volumes cut where others of their pixel lie. splits (d,) bool: drawables whose parts are drawn in between."""
    parts = np.ones(len(f.far), np.int64)
    count_parts(f.starts, f.far, f.long, parts)
    total = np.concatenate([[0], np.cumsum(parts)])
    starts, n = total[f.starts], int(total[-1])
    source, far, long = np.zeros(n, np.int64), np.zeros(n), np.zeros(n)
    cut(f.starts, f.far, f.long, splits[f.drawable].astype(np.int64), starts, source, far, long)
    rest = {name: column[source] for name, column in zip(f._fields[1:], f[1:])}
    of = rest["long"] > 0
    rest["k"][of], rest["p"][of] = shares(rest["k"][of], rest["p"][of], long[of] / rest["long"][of])
    return Fragments(starts, **{**rest, "far": far, "long": long})


def in_turn(f: Fragments, layer: np.ndarray) -> None:
    """Lays fragments into layer (pixels, 6) one after the other as they stand."""
    pixel = np.repeat(np.arange(len(f.starts) - 1), np.diff(f.starts))
    last_first = f.starts[pixel] + f.starts[pixel + 1] - 1 - np.arange(len(f.far))
    composed(f.starts, last_first, f.k, f.p, f.q, np.zeros(len(f.far), bool), 1 << 40, False, layer)


def shown_of(f: Fragments) -> Fragments:
    """Those that pass the depth test."""
    return only(f, f.open == SHOWN)


def only(f: Fragments, which: np.ndarray) -> Fragments:
    """Those of a mask (n,) bool."""
    pixel = np.repeat(np.arange(len(f.starts) - 1), np.diff(f.starts))
    starts = np.zeros(len(f.starts), np.int64)
    np.cumsum(np.bincount(pixel[which], minlength=len(f.starts) - 1), out=starts[1:])
    return Fragments(starts, *(column[which] for column in f[1:]))


def without_order(f: Fragments, by: Sorting, layer: np.ndarray) -> None:
    """Lays fragments into layer (pixels, 6) by a method that sorts no things."""
    pixel = np.repeat(np.arange(len(f.starts) - 1), np.diff(f.starts))
    dark = by.blend[f.drawable] == KINDS["multiply"]
    composed(f.starts, np.lexsort((f.far, pixel)), f.k, f.p, f.q, dark, by.in_order, by.averages, layer)


def held(section: BlendedSection) -> tuple[Target, ...]:
    """What a method keeps for each pixel: colour and coverage of the average; so many layers of them; or two depths and a colour."""
    by = section.sorting
    nodes = {"sorted": 0, "weighted": 1, "list": by.layers, "peeled": 1}[by.method]
    return (Target(name="layers", texel_bytes=NODE_BYTES * nodes),) if nodes else ()


def _no_fragments(n: int) -> tuple[np.ndarray, ...]:
    return (
        np.zeros(n, np.int32), np.zeros(n, np.int32), np.zeros(n, np.float64), np.zeros(n, np.uint8),
        np.zeros((n, 3)), np.zeros((n, 3)), np.zeros(n), np.zeros(n),
    )  # fmt: skip


def _given(inputs: Values, section: BlendedSection) -> tuple[Any, ...] | None:
    """What the kernel takes, up to what becomes of fragments; None where nothing is blended in sight."""
    geometry: Geometry = inputs["geometry"]
    pixels, textures = inputs["pixels"], inputs["textures"]
    order = draw_order(geometry, inputs["in_view"], inputs["camera"], section.sorting)
    if not len(order):
        return None
    view = View(inputs["camera"], pixels)
    screen = _on_screen(geometry, order, section.sorting, section.double_sided, section.per_m, view, section.depth, textures)
    if not len(screen.ids):
        return None
    soup = soup_of(geometry, section.material)
    maps = looked_up(inputs["shadow_maps"], section.look_ups)
    fog, code = section.fog, section.depth.code
    paint = np.full((len(geometry.drawables), 3), np.nan)
    for drawable, rgb in section.paint:
        paint[drawable] = rgb
    return (
        screen.fixed, screen.z, screen.ids, screen.box, section.blend.astype(np.int32), section.receives.astype(np.uint8),
        section.fogs.astype(np.uint8), section.writes, paint, inputs["over_depth"], np.array(inputs["over_depth"]), code.bits, code.sign,
        *pixels.origin, *pixels.jitter, view.rays, soup, textures.surfaces, inputs["lights"], maps,
        np.ones((1, 1, len(inputs["lights"].kind)), np.float32),
        section.no_sky if section.sky is None else with_picture(section.sky, inputs["sky_maps"]),
        fog.fog_per_m if fog.enabled else 0.0, np.array(fog.rgb), *volumes_of(geometry, section.per_m, section.volume_rgb),
        _solid_m(inputs["over_depth"], view, section),
    )  # fmt: skip


def volumes_of(geometry: Geometry, per_m: np.ndarray, rgb: np.ndarray) -> Volumes:
    """Volumes by drawable, their boxes those of its bounds."""
    bounds = np.ascontiguousarray(geometry.bounds, np.float64)
    return Volumes(per_m, rgb, np.ascontiguousarray(bounds[:, 0]), np.ascontiguousarray(bounds[:, 1]))


def _solid_m(depth: np.ndarray, view: View, section: BlendedSection) -> np.ndarray:
    """(h, w) m from the eye to what is solid, if there are volumes for it to end."""
    if not section.per_m.any():
        return np.zeros((1, 1))
    return np.asarray(section.depth.view_depth(depth) * view.ray_lengths)


def _on_screen(
    geometry: Geometry,
    order: np.ndarray,
    by: Sorting,
    double_sided: np.ndarray,
    per_m: np.ndarray,
    view: View,
    depth: Any,
    textures: Any,
) -> ScreenTriangles:
    """Screen triangles of the drawables in `order`, within the window; of volumes the far sides of their boxes, which every ray through one
    meets just once, wherever the eye is."""
    eye = np.array(view.camera.eye)
    chosen = triangles_in(geometry, order, eye, by)
    owner = geometry.owner[chosen]
    cull = np.where(per_m[owner] > 0, -1, np.where(double_sided[owner], 0, 1)).astype(np.int8)
    return project(
        geometry.positions, textures.alpha_uv, geometry.triangles, chosen, cull, view.clip_matrix(depth), view.pixels.size,
        view.pixels.window,
    )  # fmt: skip


@njit(cache=True, parallel=True, nogil=True)
def _blend_layer(
    fixed, zs, ids, box, blend, receives, fogs, writes, paint, solid, depth, bits, sign, ox, oy, jx, jy, rays, soup, surf, lights, maps,
    traced, sky, fog_per_m, fog_rgb, v_per_m, v_rgb, v_low, v_high, solid_m, sink, layer, starts, counts, f_drawable, f_triangle, f_far,
    f_open, f_k, f_p, f_q, f_long,
):  # fmt: skip
    height, width = depth.shape
    rows = max(4, (height + BANDS - 1) // BANDS)
    for band in prange((height + rows - 1) // rows):
        row = np.empty((1, ROW), np.float32)
        first_row = oy + band * rows
        last_row = min(first_row + rows, oy + height) - 1
        for i in range(ids.shape[0]):
            if box[i, 3] < first_row or box[i, 1] > last_row:
                continue
            x0, y0, x1, y1, x2, y2, _, _ = upright(fixed, i)
            k0, k1, k2 = biases(x0, y0, x1, y1, x2, y2)
            vx, vy = np.float32(fixed[i, 0]) / np.float32(SUBPIXEL), np.float32(fixed[i, 1]) / np.float32(SUBPIXEL)
            t = ids[i]
            drawable = soup.owner[t]
            for y in range(max(box[i, 1], first_row), min(box[i, 3], last_row) + 1):
                dy = (np.float32(y) + np.float32(0.5)) - vy
                low = max(box[i, 0], ox)
                high = min(box[i, 2], ox + width - 1)
                first, last = row_span(x0, y0, x1, y1, x2, y2, k0, k1, k2, low, y, high - low + 1)
                for x in range(low + first, low + last + 1):
                    dx = (np.float32(x) + np.float32(0.5)) - vx
                    d = (zs[i, 0] + dx * zs[i, 1]) + dy * zs[i, 2]
                    key = depth_key(d, bits, sign)
                    passes = key <= depth[y - oy, x - ox]
                    near, end = 0.0, 0.0
                    if blend[drawable] == VOLUME:
                        near, end = _within(x + 0.5 + jx, y + 0.5 + jy, rays, v_low, v_high, drawable, solid_m[y - oy, x - ox])
                        if end <= near:
                            continue
                        passes = True
                    if sink == LAY and not passes:
                        continue
                    if sink == COUNT:
                        counts[y - oy, x - ox] += 1
                        continue
                    covered = not passes and key <= solid[y - oy, x - ox]
                    if passes and writes[drawable]:
                        depth[y - oy, x - ox] = key
                    if sink == KEEP and starts[(y - oy) * width + x - ox] == starts[(y - oy) * width + x - ox + 1]:
                        continue
                    if end > 0.0:
                        alpha = 1.0 - math.exp(-v_per_m[drawable] * (end - near))
                        painted = paint[drawable, 0] == paint[drawable, 0]
                        r = paint[drawable, 0] if painted else v_rgb[drawable, 0]
                        g = paint[drawable, 1] if painted else v_rgb[drawable, 1]
                        b = paint[drawable, 2] if painted else v_rgb[drawable, 2]
                        row[0, DISTANCE] = (near + end) / 2
                    else:
                        r, g, b, alpha = shade_blended(
                            x + 0.5 + jx, y + 0.5 + jy, t, receives[drawable], rays, soup, surf, lights, maps, traced, sky, paint, drawable,
                            row,
                        )  # fmt: skip
                    fade = 1.0
                    if fogs[drawable] == 1 and fog_per_m > 0.0:
                        fade = math.exp(-fog_per_m * row[0, DISTANCE])
                    v, u = y - oy, x - ox
                    for c in range(3):
                        value = r if c == 0 else (g if c == 1 else b)
                        value, strength = fade_blended(blend[drawable], value, alpha, fade, fog_rgb[c])
                        if sink == KEEP:
                            n = starts[v * width + u] + counts[v, u]
                            f_k[n, c], f_p[n, c], f_q[n] = kept_and_laid(blend[drawable], value, strength)
                            continue
                        layer[v, u, c], layer[v, u, 3 + c] = blend_channel(
                            blend[drawable], layer[v, u, c], layer[v, u, 3 + c], value, strength
                        )
                    if sink == KEEP:
                        n = starts[v * width + u] + counts[v, u]
                        f_drawable[n], f_triangle[n], f_far[n] = drawable, t, row[0, DISTANCE]
                        f_open[n] = SHOWN if passes else (WRITTEN_OVER if covered else HIDDEN)
                        if end > 0.0:
                            f_far[n], f_long[n] = (near + end) / 2, end - near
                        counts[v, u] += 1


@light_helper
def _within(px, py, rays, low, high, d, limit):
    """(from, to) m of the eye's ray through pixel position (px, py) in box d."""
    dx = rays.d0[0] + px * rays.du[0] + py * rays.dv[0]
    dy = rays.d0[1] + px * rays.du[1] + py * rays.dv[1]
    dz = rays.d0[2] + px * rays.du[2] + py * rays.dv[2]
    over = 1.0 / math.sqrt(dx * dx + dy * dy + dz * dz)
    return way_through(rays.eye[0], rays.eye[1], rays.eye[2], dx * over, dy * over, dz * over, low, high, d, limit)


@light_helper
def shade_blended(px, py, t, receives, rays, soup, surf, lights, maps, traced, sky, paint, drawable, row):
    """(r, g, b, alpha) of one blended fragment, lit like an opaque one; `row` (1, 15) is filled on the way."""
    alpha = surface_at(px, py, t, rays, soup, surf, row, 0)
    if paint[drawable, 0] == paint[drawable, 0]:
        return paint[drawable, 0], paint[drawable, 1], paint[drawable, 2], alpha
    r, g, b = lit_at(px, py, t, receives, rays, soup, lights, maps, traced, sky, row, 0)
    return r, g, b, alpha


@light_helper
def fade_blended(kind, value, alpha, t, fog):
    """(value, alpha) after fog of transmittance t at the fragment's own depth: what adds light fades, what covers turns to fog."""
    if kind == 4:
        return value * t, alpha
    if kind == 5:
        return 1.0 + (value - 1.0) * t, alpha
    if kind == 6:
        return value, alpha * t
    if kind == 3:
        return t * value + (1.0 - t) * fog * alpha, alpha
    return t * value + (1.0 - t) * fog, alpha


def twin(r: Recorder) -> None:
    """Lays each blended fragment: what it adds to the layer C, earlier ones and the opaque picture dimmed as the equation says."""
    state, stage, depth_format = r.stage.state, r.stage, r.stage.depth_format
    order = draw_order(r.geometry, r.values["in_view"], r.view.camera, sorting(stage))
    if not len(order):
        return
    given = section(stage)
    screen = _on_screen(
        r.geometry, order, given.sorting, state.double_sided, given.per_m, r.view, depth_format, r.values["textures"]
    )
    fog, fragments = stage.resolved[Fog], []
    depth, writer = r.values["over_depth"][0, 0], ""
    for f in fragments_at(screen, r.geometry.owner, r.values["cutouts"], depth_format.code, r.x, r.y):
        d = int(r.geometry.owner[f.triangle])
        kind, name = KIND_NAMES[int(state.blend[d])], r.geometry.drawables[d].name
        if kind == "volume":
            fragments += _volume_twin(r, d, given)
            continue
        if not f.key <= depth:
            why = f"the depth that {writer} wrote" if f.key <= r.values["over_depth"][0, 0] else "depth"
            layer = r.lay("blended", name, f"{kind}, hidden by {why}", np.zeros(3), 1.0)
            layer.depth_m = float(depth_format.view_depth(np.asarray(f.key)))
            continue
        if given.writes[d]:
            depth, writer = f.key, name
        surfaces = r.values["textures"].surfaces
        row, alpha, used = surface_plain(r.x + 0.5, r.y + 0.5, f.triangle, r.view.rays, r.soup, surfaces)
        lights: list[dict[str, Any]] = []
        if d in r.paint:
            colour = np.array(r.paint[d])
        else:
            colour, lights = r.light(row, d, f.triangle)
            sky = sky_light(stage)
            if sky is not None:
                colour = colour + ambient_plain(row, r.to_eye, with_picture(sky, r.values["sky_maps"]))
        fade = float(transmittance(row[DISTANCE], fog.fog_per_m)) if fog.enabled and state.fogs[d] else 1.0
        faded = [fade_blended(int(state.blend[d]), float(colour[i]), alpha, fade, fog.rgb[i]) for i in range(3)]
        value, strength = np.array([v for v, _ in faded]), faded[0][1]
        facts = {"alpha": alpha, "fog_share": 1 - fade, "shader": state.shader[d], "lights": lights,
                 "textures": [read.facts for read in used]}  # fmt: skip
        fragments.append((name, kind, value, strength, float(row[DISTANCE]), facts))
    # Where things are not sorted, a volume's parts are layers of their own.
    whole = given.per_m > 0 if given.sorting.method != "sorted" else np.zeros_like(given.splits)
    for parted in (whole & ~given.splits, given.splits):
        if parted.any():
            fragments = _between_parts(fragments, {r.geometry.drawables[d].name for d in np.flatnonzero(parted)})
    _lay(r, fragments, given.sorting)


LaidTwin = tuple[str, str, np.ndarray, float, float, dict[str, Any]]  # name, kind, colour, alpha, m from the eye, facts


def _volume_twin(r: Recorder, d: int, given: BlendedSection) -> list[LaidTwin]:
    """The one fragment of a volume, if the ray goes through it before it ends at something solid."""
    eye, direction = r.view.rays.eye, -r.to_eye
    solid = float(given.depth.view_depth(r.values["over_depth"][0, 0])) * r.length
    low, high = (np.asarray(v, np.float64) for v in r.geometry.bounds[d])
    near, end = way_through_plain(np.asarray(eye), direction, low, high, solid)
    if end <= near:
        return []
    fog, far = given.fog, (near + end) / 2
    alpha = 1 - math.exp(-float(given.per_m[d]) * (end - near))
    colour = np.array(r.paint[d]) if d in r.paint else given.volume_rgb[d]
    fade = float(transmittance(np.asarray(far), fog.fog_per_m)) if fog.enabled and given.fogs[d] else 1.0
    value = np.array([fade_blended(VOLUME, float(colour[i]), alpha, fade, fog.rgb[i])[0] for i in range(3)])
    facts = {"alpha": alpha, "fog_share": 1 - fade, "from_m": near, "to_m": end}
    return [(r.geometry.drawables[d].name, "volume", value, alpha, far, facts)]


def _between_parts(fragments: list[LaidTwin], splits: set[str]) -> list[LaidTwin]:
    """Fragments as they are drawn, with those of volumes that split put in as parts before what lies nearer than each."""
    laid = [f for f in fragments if f[0] not in splits]
    for name, kind, value, alpha, _, facts in (f for f in fragments if f[0] in splits):
        near, end = facts["from_m"], facts["to_m"]
        others = [f for f in fragments if f[5] is not facts]
        edges = [e for f in others for e in ((f[5]["from_m"], f[5]["to_m"]) if f[1] == "volume" else (f[4],))]
        cuts = sorted({near, end, *(e for e in edges if near < e < end)})
        for a, b in reversed(list(pairwise(cuts))):
            part = 1 - (1 - alpha) ** ((b - a) / (end - near))
            place = next((i for i, f in enumerate(laid) if f[4] < (a + b) / 2), len(laid))
            laid.insert(place, (name, kind, value, part, (a + b) / 2, {**facts, "alpha": part, "from_m": a, "to_m": b}))
    return laid


def _lay(r: Recorder, fragments: list[tuple[str, str, np.ndarray, float, float, dict[str, Any]]], by: Sorting) -> None:
    """Lays (name, kind, colour, alpha, m from the eye, facts) as they are drawn, or by a method without an order."""
    c, t = np.zeros(3), np.ones(3)
    opaque, opaque_layers = r.colour, len(r.layers)
    start = [layer.weight for layer in r.layers]

    def lay(
        name: str, kind: str, kept: np.ndarray, added: np.ndarray, through: np.ndarray, far: float, facts: dict[str, Any]
    ) -> None:
        nonlocal c, t
        before = r.colour
        for layer in r.layers[opaque_layers:]:
            layer.weight = layer.weight * kept
        c, t = c * kept + added, through
        for layer, w in zip(r.layers[:opaque_layers], start):
            layer.weight = w * t
        r.colour = c + t * opaque
        laid = Layer("blended", name, kind, added, np.ones(3), before, r.colour, far / r.length)
        laid.facts = facts
        r.layers.append(laid)

    if by.method != "sorted":
        fragments = sorted(fragments, key=lambda f: f[4])[::-1]  # of two at one depth the one drawn first counts as nearer
        split = max(len(fragments) - by.in_order, 0)
        rest, fragments = fragments[:split], fragments[split:]
        names = ", ".join(f[0] for f in rest)
        if rest and by.averages:
            laid = [[kept_and_laid(CODES[f[1]], float(f[2][i]), f[3]) for i in range(3)] for f in rest]
            k, p = (np.array([[channel[n] for channel in one] for one in laid]) for n in (0, 1))
            dark = np.array([f[1] == "multiply" for f in rest])
            added, through = average_plain(k, p, np.array([one[0][2] for one in laid]), dark)
            lay(f"({names})", "averaged", np.ones(3), added, through, rest[0][4], {"averaged": [f[0] for f in rest]})
        elif rest:
            r.lay("blended", f"({names})", "left out: too many layers", np.zeros(3), 1.0)
    for name, kind, value, strength, far, facts in fragments:
        c2, t2 = blend_plain(kind, c, t, value, strength)
        kept = blend_plain(kind, np.ones(3), np.zeros(3), np.zeros(3) if kind != "multiply" else value, strength)[0]
        lay(name, kind, kept, c2 - c * kept, t2, far, facts)


PASS = register(
    Pass(
        number=10,
        name="blended",
        does="blended drawables in their own layer, farthest first, fogged at their own depth",
        reads=(
            "geometry",
            "camera",
            "pixels",
            "textures",
            "sky_maps",
            "in_view",
            "over_depth",
            "lights",
            "shadow_maps",
            "fogged",
        ),
        writes=("layer", "linear"),
        section=section,
        targets=(
            Target(name="layer", texel_bytes=24),
            Target(name="linear", texel_bytes=12),
        ),
        held=held,
        run=run,
        twin=twin,
        off=(off_by_blend("blending off", of_subject=False),),
    )
)
