"""Made-up rooms full of glass, sensible or not: pass, twin, crop, capture, chain, loss and pass table agree, and all is finite."""

import numpy as np
import pytest

from eddyfall.core.defects.pass_table import pass_table_of
from eddyfall.core.errors import RequestError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Request
from eddyfall.core.layers.capture import captured
from eddyfall.core.layers.chain import chain_at
from eddyfall.core.layers.lost import as_it_lies, lost_in
from glass_scenes import random_room
from sizes import of_many

SIZE = (160, 90)
EYE = Request("eye", SIZE)


@pytest.mark.parametrize("seed", range(of_many(8, 3)))
def test_all_that_looks_at_a_room_says_the_same(renderer, seed):
    build, rng = random_room(seed), np.random.default_rng(seed)
    linear = renderer.frame(build, EYE, "linear").linear
    assert np.isfinite(linear).all()
    for _ in range(6):
        x, y = int(rng.integers(0, SIZE[0])), int(rng.integers(0, SIZE[1]))
        sample = core_sample(renderer, build, EYE, x, y)
        np.testing.assert_allclose(sample.sum, linear[y, x], rtol=2e-4, atol=2e-5)
        try:
            told = chain_at(renderer, build, EYE, x, y)
        except RequestError:
            continue
        assert len(told.links) == 13 and np.isfinite(told.keeps).all() and np.isfinite(told.due).all()
    layers = captured(renderer, build, EYE)
    np.testing.assert_allclose(layers.drawn, linear, atol=1e-4)
    part = renderer.frame(build, Request("eye", SIZE, (40, 20, 120, 70)), "linear").linear
    np.testing.assert_allclose(part, linear[20:70, 40:120], atol=1e-6)
    assert all(np.isfinite([one.nit_px, one.brighter]).all() for one in lost_in(renderer, build, EYE))
    assert np.isfinite(as_it_lies(renderer, build, layers, EYE)).all()
    assert not [c for r in pass_table_of(renderer, build, EYE) for c in r.cells if c.disagrees]
