"""Which part of a new delivery is which of the old one: by where its triangles lie, by name, by likeness, in this order.

Triangles are held against each other in the world: what shares its triangles is the same part whatever it is called, what shares some of
them was split or merged. What shares none is the same part by its name; what is left is assigned so that likeness, place and name together
are best (linear sum assignment), and is new or gone where even that is not near."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np
from scipy.optimize import linear_sum_assignment
from scipy.sparse import coo_array
from scipy.spatial import cKDTree

from eddyfall.core.hashing import digest
from eddyfall.core.likeness.shapes import Shape, unlikeness
from eddyfall.core.likeness.units import told
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.model import Image, Material, Scene
from eddyfall.core.scene.setup import empty_setup

Kind = Literal["node", "mesh", "material", "image"]
State = Literal["same", "changed", "renamed", "moved", "split", "merged", "gone", "new"]
KINDS: tuple[Kind, ...] = ("node", "mesh", "material", "image")
TOLERANCE = 1 / 8192  # of the scene's diagonal: triangles this near are one; packed files move corners by about as much
AREA_RATIO = 0.1  # by which their areas may differ
MOST = 0.9  # share of a part's area that makes it another one's
SOME = 0.02  # share of a part's area below which nothing is made of it
MOST_ASSIGNED = 4000  # parts of each side that are assigned to each other; the first in the file
FARTHEST = 0.35  # unlikeness at which two parts are still taken for one


@dataclass(frozen=True)
class Match:
    """What became of parts `old`: parts `new`. why: in words; share: of their area that lies where it lay, None if it was not measured."""

    kind: Kind
    old: tuple[str, ...]
    new: tuple[str, ...]
    state: State
    why: str
    share: float | None = None


@dataclass(frozen=True)
class Matching:
    """All matches of a delivery, old parts in their order, then what is new."""

    matches: tuple[Match, ...]

    def of(self, kind: Kind) -> list[Match]:
        return [m for m in self.matches if m.kind == kind]

    @cached_property
    def _new_names(self) -> dict[Kind, dict[str, tuple[str, ...]]]:
        return {kind: {old: m.new for m in self.of(kind) for old in m.old} for kind in KINDS}

    @cached_property
    def _match_of(self) -> dict[Kind, dict[str, Match]]:
        return {kind: {old: m for m in self.of(kind) for old in m.old} for kind in KINDS}

    def new_names(self, kind: Kind, old: str) -> tuple[str, ...]:
        """What a part is called now: one name, several if it was split, none if it is gone."""
        return self._new_names[kind].get(old, ())

    def match_of(self, kind: Kind, old: str) -> Match | None:
        """What became of a part; None if the old delivery had none of that name."""
        return self._match_of[kind].get(old)


def match_scenes(old: Scene, new: Scene) -> Matching:
    """What each node, mesh, material and image of the old delivery is in the new one."""
    before, now = _Side(old), _Side(new)
    there, back = _shared(before, now), _shared(now, before)
    nodes = _nodes(before, now, there, back)
    materials = _materials(before, now, there, back)
    return Matching((*nodes, *_meshes(before, now, nodes), *materials, *_images(before, now, materials)))


class _Side:
    """One delivery: its triangles in the world, and whose they are."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        g = pack(scene, empty_setup())
        drawn = g.owner != g.plate
        self.corners = g.positions[g.triangles[drawn]].astype(np.float64)
        number = np.array([scene.node_number.get(d.node, -1) for d in g.drawables], np.int64)
        self.node = number[g.owner[drawn]]
        material = np.array([d.material for d in g.drawables], np.int64)
        self.material = material[g.owner[drawn]]
        self.shape = Shape(self.corners)

    def area_by(self, part: np.ndarray, count: int) -> np.ndarray:
        """(count,) m2 of each part; part (t,): whose each triangle is, -1 of none."""
        there = part >= 0
        return np.bincount(part[there], self.shape.areas[there], count)

    @cached_property
    def _by_node(self) -> dict[int, np.ndarray]:
        order = np.argsort(self.node, kind="stable")
        cuts = np.flatnonzero(np.diff(self.node[order])) + 1
        return {int(self.node[rows[0]]): rows for rows in np.split(order, cuts) if len(rows)}

    def shape_of(self, node: int) -> Shape:
        """A node's triangles in the world."""
        return Shape(self.corners[self._by_node.get(node, np.zeros(0, np.int64))])


def _shared(one: _Side, other: _Side) -> np.ndarray:
    """(t,) for each triangle of `one` the triangle of `other` that lies where it lies and is as large; -1 where there is none."""
    found = np.full(len(one.corners), -1, np.int64)
    if not len(one.corners) or not len(other.corners):
        return found
    within = max(float(np.linalg.norm(one.shape.box[1] - one.shape.box[0])) * TOLERANCE, 1e-6)
    nearest = min(4, len(other.corners))
    apart, which = cKDTree(other.corners.mean(axis=1)).query(one.corners.mean(axis=1), nearest, distance_upper_bound=within)
    apart, which = np.reshape(apart, (-1, nearest)), np.reshape(which, (-1, nearest))
    for k in range(nearest):
        near = np.flatnonzero(np.isfinite(apart[:, k]) & (found < 0))
        a, b = one.shape.areas[near], other.shape.areas[which[near, k]]
        alike = np.abs(a - b) <= AREA_RATIO * np.maximum(a, b) + within**2
        found[near[alike]] = which[near[alike], k]
    return found


@dataclass
class _Flows:
    """Pairs of an old part and a new one that share triangles: shares of the old one's area found in the new one, and the other way."""

    old: np.ndarray
    new: np.ndarray
    out: np.ndarray
    into: np.ndarray

    @cached_property
    def both(self) -> np.ndarray:
        return np.asarray(np.minimum(self.out, self.into))

    def table(self, values: np.ndarray, shape: tuple[int, int]) -> np.ndarray:
        """Values of pairs as a whole table."""
        made = np.zeros(shape)
        made[self.old, self.new] = values
        return made


def _flows(before: "_Side", now: "_Side", there: np.ndarray, back: np.ndarray, name: Literal["node", "material"]) -> _Flows:
    mine, theirs = getattr(before, name), getattr(now, name)
    shape = (int(mine.max(initial=-1)) + 1, int(theirs.max(initial=-1)) + 1)
    tables = []
    for found, own, other, areas in ((there, mine, theirs, before.shape.areas), (back, theirs, mine, now.shape.areas)):
        known = np.flatnonzero((found >= 0) & (own >= 0))
        known = known[other[found[known]] >= 0]
        table = coo_array((areas[known], (own[known], other[found[known]])), shape=shape if own is mine else shape[::-1])
        tables.append(table.tocsr() if own is mine else table.tocsr().T.tocsr())
    rows, columns = (tables[0] + tables[1]).nonzero()
    areas_old, areas_new = before.area_by(mine, shape[0]), now.area_by(theirs, shape[1])
    out = np.asarray(tables[0][rows, columns]).reshape(-1) / np.maximum(areas_old[rows], 1e-30)
    into = np.asarray(tables[1][rows, columns]).reshape(-1) / np.maximum(areas_new[columns], 1e-30)
    return _Flows(rows, columns, out, into)


def _nodes(before: _Side, now: _Side, there: np.ndarray, back: np.ndarray) -> list[Match]:
    old, new = before.scene, now.scene
    flows = _flows(before, now, there, back, "node")
    taken_old, taken_new, found = set[int](), set[int](), list[Match]()

    def take(mine: Sequence[int], theirs: Sequence[int], state: State, why: str, share: float | None) -> None:
        taken_old.update(mine)
        taken_new.update(theirs)
        found.append(
            Match("node", tuple(old.node_keys[i] for i in mine), tuple(new.node_keys[j] for j in theirs), state, why, share)
        )

    for k in _pairs(flows, old.node_keys, new.node_keys):
        i, j, both = int(flows.old[k]), int(flows.new[k]), float(flows.both[k])
        take((i,), (j,), *_kept(before, now, i, j, both), both)
    for i in np.unique(flows.old).tolist():
        of = np.flatnonzero(flows.old == i)
        parts = [k for k in of if flows.into[k] >= MOST and flows.out[k] > SOME and int(flows.new[k]) not in taken_new]
        share = float(flows.out[parts].sum())
        if i not in taken_old and len(parts) > 1 and share >= MOST:
            take((i,), flows.new[parts].tolist(), "split", f"its triangles lie in {len(parts)} nodes now", share)
    for j in np.unique(flows.new).tolist():
        of = np.flatnonzero(flows.new == j)
        parts = [k for k in of if flows.out[k] >= MOST and flows.into[k] > SOME and int(flows.old[k]) not in taken_old]
        share = float(flows.into[parts].sum())
        if j not in taken_new and len(parts) > 1 and share >= MOST:
            take(flows.old[parts].tolist(), (j,), "merged", f"{len(parts)} nodes are one now", share)
    for i, key in enumerate(old.node_keys):
        named = new.node_number.get(key)
        if i in taken_old or named is None or named in taken_new:
            continue
        if _carries(old, i) == _carries(new, named):
            take((i,), (named,), *_named_alike(before, now, i, named), None)
    _assigned(before, now, taken_old, taken_new, take)
    for i, key in enumerate(old.node_keys):
        if i not in taken_old:
            found.append(Match("node", (key,), (), "gone", "nothing in the new delivery is like it"))
    for j, key in enumerate(new.node_keys):
        if j not in taken_new:
            found.append(Match("node", (), (key,), "new", "nothing in the old delivery is like it"))
    order = {key: i for i, key in enumerate(old.node_keys)}
    return sorted(found, key=lambda m: order[m.old[0]] if m.old else len(order))


def _pairs(flows: _Flows, mine: Sequence[str], theirs: Sequence[str]) -> list[int]:
    """Rows of pairs that are each nearly all of the other, each part in one of them at most; of equals, those of one name."""
    near = np.flatnonzero(flows.both >= MOST)
    _, of_old, count_old = np.unique(flows.old[near], return_inverse=True, return_counts=True)
    _, of_new, count_new = np.unique(flows.new[near], return_inverse=True, return_counts=True)
    alone = (count_old[of_old] == 1) & (count_new[of_new] == 1)
    chosen, left = near[alone].tolist(), near[~alone]
    if len(left):
        (own, a), (other, b) = (np.unique(part[left], return_inverse=True) for part in (flows.old, flows.new))
        named = np.array([mine[i] == theirs[j] for i, j in zip(flows.old[left], flows.new[left])])
        table = np.full((len(own), len(other)), 10.0)
        table[a, b] = 1.0 - flows.both[left] - 0.05 * named
        row = {(int(x), int(y)): int(k) for x, y, k in zip(a, b, left)}
        chosen += [row[int(x), int(y)] for x, y in zip(*linear_sum_assignment(table)) if (int(x), int(y)) in row]
    return sorted(chosen)


def _kept(before: _Side, now: _Side, i: int, j: int, share: float) -> tuple[State, str]:
    """State of two nodes whose triangles lie where they lay."""
    old, new = before.scene, now.scene
    if old.node_keys[i] != new.node_keys[j]:
        return "renamed", f"{share:.0%} of its triangles lie in {new.node_keys[j]}"
    if share > 0.999 and _content(old, i) == _content(new, j):
        return "same", "its triangles lie where they lay"
    return "changed", f"{share:.1%} of its triangles lie where they lay" if share < 0.9995 else "its corners hold other values"


def _named_alike(before: _Side, now: _Side, i: int, j: int) -> tuple[State, str]:
    """State of two nodes of one name."""
    old, new = before.scene, now.scene
    still = np.allclose(old.world_matrices[i], new.world_matrices[j], atol=1e-6)
    if old.nodes[i].mesh is None or new.nodes[j].mesh is None:
        if _carried(old, i) != _carried(new, j):
            return "changed", "its light or its camera says otherwise"
        return ("same", "it stands where it stood") if still else ("moved", "it stands elsewhere")
    a, b = (Shape(_own(side.scene, n)) for side, n in ((before, i), (now, j)))
    if not still and float(unlikeness([a], [b])[0, 0]) < 0.02 and len(a.corners) == len(b.corners):
        by = np.linalg.norm(new.world_matrices[j][:3, 3] - old.world_matrices[i][:3, 3])
        return "moved", f"its shape is as it was, {by:.3g} m from where it stood"
    ratio = float(np.median(b.sides[1:] / np.maximum(a.sides[1:], 1e-12)))
    spread = 0.5 * float(np.abs(a.distances - b.distances).sum())
    if ratio > 0 and abs(np.log(ratio)) > 0.02 and spread < 0.05:
        return "changed", f"its shape is as it was, {told(ratio)}"
    return "changed", "it has its name, and other triangles"


Take = Callable[[Sequence[int], Sequence[int], State, str, float | None], None]  # old, new, state, why, share


def _assigned(before: _Side, now: _Side, taken_old: set[int], taken_new: set[int], take: Take) -> None:
    """Take what is left by likeness, place and name together."""
    old, new = before.scene, now.scene
    for carries in ("mesh", "light", "camera"):
        mine = [i for i in range(len(old.nodes)) if i not in taken_old and _carries(old, i) == carries]
        theirs = [j for j in range(len(new.nodes)) if j not in taken_new and _carries(new, j) == carries]
        if not mine or not theirs:
            continue
        far = _far(before, now, mine, theirs)
        mine, theirs = mine[:MOST_ASSIGNED], theirs[:MOST_ASSIGNED]
        names = _names_apart([old.node_keys[i] for i in mine], [new.node_keys[j] for j in theirs])
        if carries == "mesh":
            alike = unlikeness([before.shape_of(i) for i in mine], [now.shape_of(j) for j in theirs])
            cost, equal = 0.5 * alike + 0.3 * far + 0.2 * names, alike < 0.01
        else:
            equal = np.array([[_carried(old, i) == _carried(new, j) for j in theirs] for i in mine])
            cost = 0.4 * far + 0.3 * names + 0.3 * ~equal
        # The only two that are equal are one, wherever it stands and whatever it is called.
        only = equal & (equal.sum(axis=0) == 1)[None] & (equal.sum(axis=1) == 1)[:, None]
        cost = np.where(only, np.minimum(cost, FARTHEST), cost)
        for a, b in zip(*linear_sum_assignment(cost)):
            if cost[a, b] <= FARTHEST:
                i, j = mine[a], theirs[b]
                why = f"likeness, place and name are nearest ({1 - cost[a, b]:.0%})"
                take((i,), (j,), "renamed" if old.node_keys[i] != new.node_keys[j] else "changed", why, None)


def _far(before: _Side, now: _Side, mine: list[int], theirs: list[int]) -> np.ndarray:
    """(n, m) from 0, in one place, to 1: how far middles are apart, in tenths of the scene's diagonal."""
    diagonal = max(float(np.linalg.norm(before.shape.box[1] - before.shape.box[0])), 1e-6)
    places = [
        np.array([side.shape_of(i).box.mean(axis=0) if side.scene.nodes[i].mesh is not None else side.scene.world_matrices[i][:3, 3]
                  for i in numbers])
        for side, numbers in ((before, mine), (now, theirs))
    ]  # fmt: skip
    apart = np.linalg.norm(places[0][:, None] - places[1][None], axis=2)
    return np.asarray(1 - np.exp(-apart * 10 / diagonal))


def _names_apart(some: list[str], others: list[str]) -> np.ndarray:
    """(n, m) from 0, one name, to 1: by pairs of letters that both have (Dice's coefficient)."""
    pairs = [[{f" {name.lower()} "[k : k + 2] for k in range(len(name) + 1)} for name in names] for names in (some, others)]
    number = {pair: k for k, pair in enumerate(sorted({pair for names in pairs for found in names for pair in found}))}
    tables = []
    for names in pairs:
        at = np.array([(i, number[pair]) for i, found in enumerate(names) for pair in found])
        tables.append(coo_array((np.ones(len(at)), at.T), shape=(len(names), len(number))).tocsr())
    shared = (tables[0] @ tables[1].T).toarray()
    counts = [np.array([len(found) for found in names]) for names in pairs]
    return np.asarray(1 - 2 * shared / (counts[0][:, None] + counts[1][None]))


def _carries(scene: Scene, i: int) -> str:
    node = scene.nodes[i]
    return "mesh" if node.mesh is not None else "light" if node.light is not None else "camera" if node.camera is not None else ""


def _carried(scene: Scene, i: int) -> str:
    """Hash of the light or camera of a node, whatever it is called."""
    node = scene.nodes[i]
    light = None if node.light is None else replace(scene.lights[node.light], name="")
    return digest(light, None if node.camera is None else replace(scene.cameras[node.camera], name=""))


def _own(scene: Scene, i: int) -> np.ndarray:
    """(t, 3, 3) corners of a node's mesh in its own space, turned and scaled as it stands."""
    mesh = scene.nodes[i].mesh
    assert mesh is not None
    linear = scene.world_matrices[i][:3, :3]
    parts = scene.meshes[mesh].primitives
    corners = [p.positions[p.indices].astype(np.float64) for p in parts]
    return np.asarray(np.concatenate(corners or [np.zeros((0, 3, 3))]) @ linear.T)


def _content(scene: Scene, i: int) -> str:
    """Hash of what a node draws, whatever the numbers of its materials."""
    mesh = scene.nodes[i].mesh
    parts = scene.meshes[mesh].primitives if mesh is not None else ()
    return digest([(p.attributes, p.indices, p.targets) for p in parts], scene.world_matrices[i])


def _meshes(before: _Side, now: _Side, nodes: list[Match]) -> list[Match]:
    """Meshes, by the nodes that show them; what no node shows, by name."""
    old, new = before.scene, now.scene
    shows: dict[int, dict[int, int]] = {}
    for match in nodes:
        for one in match.old:
            for other in match.new:
                a, b = old.nodes[old.node_number[one]].mesh, new.nodes[new.node_number[other]].mesh
                if a is not None and b is not None:
                    counts = shows.setdefault(a, {})
                    counts[b] = counts.get(b, 0) + 1
    found, taken = [], set[int]()
    claimed = [b for counts in shows.values() for b in counts]
    for a, key in enumerate(old.mesh_keys):
        theirs = sorted(shows.get(a, {}), key=lambda b: -shows[a][b])
        if not theirs and key in new.mesh_keys and new.mesh_keys.index(key) not in taken:
            theirs = [new.mesh_keys.index(key)]
        taken.update(theirs)
        names = tuple(new.mesh_keys[b] for b in theirs)
        if not names:
            found.append(Match("mesh", (key,), (), "gone", "no node that showed it is there"))
        elif len(names) > 1:
            found.append(Match("mesh", (key,), names, "split", "nodes that showed it show several now"))
        elif claimed.count(theirs[0]) > 1:
            found.append(Match("mesh", (key,), names, "merged", "it is a part of it now"))
        else:
            same = digest(old.meshes[a].primitives) == digest(new.meshes[theirs[0]].primitives)
            state: State = "renamed" if names[0] != key else "same" if same else "changed"
            why = "it holds what it held" if same else "it holds other values"
            found.append(Match("mesh", (key,), names, state, why))
    shown = {node.mesh for node in new.nodes} - taken
    return found + [Match("mesh", (), (k,), "new", "no old node showed it") for b, k in enumerate(new.mesh_keys) if b in shown]


def _materials(before: _Side, now: _Side, there: np.ndarray, back: np.ndarray) -> list[Match]:
    """Materials, by the triangles that have them, their names and what they say."""
    old, new = before.scene, now.scene
    sizes = (len(old.materials), len(new.materials))
    flows = _flows(before, now, there, back, "material")
    out, into = (flows.table(values, sizes) for values in (flows.out, flows.into))
    named = (np.array(old.material_keys)[:, None] == np.array(new.material_keys)[None, :]).astype(float).reshape(sizes)
    looks = [[_look(side.scene, m) for m in side.scene.materials] for side in (before, now)]
    alike = _looks_alike(looks[0], looks[1])
    score = 0.5 * np.minimum(out, into) + 0.3 * named + 0.2 * alike
    found, taken = [], set[int]()
    chosen: dict[int, int] = {}
    if score.size:
        rows, columns = linear_sum_assignment(-score)
        chosen = {int(i): int(j) for i, j in zip(rows, columns) if score[i, j] >= 0.35 or (named[i, j] and score[i, j] >= 0.3)}
    taken.update(chosen.values())
    for i, key in enumerate(old.material_keys):
        more = [j for j in np.flatnonzero((into[i] >= MOST) & (out[i] > SOME)).tolist() if j not in taken]
        parts = [*([chosen[i]] if i in chosen else []), *more]
        taken.update(more)
        share = float(out[i, parts].sum()) if parts else None
        names = tuple(new.material_keys[j] for j in parts)
        if len(parts) > 1:
            found.append(Match("material", (key,), names, "split", f"what had it has {len(parts)} materials now", share))
        elif parts:
            found.append(Match("material", (key,), names, *_of_material(looks, i, parts[0], key, names[0]), share))
        else:
            other = np.flatnonzero(out[i] >= MOST)
            if len(other):
                names = (new.material_keys[int(other[0])],)
                found.append(
                    Match("material", (key,), names, "merged", f"what had it has {names[0]} now", float(out[i, other[0]]))
                )
            else:
                found.append(Match("material", (key,), (), "gone", "nothing that had it is there", None))
    fresh = [
        Match("material", (), (k,), "new", "no old material is like it")
        for j, k in enumerate(new.material_keys)
        if j not in taken
    ]
    return found + fresh


def _of_material(looks: list[list["_Look"]], i: int, j: int, old: str, new: str) -> tuple[State, str]:
    differs = [name for name in looks[0][i].values if looks[0][i].values[name] != looks[1][j].values.get(name)]
    why = "it says what it said" if not differs else "it says otherwise: " + ", ".join(differs[:4])
    return "renamed" if old != new else "same" if not differs else "changed", why


@dataclass(frozen=True)
class _Look:
    """What a material says, by field; of pictures the hash of what they hold."""

    values: dict[str, object]


def _look(scene: Scene, material: Material) -> _Look:
    values: dict[str, object] = {
        k: v for k, v in material.__dict__.items() if not k.startswith("_") and k != "name" and "texture" not in k
    }
    if not material.clearcoat:  # what few materials have is told of those alone
        values = {k: v for k, v in values.items() if not k.startswith("clearcoat")}
    for role, use in (material.every_use if material.clearcoat else material.uses).items():
        values[f"{role} map"] = None if use is None else digest(scene.images[use.image].pixels)
    return _Look(values)


def _looks_alike(old: list[_Look], new: list[_Look]) -> np.ndarray:
    """(o, n): the share of what a material says that another says too, field by field."""
    found = np.zeros((len(old), len(new)))
    names = list(dict.fromkeys(name for look in (*old, *new) for name in look.values)) if old else []
    for name in names:
        numbers: dict[object, int] = {}
        codes = [np.array([numbers.setdefault(look.values.get(name), len(numbers)) for look in side]) for side in (old, new)]
        found += codes[0][:, None] == codes[1][None, :] if len(new) else 0.0
    return found / max(len(names), 1)


def _images(before: _Side, now: _Side, materials: list[Match]) -> list[Match]:
    """Pictures: by what they hold, by name, by what matched materials read them for."""
    old, new = before.scene, now.scene
    held = [[digest(image.pixels) for image in side.images] for side in (old, new)]
    reads = {
        (m, role): use.image
        for m, material in enumerate(new.materials)
        for role, use in material.every_use.items()
        if use is not None
    }
    found, taken = [], set[int]()
    for i, image in enumerate(old.images):
        key = old.image_keys[i]
        j, why = _image_of(old, new, i, image, held, materials, reads)
        if j is None:
            found.append(Match("image", (key,), (), "gone", "nothing that read it is there"))
            continue
        taken.add(j)
        name = new.image_keys[j]
        same = held[0][i] == held[1][j]
        found.append(Match("image", (key,), (name,), "renamed" if name != key else "same" if same else "changed", why))
    return found + [
        Match("image", (), (k,), "new", "no old picture is like it") for j, k in enumerate(new.image_keys) if j not in taken
    ]


def _image_of(
    old: Scene, new: Scene, i: int, image: Image, held: list[list[str]], materials: list[Match], reads: dict[tuple[int, str], int]
) -> tuple[int | None, str]:  # fmt: skip
    key = old.image_keys[i]
    holds = [j for j, h in enumerate(held[1]) if h == held[0][i]]
    if holds:
        return next((j for j in holds if new.image_keys[j] == key), holds[0]), "it holds what it held"
    if key in new.image_keys:
        return new.image_keys.index(key), "it has its name, and holds another picture"
    numbers = {k: m for m, k in enumerate(new.material_keys)}
    for m, material in enumerate(old.materials):
        for role, use in material.every_use.items():
            if use is not None and use.image == i:
                match = next((x for x in materials if old.material_keys[m] in x.old), None)
                for name in match.new if match is not None else ():
                    if (numbers[name], role) in reads:
                        return reads[numbers[name], role], f"{name} reads it for its {role}"
    return None, ""
