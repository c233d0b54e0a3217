"""What may put blended drawables into their right order: least key shift, shared point, one mesh, another key or point, a rank, a split."""

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from typing import Literal

import numpy as np

from eddyfall.core.defects.contract import Candidate, Cost
from eddyfall.core.defects.survey import Survey
from eddyfall.core.layers.best import fixed_order
from eddyfall.core.layers.capture import Layers, captured
from eddyfall.core.passes.blended import NODE_BYTES
from eddyfall.core.passes.contract import Camera
from eddyfall.core.passes.draw_order import TRIANGLES, blended_in, draw_order, sort_keys, sorting
from eddyfall.core.scene.changes import Change, apply_change, set_leaf, set_leaves, set_resolved
from eddyfall.core.scene.drawables import Geometry
from eddyfall.core.scene.setup.sections.order import Order
from eddyfall.core.scene.setup.tables import NodeSetup
from eddyfall.core.scene.splits import ON, plane_through

MM = 1000
NOTHING, BETTER = 1e-6, 0.1  # nits of rounding; of what a direction leaves wrong, the most that its opposite may
MOST_LISTED = 1024  # triangles whose order a setup says
MOST_PLANES, MOST_NAMED = 4, 6  # planes that one node may be split at; drawables that a prediction names
CORNER_BYTES, INDEX_BYTES = 40, 4  # position, normal and two pairs of UVs
MIB, TABLE_SIZE, MOST_LAYERS = 1 << 20, (1920, 1080), 16  # of memory; the frame that it is told of
SCENE_WIDE = "reaches the whole scene"
KEYS = {"range": "range to the eye", "view_depth": "depth along the view"}
POINTS = {"nearest": "the nearest point of bounds", "node_origin": "node origins", "bounds_centre": "the middle of bounds"}


def back_to_front(survey: Survey, viewpoint: str) -> tuple[Change, float, float] | None:
    """(its opposite, nits that the order by the direction that is set adds in all, nits that its opposite would) where nearly nothing of
    them would be left; None where no direction is set, or it is not back to front."""
    resolved, request = survey.resolved(viewpoint), survey.request(viewpoint)
    if resolved[Order].key != "direction":
        return None
    wrong = _added(captured(survey.renderer, survey.build, request))
    if wrong <= NOTHING:
        return None
    back = [-v if v else 0.0 for v in resolved[Order].direction]
    change = set_resolved(survey.build, resolved, {"order.direction": back}, title="turn the direction round")
    left = _added(captured(survey.renderer, apply_change(survey.build, change), request))
    return (change, wrong, left) if left <= BETTER * wrong else None


def _added(layers: Layers) -> float:
    return float(np.abs(layers.drawn - layers.sorted).mean(axis=2).sum())


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


def triangle_ways(survey: Survey, drawable: str) -> Iterator[Candidate]:
    """Other orders of the triangles of one blended drawable."""
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
            change = set_leaf(survey.build, ("materials", key, "triangles"), kind, scope="material", title=title)
            yield Candidate(change=change, predicts=predicts, costs=(cost,))


def listed_ways(survey: Survey, drawable: str, seen: Iterable[Layers]) -> Iterator[Candidate]:
    """One order of a drawable's triangles in its file that is right wherever it is seen from, if there is one."""
    number = survey.geometry.names[drawable]
    d = survey.geometry.drawables[number]
    node = survey.build.setup.nodes.get(d.node, NodeSetup())
    if d.last - d.first > MOST_LISTED or node.split_at or sum(o.node == d.node for o in survey.geometry.things) > 1:
        return
    poses = [layers for layers in seen if (layers.shown.drawable == number).any()]
    order = fixed_order(poses, number)
    if order is None:
        return
    known = np.array(node.triangle_order or range(d.last - d.first))
    yield Candidate(
        change=set_leaf(
            survey.build, ("nodes", d.node, "triangle_order"), known[order].tolist(), scope="node",
            title=f"list triangles of {d.node} in one order for all",
        ),
        predicts=f"right in all of {len(poses)} poses that it is seen from, and sorted by nobody",
        warnings=("it was made for the places that are looked from: from elsewhere it may be wrong",),
    )  # fmt: skip


def split_ways(survey: Survey, pairs: Sequence[tuple[str, str]]) -> Iterator[Candidate]:
    """Drawables of pairs cut along each other's planes, where one is flat and the other lies on both sides of it; at the last all of them
    at once, where there are more."""
    geometry, build = survey.geometry, survey.build
    asked: dict[str, list[str]] = {}
    for a, b in (two for pair in pairs for two in (pair, pair[::-1])):
        node, at = (geometry.drawables[geometry.names[name]].node for name in (a, b))
        plane = plane_through(_corners(geometry, at))
        known = build.setup.nodes.get(node, NodeSetup()).split_at
        if plane is None or node == at or at in known or at in asked.get(node, []) or len(known) >= MOST_PLANES:
            continue
        above = plane.above(_corners(geometry, node))
        if min(above.max(), -above.min()) <= ON * float(np.ptp(above)):
            continue
        asked.setdefault(node, []).append(at)
        yield _split(survey, {node: (*known, at)}, f"split {node} at the plane of {at}")
    if sum(map(len, asked.values())) > 1:
        together = {n: (*build.setup.nodes.get(n, NodeSetup()).split_at, *ats)[:MOST_PLANES] for n, ats in asked.items()}
        yield _split(survey, together, f"split {' and '.join(together)} at each other's planes")


def one_mesh(survey: Survey, names: Sequence[str], how: Literal["in_order", "sorted"]) -> Candidate:
    """Drawables as one mesh: one after the other, or their triangles sorted together."""
    numbers = np.array([survey.geometry.names[name] for name in names])
    things = [survey.geometry.drawables[d] for d in numbers]
    costs = [Cost("sorted draws", 1 - len(things), "draws")]
    materials = {d.material for d in things}
    if len(materials) > 1:
        costs.append(Cost("materials that have to be one", len(materials), "materials"))
    if how == "sorted":
        costs.append(Cost("sorted for each frame", sum(d.last - d.first for d in things), "triangles"))
    point = _point_of(survey, numbers)
    at = next(iter(point))[:2]
    title = f"draw {', '.join(names[:-1])} and {names[-1]} as one mesh, "
    return Candidate(
        change=set_leaves(
            survey.build, point | {(*at, "one_mesh"): how}, scope="project",
            title=title + ("in this order" if how == "in_order" else "farthest triangles first"),
        ),
        predicts="they stay one after the other, in one draw" if how == "in_order" else "right where they do not cross",
        costs=tuple(costs),
    )  # fmt: skip


def _point_of(survey: Survey, numbers: np.ndarray) -> dict[tuple[str, ...], object]:
    """Leaves of a sort point in the middle of drawables, first drawn first."""
    nodes = list(dict.fromkeys(survey.geometry.drawables[d].node for d in numbers))
    at = ("sort_points", " ".join(nodes))
    place = [round(float(v), 4) for v in survey.geometry.bounds[numbers].mean(axis=(0, 1))]
    return {(*at, "place_m"): place, (*at, "members"): nodes}


def crossing(geometry: Geometry, a: str, b: str) -> bool:
    """Whether the boxes around two drawables overlap."""
    (low_a, high_a), (low_b, high_b) = (geometry.bounds[geometry.names[name]] for name in (a, b))
    return bool((np.minimum(high_a, high_b) >= np.maximum(low_a, low_b)).all())


def _corners(geometry: Geometry, node: str) -> np.ndarray:
    """(n, 3) positions of all triangles of a node."""
    mine = [geometry.triangles[d.first : d.last].ravel() for d in geometry.things if d.node == node]
    return np.asarray(geometry.positions[np.concatenate(mine)])


def _split(survey: Survey, planes: dict[str, tuple[str, ...]], title: str) -> Candidate:
    leaves: dict[tuple[str, ...], object] = {("nodes", node, "split_at"): list(at) for node, at in planes.items()}
    change = set_leaves(survey.build, leaves, scope="node", title=title)
    before, after = survey.geometry, survey.renderer.geometry(apply_change(survey.build, change))
    corners, faces = len(after.positions) - len(before.positions), len(after.triangles) - len(before.triangles)
    return Candidate(
        change=change, predicts="what lies on either side is sorted by itself",
        warnings=("the mesh is cut, and has to be cut anew whenever one of them moves",),
        costs=(
            Cost("sorted draws", len(after.drawables) - len(before.drawables), "draws"), Cost("triangles", faces, "triangles"),
            Cost("corners and indices", corners * CORNER_BYTES + faces * 3 * INDEX_BYTES, "bytes"),
        ),
    )  # fmt: skip


def order_ways(survey: Survey, viewpoint: str, nearer: str, farther: str, cameras: list[Camera]) -> Iterator[Candidate]:
    """Single changes that may draw `farther` before `nearer` from all of the cameras."""
    build, setup = survey.build, survey.build.setup
    number = survey.geometry.names
    two = np.array([number[nearer], number[farther]])
    near, far = (survey.geometry.drawables[i].node for i in two)
    resolved, by = survey.resolved(viewpoint), sorting(survey.stage(viewpoint))
    if near != far and by.rank[two[0]] == by.rank[two[1]]:
        short = max((float(np.subtract(*sort_keys(survey.geometry, two, c, by))) for c in cameras), default=0.0)
        if short >= 0:
            shift = round(float(by.key_shift_m[two[1]]) + (math.floor(short * MM) + 1) / MM, 3)
            title = f"sort {farther} as if {shift:g} m farther"
            change = set_leaf(build, ("nodes", far, "key_shift_m"), shift, scope="node", title=title)
            predicts = f"the least, in millimetres, that keeps it before {nearer} in {len(cameras)} poses"
            yield Candidate(change=change, predicts=predicts)
        if not {near, far} & {m for p in setup.sort_points.values() for m in p.members}:
            title = f"sort {farther} and {nearer} by a point they share"
            predicts = "they stay one after the other from wherever they are seen"
            shared = _point_of(survey, two[::-1])
            yield Candidate(change=set_leaves(build, shared, scope="project", title=title), predicts=predicts)
            yield one_mesh(survey, (farther, nearer), "in_order")
            if crossing(survey.geometry, nearer, farther):
                yield one_mesh(survey, (farther, nearer), "sorted")
    order = resolved[Order]
    for key in (k for k in KEYS if k != order.key):
        yield Candidate(
            change=set_resolved(build, resolved, {"order.key": key}, title=f"sort by {KEYS[key]}"), predicts=SCENE_WIDE
        )
    for point in (p for p in POINTS if p != order.point):
        yield Candidate(
            change=set_resolved(build, resolved, {"order.point": point}, title=f"sort by {POINTS[point]}"), predicts=SCENE_WIDE
        )
    ranked = {n: by.rank[i] for n, i in ((near, two[0]), (far, two[1])) if by.rank[i] != 0}
    if ranked:
        ranks: dict[tuple[str, ...], object] = {("nodes", n, "draw_rank"): 0 for n in ranked}
        title = f"take out the draw rank of {' and '.join(ranked)}"
        yield Candidate(change=set_leaves(build, ranks, scope="node", title=title), predicts="sorted by the key again")
    if near != far:
        rank = int(by.rank[two[1]]) + 1
        title = f"draw rank {rank} for {nearer}"
        reached = [name for name in reach_of_rank(survey, viewpoint, near, rank, cameras) if name != farther]
        named = ", ".join(reached[:MOST_NAMED]) + (" and more" if len(reached) > MOST_NAMED else "")
        others = f": it changes places with {named} too" if reached else ""
        yield Candidate(
            change=set_leaf(build, ("nodes", near, "draw_rank"), rank, scope="node", title=title),
            predicts=f"drawn after all of a lower rank; {SCENE_WIDE}{others}",
            costs=(Cost("other pairs that change places", len(reached), "pairs"),),
        )


def reach_of_rank(survey: Survey, viewpoint: str, node: str, rank: int, cameras: list[Camera]) -> list[str]:
    """Names of all blended drawables that a node changes places with when it is given a rank, from any of the cameras."""
    geometry, stage = survey.geometry, survey.stage(viewpoint)
    drawn, now = blended_in(stage.state), sorting(stage)
    mine = np.array([geometry.drawables[d].node == node for d in drawn])
    given = replace(now, rank=np.where([d.node == node for d in geometry.drawables], rank, now.rank))
    swapped: set[int] = set()
    for camera in cameras:
        before, after = (np.argsort(draw_order(geometry, drawn, camera, by)) for by in (now, given))
        crossed = (before[mine][:, None] < before[~mine]) != (after[mine][:, None] < after[~mine])
        swapped |= set(drawn[~mine][crossed.any(axis=0)].tolist())
    return [geometry.drawables[d].name for d in sorted(swapped)]
