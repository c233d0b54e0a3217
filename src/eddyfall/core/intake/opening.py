"""A file and its setup to a build. Where there is no setup, one is fitted to the scene, and every fitted value is said."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.build import Build, check_keys, made_up_keys
from eddyfall.core.scene.model import Scene, sky_named
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.resolve import skies_named
from eddyfall.core.scene.setup import Setup, parse_setup, read_setup
from eddyfall.core.scene.sky_pictures import SUFFIXES, read_sky


def default_setup_path(file: Path) -> Path:
    """FILE with .setup.json in place of its last ending: pump.v2.glb has pump.v2.setup.json."""
    return file.with_name(file.stem + ".setup.json")


if TYPE_CHECKING:
    from eddyfall.core.frame.render import Renderer


def open_build(
    file: Path | str, setup: Path | str | None = None, renderer: "Renderer | None" = None, look_beside: bool = True,
    on_step: Callable[[str], None] = lambda step: None,
) -> Build:  # fmt: skip
    """Read scene and setup. Without `setup`, FILE.setup.json is taken if it is there, else a setup is fitted.

    look_beside False: no other file of the folder is read, neither a setup nor what a .gltf names. on_step: called with each step.

    Raises SceneError or SetupError; notes of the build say what was left out, fitted or does not match.
    """
    file = Path(file)
    on_step("reading the scene")
    scene = read_scene(file, look_beside)
    path = Path(setup) if setup is not None else default_setup_path(file)
    if setup is not None or (look_beside and path.exists()):
        on_step("checking the settings")
        parsed, raw = read_setup(path)
        if look_beside:
            scene = _with_skies_beside(scene, parsed, file.parent)
        return finish_build(scene, parsed, raw, list(scene.notes))
    on_step("fitting settings")
    return fit_build(scene, renderer)


def _with_skies_beside(scene: Scene, setup: Setup, folder: Path) -> Scene:
    """The scene with the sky pictures that its setup names and that lie in its folder; what cannot be read is said."""
    for name in skies_named(setup):
        plain = Path(name).name == name and Path(name).suffix.lower() in SUFFIXES
        if not plain or sky_named(scene.skies, name) is not None or not (folder / name).is_file():
            continue
        try:
            scene = scene.with_sky(read_sky(folder / name))
        except SceneError as error:
            scene = replace(scene, notes=(*scene.notes, f"left out: sky {error}"))
    return scene


def check_reflections(scene: Scene, setup: Setup) -> None:
    """SetupError for a planar mirror that is not there or not flat, and for a probe or a light grid whose picture is torn."""
    if not setup.mirrors and not setup.probe_maps and not setup.grid_maps:
        return
    from eddyfall.core.frame.grid_store import captured_grid
    from eddyfall.core.frame.mirrors import check_mirrors
    from eddyfall.core.frame.probe_store import captured

    build = Build(scene, setup)
    check_mirrors(build)
    for name, maps in setup.probe_maps.items():
        for light_set in maps:
            captured(build, name, light_set)
    for name, maps in setup.grid_maps.items():
        for light_set in maps:
            captured_grid(build, name, light_set)


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
    check_reflections(scene, setup)
    if not setup.viewpoints:
        from eddyfall.core.frame.render import Renderer
        from eddyfall.core.intake.views import fitted_viewpoints

        views = fitted_viewpoints(scene, setup, Renderer())
        raw = {**raw, "viewpoints": views.entries}
        setup = parse_setup(raw)
        notes.append(f"the setup has no viewpoints; fitted: {', '.join(setup.viewpoints)}")
    if not any(n.mesh is not None for n in scene.nodes):
        notes.append("the scene has no meshes to draw")
    return Build(scene, setup, raw, tuple(notes))


def fit_build(scene: Scene, renderer: "Renderer | None" = None) -> Build:
    """A build of a scene that came without a setup."""
    # Imported here, since it loads the kernels: a scene that brings its settings is read without them.
    from eddyfall.core.frame.render import Renderer
    from eddyfall.core.intake.settings import fitted_setup

    raw, chosen = fitted_setup(scene, renderer or Renderer())
    notes = [*scene.notes, *made_up_keys(scene), "no setup was given; one was fitted to the scene:"]
    return Build(scene, parse_setup(raw), raw, (*notes, *(f"  {line}" for line in chosen)))
