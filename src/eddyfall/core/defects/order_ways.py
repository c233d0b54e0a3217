"""What may put two blended drawables into their right order: least key shift, shared point, another key or point, a rank."""

import math
from collections.abc import Iterator

import numpy as np

from eddyfall.core.defects.contract import Candidate, Cost
from eddyfall.core.defects.survey import Survey
from eddyfall.core.passes.blended import NODE_BYTES
from eddyfall.core.passes.contract import Camera
from eddyfall.core.passes.draw_order import TRIANGLES, sort_keys, sorting
from eddyfall.core.scene.changes import Change, set_leaf, set_leaves, set_resolved
from eddyfall.core.scene.setup.sections.order import Order

MM = 1000
MIB, TABLE_SIZE, MOST_LAYERS = 1 << 20, (1920, 1080), 16  # of memory; the frame that it is told of
SCENE_WIDE = "reaches the whole scene"
KEYS = {"range": "range to the eye", "view_depth": "depth along the view"}
POINTS = {"nearest": "the nearest point of bounds", "node_origin": "node origins", "bounds_centre": "the middle of bounds"}


def method_ways(survey: Survey, viewpoint: str, deep: int) -> Iterator[Candidate]:
    """Ways to put layers together that need no order of things, for pixels so many layers deep, and back to sorting."""
    build, resolved = survey.build, survey.resolved(viewpoint)
    order, (width, height) = resolved[Order], TABLE_SIZE
    megabytes = NODE_BYTES * width * height / MIB
    deep = min(max(deep, 2), MOST_LAYERS)
    for method, layers, title, predicts, costs in (
        ("peeled", deep, f"peel {deep} layers", "exact as deep as it goes; the rest is left out",
         (Cost(f"memory at {width} x {height}", megabytes, "MiB"), Cost("times all blended things are drawn", deep, "draws"))),
        ("list", deep, f"keep a list of {deep} layers", "exact as deep as it goes; the rest is averaged",
         (Cost(f"memory at {width} x {height}", megabytes * deep, "MiB"),)),
        ("weighted", order.layers, "average layers by their coverage", "needs no order, and is right for none; what cuts cuts nothing",
         (Cost(f"memory at {width} x {height}", megabytes, "MiB"),)),
        ("sorted", order.layers, "sort whole things", "by the key again", ()),
    ):  # fmt: skip
        if method == order.method and layers <= order.layers:
            continue
        leaves = {"order.method": method, **({"order.layers": layers} if method in ("peeled", "list") else {})}
        change = set_resolved(build, resolved, leaves, title=title)
        yield Candidate(change=change, predicts=f"{predicts}; {SCENE_WIDE}", costs=costs)


def triangle_ways(survey: Survey, drawable: str) -> Iterator[tuple[Change, str, Cost]]:
    """(change, what it predicts, what it costs): other orders of the triangles of one blended drawable."""
    d = survey.geometry.drawables[survey.geometry.names[drawable]]
    if d.material < 0:
        return
    key = survey.build.scene.material_keys[d.material]
    now = sorting(survey.stage()).triangles[survey.geometry.names[drawable]]
    for kind, title, predicts, cost in (
        ("back_first", f"draw what is seen of {key} from behind first", "right for what is convex", Cost("draws", 1, "draws")),
        ("sorted", f"draw triangles of {key} farthest first", "right where they do not cross",
         Cost("sorted for each frame", d.last - d.first, "triangles")),
    ):  # fmt: skip
        if TRIANGLES[int(now)] != kind:
            yield set_leaf(survey.build, ("materials", key, "triangles"), kind, scope="material", title=title), predicts, cost


def order_ways(survey: Survey, viewpoint: str, nearer: str, farther: str, cameras: list[Camera]) -> Iterator[tuple[Change, str]]:
    """(change, what it predicts): single changes that may draw `farther` before `nearer` from all of the cameras."""
    build, setup = survey.build, survey.build.setup
    number = survey.geometry.names
    two = np.array([number[nearer], number[farther]])
    near, far = (survey.geometry.drawables[i].node for i in two)
    resolved, by = survey.resolved(viewpoint), sorting(survey.stage(viewpoint))
    if near != far and by.rank[two[0]] == by.rank[two[1]]:
        short = max((float(np.subtract(*sort_keys(survey.geometry, two, c, by))) for c in cameras), default=0.0)
        if short >= 0:
            shift = round(float(by.key_shift_m[two[1]]) + (math.floor(short * MM) + 1) / MM, 3)
            yield (
                set_leaf(
                    build, ("nodes", far, "key_shift_m"), shift, scope="node", title=f"sort {farther} as if {shift:g} m farther"
                ),
                f"the least, in millimetres, that keeps it before {nearer} in {len(cameras)} poses",
            )
        if not {near, far} & {m for p in setup.sort_points.values() for m in p.members}:
            place = [round(float(v), 4) for v in survey.geometry.bounds[two].mean(axis=(0, 1))]
            at = ("sort_points", f"{far} {near}")
            leaves: dict[tuple[str, ...], object] = {(*at, "place_m"): place, (*at, "members"): [far, near]}
            title = f"sort {farther} and {nearer} by a point they share"
            yield (
                set_leaves(build, leaves, scope="project", title=title),
                "they stay one after the other from wherever they are seen",
            )
    order = resolved[Order]
    for key in (k for k in KEYS if k != order.key):
        yield set_resolved(build, resolved, {"order.key": key}, title=f"sort by {KEYS[key]}"), SCENE_WIDE
    for point in (p for p in POINTS if p != order.point):
        yield set_resolved(build, resolved, {"order.point": point}, title=f"sort by {POINTS[point]}"), SCENE_WIDE
    ranked = {n: by.rank[i] for n, i in ((near, two[0]), (far, two[1])) if by.rank[i] != 0}
    if ranked:
        ranks: dict[tuple[str, ...], object] = {("nodes", n, "draw_rank"): 0 for n in ranked}
        title = f"take out the draw rank of {' and '.join(ranked)}"
        yield set_leaves(build, ranks, scope="node", title=title), "sorted by the key again"
    if near != far:
        rank = int(by.rank[two[1]]) + 1
        title = f"draw rank {rank} for {nearer}"
        yield (
            set_leaf(build, ("nodes", near, "draw_rank"), rank, scope="node", title=title),
            f"drawn after all of a lower rank; {SCENE_WIDE}",
        )
