"""The account of frames with glass, blended things and mist in them: parts add up, bodies answer for what they bend, samples go on."""

import numpy as np
import pytest

from eddyfall.core.frame.render import Request
from eddyfall.core.truth.reference.account import ROWS, differences
from eddyfall.core.truth.reference.of_frame import Wanted, compare
from eddyfall.core.truth.reference.path_scene import path_scene
from eddyfall.core.truth.reference.tally import Tally
from eddyfall.core.truth.reference.trace import Asked, grow
from eddyfall.demo.shapes import Shape
from glass_scenes import behind_panes, clear, pane, random_room
from scenes import Thing

SIZE = (48, 27)


@pytest.mark.parametrize("seed", [0, 2, 4, 7, 9, 11, 13, 15, 17, 19, 33, 36, 42, 68, 76, 86])
def test_parts_of_random_rooms_add_up(renderer, seed):
    """Every kind of glass and blending, fog, methods without an order: the rows are S - R, and S is the frame."""
    told = compare(renderer, random_room(seed), Wanted(request=Request("eye", SIZE), samples=2))
    tally, parts = told.reference.tally, told.parts
    linear = told.frame.linear.reshape(-1, 3)
    assert np.abs(parts.radiance - linear).max() < 1e-4 * max(float(linear.max()), 1.0)
    assert np.isfinite(tally.sums).all() and (tally.clear >= 0).all()
    found = differences(parts, tally)
    total = sum(found[name] for name in ROWS)
    assert np.abs(total - (parts.radiance - tally.radiance)).max() < 1e-5 * max(1.0, float(tally.radiance.max()))
    only = parts.bends & ~(np.abs(found["another surface"]).sum(axis=1) > 0)
    assert all((found[name][only] == 0).all() for name in ROWS if name not in ("transmission", "another surface"))


def test_samples_go_on_to_the_same_bits(renderer):
    build = random_room(7)
    frame = renderer.frame(build, Request("eye", SIZE), "linear")
    scene = path_scene(renderer, build, frame)
    pixels = np.stack(np.meshgrid(np.arange(SIZE[0]), np.arange(SIZE[1])), -1).reshape(-1, 2)
    assert scene.has_glass

    def empty():
        return Tally.empty(scene.light_names, pixels, SIZE, "")

    whole = grow(scene, frame.camera, empty(), Asked(), 6)
    cut = grow(scene, frame.camera, grow(scene, frame.camera, empty(), Asked(), 2), Asked(), 4)
    assert (whole.sums == cut.sums).all() and (whole.clear == cut.clear).all() and (whole.fades == cut.fades).all()


def test_forty_panes_end_in_black_and_not_in_a_loop(renderer):
    build = behind_panes(*(pane(f"pane{k}", -1.0 - 0.1 * k, clear(f"glass{k}")) for k in range(40)))
    told = compare(renderer, build, Wanted(request=Request("eye", SIZE, (22, 12, 26, 15)), samples=8))
    assert told.account.reference < 0.5 * 0.923**20 and np.isfinite(told.reference.tally.radiance).all()


def test_glass_lets_through_by_its_material_whatever_the_renderer_makes_of_it(renderer):
    """Refraction switched off draws a pane as opaque; what is due stays what the glass lets by."""
    seen = [
        compare(renderer, behind_panes(pane("pane", -2.0, clear()), refract={"enabled": on}), Wanted(
            request=Request("eye", SIZE, (22, 12, 26, 15)), samples=64)).account for on in (True, False)
    ]  # fmt: skip
    assert seen[0].reference == seen[1].reference > 0.4 and seen[1].standin < 0.1
    rows = {row.part: row.luminance for row in seen[1].rows}
    assert rows["transmission"] == pytest.approx(seen[1].standin - seen[1].reference)


def test_a_body_is_one_that_has_an_inside(renderer):
    box, open_box = Shape().box((-1, 0, -3), (1, 2, -2)), Shape().box((-1, 0, -3), (1, 2, -2), faces="xXyYz")
    glass = clear(thickness_m=0.1)
    kinds = []
    for shape in (box, open_box):
        build = behind_panes(Thing("thing", shape, glass))
        frame = renderer.frame(build, Request("eye", SIZE), "linear")
        kinds.append(int(path_scene(renderer, build, frame).panes.kind[1]))
    assert kinds == [3, 2]
