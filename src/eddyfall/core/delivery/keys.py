"""How the keys of a setup follow what they name: in tables, and wherever a value names a part of the scene."""

from typing import Any, NamedTuple

from eddyfall.core.delivery.matching import Kind, Matching
from eddyfall.core.scene.model import Scene

KEYED: dict[str, Kind] = {"nodes": "node", "lights": "node", "materials": "material", "meshes": "mesh"}
# Where a value names a part: a path, * for any key; its last step {} for keys of an object.
NAMING: dict[tuple[str, ...], Kind] = {
    ("mirrors", "*", "node"): "node",
    ("volumes", "*", "node"): "node",
    ("viewpoints", "*", "camera"): "node",
    ("sort_points", "*", "members"): "node",
    ("nodes", "*", "split_at"): "node",
    ("light_sets", "*", "on", "{}"): "node",
    ("materials", "*", "maps", "*", "image"): "image",
    ("shaders", "*", "slots", "*", "default"): "image",
    ("meshes", "*", "copies", "*", "material"): "material",
    ("lightmaps", "*", "*", "image"): "image",
    ("probe_maps", "*", "*", "image"): "image",
    ("grid_maps", "*", "*", "image"): "image",
}
NEEDED = ("mirrors", "volumes", "lightmaps", "probe_maps", "grid_maps")  # entries that mean nothing without what they name


class Gone(Exception):
    """What a value names is not there any more."""


class Place(NamedTuple):
    """Where a leaf of the old setup stands in the new one: paths, none if what it is of is gone; kind, old: what it is of, if anything."""

    paths: tuple[tuple[str, ...], ...]
    kind: Kind | None
    old: str


def place_of(path: tuple[str, ...], matching: Matching) -> Place:
    """Where a leaf of the old setup stands in the new one."""
    kind = KEYED.get(path[0]) if len(path) > 1 else None
    if path[:1] == ("lightmaps",) and len(path) > 1:
        return Place(tuple((path[0], name, *path[2:]) for name in receiver_names(path[1], matching)), "node", path[1])
    if kind is None or matching.match_of(kind, path[1]) is None:  # of the project, or of something that the setup itself adds
        return Place((path,), None, "")
    return Place(tuple((path[0], name, *path[2:]) for name in matching.new_names(kind, path[1])), kind, path[1])


def receiver_names(receiver: str, matching: Matching) -> tuple[str, ...]:
    """What a receiver of lightmaps is called now: a node, or a node and the material of one of its parts."""
    node, slash, part = receiver.partition("/")
    if matching.match_of("node", receiver) is not None:
        return matching.new_names("node", receiver)
    names = matching.new_names("node", node)
    if not slash or len(names) != 1:
        return ()
    parts = matching.new_names("material", part) if matching.match_of("material", part) is not None else (part,)
    return tuple(f"{names[0]}/{p}" for p in parts)


def named_by(path: tuple[str, ...]) -> Kind | None:
    """What the value of a leaf names, if anything."""
    for pattern, kind in NAMING.items():
        if len(pattern) == len(path) and all(a in ("*", b) for a, b in zip(pattern, path)):
            return kind
    return None


def value_now(path: tuple[str, ...], value: Any, matching: Matching) -> Any:
    """A leaf's value, as the new delivery calls what it names. Gone if that is not there; of a list, what is left."""
    kind = named_by(path)
    if kind is None or value is None:
        return value
    if isinstance(value, list):
        names = [name for old in value for name in _now(kind, old, matching)]
        if value and not names:
            raise Gone(f"{kind} {value[0]!r} is not in the new delivery")
        return names
    names = list(_now(kind, value, matching))
    if not names:
        raise Gone(f"{kind} {value!r} is not in the new delivery")
    return names[0]


def _now(kind: Kind, old: Any, matching: Matching) -> tuple[str, ...]:
    if not isinstance(old, str) or matching.match_of(kind, old) is None:
        return (old,)
    return matching.new_names(kind, old)


def document_now(raw: dict[str, Any], matching: Matching, old: Scene) -> tuple[dict[str, Any], list[str]]:
    """A setup document with its keys as the new delivery calls what they name, and what could not follow, in words. Of a part that was
    split each gets what it had; of parts that are one now the first one's stays. A viewpoint whose camera is gone stands where that was."""
    notes: list[str] = []
    made: dict[str, Any] = {}
    for table, entries in raw.items():
        if not isinstance(entries, dict):
            made[table] = entries
            continue
        rows: dict[str, Any] = {}
        for key, entry in entries.items():
            paths = place_of((table, key), matching).paths
            if not paths:
                notes.append(f"{table}.{key}: what it is of is not in the new delivery")
            for path in paths:
                name = path[-1]
                if name in rows:
                    notes.append(f"{table}.{key}: {name} has the settings of another that it is one with now")
                    continue
                try:
                    rows[name] = _entry_now((table, key), entry, matching, old, notes)
                except Gone as gone:
                    notes.append(f"{table}.{key}: {gone}")
        made[table] = rows
    return made, notes


def _entry_now(path: tuple[str, ...], value: Any, matching: Matching, old: Scene, notes: list[str]) -> Any:
    if isinstance(value, dict):
        made: dict[str, Any] = {}
        for key, inner in value.items():
            keyed = named_by((*path, "{}"))
            names = (key,) if keyed is None else _now(keyed, key, matching)
            try:
                now = _entry_now((*path, key), inner, matching, old, notes)
            except Gone as gone:
                if path[0] in NEEDED:
                    raise
                if path[0] == "viewpoints":
                    made.update(_stood(old, inner))
                    notes.append(f"{'.'.join(path)}: {gone}; it stands where that was")
                else:
                    notes.append(f"{'.'.join((*path, key))}: {gone}")
                continue
            made |= dict.fromkeys(names, now)
        return made
    return value_now(path, value, matching)


def _stood(old: Scene, camera: str) -> dict[str, Any]:
    """Eye, target and field of view of a camera's node."""
    number = old.node_number[camera]
    world, lens = old.world_matrices[number], old.nodes[number].camera
    assert lens is not None
    eye = world[:3, 3]
    fov = float(old.cameras[lens].fov_y_rad) * 57.29577951308232
    return {"eye": eye.tolist(), "target": (eye - world[:3, 2]).tolist(), "fov_y_deg": min(max(fov, 1.0), 170.0)}
