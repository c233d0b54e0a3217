"""Levels of detail of nodes (MSFT_lod), and the shares of the picture at which each is due (MSFT_screencoverage)."""

from __future__ import annotations

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.levels import Levels
from eddyfall.core.scene.model import Mesh, Node, Skin
from eddyfall.core.scene.read.accessors import index_into, objects, part_of
from eddyfall.core.scene.read.nodes import morph_weights
from eddyfall.core.scene.read.placing import matrix_of_entry
from eddyfall.core.scene.read.reading import Reading
from eddyfall.core.scene.read.skins import skin_of

LEVELS, COVERAGE = "MSFT_lod", "MSFT_screencoverage"
MOST_LEVELS = 64


def read_levels(r: Reading, nodes: tuple[Node, ...], meshes: tuple[Mesh, ...], skins: tuple[Skin, ...]) -> tuple[Levels, ...]:
    """Of each node that is shown and has any: its further levels. A level is the shape of a node that stands for the first; what hangs
    on that node is not shown with it."""
    entries = objects(r.doc, "nodes")
    found, hung = [], set[int]()
    for i, entry in enumerate(entries):
        here = f"node {i} {nodes[i].name!r}"
        if LEVELS not in part_of(entry, "extensions", here) or nodes[i].mesh is None:
            continue
        ids = part_of(part_of(entry, "extensions", here), LEVELS, here).get("ids")
        if not isinstance(ids, list) or not 1 <= len(ids) <= MOST_LEVELS:
            raise SceneError(f"{LEVELS}.ids must list 1 to {MOST_LEVELS} nodes", here)
        further = []
        for value in ids:
            k = index_into(value, entries, "node", f"{here} {LEVELS}")
            if k == i:
                raise SceneError("it is a level of itself", here)
            level, there = entries[k], f"node {k} {nodes[k].name!r}"
            mesh = level.get("mesh")
            mesh = None if mesh is None else index_into(mesh, list(meshes), "mesh", there)
            shape = None if mesh is None else meshes[mesh]
            if nodes[k].mesh is not None:
                r.notes.append(f"{there} is a level of {here} and stands in the scene, too: it is always drawn")
            if level.get("children"):
                hung.add(k)
            skin, weights = skin_of(r, level, there, shape, skins), morph_weights(r, level, there, mesh, meshes)
            further.append(Node(nodes[k].name, matrix_of_entry(level, there), nodes[i].parent, mesh, skin=skin, weights=weights))
        found.append(Levels(i, tuple(further), _coverage(part_of(entry, "extras", here).get(COVERAGE), len(ids) + 1, here)))
    if hung:
        r.notes.append(f"left out: what hangs on {len(hung)} nodes that are levels of others")
    return tuple(found)


def _coverage(value: object, most: int, here: str) -> tuple[float, ...]:
    """Shares of the picture, falling: one a level, of which fewer may be said."""
    if value is None:
        return ()
    sound = isinstance(value, list) and len(value) <= most
    shares = (
        [float(v) for v in value if isinstance(v, (int, float)) and not isinstance(v, bool)] if isinstance(value, list) else []
    )
    if not sound or len(shares) != len(value) or any(not 0 <= v <= 1 for v in shares) or shares != sorted(shares, reverse=True):  # type: ignore[arg-type]
        raise SceneError(f"{COVERAGE} must be at most {most} falling shares of 0 to 1", here)
    return tuple(shares)
