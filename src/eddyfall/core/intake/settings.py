"""A setup document fitted to a scene that brings none, each choice with its reason. Lengths follow the scene's own size."""

import math
from typing import Any

import numpy as np

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.frame.stage import make_camera
from eddyfall.core.intake.views import VAST, Views, fitted_viewpoints
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.model import Material, Scene
from eddyfall.core.scene.setup import empty_setup, parse_setup
from eddyfall.core.shade.srgb import luminance
from eddyfall.core.truth.visibility import caster_scene, sun_visibility, sunlit_candidates

MID_GREY = 0.18
METER_SIZE = (240, 135)
SUN = {"kind": "sun", "illuminance_lux": 60000.0, "towards": [0.35, 0.75, 0.55]}
SKY = {"zenith_rgb": [2400.0, 3600.0, 6400.0], "horizon_rgb": [5600.0, 6000.0, 6400.0], "ground_rgb": [1500.0, 1400.0, 1250.0]}
DIM = 1 / 20000  # brings a white face in that light to about 1 nit, the brightness of an unlit white one
SHARPER: tuple[dict[str, Any], ...] = (
    {},
    {"bias_texels": 0.5},
    {"bias_texels": 0.5, "resolution": 4096},
    {"bias_texels": 0.25, "filter_px": 1, "resolution": 4096},
)
SHADOW_LIMIT = 0.015  # of the pixels turned to the sun
LEAST_SUNLIT = 200
LEAST_UNLIT = 0.02  # of display white: an unlit thing is exposed to at least this


def fitted_setup(scene: Scene, renderer: Renderer) -> tuple[dict[str, Any], list[str]]:
    """(setup document, what was chosen and why, a line each) for a scene without one."""
    views = fitted_viewpoints(scene, empty_setup(), renderer)
    raw: dict[str, Any] = {"eddyfall_setup": 1, "viewpoints": views.entries}
    notes = [*views.reasons]
    if not scene.light_keys:
        notes.append(_light(scene, raw))
    raw["depth"], reason = _near(scene, views, raw, renderer)
    notes.append(reason)
    raw["shadow"], reason = _shadow(scene, views, raw, renderer)
    notes.append(reason)
    notes += _shells(scene, views, raw, renderer)
    notes += _sharpness(scene, raw, renderer)
    raw["exposure"], reason = _exposure(scene, views, raw, renderer)
    notes.append(reason)
    for key, mesh in zip(scene.mesh_keys, scene.meshes):
        if any(p.has_own_lightmap_uv for p in mesh.primitives):
            notes.append(f"mesh {key} has a second set of UVs; if a lightmap uses it, say meshes.{key}.lightmap_uv 1 in a setup")
    return raw, notes


def metered_ev100(linear: np.ndarray) -> float:
    """EV100 that brings the log-mean luminance (Reinhard et al. 2002, eq. 1) to 18 % of display white, to a tenth."""
    y = luminance(linear)
    y = y[y > 0]
    if not len(y):
        return 0.0
    mean = float(np.exp(np.log(y).mean()))
    return round(float(np.clip(math.log2(mean / MID_GREY / 1.2), -20, 30)), 1)


def _used(scene: Scene) -> list[Material]:
    """Materials that something wears that stands on a node."""
    meshes = {node.mesh for node in scene.nodes if node.mesh is not None}
    used = {part.material for m in meshes for part in scene.meshes[m].primitives}
    return [scene.materials[i] for i in sorted(i for i in used if i is not None)]


def _glows(material: Material) -> bool:
    return material.unlit or max(material.emissive) > 0


def _light(scene: Scene, raw: dict[str, Any]) -> str:
    """Sun and sky for a file without lights: its own sky picture, daylight, or as bright as what shines by itself, which is in plain
    numbers."""
    if scene.skies:
        raw["sky"] = {"picture": scene.skies[0].name}
        return f"the sky picture {scene.skies[0].name} with nothing beside it, since the file has no lights"
    glowing = [m for m in _used(scene) if _glows(m)]
    dim = DIM if glowing else 1.0
    raw["lights"] = {"fitted_sun": {**SUN, "illuminance_lux": SUN["illuminance_lux"] * dim}}  # type: ignore[operator]
    raw["sky"] = {key: [v * dim for v in rgb] for key, rgb in SKY.items()}
    if not glowing:
        return "a sun of 60 000 lx and a clear sky, since the file has no lights"
    kind = "unlit" if any(m.unlit for m in glowing) else "emissive"
    name = glowing[0].name or "a material"
    return f"a sun of 3 lx and a sky as bright: the file has no lights, and {name} is {kind}, about 1 nit, which daylight would drown"


def _depths(geometry: Geometry, build: Build, views: Views, name: str) -> tuple[float, float]:
    """(nearest, farthest) view depth in metres of what a viewpoint shows; infinite and 0 if it shows nothing.

    Vertices tell both exactly where all lie before the eye; else the nearest comes from drawing, at less than every pixel."""
    look = views.looks.get(name)
    if look is None or not look.front.sum() + look.behind.sum():
        return math.inf, 0.0
    camera = make_camera(build, name, 16 / 9)
    inner = [i for i in range(len(geometry.drawables) - 1) if i not in views.around]
    owner = np.isin(geometry.owner, inner)
    vertices = np.unique(geometry.triangles[owner])
    depth = camera.view_depth(geometry.positions[vertices])
    farthest = float(depth.max()) if len(depth) else look.farthest_m
    nearest = float(depth.min()) if len(depth) else look.nearest_m
    if not views.around and nearest > 0.05 * look.nearest_m:
        return min(nearest, look.nearest_m), min(farthest, max(look.farthest_m * 1.5, nearest))
    return look.nearest_m * 0.5, min(farthest, look.farthest_m * 1.5) if farthest > 0 else look.farthest_m


def _near(scene: Scene, views: Views, raw: dict[str, Any], renderer: Renderer) -> tuple[dict[str, Any], str]:
    build = Build(scene, parse_setup(raw))
    geometry = renderer.geometry(build)
    of_file = [scene.cameras[n.camera].near_m for n in scene.nodes if n.camera is not None]
    fitted = [_depths(geometry, build, views, name)[0] for name, entry in views.entries.items() if "camera" not in entry]
    fitted = [v for v in fitted if math.isfinite(v)]
    if of_file:
        near, why = min(of_file), "as the file's cameras have it"
        if fitted and min(fitted) * 0.5 < near:
            near, why = min(fitted) * 0.5, "half the distance of the nearest thing a viewpoint shows"
    elif fitted:
        near, why = min(fitted) * 0.5, "half the distance of the nearest thing a viewpoint shows"
    else:
        near, why = 0.1, "nothing is shown that it could be fitted to"
    near = _down(min(max(near, 1e-6), 1000.0))
    return {"near_m": near}, f"depth.near_m: {near:g} m, {why}"


def _shadow(scene: Scene, views: Views, raw: dict[str, Any], renderer: Renderer) -> tuple[dict[str, Any], str]:
    build = Build(scene, parse_setup(raw))
    geometry = renderer.geometry(build)
    depths = [_depths(geometry, build, views, name) for name in views.entries]
    depths = [d for d in depths if math.isfinite(d[0]) and d[1] > 0]
    if not depths:
        return {}, "shadow.reach_m: as it comes, since nothing is shown that it could be fitted to"
    near, reach = min(d[0] for d in depths) * 0.9, max(d[1] for d in depths) * 1.02
    near = _down(min(max(near, reach * 1e-4), 1000.0))
    reach = -_down(-min(max(reach, near * 1.01), 100000.0))
    words = f"shadow.reach_m: {reach:g} m, starting at {near:g} m: the farthest and the nearest thing that a viewpoint shows"
    return {"near_m": near, "reach_m": reach}, words


def _shells(scene: Scene, views: Views, raw: dict[str, Any], renderer: Renderer) -> list[str]:
    """What stands around everything must not keep the fitted sun out: unlit shells cast nothing; within others there is no sun."""
    if not views.around or "lights" not in raw:
        return []
    build = Build(scene, parse_setup(raw))
    geometry = renderer.geometry(build)
    notes, closed = [], []
    for d in sorted(views.around):
        drawable = geometry.drawables[d]
        if drawable.material >= 0 and scene.materials[drawable.material].unlit:
            raw.setdefault("nodes", {})[drawable.node] = {"casts": False}
            notes.append(f"{drawable.node} does not cast: it is unlit and stands around the rest, as a sky does")
        else:
            closed.append(drawable.name)
    if closed:
        del raw["lights"]
        notes.append(f"no sun after all: {closed[0]} stands around everything and would keep it out")
    return notes


def _sharpness(scene: Scene, raw: dict[str, Any], renderer: Renderer) -> list[str]:
    """Less bias and finer maps where the fitted ones disagree with rays; measured at each viewpoint."""
    if len(renderer.geometry(Build(scene, parse_setup(raw))).triangles) > VAST:
        return []  # rays against so much would take more memory than all the rest
    tried: list[tuple[float, dict[str, Any]]] = []
    for finer in SHARPER:
        trial = {**raw, "shadow": {**raw["shadow"], **finer}}
        tried.append((_disagreement(Build(scene, parse_setup(trial)), renderer), finer))
        if tried[-1][0] <= SHADOW_LIMIT:
            break
    worst, best = min(tried, key=lambda t: t[0])
    raw["shadow"].update(best)
    if not best and worst <= SHADOW_LIMIT:
        return []
    if not best:
        return [
            f"shadow: {worst * 100:.1f} % of sunlit pixels differ from rays at a viewpoint; no finer map or smaller bias tried is better"
        ]
    words = ", ".join(f"{k} {v:g}" for k, v in best.items())
    return [
        f"shadow: {words}, with which {worst * 100:.1f} % of sunlit pixels differ from rays, instead of {tried[0][0] * 100:.1f} %"
    ]


def _disagreement(build: Build, renderer: Renderer) -> float:
    """Largest share, over the viewpoints, of pixels turned to the sun whose shadow maps say otherwise than rays do."""
    survey = [renderer.frame(build, Request(name, METER_SIZE), "lit") for name in build.setup.viewpoints]
    worst, rays = 0.0, None
    for frame in survey:
        mask = sunlit_candidates(frame)
        pixels = np.argwhere(mask)[:, ::-1]
        if len(pixels) < LEAST_SUNLIT:
            continue
        rays = rays or caster_scene(frame)
        drawn = frame.buffers["sun_visibility"][mask] >= 0.5
        worst = max(worst, float((drawn != sun_visibility(frame, rays, pixels).lit).mean()))
    return worst


def _exposure(scene: Scene, views: Views, raw: dict[str, Any], renderer: Renderer) -> tuple[dict[str, Any], str]:
    build = Build(scene, parse_setup(raw))
    frame = renderer.frame(build, Request(views.best, METER_SIZE), "linear")
    ev100 = metered_ev100(frame.linear)
    why = f"metered at {views.best}"
    unlit = np.array([m.unlit for m in scene.materials] + [False])
    material = np.array([d.material for d in frame.geometry.drawables])
    mine = (frame.drawable >= 0) & unlit[material[frame.drawable]]
    if mine.any():
        y = luminance(frame.linear[mine])
        level = float(np.median(y[y > 0])) if (y > 0).any() else 0.0
        if level > 0 and level / (1.2 * 2.0**ev100) < LEAST_UNLIT:
            metered = ev100
            ev100 = round(math.log2(level / LEAST_UNLIT / 1.2) - 0.05, 1)
            why = (
                f"metered {metered:g} at {views.best}, but unlit things would be black there: the file's lights are far brighter"
            )
    return {"mode": "fixed", "ev100": ev100}, f"exposure: fixed at EV100 {ev100:g}, {why}"


def _down(value: float) -> float:
    """Three significant digits, towards minus infinity."""
    step = 10.0 ** (math.floor(math.log10(abs(value))) - 2)
    return float(f"{math.floor(value / step * (1 + 1e-12)) * step:.6g}")
