"""What becomes of every edit: a three-way merge of each leaf by what it is of (delivered before, yours, delivered now).

Where nothing else was delivered, yours stays; where yours is what is delivered now, it is done with; where both changed, it is asked.
Operations on buffers are done again on what is delivered now. Nothing is dropped without a row that says why."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache
from typing import Any, Literal

import numpy as np

from eddyfall.core import defects  # noqa: F401  (registers the buffer operations)
from eddyfall.core.bake.maps.store import StoredLight
from eddyfall.core.delivery.keys import Gone, Place, document_now, place_of, receiver_names, value_now
from eddyfall.core.delivery.matching import Kind, Matching, match_scenes
from eddyfall.core.errors import ChangeError, EddyfallError, SetupError
from eddyfall.core.intake import finish_build
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, Op, Operation, apply_change, pointer, set_leaves
from eddyfall.core.scene.model import Scene
from eddyfall.core.scene.setup import normalised, parse_setup

Fate = Literal["kept", "moved", "adapted", "delivered", "asked", "lost"]
Answer = Literal["before", "yours", "delivered"]
NOT_SET = "(not set)"
SAME_PLACE_M = 1e-4
KINDS_OF_PARAMS: dict[str, Kind] = {"node": "node", "mesh": "mesh", "material": "material", "image": "image"}
OF_FILE: dict[str, str] = {"double_sided": "double_sided", "transmission": "transmission", "blend": "alpha_mode"}  # of a material


@dataclass(frozen=True)
class Edit:
    """One leaf, or one operation, of a kept change. number: its place among the change's; path: as it was called; to: as it is called
    now; before, yours, delivered: values; why: in words what became of it."""

    change: str
    number: int
    title: str
    path: str
    to: tuple[str, ...]
    before: Any
    yours: Any
    delivered: Any
    fate: Fate
    why: str
    answer: Answer | None = None

    @property
    def key(self) -> str:
        """By which an answer names it."""
        return f"{self.change}:{self.number}"


@dataclass(frozen=True)
class Carried:
    """matching; head: the old build with its edits; base: the delivery before any edit; changes: what to keep on it, and origins: ids of
    the old changes that each is of; result: base with them; edits; notes of keys that could not follow."""

    matching: Matching
    head: Build
    base: Build
    changes: tuple[Change, ...]
    origins: tuple[str, ...]
    result: Build
    edits: tuple[Edit, ...]
    notes: tuple[str, ...]

    @property
    def asked(self) -> list[Edit]:
        """What is still to be answered."""
        return [e for e in self.edits if e.fate == "asked" and e.answer is None]


def carry(
    old: Build, changes: Sequence[Change], new: Scene, delivered: dict[str, Any] | None = None, answers: Mapping[str, Answer] | None = None
) -> Carried:  # fmt: skip
    """A build's kept changes on a new delivery of its scene. delivered: the setup document that came with it; None: the old one goes on,
    under the names of now. answers: by `Edit.key`; what is not answered is drawn as yours.

    Raises ChangeError for an answer to what is not asked; SetupError if a delivered setup breaks a rule."""
    matching = match_scenes(old.scene, new)
    if delivered is None:
        raw, notes = document_now(old.raw_setup, matching, old.scene)
    else:
        raw, notes = delivered, []
    base = _base(new, raw, notes, asked_back=delivered is None)
    work = _Work(old, base, matching, dict(answers or {}))
    for change in changes:
        work.take(change)
    if work.answers:
        raise ChangeError(f"nothing is asked of {sorted(work.answers)[0]!r}")
    return Carried(
        matching, work.mine, base, tuple(work.kept), tuple(work.origins), work.result, tuple(work.edits), tuple(notes)
    )  # fmt: skip


def _base(new: Scene, raw: dict[str, Any], notes: list[str], asked_back: bool) -> Build:
    """The delivery with its settings. asked_back: a leaf that no longer holds (an order of triangles that are other ones) is left out, and
    said; else it is the delivery's own fault."""
    while True:
        try:
            return finish_build(new, parse_setup(raw), raw, list(new.notes))
        except SetupError as error:
            path = next((p for p, _ in _taken_apart((), raw) if ".".join(p) == error.where), None)
            if not asked_back or path is None:
                raise
            notes.append(f"{error.where}: {error.rule}")
            raw = _without(raw, path)


def _without(document: dict[str, Any], path: tuple[str, ...]) -> dict[str, Any]:
    if len(path) == 1:
        return {k: v for k, v in document.items() if k != path[0]}
    return {k: _without(v, path[1:]) if k == path[0] else v for k, v in document.items()}


@dataclass
class _Work:
    old: Build
    base: Build
    matching: Matching
    answers: dict[str, Answer]
    kept: list[Change] = field(default_factory=list)
    origins: list[str] = field(default_factory=list)
    edits: list[Edit] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.mine, self.result = self.old, self.base  # the old delivery and the new one, each with the edits so far
        self.before, self.delivered = normalised(self.old.setup), normalised(self.base.setup)
        # By new path: whose edit set it, to what, and of which old part; by old path: the edit that was asked.
        self.set: dict[tuple[str, ...], tuple[str, Any, str]] = {}
        self.questions: dict[tuple[str, ...], Edit] = {}

    def take(self, change: Change) -> None:
        if change.operation is not None:
            self._operation(change, change.operation)
        else:
            self._leaves(change)
        self.mine = apply_change(self.mine, change, StoredLight(gathers=False))

    def _keep(self, change: Change, origin: str) -> None:
        """Keep a change under an id that no other one has. EddyfallError if it does not apply."""
        taken, number, given = {c.id for c in self.kept}, 1, change.id
        while given in taken:
            number += 1
            given = f"{change.id}~{number}"
        change = change.model_copy(update={"id": given})
        self.result = apply_change(self.result, change, StoredLight(gathers=False))
        self.kept.append(change)
        self.origins.append(origin)

    def _row(self, change: Change, path: str, to: Sequence[str], values: tuple[Any, Any, Any], fate: Fate, why: str) -> Edit:
        number = sum(e.change == change.id for e in self.edits)
        edit = Edit(change.id, number, change.title, path, tuple(to), *values, fate, why)
        if fate == "asked":
            edit = replace(edit, answer=self.answers.pop(edit.key, None))
        self.edits.append(edit)
        return edit

    def _leaves(self, change: Change) -> None:
        values: dict[tuple[str, ...], Any] = {}
        removed: list[tuple[str, ...]] = []
        first = len(self.edits)
        for path, value in leaves_of(change):
            place = place_of(path, self.matching)
            edit, wanted = self._leaf(change, path, value, place)
            if edit.fate in ("delivered", "lost") or edit.answer == "delivered":
                continue
            for to in place.paths:
                self.set[to] = (edit.key, wanted, place.old)
                if wanted is GONE:
                    removed.append(to)
                else:
                    values[to] = wanted
        self._set(change, values, removed, first)

    def _leaf(self, change: Change, path: tuple[str, ...], value: Any, place: Place) -> tuple[Edit, Any]:
        """A leaf's row, and the value that it is to have now."""
        name, to = ".".join(path), [".".join(p) for p in place.paths]
        before, yours = _told(self._before(path)), _told(value)
        if not place.paths:
            match = self.matching.match_of(place.kind, place.old) if place.kind is not None else None
            why = f"{place.kind} {place.old} is gone" + (f": {match.why}" if match is not None else "")
            return self._row(change, name, to, (before, yours, None), "lost", why), None
        try:
            wanted = value if value is GONE else value_now(path, value, self.matching)
            was = self._before(path)
            was = was if was is GONE else value_now(path, was, self.matching)
        except Gone as gone:
            return self._row(change, name, to, (before, yours, None), "lost", str(gone)), None
        now = self._delivered(place.paths[0])
        row = (_told(was), _told(wanted), _told(now))
        clash = next(
            (self.set[p] for p in place.paths if p in self.set and self.set[p][1] != wanted and self.set[p][2] != place.old), None
        )
        merged = place.kind is not None and len(getattr(self.matching.match_of(place.kind, place.old), "old", ())) > 1
        if clash is not None and merged:
            edit = self._row(change, name, to, row, "asked", f"{clash[0]} set it otherwise, of what it is one with now")
        elif _alike(now, wanted) and not self._stays(place):
            return self._row(change, name, to, row, "delivered", "the delivery says so itself"), wanted
        elif path in self.questions and self.questions[path].answer in ("before", "delivered"):
            return self._row(change, name, to, row, "lost", f"{self.questions[path].key} is answered otherwise"), wanted
        elif not _alike(now, was) and path not in self.questions:
            edit = self._row(change, name, to, row, "asked", "it was delivered otherwise, and you changed it")
            self.questions[path] = edit
        elif len(place.paths) > 1:
            edit = self._row(change, name, to, row, "adapted", f"{place.old} is {len(place.paths)} now: each has it")
        elif merged:
            edit = self._row(
                change, name, to, row, "adapted", f"{place.old} is a part of {place.paths[0][1]} now, all of which has it"
            )
        elif place.paths != (path,) or wanted != value:
            edit = self._row(change, name, to, row, "moved", self._why(place))
        else:
            edit = self._row(change, name, to, row, "kept", self._why(place))
        return edit, was if edit.answer == "before" else wanted

    def _why(self, place: Place) -> str:
        match = self.matching.match_of(place.kind, place.old) if place.kind is not None else None
        return match.why if match is not None else "it is of the project, or of what the setup adds"

    def _stays(self, place: Place) -> bool:
        """Whether an earlier edit has set a leaf to something else, so that this one is still needed."""
        return any(p in self.set for p in place.paths)

    def _before(self, path: tuple[str, ...]) -> Any:
        return _value(self.before, path, self.old.scene)

    def _delivered(self, path: tuple[str, ...]) -> Any:
        return _value(self.delivered, path, self.base.scene)

    def _set(self, change: Change, values: dict[tuple[str, ...], Any], removed: list[tuple[str, ...]], first: int) -> None:
        """Keep what a change sets under the names of now; leaf by leaf, if it does not apply as a whole."""
        whole = self._change(change, values, removed)
        if whole is None:
            return
        try:
            self._keep(whole, change.id)
        except EddyfallError as error:
            if len(values) + len(removed) == 1:
                self._lost(change, first, next(iter(values), (removed or [()])[0]), str(error))
                return
            for path in removed:
                self._set(change, {}, [path], first)
            for path, value in values.items():
                self._set(change, {path: value}, [], first)

    def _change(self, change: Change, values: dict[tuple[str, ...], Any], removed: list[tuple[str, ...]]) -> Change | None:
        document = normalised(self.result.setup)
        outs = tuple(Op(op="remove", path=pointer(p)) for p in removed if _at(document, p) is not GONE)
        made = set_leaves(
            self.result, values, scope=change.scope, title=change.title, reason=change.reason, author=change.author
        )  # fmt: skip
        patch = (*outs, *made.patch)
        if not patch:
            return None
        return made.model_copy(update={"id": change.id, "patch": patch})

    def _lost(self, change: Change, first: int, path: tuple[str, ...], why: str) -> None:
        for k in range(first, len(self.edits)):
            if self.edits[k].change == change.id and ".".join(path) in self.edits[k].to:
                self.edits[k] = replace(self.edits[k], fate="lost", why=f"it does not apply any more: {why}")

    def _operation(self, change: Change, operation: Operation) -> None:
        """Do an operation again under the names of now, on each part that its part was split into."""
        parts = [str(operation.params[k]) for k in KINDS_OF_PARAMS if isinstance(operation.params.get(k), str)]
        path = " ".join([operation.name, *parts])
        try:
            params, kind, old = self._params(operation)
        except Gone as gone:
            self._row(change, path, (), (None, None, None), "lost", str(gone))
            return
        names = [str(next((p[k] for k in KINDS_OF_PARAMS if k in p), operation.name)) for p in params]
        fate, why, values = self._of_operation(operation, kind, old, params)
        edit = self._row(change, path, names, values, fate, why)
        if fate == "delivered" or edit.answer == "delivered":
            return
        index = len(self.edits) - 1
        for one in params:
            if fate == "asked":
                one = self._answered(operation, one, values, edit.answer or "yours")
            try:
                self._keep(change.model_copy(update={"operation": Operation(name=operation.name, params=one)}), change.id)
            except EddyfallError as error:
                self.edits[index] = replace(self.edits[index], fate="lost", why=f"it does not apply any more: {error}")
                return

    def _params(self, operation: Operation) -> tuple[list[dict[str, Any]], Kind | None, str]:
        """Parameters under the names of now, one set for each part; what they are of. Gone if that is not there."""
        params = dict(operation.params)
        first: Kind | None = None
        old, sets = "", [params]
        for name, kind in KINDS_OF_PARAMS.items():
            value = params.get(name)
            if name == "mesh" and "of" in params:
                continue  # it is brought along
            if not isinstance(value, str) or self.matching.match_of(kind, value) is None:
                continue
            names = self.matching.new_names(kind, value)
            if not names:
                raise Gone(f"{kind} {value!r} is not in the new delivery")
            if first is None:
                first, old = kind, value
                sets = [{**p, name: n} for p in sets for n in names]
            else:
                sets = [{**p, name: names[min(k, len(names) - 1)]} for k, p in enumerate(sets)]
        if isinstance(params.get("maps"), list):
            maps = [
                [n, *m[1:]] for m in params["maps"] if isinstance(m, list) and m for n in receiver_names(str(m[0]), self.matching)
            ]
            sets = [{**p, "maps": maps} for p in sets]
        if isinstance(params.get("receivers"), list):
            sets = [
                {**p, "receivers": [n for r in params["receivers"] for n in receiver_names(str(r), self.matching)]} for p in sets
            ]
        return sets, first, old

    def _of_operation(
        self, operation: Operation, kind: Kind | None, old: str, params: list[dict[str, Any]]
    ) -> tuple[Fate, str, tuple[Any, Any, Any]]:
        if kind is None:
            if operation.name.split(".")[0] in ("bake", "probes", "grids") and operation.name != "probes.place":
                return (
                    "adapted",
                    "it is looked up again; what was made for the old delivery is stale until it is made again",
                    (None,) * 3,
                )
            return "kept", "it is of the whole build", (None, None, None)
        match = self.matching.match_of(kind, old)
        assert match is not None
        values = self._around(operation, old, params[0])
        if values is not None and len(params) == 1:
            before, yours, delivered = values
            if _near(delivered, yours):
                return "delivered", "the delivery says so itself", values
            if not _near(delivered, before):
                return "asked", "it was delivered otherwise, and you changed it", values
        told = values or (None, None, None)
        if len(params) > 1:
            return "adapted", f"{old} is {len(params)} now: it is done to each", told
        if match.state in ("merged", "split") or (values is None and match.state not in ("same", "renamed")):
            return "adapted", f"it is done again to what is delivered now ({match.why})", told
        return ("kept" if match.new == match.old else "moved"), match.why, told

    def _around(self, operation: Operation, old: str, params: dict[str, Any]) -> tuple[Any, Any, Any] | None:
        """Delivered before, yours and delivered now, of operations that set one value; None of others."""
        if operation.name == "node.move":
            number = self.mine.scene.node_number[old]
            places = [self.old.scene.world_matrices[number][:3, 3], self.mine.scene.world_matrices[number][:3, 3]]
            now = self.base.scene.world_matrices[self.base.scene.node_number[params["node"]]][:3, 3]
            return places[0].tolist(), (places[1] + np.array(operation.params["by_m"], float)).tolist(), now.tolist()
        if operation.name == "material.metallic":
            scenes = ((self.old.scene, old), (self.base.scene, params["material"]))
            metals = [s.materials[s.material_keys.index(k)].metallic for s, k in scenes]
            return metals[0], operation.params["value"], metals[1]
        return None

    def _answered(
        self, operation: Operation, params: dict[str, Any], values: tuple[Any, Any, Any], answer: Answer
    ) -> dict[str, Any]:
        """Parameters that come to an answer on what is delivered now."""
        wanted = values[0] if answer == "before" else values[1]
        if operation.name == "node.move":
            scene = self.result.scene
            there = scene.world_matrices[scene.node_number[params["node"]]][:3, 3]
            return {**params, "by_m": (np.array(wanted) - there).tolist()}
        return {**params, "value": wanted}


class _Gone:
    def __repr__(self) -> str:
        return NOT_SET


GONE = _Gone()  # the value of a leaf that is not there


def leaves_of(change: Change) -> list[tuple[tuple[str, ...], Any]]:
    """(path, value) of each leaf that a patch sets, in its order; GONE for what it takes out. Objects are taken apart."""
    found: list[tuple[tuple[str, ...], Any]] = []
    for op in change.patch:
        path = tuple(part.replace("~1", "/").replace("~0", "~") for part in op.path.split("/")[1:])
        if op.op == "remove":
            found.append((path, GONE))
        elif op.op != "test":
            found += _taken_apart(path, op.value)
    return found


def _taken_apart(path: tuple[str, ...], value: Any) -> list[tuple[tuple[str, ...], Any]]:
    if isinstance(value, dict) and value:
        return [leaf for key, inner in value.items() for leaf in _taken_apart((*path, key), inner)]
    return [(path, value)]


def _value(document: dict[str, Any], path: tuple[str, ...], scene: Scene) -> Any:
    """What a leaf comes to: where a setup leaves it open, what the scene file says."""
    value = _at(document, path)
    if value is GONE and path[0] in ENTRY_DEFAULTS and len(path) > 2:
        value = _at(_defaults(path[0]), path[2:])
    if value is not None or len(path) != 3:
        return value
    if path[0] == "materials" and path[2] in OF_FILE and path[1] in scene.material_keys:
        said = getattr(scene.materials[scene.material_keys.index(path[1])], OF_FILE[path[2]])
        return {"OPAQUE": "opaque", "MASK": "cutout", "BLEND": "blended"}.get(said, said)
    if path[0] == "lights" and path[2] == "range_m" and path[1] in scene.node_number:
        light = scene.nodes[scene.node_number[path[1]]].light
        return scene.lights[light].range_m if light is not None else None
    return value


@cache
def _defaults(table: str) -> dict[str, Any]:
    """An entry of a table that says nothing."""
    entry: dict[str, Any] = normalised(parse_setup({"eddyfall_setup": 1, table: {"entry": {}}}))[table]["entry"]
    return entry


ENTRY_DEFAULTS = ("nodes", "materials", "meshes", "lights", "shaders")


def _at(document: Any, path: tuple[str, ...]) -> Any:
    for key in path:
        if isinstance(document, dict) and key in document:
            document = document[key]
        elif isinstance(document, list) and key.isdigit() and int(key) < len(document):
            document = document[int(key)]
        else:
            return GONE
    return document


def _alike(a: Any, b: Any) -> bool:
    return (a is b) if a is GONE or b is GONE else bool(a == b)


def _near(a: Any, b: Any) -> bool:
    return bool(np.allclose(a, b, rtol=0, atol=SAME_PLACE_M))


def _told(value: Any) -> Any:
    return NOT_SET if value is GONE else value
