"""Pass 8: what coats mirror, by rays through what the frame shows, in the stead of even light."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.coated import as_coats, is_coated
from eddyfall.core.passes.contract import Pass, Pixels, Stage, Target, Values
from eddyfall.core.passes.off_switches import off_by_leaf
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.screen import (
    Bundle,
    brought,
    bundle_of,
    converged_at,
    frame_margin_px,
    held_buffers,
    laid,
    margin_of,
    near_plane,
    screen_here,
    screen_of,
    world_if_asked,
)
from eddyfall.core.passes.silent import silenced, silent_of
from eddyfall.core.passes.world_light import READS, World
from eddyfall.core.scene.setup.sections.screen import Reflect
from eddyfall.core.screen.bundles import mirrored_rays, seeds_of, shares_of_even_light
from eddyfall.core.screen.march import OFF_SHARE, march_plain
from eddyfall.core.shade.columns import DISTANCE, F0_RGB, NORMAL_XYZ, OPEN, ROUGH

LEAST = 1e-4  # share of even light that a coat reflects at the least, where light is divided by it


@dataclass(frozen=True, kw_only=True)
class ReflectSection:
    """What the pass is set by."""

    reflect: Reflect
    near_m: float
    world: World | None
    silent: np.ndarray | None


def section(stage: Stage) -> ReflectSection:
    reflect = stage.resolved[Reflect]
    return ReflectSection(
        reflect=reflect,
        near_m=near_plane(stage),
        world=world_if_asked(stage, reflect),
        silent=silent_of(stage.state.answers_ambient),
    )


def run(inputs: Values, section: ReflectSection) -> dict[str, Any]:
    setting, picture = section.reflect, inputs["with_sky"]
    if not setting.enabled:
        return {"with_sky": picture, "reflected": np.zeros((1, 1, 3), np.float32)}
    reflected = np.zeros_like(picture)
    for layer, kept in _layers(inputs):
        b = bundle_of(layer, takes_part(layer, section), setting.divisor)
        got, found = gathered(inputs, section, b, setting.rays)
        # What the coat makes of it is taken out for the filter and put back at each pixel.
        light = b.whole(np.column_stack([got / _coat(b.rows, b.to_eye), found]), setting.rounds)
        y, x, rows, to_eye = b.all_of(layer["surface"])
        coat = _coat(rows, to_eye) if kept is None else _coat(rows, to_eye) * kept[y, x][:, None]
        reflected[y, x] += light[y, x, :3] * coat - layer["mirrored"][y, x] * light[y, x, 3:]
    return {"with_sky": picture + reflected, "reflected": reflected}


def _layers(inputs: Values) -> list[tuple[Values, np.ndarray | None]]:
    """What mirrors at pixels, with the share (h, w) of it that is seen (None: all of it): surfaces, and the clear coats over them."""
    if not is_coated(inputs):
        return [(inputs, None)]
    share = inputs["coat_share"]
    over = {**as_coats(inputs), "mirrored": inputs["coat_mirrored"], "visible": np.where(share > 0, inputs["visible"], -1)}
    return [(inputs, 1 - share), (over, share)]


def takes_part(inputs: Values, section: ReflectSection) -> np.ndarray:
    """(h, w) bool: pixels whose coats mirror by rays."""
    surface = silenced(inputs["surface"], inputs["drawable"], section.silent)
    shines = (surface[..., F0_RGB].sum(axis=2) > 0) & (surface[..., ROUGH] <= section.reflect.roughest)
    return np.asarray((inputs["visible"] >= 0) & shines & ~inputs["in_mirror"])


def gathered(inputs: Values, section: ReflectSection, b: Bundle, rays: int) -> tuple[np.ndarray, np.ndarray]:
    """((n, 3) nits that coats of a bundle's pixels mirror on the mean, (n,) how much of the even light it stands for)."""
    setting, picture = section.reflect, inputs["reflect_copy"]
    screen = screen_here(inputs, section.near_m, setting.margin_px)
    n, seeds = len(b.pixel), seeds_of(b.x, b.y, 2)
    got, weights, known_weights = np.zeros((n, 3)), np.zeros(n), np.zeros(n)
    for ray in range(rays):
        direction, weight, jitter = mirrored_rays(b.rows, b.to_eye, seeds, ray)
        known, light = brought(inputs, picture, screen, b.place, direction, jitter, setting, section.world)
        got += weight * light
        weights += weight.sum(axis=1)
        known_weights += weight.sum(axis=1) * known
    found = np.ones(n) if setting.fallback == "nothing" else np.divide(known_weights, weights, out=np.zeros(n), where=weights > 0)
    return got / rays, found


def converged(inputs: Values, section: ReflectSection, at: np.ndarray) -> np.ndarray:
    """(h, w, 3) nits by which the pass changes pixels (h, w) bool with more and more rays, without a filter; 0 elsewhere."""

    def tends_to(layer: Values, kept: np.ndarray | None) -> np.ndarray:
        def light(b: Bundle, rays: int) -> np.ndarray:
            got, found = gathered(inputs, section, b, rays)
            seen = got if kept is None else got * kept.ravel()[b.pixel][:, None]
            return np.asarray(seen - layer["mirrored"].reshape(-1, 3)[b.pixel] * found[:, None])

        return converged_at(at, light, bundle_of(layer, takes_part(layer, section) & at, 1))

    return np.asarray(sum(tends_to(*layer) for layer in _layers(inputs)))


def _coat(rows: np.ndarray, to_eye: np.ndarray) -> np.ndarray:
    """(n, 3) share of even light that coats reflect, whatever their occlusion map says."""
    bare = rows.copy()
    bare[:, OPEN] = 1.0
    return np.asarray(np.maximum(shares_of_even_light(bare, to_eye)[1], LEAST))


def twin(r: Recorder) -> None:
    """Lays what the pass changed, with the pixel that a mirror here would show."""
    setting, front = r.stage.resolved[Reflect], r.notes["front"]
    if not setting.enabled or front is None or not np.asarray(r.values["reflected"]).any():
        return
    given, row = r.inputs("reflect"), r.notes["row"]
    normal = np.asarray(row[NORMAL_XYZ], np.float64)
    margin, (width, height) = frame_margin_px(r.stage.resolved), r.view.pixels.size
    drawn = Pixels((width, height), (-margin, -margin, width + margin, height + margin))
    screen = screen_of(r.view.camera, drawn, given["copied_depth"], given["surface"], near_plane(r.stage), setting.margin_px)
    from_eye, away = -r.to_eye, float(row[DISTANCE])
    place = r.view.rays.eye + from_eye * away + normal * away * OFF_SHARE
    mirror = from_eye - 2 * (normal @ from_eye) * normal
    at = march_plain(place, mirror, 0.5, screen, setting.reach_m, setting.thickness_m, setting.steps)
    state = "no pixel in the mirror's way"
    if at >= 0:
        row_at, column_at = divmod(at, screen.depth.shape[1])
        state = f"the mirror's way meets pixel {column_at - margin}, {row_at - margin}"
    r.lay("reflect", "(reflection)", state, laid(r.values["reflected"]), 1.0)


PASS = register(
    Pass(
        number=8,
        name="reflect",
        does="what coats mirror of what the frame shows",
        reads=(
            "camera",
            "pixels",
            "visible",
            "drawable",
            "surface",
            "coat_rows",
            "coat_share",
            "copied_depth",
            "mirrored",
            "coat_mirrored",
            "in_mirror",
            "with_sky",
            "reflect_copy",
            "probes",
            *READS,
        ),
        writes=("with_sky", "reflected"),
        section=section,
        targets=(Target(name="with_sky", texel_bytes=0), Target(name="reflected", texel_bytes=0)),
        held=lambda section: held_buffers(section.reflect, ("hits", 8), ("hit_depth", 4), ("reflection", 8)),
        beyond_px=margin_of(Reflect),
        run=run,
        twin=twin,
        off=(off_by_leaf("reflect.enabled", False, "reflections off"),),
    )
)
