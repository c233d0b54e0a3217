"""Pages to look at: geometry of charts, maps under other settings, which texel a pixel shows, applying bakes from the store alone."""

import numpy as np
import pytest
from shapely.geometry import Polygon
from shapely.ops import unary_union

from bake_scenes import under_a_partition
from eddyfall.core.bake.maps.run import bake
from eddyfall.core.bake.maps.store import STORE, RawStore, StoredLight
from eddyfall.core.bake.questions.look import Look, look, magnified
from eddyfall.core.errors import ChangeError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Request
from eddyfall.core.frame.texel_buffer import texel_buffer
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.receivers import receivers
from eddyfall.core.scene.setup.sections.bake import Bake
from eddyfall.core.shade.lightmaps import irradiance_plain
from eddyfall.core.uv.overlap import doubled_areas
from eddyfall.core.uv.page import page_geometry
from eddyfall.core.uv.report import asset_report


@pytest.fixture(scope="module")
def floor():
    return bake(under_a_partition(64, samples=16)).build


def maps(build):
    geometry = pack(build.scene, build.setup)
    return geometry, receivers(build, geometry)[0]


@pytest.mark.parametrize("seed", range(5))
def test_doubled_areas_are_shapelys(seed):
    rng = np.random.default_rng(seed)
    uv = rng.random((12, 1, 2)) + rng.normal(0, 0.2, (12, 3, 2))
    shapes = [Polygon(t) for t in uv]
    theirs = unary_union([a.intersection(b) for i, a in enumerate(shapes) for b in shapes[:i]])
    mine = unary_union([Polygon(t) for t in doubled_areas(uv, 256)])
    assert mine.area == pytest.approx(theirs.area, rel=1e-6)
    assert mine.symmetric_difference(theirs).area < 1e-6


def test_a_page_cuts_what_wraps_at_the_tile_border():
    uv = [[-0.25, 1.0], [0.75, 1.0], [0.75, 0.5], [-0.25, 0.5]]
    build = under_a_partition(64, uv_use="as_is")
    mesh = build.scene.meshes[0]
    part = mesh.primitives[0]
    attributes = {**part.attributes, "TEXCOORD_1": np.array(uv, np.float32)}
    moved = build.scene.with_mesh(0, type(mesh)(mesh.name, (type(part)(attributes, part.indices, part.material),)))
    build = type(build)(moved, build.setup, build.raw_setup)
    geometry, receiver = maps(build)
    page = page_geometry(asset_report(build, geometry, receiver))
    assert page.triangles.min() >= 0 and page.triangles.max() <= 1
    area = sum(Polygon(t).area for t in page.triangles)
    assert area == pytest.approx(0.5, rel=1e-5), "nothing is lost at the border"
    assert len(page.doubled) == 0 and set(page.chart) == {0}


def test_density_of_a_page_is_its_texels_a_metre():
    build = under_a_partition(64)
    geometry, receiver = maps(build)
    page = page_geometry(asset_report(build, geometry, receiver))
    # 6.4 m x .4 m on 64 x 4 texels.
    np.testing.assert_allclose(page.density, 10.0, rtol=1e-5)
    assert len(page.borders) == 4 and page.gutter_at is None


def test_magnified_maps_are_what_frames_read():
    values = np.random.default_rng(4).random((8, 8, 3)).astype(np.float32)
    for linear in (False, True):
        grid = magnified(values, 5, linear)
        for y, x in ((0, 0), (3, 17), (39, 39), (21, 8)):
            u, v = (x + 0.5) / 40, (y + 0.5) / 40
            np.testing.assert_allclose(grid[y, x], irradiance_plain(values, u, v, not linear, False), rtol=1e-5)


def test_a_look_changes_nothing_that_is_stored(floor):
    geometry, receiver = maps(floor)
    plain = look(floor, geometry, receiver, None, floor.setup[Bake], Look())
    denoised = look(floor, geometry, receiver, None, floor.setup[Bake], Look(denoise="within_charts"))
    coarse = look(floor, geometry, receiver, None, floor.setup[Bake], Look(encoding="srgb8"))
    assert (plain != denoised).any()
    assert 0 < np.abs(plain - coarse).max() < 1 / 255 * 2.4
    assert (look(floor, geometry, receiver, None, floor.setup[Bake], Look()) == plain).all()


def test_pixels_show_the_texels_of_their_core_samples(floor, renderer):
    request = Request("eye", (96, 54))
    found = texel_buffer(renderer, floor, request)
    assert found.names == ("floor",)
    seen = np.argwhere(found.receiver == 0)
    for y, x in seen[:: max(len(seen) // 25, 1)]:
        layers = core_sample(renderer, floor, request, int(x), int(y)).layers
        [facts] = [layer.facts["lightmap"] for layer in layers if "lightmap" in layer.facts]
        assert facts["texel"] == np.floor(found.place[y, x].astype(np.float64) * 64).astype(int).tolist()
    y, x = np.argwhere(found.receiver < 0)[0]
    assert not any("lightmap" in layer.facts for layer in core_sample(renderer, floor, request, int(x), int(y)).layers)


def run(**params):
    return Change(id="bake", scope="project", operation=Operation(name="bake.run", params=params))


def test_from_the_store_alone_nothing_is_traced(tmp_path, monkeypatch):
    monkeypatch.setattr(STORE, "folder", tmp_path)
    STORE._held.clear()
    build = under_a_partition(16, samples=4)
    at_hand = StoredLight(gathers=False)
    assert apply_change(build, run(), at_hand).setup.lightmaps == {}
    whole = apply_change(build, run(maps=[["floor", None], ["no longer there", None], ["floor", "no such set"]]))
    STORE._held.clear()
    assert apply_change(build, run(maps=[["floor", None]]), at_hand).content_hash == whole.content_hash
    STORE._held.clear()
    for path in tmp_path.rglob("*.npz"):
        path.unlink()
    again = apply_change(build, run(maps=[["floor", None]]))
    assert again.content_hash == whole.content_hash, "a result depends on build and change alone, not on what is at hand"
    for bad in ([["floor"]], "floor", [[1, None]]):
        with pytest.raises(ChangeError, match="maps must be"):
            apply_change(build, run(maps=bad))


def test_the_store_lets_go_of_what_was_unused_longest(tmp_path, monkeypatch):
    import os

    monkeypatch.setattr(STORE, "folder", tmp_path)
    for samples in (1, 2, 3):
        bake(under_a_partition(16, samples=samples))
    paths = sorted(tmp_path.glob("*/*.npz"))
    for age, path in enumerate(paths):
        os.utime(path, (1e9 - age, 1e9 - age))
    store = RawStore(tmp_path)
    assert store.trim(paths[0].stat().st_size + 1) == 2
    assert [p for p in paths if p.exists()] == [paths[0]]
    assert RawStore(None).trim() == 0
