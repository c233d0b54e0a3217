"""Content hashes and what is remembered under them: equal things have one key, and nothing else has it."""

import dataclasses
import gc
import threading
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eddyfall.core import hashing, kernel_sources
from eddyfall.core.frame.derive import Known, derive
from eddyfall.core.frame.memo import STALE, Memo, size_of
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import array_digest, digest, freeze
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Material, Scene
from eddyfall.core.scene.setup.sections.bake import Bake
from scenes import net_build

plain = st.recursive(
    st.none()
    | st.booleans()
    | st.integers(-(10**6), 10**6)
    | st.floats(allow_nan=False)
    | st.text(max_size=6)
    | st.binary(max_size=6),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=4), inner, max_size=3),
    max_leaves=8,
)


def twin(value):
    """The same value made anew."""
    if isinstance(value, list):
        return [twin(v) for v in value]
    return {k: twin(v) for k, v in value.items()} if isinstance(value, dict) else value


def told_apart(a, b):
    """Whether two values differ, types and order included."""
    if type(a) is not type(b):
        return True
    if isinstance(a, list):
        return len(a) != len(b) or any(told_apart(x, y) for x, y in zip(a, b))
    if isinstance(a, dict):
        return list(a) != list(b) or any(told_apart(a[k], b[k]) for k in a)
    return repr(a) != repr(b)


@given(plain, plain)
def test_one_value_one_hash(a, b):
    assert digest(a) == digest(twin(a))
    assert (digest(a) != digest(b)) == told_apart(a, b)


@pytest.mark.parametrize(
    ("a", "b"),
    [
        (1, 1.0), (1, True), (0, None), ("1", 1), (b"a", "a"), (["ab", "c"], ["a", "bc"]), ([[1], 2], [1, [2]]), ({"a": 1}, ["a", 1]),
        (0.0, -0.0), ("", None), ([], {}), ((1, 2), [2, 1]),
    ],
)  # fmt: skip
def test_what_only_looks_alike_is_told_apart(a, b):
    assert digest(a) != digest(b)


def test_sets_have_no_order_and_numpy_numbers_are_numbers():
    assert digest({"b", "a", "c"}) == digest({"c", "b", "a"}) == digest(frozenset("abc"))
    assert digest(np.float64(0.5)) == digest(0.5) and digest(np.int32(3)) == digest(3)
    with pytest.raises(TypeError, match="cannot hash object"):
        digest(object())


def test_arrays_count_by_type_shape_and_bytes():
    a = np.arange(6, dtype=np.int32)
    assert array_digest(a) == array_digest(a.copy()) == array_digest(np.ascontiguousarray(a[::-1][::-1]))
    assert array_digest(a[::2]) == array_digest(np.array([0, 2, 4], np.int32))
    others = [a.reshape(2, 3), a.astype(np.int64), a.astype(np.float32), a + 1]
    assert len({array_digest(x) for x in [a, *others]}) == 5


def test_only_frozen_arrays_are_remembered_and_only_while_they_live():
    gc.collect()  # what earlier tests let go
    before = len(hashing._array_digests)
    loose = np.arange(10)
    digest(loose)
    loose[0] = 7
    assert digest(loose) == digest(loose.copy()), "a changed array has another hash"
    held = freeze(np.arange(11))
    assert not held.flags.writeable
    digest(held)
    assert len(hashing._array_digests) == before + 1
    del held
    gc.collect()
    assert len(hashing._array_digests) == before


def test_a_copied_model_is_another_model():
    bake = Bake()
    first = digest(bake)
    changed = bake.model_copy(update={"samples": bake.samples + 1})
    assert digest(changed) != first and digest(bake) == first
    assert digest(changed.model_copy(update={"samples": bake.samples})) == first
    before = len(hashing._model_digests)
    digest(Bake(samples=7))
    gc.collect()
    assert len(hashing._model_digests) <= before + 1


def test_notes_and_sources_do_not_count():
    scene = Scene(materials=(Material("steel"),))
    assert digest(dataclasses.replace(scene, notes=("left out a skin",))) == digest(scene)
    assert digest(dataclasses.replace(scene, materials=(Material("zinc"),))) != digest(scene)


def test_the_store_keeps_the_newest_within_its_bytes():
    memo = Memo(3000)
    for k in range(4):
        memo.put(str(k), np.zeros(125))  # 1000 bytes each
        assert memo.get("0") is not None or k == 3
    # 0 was asked for each time, so 1 went first, then 0 was dropped only when nothing older was left.
    assert memo.get("1") is None and memo.bytes <= 3000
    assert [k for k in "0123" if memo.get(k) is not None] == ["0", "2", "3"]


def test_what_took_long_for_its_bytes_stays_before_what_is_quickly_made_again():
    memo = Memo(5000)
    memo.put("slow", np.zeros(100), seconds=8.0)
    memo.put("quick", np.zeros(100), seconds=0.001)
    for k in range(10):
        memo.put(f"map {k}", np.zeros(300), seconds=0.01)
    assert memo.get("slow") is not None and memo.get("quick") is None and memo.bytes <= 5000
    for k in range(4000):  # each goes by the least worth, which what stays is held against; in the end all of it goes
        memo.put(f"as slow {k}", np.zeros(100), seconds=8.0)
    assert memo.get("slow") is None


def test_what_no_one_asked_for_in_a_long_while_goes_whatever_it_took():
    memo = Memo(5000)
    memo.put("slow", np.zeros(100), seconds=1e6)
    memo.put("asked for", np.zeros(100), seconds=0.0)
    for _ in range(STALE):
        memo.get("asked for")
    for k in range(9):
        memo.put(str(k), np.zeros(100))
    assert memo.get("slow") is None


def test_one_value_larger_than_the_store_still_stays():
    memo = Memo(10)
    memo.put("large", np.zeros(1000))
    assert memo.get("large") is not None
    memo.put("next", np.zeros(1))
    assert memo.get("large") is None and memo.bytes == 8
    assert (memo.hits, memo.misses) == (1, 1)


@dataclasses.dataclass
class Tree:
    """Stands for a tree of rays: it says itself what it holds."""

    held_bytes: int


def test_trees_of_rays_are_not_pushed_out_by_what_is_large_up_to_their_share():
    memo = Memo(10_000)
    for k in range(3):
        memo.put(f"tree {k}", (Tree(1000),))
    for k in range(20):
        memo.put(f"map {k}", (np.zeros(500),))  # 4000 bytes each
    assert all(memo.get(f"tree {k}") for k in range(3)), "3000 bytes of trees are within three tenths"
    assert memo.get("map 19") and not memo.get("map 0") and memo.bytes <= 10_000
    memo.put("tree 3", (Tree(1000),))
    memo.put("map 20", (np.zeros(500),))
    assert memo.get("tree 0") is None and memo.get("tree 1"), "beyond their share the oldest tree goes"
    memo.shrink(memo.bytes)
    assert memo.entries == 0 and memo.bytes == 0


def test_bytes_are_those_of_the_arrays():
    million = np.zeros(125_000)
    assert 1_000_000 <= size_of({"a": million, "b": (np.zeros(2, np.uint8), "word")}) < 1_001_000
    assert size_of([million, million[5:], {"again": million}]) < 1_001_000, "views and repeats are one array"
    frame = dataclasses.make_dataclass("Frame", [("rgb", np.ndarray), ("name", str)])(np.zeros((2, 3), np.float32), "x")
    assert 24 < size_of(frame) < 300
    assert size_of(bytes(50_000)) >= 50_000 and size_of("x" * 50_000) >= 50_000


def test_a_tree_of_rays_counts_as_what_it_holds_and_is_shared():
    from eddyfall.core.rays.queries import RayScene, tree_of

    build = net_build()
    geometry = pack(build.scene, build.setup)
    stage = Renderer().frame(build, Request("eye", (32, 18)), "display")
    everything = np.ones(len(geometry.drawables), bool)
    rays = RayScene(geometry, everything, stage.buffers["cutouts"], geometry.uv0)
    assert rays.tree.held_bytes >= 93 * len(geometry.triangles) and size_of(rays.tree) >= rays.tree.held_bytes
    assert tree_of(geometry, everything) is rays.tree is rays.solid.tree, "alpha tests are no part of a tree"
    few = everything.copy()
    few[0] = False
    assert tree_of(geometry, few) is not rays.tree


def test_what_two_values_share_is_counted_once_and_goes_with_the_last():
    memo, shared = Memo(11_000_000), np.zeros(125_000)
    memo.put("one", (shared, np.zeros(62_500)))
    memo.put("two", {"same": shared})
    assert 1_500_000 <= memo.bytes < 1_502_000
    memo.put("large", np.zeros(1_200_000))
    assert memo.get("one") is None and memo.get("two") is not None and 10_600_000 <= memo.bytes < 10_610_000
    memo.clear()
    assert memo.bytes == 0 and memo.entries == 0


def test_a_renderer_remembers_where_it_is_told_to():
    memo = Memo()
    assert Renderer(memo).memo is memo, "an empty one too"


def test_many_who_want_one_value_make_it_once():
    memo, made, together = Memo(), [], threading.Barrier(8)

    def make():
        made.append(1)
        time.sleep(0.05)
        return np.zeros(4)

    def want():
        together.wait()
        return memo.once("build", make)

    with ThreadPoolExecutor(8) as pool:
        found = [f.result() for f in [pool.submit(want) for _ in range(8)]]
    assert len(made) == 1 and all(f is found[0] for f in found)
    with pytest.raises(ZeroDivisionError):
        memo.once("bad", lambda: 1 / 0)
    assert memo.once("bad", lambda: "now it can be made") == "now it can be made"


MADE = []


def names_of_materials(scene, prefix):
    MADE.append(prefix)
    return [prefix + key for key in scene.material_keys]


def sizes_or_names(scene, by_name):
    MADE.append(by_name)
    return [m.name for m in scene.materials] if scene.cameras else len(scene.meshes)


def test_a_key_is_made_of_what_was_read_and_of_nothing_else():
    memo, scene = Memo(), Scene(materials=(Material("steel"),))
    MADE.clear()
    first = derive(memo, names_of_materials, scene, "m ")
    assert first.value == ["m steel"]
    # What it does not read may change; what it reads, or is told, may not.
    roughened = dataclasses.replace(scene, materials=(Material("steel", roughness=0.2),))
    assert derive(memo, names_of_materials, roughened, "m ") == first and len(MADE) == 1
    zinc = dataclasses.replace(scene, materials=(Material("zinc"),))
    assert derive(memo, names_of_materials, zinc, "m ").value == ["m zinc"]
    assert derive(memo, names_of_materials, scene, "n ").value == ["n steel"] and len(MADE) == 3
    assert derive(memo, names_of_materials, Known(scene, "key"), "m ").key != first.key


def test_what_decides_what_is_read_counts_too():
    from eddyfall.core.scene.model import Camera

    memo, scene = Memo(), Scene(materials=(Material("steel"),))
    assert derive(memo, sizes_or_names, scene, 1).value == 0
    seen = dataclasses.replace(scene, cameras=(Camera("c", 0.8, 0.1),))
    assert derive(memo, sizes_or_names, seen, 1).value == ["steel"]
    assert derive(memo, sizes_or_names, dataclasses.replace(seen, materials=(Material("zinc"),)), 1).value == ["zinc"]
    assert derive(memo, sizes_or_names, scene, 1).value == 0


def test_what_cannot_be_followed_is_refused():
    memo, extra = Memo(), 3
    with pytest.raises(TypeError, match="cannot be followed"):
        derive(memo, lambda scene: extra, Scene())
    with pytest.raises(TypeError, match="cannot be followed"):
        derive(memo, changes_it, Scene())


def changes_it(scene):
    return scene.with_mesh(0, None)


def test_kernels_know_what_they_are_made_of(tmp_path):
    root = tmp_path / "core"
    (root / "shade").mkdir(parents=True)
    for name, text in {
        "__init__.py": "", "shade/__init__.py": "from eddyfall.core.shade.glow import GLOW\n",
        "shade/glow.py": "GLOW = 2\n", "shade/words.py": "TEXT = 'none of a kernel'\n",
        "shade/light.py": "from numba import njit\nfrom eddyfall.core.shade import glow\n\n@njit\ndef f(x):\n    return x * glow.GLOW\n",
        "sweep.py": "from eddyfall.core.shade.light import f\n",
    }.items():  # fmt: skip
        (root / name).write_text(text)
    found = {str(p.relative_to(root)) for p in kernel_sources(root)}
    assert found == {"shade/light.py", "shade/glow.py", "shade/__init__.py"}
    own = {p.name for p in kernel_sources()}
    assert {"rasterise.py", "path_kernels.py", "depth_format.py", "srgb.py"} <= own and "report.py" not in own
