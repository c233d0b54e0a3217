"""What else may be asked of a frame than the scene as it lies: a moment of a clip, a variant of its materials, levels of detail."""

from dataclasses import dataclass, replace

from eddyfall.core.frame.stage import make_camera
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.clips import at_moment, clip_named
from eddyfall.core.scene.levels import in_levels, levels_due
from eddyfall.core.scene.variants import in_variant


@dataclass(frozen=True)
class Moment:
    """Of a clip of the scene, in s, without one the scene is at rest; dressed as a variant of its materials; levels: each thing at the
    level of detail that is due from the viewpoint."""

    clip: str | None = None
    time_s: float = 0.0
    variant: str | None = None
    levels: bool = False


def at(build: Build, moment: Moment, viewpoint: str, aspect: float) -> Build:
    """A build at a moment, as a viewpoint shows it. RequestError for a clip, a variant or a viewpoint that there is not."""
    scene = build.scene
    if moment.variant is not None:
        scene = in_variant(scene, moment.variant)
    if moment.clip is not None:
        scene = at_moment(scene, clip_named(scene, moment.clip), moment.time_s)
    if moment.levels:
        scene = in_levels(scene, due_from(replace(build, scene=scene), viewpoint, aspect))
    return build if scene is build.scene else replace(build, scene=scene)


def due_from(build: Build, viewpoint: str, aspect: float) -> dict[int, int | None]:
    """By number of each node with levels of detail, the one that is due from a viewpoint; None: it is not drawn."""
    camera = make_camera(build, viewpoint, aspect)
    return levels_due(build.scene, camera.eye, camera.rotation, camera.fov_y_rad, camera.aspect)
