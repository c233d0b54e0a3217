"""The part of a frame that boxes may lie in holds every pixel that they are drawn in."""

import numpy as np

from eddyfall.core.frame.extent import window_of_boxes
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.demo.shapes import Shape
from layer_scenes import EXACT, unlit
from scenes import Thing, build_of

SIZE = (96, 54)


def test_boxes_lie_within_their_window_in_random_scenes():
    rng, renderer, gaps = np.random.default_rng(5), Renderer(), []
    for _ in range(60):
        low = rng.uniform((-6, -3, -14), (4, 3, 3))
        high = low + rng.uniform(0.1, 3, 3)
        build = build_of(
            Thing("box", Shape().box(tuple(low), tuple(high)), unlit("box", 1.0)),
            setup={"viewpoints": {"eye": {"eye": [0, 0, 0], "target": rng.normal(0, 1, 3).tolist(), "fov_y_deg": 55}}, **EXACT},
        )  # fmt: skip
        frame = renderer.frame(build, Request("eye", SIZE), "depth")
        x0, y0, x1, y1 = window_of_boxes(frame.camera, frame.geometry.bounds[:1], SIZE, (0, 0, *SIZE))
        lies = np.argwhere(frame.drawable == 0)
        assert ((lies >= (y0, x0)) & (lies < (y1, x1))).all()
        if len(lies) and (x0, y0, x1, y1) != (0, 0, *SIZE):
            (top, left), (bottom, right) = lies.min(axis=0), lies.max(axis=0)
            gaps += [left - x0, top - y0, x1 - 1 - right, y1 - 1 - bottom]
    assert len(gaps) >= 40 and np.median(gaps) <= 2, "corners thinner than a pixel are not drawn"
