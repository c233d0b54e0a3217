"""The symptoms "rim", how far colours along the subject's edges are off, and "thins out far off", how much of a cutout is not drawn."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE, delta_e_2000
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.layers.capture import shows
from eddyfall.core.layers.coverage import cover_of
from eddyfall.core.layers.edges import pictured, rim
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.setup.tables import MaterialSetup
from eddyfall.core.shade.blend import KIND_NAMES


def rim_seen(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Share of the subject's pixels whose colour is visibly off, since its picture is misread or averaged with what is clear in it; of one
    that is drawn as opaque, what is clear in it and shows all the same."""
    frame = renderer.frame(build, spot.request)
    material, kind = frame.geometry.drawables[spot.subject].material, KIND_NAMES[int(frame.stage.state.blend[spot.subject])]
    if material < 0:
        return 0.0
    if kind == "opaque":
        key = build.scene.material_keys[material]
        entry = build.setup.materials.get(key, MaterialSetup()).model_copy(
            update={"blend": "blended", "filtered": "premultiplied"}
        )
        blended = build.with_setup(build.setup.model_copy(update={"materials": build.setup.materials | {key: entry}}))
        off = delta_e_2000(frame.display, renderer.frame(blended, spot.request).display) > VISIBLE_DIFFERENCE
        return float(off[spot.pixels].mean()) if spot.pixels.any() else 0.0
    of = pictured(renderer, build, material, kind)
    if of is None or of.now == of.due:
        return 0.0
    told = rim(renderer, build, spot.request, material, of)
    off = (told.misread > VISIBLE_DIFFERENCE) | (told.averaged > VISIBLE_DIFFERENCE)
    return float(off[spot.pixels].mean()) if spot.pixels.any() else 0.0


def thinned(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """By what share of what is there the coverage of the subject's material is off in the spot; 0 where it is blended, 1 where its holes
    are filled."""
    frame = renderer.frame(build, spot.request, "depth")
    state, material = frame.stage.state, frame.geometry.drawables[spot.subject].material
    kind = KIND_NAMES[int(state.blend[spot.subject])]
    if kind != "cutout":
        return float(kind == "opaque")
    in_view = set(frame.buffers["in_view"].tolist())
    alike = [i for i, d in enumerate(frame.geometry.drawables) if d.material == material and i in in_view]
    cover = cover_of(frame, alike) if alike else None
    return abs(cover.drawn - cover.due) / max(cover.due, 1.0) if cover else 0.0


def same_material(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels elsewhere in which anything of the subject's material lies, before or after."""
    material = before.stage.state.material
    same = np.flatnonzero(material == material[spot.subject]).tolist()
    return np.asarray(shows(before, same) | shows(after, same))


RIM = register_symptom(
    Symptom(
        name="rim", unit="share", means="edges show a rim of a colour that is not there", score=rim_seen, clear_share=0.2,
        shares=same_material, of_layers=True,
    )
)  # fmt: skip
THINS = register_symptom(
    Symptom(
        name="thins out far off", unit="share", means="less of a cutout is drawn than is there, or more", score=thinned,
        clear_share=0.35, shares=same_material,
    )
)  # fmt: skip
