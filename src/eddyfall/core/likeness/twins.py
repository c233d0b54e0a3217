"""What could stand where something is missing: the meshes of a build and of a library, by shape, and by how their ends fit.

A shape is known where an older delivery had it; where it is guessed (from a gap in an even row, or from the name of an empty node), it is
called a guess."""

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from eddyfall.core.likeness.align import TURNS, Aligned, Target, align
from eddyfall.core.likeness.ends import End, ends_of, misfit_m
from eddyfall.core.likeness.shapes import Shape, unlikeness
from eddyfall.core.scene.changes import Change, Operation
from eddyfall.core.scene.graft import packed
from eddyfall.core.scene.model import Scene
from eddyfall.core.scene.names import short_id

ALIGNED, BEYOND = (
    12,
    0.2,
)  # candidates of the most alike that are laid over what is missing, and how much less alike than the best
EVEN = 0.01  # by which steps of a row may differ
LEAST_ROW = 3
How = Literal["older delivery", "name", "gap in a row"]


@dataclass(frozen=True)
class Missing:
    """name: of the empty node, or of what a gap is among; place (4, 4): where it is to stand; shape: as it should be, in its own space,
    None if nothing tells; guess: whether that is one; like: what its shape was taken from."""

    name: str
    how: How
    place: np.ndarray
    shape: Shape | None
    guess: bool
    like: str


@dataclass(frozen=True)
class Twin:
    """A candidate: mesh, of the build or of a library's file; aligned: how it lies on what is missing; end_fit_m: how far its open ends are
    from the neighbours' where it fits best, None if either has none; each shown apart; place (4, 4): where it would stand; shape: its
    own triangles."""

    mesh: str
    source: str
    unlike: float
    aligned: Aligned | None
    end_fit_m: float | None
    place: np.ndarray
    shape: Shape | None = None


HERE = "this build"
AS_IT_IS = Aligned(np.eye(3), np.zeros(3), False, 0.0, 0.0)


def stands_in(what: Missing, twin: Twin, here: Scene | None = None, library: Sequence[tuple[str, Scene]] = ()) -> Change | None:
    """The change by which a twin stands where something is missing; one of a file of the library is brought along to the scene `here`. None
    without that file, or if its mesh is larger than a change holds."""
    params: dict[str, Any] = {"node": what.name, "mesh": twin.mesh, "place": [float(v) for v in np.ravel(twin.place)]}
    if twin.source != HERE:
        other = next((scene for name, scene in library if name == twin.source), None)
        known = frozenset(here.material_keys) if here is not None else frozenset[str]()
        brought = None if other is None else packed(other, other.mesh_keys.index(twin.mesh), known)
        if brought is None:
            return None
        params["of"] = brought
    title = f"{twin.mesh} stands in for {what.name}"
    return Change(
        id=short_id(f"node.stand_in={params}"),
        title=title,
        scope="node",
        operation=Operation(name="node.stand_in", params=params),
    )


def shape_of(scene: Scene, mesh: int) -> Shape:
    """A mesh's triangles in its own space."""
    parts = scene.meshes[mesh].primitives
    return Shape(np.concatenate([p.positions[p.indices].astype(np.float64) for p in parts] or [np.zeros((0, 3, 3))]))


def placed(scene: Scene, node: int) -> Shape:
    """A node's triangles in the world."""
    mesh = scene.nodes[node].mesh
    assert mesh is not None
    world = scene.world_matrices[node]
    return Shape(shape_of(scene, mesh).corners @ world[:3, :3].T + world[:3, 3])


def missing(scene: Scene, older: Scene | None = None, expected: Sequence[str] = ()) -> list[Missing]:
    """What is missing in a scene: empty nodes that an older delivery had a shape for, those of `expected` and those named like one that has
    a shape, and gaps in even rows."""
    found: list[Missing] = []
    for i, node in enumerate(scene.nodes):
        key = scene.node_keys[i]
        if node.mesh is not None or node.light is not None or node.camera is not None:
            continue
        if any(n.parent == i for n in scene.nodes):
            continue
        place = scene.world_matrices[i]
        if (
            older is not None
            and (there := older.node_number.get(key)) is not None
            and (mesh := older.nodes[there].mesh) is not None
        ):
            found.append(Missing(key, "older delivery", place, shape_of(older, mesh), False, older.mesh_keys[mesh]))
            continue
        like = _named_like(scene, key)
        if like is not None:
            mesh = scene.nodes[like].mesh
            assert mesh is not None
            found.append(Missing(key, "name", place, shape_of(scene, mesh), True, scene.node_keys[like]))
        elif key in expected:
            found.append(Missing(key, "name", place, None, True, ""))
    return [*found, *_gaps(scene)]


def _named_like(scene: Scene, key: str) -> int | None:
    """A node with a shape whose name differs in its number alone."""
    stem = re.sub(r"\d+", "#", key)
    if stem == key:
        return None
    return next(
        (i for i, n in enumerate(scene.nodes) if n.mesh is not None and re.sub(r"\d+", "#", scene.node_keys[i]) == stem), None
    )


def _gaps(scene: Scene) -> Iterator[Missing]:
    """Places that an even row of one mesh leaves out."""
    of_mesh: dict[int, list[int]] = {}
    for i, node in enumerate(scene.nodes):
        if node.mesh is not None:
            of_mesh.setdefault(node.mesh, []).append(i)
    for mesh, nodes in of_mesh.items():
        if len(nodes) < LEAST_ROW:
            continue
        places = np.array([scene.world_matrices[i][:3, 3] for i in nodes])
        _, sizes, axes = np.linalg.svd(places - places.mean(axis=0), full_matrices=False)
        if sizes[0] <= 0 or sizes[1] > EVEN * sizes[0]:
            continue  # in no line
        along = places @ axes[0]
        order = np.argsort(along)
        steps = np.diff(along[order])
        step = float(np.median(steps))
        if step <= 0 or not (np.abs(steps / step - np.round(steps / step)) <= EVEN).all():
            continue
        many = np.flatnonzero(np.round(steps / step) > 1)
        if len(many) > 1 or (len(many) == 1 and len(nodes) < LEAST_ROW + 1):
            continue
        for k in many:
            for j in range(1, int(np.round(steps[k] / step))):
                before = nodes[int(order[k])]
                place = np.array(scene.world_matrices[before])
                place[:3, 3] += (places[order[k + 1]] - places[order[k]]) * j / np.round(steps[k] / step)
                name = scene.node_keys[before]
                yield Missing(f"after {name}", "gap in a row", place, shape_of(scene, mesh), True, scene.mesh_keys[mesh])


def shapes_of(scene: Scene, library: Sequence[tuple[str, Scene]] = ()) -> list[tuple[str, str, Shape]]:
    """(file, mesh, shape) of all meshes with an area of a scene and of a library's files."""
    found = [(HERE, key, shape_of(scene, m)) for m, key in enumerate(scene.mesh_keys)]
    found += [(name, key, shape_of(other, m)) for name, other in library for m, key in enumerate(other.mesh_keys)]
    return [one for one in found if one[2].area > 0]


def twins(
    scene: Scene, what: Missing, library: Sequence[tuple[str, Scene]] = (), most: int = 5,
    progress: Callable[[str, float], None] = lambda what, share: None,
) -> list[Twin]:  # fmt: skip
    """The meshes that are most like what is missing, best first: by how far the surfaces are apart, where its shape is known, else by how
    their ends fit. library: (name, scene) of files whose meshes are looked among too."""
    candidates = shapes_of(scene, library)
    around = _ends_around(scene, what)
    found: list[Twin] = []
    if what.shape is not None and what.shape.area > 0:
        unlike = unlikeness([what.shape], [c[2] for c in candidates])[0]
        target = Target(what.shape)
        nearest = np.argsort(unlike, kind="stable")[:ALIGNED]
        chosen = [i for k, i in enumerate(nearest) if k < most or unlike[i] <= unlike.min() + BEYOND]
        for k, i in enumerate(chosen):
            progress(f"laying {candidates[i][1]} over it", k / len(chosen))
            source, key, shape = candidates[i]
            same = np.array_equal(shape.corners, what.shape.corners)
            aligned = AS_IT_IS if same else align(shape, target)
            inner = np.eye(4)
            inner[:3, :3], inner[:3, 3] = aligned.linear, aligned.shift
            place = what.place @ inner
            found.append(Twin(key, source, float(unlike[i]), aligned, _fit(shape, place, around), place, shape))
        return sorted(found, key=lambda t: t.aligned.apart_m if t.aligned else np.inf)[:most]
    for source, key, shape in candidates:
        fitted = _best_turn(shape, what.place, around)
        found.append(Twin(key, source, 1.0, None, fitted[0], fitted[1], shape))
    return sorted(found, key=lambda t: np.inf if t.end_fit_m is None else t.end_fit_m)[:most]


def _ends_around(scene: Scene, what: Missing) -> list[End]:
    """Open ends of what stands near the place of what is missing."""
    reach = 2 * float(np.linalg.norm(what.shape.box[1] - what.shape.box[0])) if what.shape is not None else 2.0
    found = []
    for i, node in enumerate(scene.nodes):
        if node.mesh is None:
            continue
        shape = placed(scene, i)
        middle = what.place[:3, 3]
        away = np.maximum(np.maximum(shape.box[0] - middle, middle - shape.box[1]), 0)
        if np.linalg.norm(away) <= reach:
            found += [e for e in ends_of(shape) if np.linalg.norm(e.middle - middle) <= reach]
    return found


def _fit(shape: Shape, place: np.ndarray, around: list[End]) -> float | None:
    return misfit_m([End(e.points @ place[:3, :3].T + place[:3, 3]) for e in ends_of(shape)], around)


def _best_turn(shape: Shape, place: np.ndarray, around: list[End]) -> tuple[float | None, np.ndarray]:
    """How well a shape's ends fit, and where it then stands, by the best of the turns about its place."""
    ends, best = ends_of(shape), place
    least: float | None = None
    for turn in TURNS:
        inner = np.eye(4)
        inner[:3, :3] = turn
        at = place @ inner
        fit = misfit_m([End(e.points @ at[:3, :3].T + at[:3, 3]) for e in ends], around)
        if fit is not None and (least is None or fit < least - 1e-9):
            least, best = fit, at
    return least, best
