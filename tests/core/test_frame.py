"""The executor: the schedule follows from what passes declare, a crop is a slice of the frame, and only what follows reruns."""

import dataclasses

import numpy as np
import pytest

from eddyfall.core.errors import RequestError
from eddyfall.core.frame.render import Renderer, Request, halton, render
from eddyfall.core.frame.schedule import check_schedule, pass_table, passes_after, passes_for, schedule
from eddyfall.core.passes.look_ups import look_ups, looked_up
from eddyfall.core.raster.project import _transform, transform_plain
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.shade.direct import direct_plain
from eddyfall.core.shade.textures import build_store, sample, sample_plain

SIZE = (240, 135)


def changed(build, path, value):
    return apply_change(build, set_leaf(build, path, value, scope="project", title="test"))


def test_a_pass_that_reads_what_nobody_wrote_is_refused():
    with pytest.raises(ValueError, match="reads screen"):
        check_schedule(tuple(p for p in schedule() if p.name != "triangles"))
    fog = next(p for p in schedule() if p.name == "fog")
    with pytest.raises(ValueError, match="fog again writes fogged over what an earlier pass wrote"):
        check_schedule((*schedule(), dataclasses.replace(fog, name="fog again")))


def test_the_pass_table_is_the_schedule():
    table = pass_table()
    assert [row["name"] for row in table] == [p.name for p in schedule()]
    numbers = [row["number"] for row in table]
    assert numbers == sorted(numbers)
    for row, p in zip(table, schedule()):
        assert row["reads"] == list(p.reads) and row["writes"] == list(p.writes)


def test_passes_for_a_buffer_leave_out_what_it_does_not_need():
    names = [p.name for p in passes_for("prepass_depth")]
    assert names[-1] == "prepass" and "shadow" not in names and "opaque" not in names
    assert "shadow" in [p.name for p in passes_for("linear")]


@pytest.mark.parametrize("viewpoint", ["quay", "landing", "gallery", "far_pier"])
@pytest.mark.parametrize("crop", [(37, 21, 130, 90), (0, 0, 1, 1), (239, 134, 240, 135), (100, 0, 140, 135)])
def test_crop_is_the_same_slice_of_the_full_frame(demo, renderer, viewpoint, crop):
    whole = renderer.frame(demo, Request(viewpoint, SIZE))
    part = renderer.frame(demo, Request(viewpoint, SIZE, crop))
    x0, y0, x1, y1 = crop
    for name, buffer in part.buffers.items():
        if (
            isinstance(buffer, np.ndarray)
            and buffer.shape[:2] == (y1 - y0, x1 - x0)
            and name in {w for p in schedule() for w in p.writes}
        ):
            full = whole.buffers[name]
            if name == "visible":
                continue  # numbers of screen triangles, which a crop renumbers; `triangle` holds the world's
            if full.shape[:2] != whole.pixels.shape:
                continue  # one row stands for all pixels: no light's shadow is traced
            np.testing.assert_allclose(part.buffers[name], full[y0:y1, x0:x1], rtol=1e-6, atol=1e-6, err_msg=name)


@pytest.mark.parametrize(
    ("path", "value", "first"),
    [
        (("fog", "fog_per_m"), 0.07, "fog"),
        (("exposure", "ev100"), 3.0, "display"),
        (("materials", "pane", "blend"), "additive", "blended"),
        (("depth", "copy_from"), "opaque", "fog"),
        (("shadow", "reach_m"), 5.0, "shadow"),
    ],
)
def test_a_change_reruns_its_pass_and_what_follows_and_nothing_else(tiny, path, value, first):
    renderer = Renderer()
    request = Request("front", SIZE)
    exposed = changed(tiny, ("exposure", "mode"), "fixed")
    renderer.frame(exposed, request)
    renderer.ran.clear()
    renderer.frame(changed(exposed, path, value), request)
    allowed = set(passes_after(first))
    if path[0] == "materials":
        allowed |= {"triangles"}
    assert first in renderer.ran and set(renderer.ran) <= allowed, renderer.ran
    if path[0] != "shadow":
        assert "shadow" not in renderer.ran and "opaque" not in renderer.ran


def test_the_same_request_twice_runs_nothing(tiny):
    renderer = Renderer()
    renderer.frame(tiny, Request("front", SIZE))
    renderer.ran.clear()
    renderer.frame(tiny, Request("front", SIZE))
    assert renderer.ran == []


def test_a_pass_gets_only_the_inputs_it_declares(tiny):
    asked = set()

    class Spy(dict):
        def __getitem__(self, key):
            asked.add(key)
            return super().__getitem__(key)

    frame = Renderer().frame(tiny, Request("front", SIZE))
    for p in schedule():
        asked.clear()
        again = p.run(Spy({name: frame.buffers[name] for name in p.reads}), p.section(frame.stage))
        assert asked <= set(p.reads), p.name
        assert set(again) == set(p.writes), p.name


def test_frames_do_not_depend_on_what_was_drawn_before(tiny):
    fresh = render(tiny, "front", size=SIZE).linear
    renderer = Renderer()
    for fog in (0.0, 0.5, 0.03):
        last = renderer.frame(changed(tiny, ("fog", "fog_per_m"), fog), Request("front", SIZE)).linear
    np.testing.assert_array_equal(last, fresh)


def test_samples_average_jittered_frames_in_linear_light(tiny):
    many = render(tiny, "front", size=SIZE, samples=4)
    request = Request("front", SIZE)
    jitters = [(halton(i, 2) - 0.5, halton(i, 3) - 0.5) for i in range(1, 5)]
    frames = [Renderer().frame(tiny, dataclasses.replace(request, jitter=j)).linear for j in jitters]
    np.testing.assert_allclose(many.linear, np.mean(frames, axis=0), rtol=1e-5, atol=1e-6)


def test_halton_is_the_radical_inverse():
    # Halton 1960: 1/2, 1/4, 3/4, 1/8 ... and 1/3, 2/3, 1/9, 4/9 ...
    assert [halton(i, 2) for i in (1, 2, 3, 4)] == [0.5, 0.25, 0.75, 0.125]
    assert [halton(i, 3) for i in (1, 2, 3, 4)] == pytest.approx([1 / 3, 2 / 3, 1 / 9, 4 / 9])


@pytest.mark.parametrize(
    "request_", [Request("front", (0, 10)), Request("front", (9000, 10)), Request("front", SIZE, (5, 5, 5, 9)),
                 Request("front", SIZE, (0, 0, 241, 10)), Request("no", SIZE), Request("front", SIZE, target="no")]
)  # fmt: skip
def test_requests_that_make_no_sense_are_refused(tiny, request_):
    with pytest.raises(RequestError):
        Renderer().frame(tiny, request_)


def test_vertex_transform_kernel_equals_its_twin():
    rng = np.random.default_rng(3)
    points, matrix = rng.normal(size=(500, 3)).astype(np.float32), rng.normal(size=(4, 4)).astype(np.float32)
    np.testing.assert_array_equal(_transform(points, matrix), transform_plain(points, matrix))


def test_texture_kernel_equals_its_twin(tiny):
    store, used = build_store(tiny.scene.images, tiny.scene.materials, True)
    rng = np.random.default_rng(5)
    for slot in {int(s) for s in used.ravel() if s >= 0}:
        for _ in range(80):
            uv, dx, dy = rng.normal(size=2) * 3, rng.normal(size=2) * 10 ** rng.uniform(-3, 0), rng.normal(size=2) * 0.05
            taps, bias = int(rng.integers(1, 9)), float(rng.normal())
            fast = sample(*uv, *dx, *dy, store.slots, slot, store.levels, store.tables, store.texels, bias, taps)
            plain, _ = sample_plain(store, slot, uv, dx, dy, bias, taps)
            np.testing.assert_allclose(fast, plain, rtol=2e-5, atol=2e-6)


def test_light_kernel_equals_its_twin(tiny):
    frame = render(tiny, "front", size=SIZE)
    lit, surface, depth = frame.buffers["lit"], frame.buffers["surface"], frame.view_depth
    rows, columns = np.nonzero(frame.drawable >= 0)
    eye = frame.camera.eye
    maps = looked_up(frame.buffers["shadow_maps"], look_ups(frame.stage))
    from eddyfall.core.passes.contract import View

    rays = View(frame.camera, frame.pixels).rays
    for i in range(0, len(rows), max(len(rows) // 60, 1)):
        y, x = rows[i], columns[i]
        d = rays.d0 + (x + 0.5) * rays.du + (y + 0.5) * rays.dv
        view = -d / np.linalg.norm(d)
        row = surface[y, x].astype(float)
        place = eye - view * row[13]
        receives = bool(frame.stage.state.receives[frame.drawable[y, x]])
        parts = direct_plain(row, place, view, row[13] / np.linalg.norm(d), receives, False, frame.buffers["lights"], maps)
        total = np.sum([rgb for rgb, _ in parts], axis=0) + row[10:13]
        np.testing.assert_allclose(lit[y, x], total, rtol=2e-4, atol=1e-5, err_msg=f"{x},{y} at {depth[y, x]} m")
