"""A bake: what texels hold, where it runs, what goes stale, what cancelling leaves."""

import os
import signal

import numpy as np
import pytest

from bake_scenes import UNIT_PAGE, baked_setup, box_inside, closed_box, matt, panel, under_a_partition
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.bake.maps.stamps import stale
from eddyfall.core.bake.maps.store import STORE
from eddyfall.core.compute import DaskCluster, Processes
from eddyfall.core.frame.lightmap_store import stored_map
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Light
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of


@pytest.fixture(autouse=True)
def nothing_kept():
    """Each test gathers its own light."""
    STORE._held.clear()
    folder, STORE.folder = STORE.folder, None
    yield
    STORE.folder = folder


def room(with_lamps=2, cover=False):
    """A closed room in two halves with a lamp each; the wall between is solid, so that no light crosses it."""
    things = [panel(f"floor_{k}", (x, 0, 4), (4, 0, 0), (0, 0, -4), matt(f"f{k}", 0.5), UNIT_PAGE) for k, x in ((1, 0), (2, 5))]
    for x in (0, 5):
        box = (
            Shape()
            .quad((x, 3, 0), (4, 0, 0), (0, 0, 4))
            .quad((x, 0, 0), (4, 0, 0), (0, 3, 0))
            .quad((x + 4, 0, 4), (-4, 0, 0), (0, 3, 0))
        )
        box.quad((x, 0, 4), (0, 0, -4), (0, 3, 0)).quad((x + 4, 0, 0), (0, 0, 4), (0, 3, 0))
        things.append(Thing(f"walls_{x}", box, matt(f"w{x}", 0.5)))
        outside = Shape().box((x - 0.1, -0.1, -0.1), (x + 4.1, 3.1, 4.1))
        things.append(Thing(f"outside_{x}", outside, matt(f"o{x}", 0.5)))
    if cover:
        things.append(Thing("cover", Shape().box((1, 0, 1), (2, 0.6, 2), faces="xXYzZ"), matt("cover", 0.4)))
    lamps = tuple((Light(f"lamp_{k}", "point", intensity=50.0), (x, 2.5, 2.0)) for k, x in ((1, 2.0), (2, 7.0)))
    setup = baked_setup(things[:2], resolution=16, samples=16, bounces=2)
    return build_of(*things, setup=setup, lamps=lamps[:with_lamps])


def states(build):
    return {s.receiver.name: s for s in stale(build, pack(build.scene, build.setup))}


@pytest.mark.parametrize(("resolution", "expected", "reach"), [(64, 0.335, 120.0), (256, 0.24, 32.5)])
def test_a_texel_across_a_partition_holds_both_sides(resolution, expected, reach):
    # The worked case of faults in a finished bake: light 1, dark .05, partition at 3.03 of 6.4 m.
    build = under_a_partition(resolution, samples=1024)
    row = bake(build, everything=True).raws["floor", None].mean[-2, :, 0]
    at = int(3.03 / 6.4 * resolution)
    assert row[at] == pytest.approx(expected, abs=0.003)
    assert (row[at - 1], row[at + 1]) == (pytest.approx(1.0), pytest.approx(0.05))


def test_processes_give_the_same_lightmap_to_the_bit():
    build = closed_box(0.5, {"ceiling": 1.0}, resolution=16, samples=600, bounces=2)
    one = bake(build, ["floor", "north"], everything=True)
    STORE._held.clear()
    two = bake(build, ["floor", "north"], everything=True, executor=Processes(2))
    for key, raw in one.raws.items():
        assert np.array_equal(raw.mean, two.raws[key].mean) and np.array_equal(raw.variance, two.raws[key].variance)


def test_a_dask_cluster_gives_the_same_lightmap_to_the_bit():
    distributed = pytest.importorskip("distributed")
    build = closed_box(0.5, {"ceiling": 1.0}, resolution=16, samples=600, bounces=1)
    one = bake(build, ["floor"], everything=True)
    STORE._held.clear()
    with (
        distributed.LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None) as cluster,
        distributed.Client(cluster) as client,
    ):
        two = bake(build, ["floor"], everything=True, executor=DaskCluster(client))
    assert np.array_equal(one.raws["floor", None].mean, two.raws["floor", None].mean)


def test_a_killed_worker_loses_only_its_tile():
    build = closed_box(0.5, {"ceiling": 1.0}, resolution=32, samples=1000, bounces=2)
    one = bake(build, ["floor"], everything=True)
    STORE._held.clear()
    workers, killed = Processes(2), []

    def progress(what, share):
        if workers.pids and not killed:
            os.kill(workers.pids[0], signal.SIGKILL)
            killed.append(workers.pids[0])

    two = bake(build, ["floor"], everything=True, executor=workers, progress=progress)
    assert killed and not two.left
    assert np.array_equal(one.raws["floor", None].mean, two.raws["floor", None].mean)


def test_how_work_is_cut_does_not_matter(monkeypatch):
    build = closed_box(0.5, {"ceiling": 1.0}, resolution=8, samples=64, bounces=2)
    whole = bake(build, ["floor"], everything=True).raws["floor", None].mean
    STORE._held.clear()
    for module in ("light.gather", "maps.run"):
        monkeypatch.setattr(f"eddyfall.core.bake.{module}.SITES_AT_ONCE", 700)
    assert np.array_equal(whole, bake(build, ["floor"], everything=True).raws["floor", None].mean)


def test_cancelling_keeps_what_is_finished():
    build = closed_box(0.5, {"ceiling": 1.0}, resolution=8, samples=16, bounces=1)
    done = []
    result = bake(build, everything=True, on_receiver=lambda name, light_set: done.append(name), cancelled=lambda: len(done) >= 2)
    assert [n for n, _ in result.done] == done and len(done) == 2 and len(result.left) == 4
    assert stored_map(result.build, done[0], None) is not None
    again = bake(result.build)
    assert len(again.done) == 4 and all(s.fresh for s in states(again.build).values())


def test_a_fresh_bake_is_fresh_and_survives_a_file(tmp_path):
    baked = bake(room()).build
    assert all(s.fresh for s in states(baked).values())
    path = tmp_path / "room.glb"
    path.write_bytes(write_glb(baked.scene))
    scene = read_scene(path)
    again = type(baked)(scene, baked.setup, baked.raw_setup)
    assert np.array_equal(stored_map(again, "floor_1", None).values, stored_map(baked, "floor_1", None).values)
    assert all(s.fresh for s in states(again).values())


def test_whole_numbers_in_a_material_are_the_same_light(tmp_path):
    from eddyfall.core.scene.model import Material

    floor = panel("floor", (0, 0, 1), (1, 0, 0), (0, 0, -1), Material("m", base_rgba=(1, 1, 1, 1), metallic=0), UNIT_PAGE)
    baked = bake(build_of(floor, setup=baked_setup([floor], resolution=8, samples=4))).build
    (tmp_path / "x.glb").write_bytes(write_glb(baked.scene))
    assert all(s.fresh for s in states(type(baked)(read_scene(tmp_path / "x.glb"), baked.setup)).values())


def test_only_what_a_lamp_reaches_is_baked_again():
    baked = bake(room()).build
    dimmed = apply_change(baked, set_leaf(baked, ("lights", "lamp_2", "on"), False, scope="node", title="off"))
    found = states(dimmed)
    assert found["floor_1"].fresh and found["floor_2"].why == ("light lamp_2 no longer shines",)
    again = bake(dimmed)
    assert [n for n, _ in again.done] == ["floor_2"]
    full = bake(dimmed, everything=True)
    for name in ("floor_1", "floor_2"):
        assert np.array_equal(stored_map(again.build, name, None).values, stored_map(full.build, name, None).values)


def test_a_deleted_cover_leaves_its_footprint_stale():
    # The worked case of older scene converted to baked bounce: exactly its footprint is stale until baked again, then nothing is.
    from dataclasses import replace

    from eddyfall.core.scene.model import Node

    baked = bake(room(cover=True)).build
    index = baked.scene.node_keys.index("cover")
    node = baked.scene.nodes[index]
    bare = replace(baked, scene=baked.scene.with_node(index, Node(node.name, node.matrix)))
    found = states(bare)
    assert found["floor_2"].fresh and "cover is gone" in found["floor_1"].why
    texels = np.argwhere(found["floor_1"].texels)
    # 4 m over 16 texels: the cover stands on 1..2 m, texels 4 to 7 both ways (rows count from z = 0).
    assert {tuple(t) for t in texels} == {(row, column) for row in range(4, 8) for column in range(4, 8)}
    again = bake(bare)
    assert [n for n, _ in again.done] == ["floor_1"]
    assert sum(int(s.texels.sum()) for s in states(again.build).values()) == 0
    full = bake(bare, everything=True)
    assert np.array_equal(stored_map(again.build, "floor_1", None).values, stored_map(full.build, "floor_1", None).values)


def test_a_new_thing_in_the_light_makes_only_its_room_stale():
    baked = bake(room()).build
    covered = room(cover=True)
    scene = covered.scene
    for image in baked.scene.images:
        scene = scene.with_image(image)
    moved = type(baked)(
        scene, covered.setup.model_copy(update={"lightmaps": baked.setup.lightmaps, "baked_scenes": baked.setup.baked_scenes})
    )
    found = states(moved)
    assert found["floor_2"].fresh and found["floor_1"].why == ("cover stands in its light now",)


def test_outside_every_focus_region_no_bounce_is_gathered():
    inside = closed_box(0.5, {"ceiling": 1.0}, resolution=8, samples=64, bounces=3)
    region = {"focus_regions": {"half": {"low_m": [-1, -1, -1], "high_m": [0.5, 2, 2]}}}
    things = box_inside(0.5, {"ceiling": 1.0})
    outside = build_of(*things, setup={**baked_setup(things, resolution=8, samples=64, bounces=3), **region})
    a = bake(inside, ["floor"], everything=True).raws["floor", None].mean[..., 0]
    b = bake(outside, ["floor"], everything=True).raws["floor", None].mean[..., 0]
    assert np.array_equal(a[:, :4], b[:, :4]) and (b[:, 4:] < a[:, 4:]).all()


def test_a_light_is_baked_in_full_bounced_only_or_not_at_all():
    # A floor beside a bright wall under a sun that lights both: full = direct (100 lx overhead) + what the wall bounces.
    floor = panel("floor", (0, 0, 4), (4, 0, 0), (0, 0, -4), matt("f", 0.0), UNIT_PAGE)
    wall = Thing("wall", Shape().box((-1, 0, -1), (-0.5, 3, 5)), matt("w", 0.9))
    build = build_of(
        floor,
        wall,
        setup={
            **baked_setup([floor], resolution=8, samples=256, bounces=1),
            "lights": {"sun": {"kind": "sun", "towards": [1, 1, 0], "illuminance_lux": 100.0 * 2**0.5}},
        },
    )

    def baked(how):
        sun = build.setup.lights["sun"].model_copy(update={"bakes": how})
        return bake(build.with_setup(build.setup.model_copy(update={"lights": {"sun": sun}}))).raws["floor", None].mean[..., 0]

    full, bounced, nothing = baked("full"), baked("bounced"), baked("nothing")
    assert full - bounced == pytest.approx(np.full((8, 8), 100.0), abs=1e-3)
    assert (bounced > 0.5).all() and bounced[:, 0].mean() > 3 * bounced[:, -1].mean(), "the wall is near the first column"
    assert (nothing == 0).all()
