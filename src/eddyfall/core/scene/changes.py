"""Changes: Build -> Build. Either an RFC 6902 patch on the normalised setup, or a named operation on buffers.

File format: {"eddyfall_changes": 1, "changes": [...]}. Each replace is preceded by a test of the old value, so conflicts show.
"""

import weakref
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Literal

import jsonpatch
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from eddyfall.core.errors import ChangeError, SetupError
from eddyfall.core.scene.build import Build, check_keys
from eddyfall.core.scene.names import short_id
from eddyfall.core.scene.read.container import parse_json
from eddyfall.core.scene.resolve import Resolved
from eddyfall.core.scene.setup import Setup, normalised, parse_setup
from eddyfall.core.scene.setup.document import first_fault

Scope = Literal["node", "material", "shader", "mesh", "viewpoint", "role", "target", "project"]
SCOPE_ORDER: tuple[Scope, ...] = ("node", "mesh", "material", "shader", "viewpoint", "role", "target", "project")
MAX_OPS = 1000
MAX_CHANGES = 10_000


class Op(BaseModel):
    """One RFC 6902 operation; move and copy are not used, since they hide what they overwrite."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    op: Literal["add", "replace", "remove", "test"]
    path: str = Field(pattern="^/", max_length=2000)
    value: Any = None


class Operation(BaseModel):
    """A named change to buffers with its parameters."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    name: str
    params: dict[str, Any] = Field(default_factory=dict)


class Change(BaseModel):
    """One change with its scope and the reason for it. Exactly one of patch and operation is set."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    id: str = Field(min_length=1, max_length=200)
    title: str = ""
    scope: Scope
    reason: str = ""
    author: str = ""
    patch: tuple[Op, ...] = Field(default=(), max_length=MAX_OPS)
    operation: Operation | None = None


class ChangeFile(BaseModel):
    """A file of changes, applied in order."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    eddyfall_changes: Literal[1] = 1
    changes: tuple[Change, ...] = Field(default=(), max_length=MAX_CHANGES)


OPERATIONS: dict[str, Callable[..., Build]] = {}
TAKE_LIGHT: set[str] = set()  # operations that are given where stored light comes from, as a third argument


def operation(name: str, takes_light: bool = False) -> Callable[[Callable[..., Build]], Callable[..., Build]]:
    """Register a buffer operation (build, parameters) -> build under a name; takes_light: it is handed `light` of `apply_change` too."""

    def register(function: Callable[..., Build]) -> Callable[..., Build]:
        OPERATIONS[name] = function
        if takes_light:
            TAKE_LIGHT.add(name)
        return function

    return register


def read_changes(path: Path | str) -> tuple[Change, ...]:
    """Changes in a file. ChangeError with the broken rule."""
    path = Path(path)
    try:
        return ChangeFile.model_validate(parse_json(path.read_bytes(), ChangeError)).changes
    except OSError as error:
        raise ChangeError(f"cannot be read: {error.strerror}", file=path.name) from None
    except ValidationError as error:
        raise ChangeError(*first_fault(error), file=path.name) from None
    except ChangeError as error:
        raise error.in_file(path.name) from None


def apply_change(build: Build, change: Change, light: Any = None) -> Build:
    """The build after one change. ChangeError (with the change's id and the rule) if it does not apply; nothing is half done.

    light: where a bake takes gathered light from (`core.bake.maps.store.StoredLight`); None gathers what is not at hand, so that the
    result is that of build and change alone."""
    try:
        if change.operation is not None:
            if change.patch:
                raise ChangeError("has both a patch and an operation")
            if change.operation.name not in OPERATIONS:
                raise ChangeError(
                    f"operation {change.operation.name!r} does not exist; there are: {', '.join(sorted(OPERATIONS))}"
                )
            given = (light,) if change.operation.name in TAKE_LIGHT else ()
            return OPERATIONS[change.operation.name](build, change.operation.params, *given)
        ops = [op.model_dump() if op.op != "remove" else {"op": op.op, "path": op.path} for op in change.patch]
        whole, taken_out = normalised(build.setup), {op["path"] for op in ops if op["op"] == "remove"}
        document = jsonpatch.apply_patch(whole, [found for op in ops for found in _entry_kept(whole, op, taken_out)])
        if not isinstance(document, dict):
            raise ChangeError("leaves no setup document")
        setup = parse_setup(document)
        check_keys(build.scene, setup)
        return replace(build, setup=setup)
    except jsonpatch.JsonPatchTestFailed:
        raise ChangeError("the value it was made for is no longer there (test failed)", f"change {change.id}") from None
    except (jsonpatch.JsonPatchException, jsonpatch.JsonPointerException, KeyError, IndexError, TypeError) as error:
        raise ChangeError(f"does not apply: {str(error)[:200]}", f"change {change.id}") from None
    except SetupError as error:
        raise ChangeError(f"leaves a setup that breaks a rule: {error}", f"change {change.id}") from None
    except ChangeError as error:
        error.where = error.where or f"change {change.id}"
        raise


def apply_together(build: Build, changes: Sequence[Change]) -> Build:
    """The build after many changes that do not build on one another: their patches as one. ChangeError if any of them does not apply."""
    patches = [change for change in changes if change.operation is None]
    for change in changes:
        if change.operation is not None:
            build = apply_change(build, change)
    if not patches:
        return build
    seen: dict[str, Op] = {}
    for op in (op for change in patches for op in change.patch):
        known = seen.setdefault(f"{op.op} {op.path}", op)
        if known != op:
            raise ChangeError(f"two changes set {op.path} to different values")
    whole = Change.model_construct(
        id="together", title="", scope="project", reason="", author="", patch=tuple(seen.values()), operation=None
    )
    return apply_change(build, whole)


def apply_changes(build: Build, changes: Sequence[Change], light: Any = None) -> Build:
    """All changes in order; ChangeError names the first that does not apply. light: as in `apply_change`."""
    for change in changes:
        build = apply_change(build, change, light)
    return build


_plain: dict[int, dict[str, Any]] = {}


def _plain_setup(setup: Setup) -> dict[str, Any]:
    """The normalised setup, for reading only, remembered while the setup lives: a thousand remedies are written against one."""
    known = _plain.get(id(setup))
    if known is None:
        known = _plain[id(setup)] = normalised(setup)
        weakref.finalize(setup, _plain.pop, id(setup), None)
    return known


def _entry_kept(document: dict[str, Any], op: dict[str, Any], taken_out: set[str]) -> list[dict[str, Any]]:
    """An operation as it is; one that adds a table's entry which another change has made meanwhile, as one for each of its leaves, so that
    what the other set stays."""
    parts = op["path"].split("/")[1:]
    table = document.get(parts[0]) if len(parts) == 2 else None
    key = parts[-1].replace("~1", "/").replace("~0", "~")
    if (
        op["op"] != "add"
        or op["path"] in taken_out
        or not isinstance(op["value"], dict)
        or not isinstance(table, dict)
        or not isinstance(table.get(key), dict)
    ):
        return [op]
    return _leaves_added(table[key], op["path"], op["value"])


def _leaves_added(entry: dict[str, Any], path: str, value: dict[str, Any]) -> list[dict[str, Any]]:
    ops: list[dict[str, Any]] = []
    for key, inner in value.items():
        at = f"{path}/{key.replace('~', '~0').replace('/', '~1')}"
        if isinstance(inner, dict) and isinstance(entry.get(key), dict):
            ops += _leaves_added(entry[key], at, inner)
        else:
            ops.append({"op": "add", "path": at, "value": inner})
    return ops


def set_leaf(
    build: Build, path: tuple[str, ...], value: Any, *, scope: Scope, title: str, reason: str = "", author: str = ""
) -> Change:
    """A change that sets one leaf of the setup, making its table entry if it is not there yet."""
    return set_leaves(build, {path: value}, scope=scope, title=title, reason=reason, author=author)


def set_leaves(
    build: Build, values: dict[tuple[str, ...], Any], *, scope: Scope, title: str, reason: str = "", author: str = ""
) -> Change:
    """A change that sets several leaves: test and replace where the leaf exists, add of the missing entry where not."""
    document = _plain_setup(build.setup)
    ops: list[Op] = []
    made: dict[str, dict[str, Any]] = {}
    for path, value in values.items():
        at: Any = document
        for depth, key in enumerate(path):
            if isinstance(at, dict) and key in at:
                at = at[key]
                continue
            entry = pointer(path[: depth + 1])
            if depth == len(path) - 1:
                ops.append(Op(op="add", path=entry, value=value))
            else:
                nested = made.setdefault(entry, {})
                for inner in path[depth + 1 : -1]:
                    nested = nested.setdefault(inner, {})
                nested[path[-1]] = value
            break
        else:
            if at != value:
                ops += [Op(op="test", path=pointer(path), value=at), Op(op="replace", path=pointer(path), value=value)]
    ops += [Op(op="add", path=entry, value=value) for entry, value in made.items()]
    name = "+".join(".".join(path) for path in values)
    return Change(
        id=short_id(f"{name}={list(values.values())}"), title=title, scope=scope, reason=reason, author=author, patch=tuple(ops)
    )


def set_resolved(
    build: Build, resolved: Resolved, values: dict[str, Any], *, title: str, reason: str = "", author: str = ""
) -> Change:
    """A change that sets project leaves ("section.field" -> value) so that they hold for what was resolved.

    Where a target, role or viewpoint overrides the first of them, all are set there: set in the project they would be overridden.
    """
    place = resolved.leaves[next(iter(values))].place
    scope: Scope = next((s for s in SCOPE_ORDER if place and place[0] == f"{s}s"), "project")
    paths = {(*place, *leaf.split(".")): value for leaf, value in values.items()}
    return set_leaves(build, paths, scope=scope, title=title, reason=reason, author=author)


def pointer(path: tuple[str, ...]) -> str:
    """RFC 6901 pointer of a key path."""
    return "".join("/" + key.replace("~", "~0").replace("/", "~1") for key in path)


def difference(raw: dict[str, Any], before: dict[str, Any], after: dict[str, Any]) -> list[dict[str, Any]]:
    """RFC 6902 patch of the user's own document: one hunk (test + replace, add or remove) for each leaf that changed.

    before, after: normalised setups. Leaves the user never wrote are added, the rest of the document is left alone.
    """
    ops: list[dict[str, Any]] = []
    _compare((), raw, before, after, ops)
    return ops


def _compare(path: tuple[str, ...], raw: Any, before: Any, after: Any, ops: list[dict[str, Any]]) -> None:
    if before == after:
        return
    nested = isinstance(before, dict) and isinstance(after, dict)
    if nested and isinstance(raw, dict):
        for key in sorted({*before, *after}):
            here = (*path, key)
            if key not in after:
                ops.append({"op": "remove", "path": pointer(here)})
            elif key not in before:
                ops.append({"op": "add", "path": pointer(here), "value": after[key]})
            elif before[key] != after[key]:
                if key in raw:
                    _compare(here, raw[key], before[key], after[key], ops)
                elif isinstance(before[key], dict) and isinstance(after[key], dict):
                    ops.append({"op": "add", "path": pointer(here), "value": _changed_only(before[key], after[key])})
                else:
                    ops.append({"op": "add", "path": pointer(here), "value": after[key]})
        return
    ops += [{"op": "test", "path": pointer(path), "value": raw}, {"op": "replace", "path": pointer(path), "value": after}]


def _changed_only(before: dict[str, Any], after: dict[str, Any]) -> dict[str, Any]:
    result = {}
    for key, value in after.items():
        if key not in before:
            result[key] = value
        elif before[key] != value:
            result[key] = (
                _changed_only(before[key], value) if isinstance(value, dict) and isinstance(before[key], dict) else value
            )
    return result


def rename_clashes(changes: Sequence[Change]) -> tuple[Change, ...]:
    """The changes with ids made unique."""
    seen: dict[str, int] = {}
    result = []
    for change in changes:
        seen[change.id] = seen.get(change.id, 0) + 1
        result.append(change if seen[change.id] == 1 else change.model_copy(update={"id": f"{change.id}~{seen[change.id]}"}))
    return tuple(result)
