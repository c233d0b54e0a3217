"""The symptoms "drawn over what is nearer", nits that a wrong order adds to the spot, and "pops", nits that jump along moves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from eddyfall.core.compare.ciede2000 import VISIBLE_DIFFERENCE
from eddyfall.core.defects.symptoms import Spot, Symptom, register_symptom
from eddyfall.core.frame.moves import path_of
from eddyfall.core.frame.render import Frame, Renderer
from eddyfall.core.layers.capture import captured, layers_of
from eddyfall.core.layers.flips import flips, pop_of
from eddyfall.core.passes.draw_order import blended_in, sorting
from eddyfall.core.rays.queries import RayScene
from eddyfall.core.scene.build import Build

POP_SIZE = (480, 270)  # px of the frames in which pops are measured for a line-up
MOST_POPS = 12
NOTHING = 1e-6  # nit: rounding


def off_order(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Mean nits over the spot by which the drawn order of its layers differs from the true one."""
    layers = captured(renderer, build, spot.request, least=2)
    off = float(np.abs(layers.drawn - layers.sorted).mean())
    return off if off > NOTHING else 0.0


def popping(renderer: Renderer, build: Build, spot: Spot, rays: Callable[[Frame], RayScene]) -> float:
    """Nits that jump, summed over the pixels of a frame of 480 x 270 px, along all moves that start at the spot's viewpoint."""
    request = replace(spot.request, size=POP_SIZE, crop=None)
    total = 0.0
    for name in build.setup.moves:
        path = path_of(build, name, POP_SIZE[0] / POP_SIZE[1])
        if path.viewpoint != request.viewpoint:
            continue
        frame = renderer.frame(build, replace(request, camera=path.at(path.keys[0].t_s)), "linear")
        shown = flips(frame.geometry, path, sorting(frame.stage), blended_in(frame.stage.state), POP_SIZE)
        pops = [pop_of(renderer, build, request, path, f) for f in shown[:MOST_POPS]]
        total += sum(p.nit_px for p in pops if p.worst > VISIBLE_DIFFERENCE)
    return total


def put_in_order(before: Frame, after: Frame, spot: Spot, rays: Callable[[Frame], RayScene]) -> np.ndarray:
    """Pixels elsewhere whose layers were off their true order and have come nearer to it."""
    off_before, off_after = (np.abs(of.drawn - of.sorted).max(axis=2) for of in (layers_of(f, least=2) for f in (before, after)))
    return np.asarray((off_before > NOTHING) & (off_after < off_before))


OVER = register_symptom(
    Symptom(
        name="drawn over what is nearer", unit="nit", means="blended layers lie over one another in the wrong order", score=off_order,
        clear_share=0.02, shares=put_in_order, of_layers=True,
    )
)  # fmt: skip
POPS = register_symptom(
    Symptom(
        name="pops", unit="nit px", means="blended things change places while the camera moves, and the picture jumps", score=popping,
        clear_share=0.02, shares=put_in_order, of_layers=True,
    )
)  # fmt: skip
