"""Pass 6.2: what planar mirrors show, in the stead of their coats' even light."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.passes.coated import is_coated
from eddyfall.core.passes.contract import MirrorPicture, Pass, Stage, Target, Values
from eddyfall.core.passes.recorder import Recorder
from eddyfall.core.passes.registry import register
from eddyfall.core.passes.screen import bundle_of, laid
from eddyfall.core.passes.silent import silenced, silent_of
from eddyfall.core.screen.bundles import shares_of_even_light
from eddyfall.core.shade.columns import DISTANCE

FLOAT = 1e-5  # of the distance to the eye, that a place is off for float32


@dataclass(frozen=True, kw_only=True)
class PlanarSection:
    """What the pass is set by."""

    silent: np.ndarray | None


def section(stage: Stage) -> PlanarSection:
    return PlanarSection(silent=silent_of(stage.state.answers_ambient))


def run(inputs: Values, section: PlanarSection) -> dict[str, Any]:
    mirrors: tuple[MirrorPicture, ...] = inputs["mirrors"]
    shaded = inputs["shaded"]
    if not mirrors:
        return {"shaded": shaded, "planar": np.zeros((1, 1, 3), np.float32), "in_mirror": np.zeros((1, 1), bool)}
    surface, change = silenced(inputs["surface"], inputs["drawable"], section.silent), np.zeros_like(shaded)
    over = silenced(inputs["coat_rows"], inputs["drawable"], section.silent) if is_coated(inputs) else surface
    everywhere = np.zeros(shaded.shape[:2], bool)
    x, y = inputs["pixels"].origin
    for mirror in mirrors:
        x0, y0, x1, y1 = mirror.window
        part = slice(y0 - y, y1 - y), slice(x0 - x, x1 - x)
        there = np.zeros_like(everywhere)
        there[part] = np.isin(inputs["drawable"][part], mirror.drawables)
        b = bundle_of(inputs, there, 1)
        eye, away = np.array(inputs["camera"].eye), b.rows[:, DISTANCE, None].astype(np.float64)
        on = np.abs((eye - b.to_eye * away) @ mirror.normal + mirror.offset) <= mirror.slack_m + FLOAT * away[:, 0]
        row, column = np.divmod(b.pixel[on], there.shape[1])
        coat = shares_of_even_light(surface[row, column], b.to_eye[on])[1]
        light = mirror.picture[row - (y0 - y), column - (x0 - x)]
        stood = inputs["mirrored"][row, column]
        if is_coated(inputs):
            share = inputs["coat_share"][row, column][:, None]
            coat = coat * (1 - share) + shares_of_even_light(over[row, column], b.to_eye[on])[1] * share
            stood = stood + inputs["coat_mirrored"][row, column]
        change[row, column] = coat * light - stood
        everywhere[row, column] = True
    return {"shaded": shaded + change, "planar": change, "in_mirror": everywhere}


def twin(r: Recorder) -> None:
    """Lays what a mirror changed: it takes another frame to make."""
    if r.notes["front"] is not None and np.asarray(r.values["in_mirror"]).any():
        r.lay("planar", "(mirror)", "the frame from the mirrored eye", laid(r.values["planar"]), 1.0)


PASS = register(
    Pass(
        number=6.2,
        name="planar",
        does="what planar mirrors show",
        reads=(
            "camera",
            "pixels",
            "mirrors",
            "visible",
            "drawable",
            "surface",
            "coat_rows",
            "coat_share",
            "mirrored",
            "coat_mirrored",
            "shaded",
        ),
        writes=("shaded", "planar", "in_mirror"),
        section=section,
        targets=(
            Target(name="shaded", texel_bytes=0),
            Target(name="planar", texel_bytes=0),
            Target(name="in_mirror", texel_bytes=0),
        ),
        run=run,
        twin=twin,
    )
)
