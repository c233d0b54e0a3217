"""A file and its setup to a build. Where there is no setup, one is fitted to the scene, and every fitted value is said."""

import math
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from eddyfall.core.scene.build import Build, check_keys, made_up_keys
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.gltf_read import read_scene
from eddyfall.core.scene.model import Scene
from eddyfall.core.scene.setup import Setup, parse_setup, read_setup

MID_GREY = 0.18


def default_setup_path(file: Path) -> Path:
    """FILE with .setup.json in place of its ending."""
    return file.with_suffix("").with_suffix(".setup.json") if file.suffix.lower() != ".zip" else file.with_suffix(".setup.json")


if TYPE_CHECKING:
    from eddyfall.core.frame.render import Renderer


def open_build(
    file: Path | str, setup: Path | str | None = None, renderer: "Renderer | None" = None, look_beside: bool = True,
    told: Callable[[str], None] = lambda step: None,
) -> Build:  # fmt: skip
    """Read scene and setup. Without `setup`, FILE.setup.json is taken if it is there, else a setup is fitted.

    look_beside False: no other file of the folder is read, neither a setup nor what a .gltf names. told: called with each step.

    Raises SceneError or SetupError; notes of the build say what was left out, fitted or does not match.
    """
    file = Path(file)
    told("reading the scene")
    scene = read_scene(file, look_beside)
    path = Path(setup) if setup is not None else default_setup_path(file)
    if setup is not None or (look_beside and path.exists()):
        told("checking the settings")
        parsed, raw = read_setup(path)
        return finish_build(scene, parsed, raw, list(scene.notes))
    told("fitting settings")
    return fit_build(scene, renderer)


def finish_build(scene: Scene, setup: Setup, raw: dict[str, Any], notes: list[str]) -> Build:
    """A build of a scene and a given setup; viewpoints are fitted if it has none."""
    notes += made_up_keys(scene) + check_keys(scene, setup)
    for key, entry in setup.materials.items():
        if key in scene.material_keys:
            material = scene.materials[scene.material_keys.index(key)]
            if entry.double_sided is not None and entry.double_sided != material.double_sided:
                notes.append(
                    f"material {key}: setup says double_sided {entry.double_sided}, the file {material.double_sided}; the setup wins"
                )
            if entry.blend is not None:
                notes.append(f"material {key}: setup says {entry.blend}, the file {material.alpha_mode}; the setup wins")
    if not setup.viewpoints:
        raw = {**raw, "viewpoints": fitted_viewpoints(scene)}
        setup = parse_setup(raw)
        notes.append(f"the setup has no viewpoints; fitted: {', '.join(setup.viewpoints)}")
    if not any(n.mesh is not None for n in scene.nodes):
        notes.append("the scene has no meshes to draw")
    return Build(scene, setup, raw, tuple(notes))


def fit_build(scene: Scene, renderer: "Renderer | None" = None) -> Build:
    """A build of a scene that came without a setup."""
    notes = [*scene.notes, *made_up_keys(scene), "no setup was given; one was fitted to the scene:"]
    low, high = pack(scene, Setup()).scene_bounds
    size = float(np.linalg.norm(high - low)) or 1.0
    views = fitted_viewpoints(scene)
    raw: dict[str, Any] = {"eddyfall_setup": 1, "viewpoints": views}
    notes.append(f"  viewpoints: {', '.join(views)}")
    cameras = [c.near_m for c in scene.cameras]
    raw["depth"] = {"near_m": float(min(max(min(cameras) if cameras else size * 1e-3, 0.01), 0.5))}
    notes.append(f"  depth.near_m: {raw['depth']['near_m']:g} m")
    reach = float(min(max(_farthest(scene, parse_setup(raw), low, high), 10.0), 100000.0))
    raw["shadow"] = {"reach_m": math.ceil(reach)}
    notes.append(f"  shadow.reach_m: {math.ceil(reach)} m, as far as the scene is from any viewpoint")
    if not scene.light_keys:
        raw["lights"] = {"fitted_sun": {"kind": "sun", "illuminance_lux": 60000.0, "towards": [0.35, 0.75, 0.55]}}
        raw["sky"] = {
            "zenith_rgb": [2400.0, 3600.0, 6400.0],
            "horizon_rgb": [5600.0, 6000.0, 6400.0],
            "ground_rgb": [1500.0, 1400.0, 1250.0],
        }
        notes.append("  a sun of 60 000 lx and a clear sky, since the file has no lights")
    # Imported here, since it loads the kernels: a scene that brings its settings is read without them.
    from eddyfall.core.frame.render import Renderer, Request

    build = Build(scene, parse_setup(raw), raw, ())
    first = next(iter(views))
    ev100 = metered_ev100((renderer or Renderer()).frame(build, Request(first, (240, 135)), "linear").linear)
    raw = {**raw, "exposure": {"mode": "fixed", "ev100": ev100}}
    notes.append(f"  exposure: fixed at EV100 {ev100:g}, metered at {first}")
    for key, mesh in zip(scene.mesh_keys, scene.meshes):
        if any(p.has_own_lightmap_uv for p in mesh.primitives):
            notes.append(f"  mesh {key} is taken as lightmapped: its TEXCOORD_1 differs from TEXCOORD_0")
    return Build(scene, parse_setup(raw), raw, tuple(notes))


def metered_ev100(linear: np.ndarray) -> float:
    """EV100 that brings the log-mean luminance (Reinhard et al. 2002, eq. 1) to 18 % of display white, to a tenth."""
    from eddyfall.core.shade.srgb import luminance

    y = luminance(linear)
    y = y[y > 0]
    if not len(y):
        return 0.0
    mean = float(np.exp(np.log(y).mean()))
    return round(float(np.clip(math.log2(mean / MID_GREY / 1.2), -20, 30)), 1)


def fitted_viewpoints(scene: Scene) -> dict[str, Any]:
    """Viewpoints from the scene's cameras, else three around it."""
    cameras = [key for key, node in zip(scene.node_keys, scene.nodes) if node.camera is not None]
    if cameras:
        return {key: {"camera": key} for key in cameras}
    low, high = pack(scene, Setup()).scene_bounds
    centre, radius = (low + high) / 2, max(float(np.linalg.norm(high - low)) / 2, 1e-3)
    views = {}
    for name, azimuth, elevation in (("front", 20.0, 15.0), ("side", 110.0, 15.0), ("above", 235.0, 45.0)):
        a, e = math.radians(azimuth), math.radians(elevation)
        towards = np.array([math.sin(a) * math.cos(e), math.sin(e), math.cos(a) * math.cos(e)])
        eye = centre + towards * radius * 1.9
        views[f"fitted_{name}"] = {
            "eye": [round(float(v), 4) for v in eye],
            "target": [round(float(v), 4) for v in centre],
            "fov_y_deg": 50.0,
        }
    return views


def _farthest(scene: Scene, setup: Setup, low: np.ndarray, high: np.ndarray) -> float:
    from eddyfall.core.frame.stage import make_camera

    build = Build(scene, setup)
    corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    return max(float(make_camera(build, v, 16 / 9).view_depth(corners).max()) for v in setup.viewpoints) * 1.05
