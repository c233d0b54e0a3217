"""Values remembered under keys that follow by themselves from what their computation read.

`derive(memo, make, *arguments)` calls a plain function once for each different set of things it reads and remembers the result.
Plain arguments count by content. A scene, a setup or a build is handed over as a recorder: which of its fields are read is noted, and
the key is made of these fields alone (a constructive trace, Mokhov, Mitchell & Peyton Jones 2018, from memory). So nothing can be
left out of a key: what is not in it was not read.
"""

import weakref
from collections.abc import Callable
from dataclasses import dataclass
from threading import Lock, RLock
from time import perf_counter
from typing import Any, NamedTuple

from eddyfall.core.frame.memo import Memo
from eddyfall.core.hashing import digest
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.model import Scene
from eddyfall.core.scene.setup import Setup
from eddyfall.core.scene.setup.leaf import Section
from eddyfall.core.scene.setup.registry import name_of

TRACED_S = 1.0  # what a set of traces is worth: lost, all that was made under it is made again
MOST_TRACES = 16  # of one computation: sets of fields that different builds made it read


class Known(NamedTuple):
    """A value, and the key that stands for all that it was made from."""

    value: Any
    key: str


@dataclass(frozen=True)
class Later:
    """An argument that is fetched only when something has to be computed of it; `key` stands for all that it will be made from."""

    key: str
    fetch: Callable[[], Any]


@dataclass
class _Traces:
    """For one function and its plain arguments: the sets of fields it has read so far."""

    fields: list[tuple[str, ...]]
    held_bytes: int = 2000


_gates: dict[str, RLock] = {}
_gates_lock = Lock()
_field_digests: dict[int, dict[str, str]] = {}


def derive(memo: Memo, make: Callable[..., Any], *arguments: Any) -> Known:
    """What make(*arguments) gives. make: a function of a module, not a lambda and not one that closes over something else.

    Arguments: `Known` and `Later` values (passed on as their values, counted by keys), scenes, setups, builds (recorded), or
    anything that can be hashed by content. TypeError for functions whose reads cannot be followed."""
    name = f"{make.__module__}.{make.__qualname__}"
    if "<" in name or getattr(make, "__closure__", None) or getattr(make, "__self__", None) is not None:
        raise TypeError(f"{name}: what it reads cannot be followed; make it a function of a module")
    roots = {str(i): a for i, a in enumerate(arguments) if isinstance(a, (Build, Scene, Setup))}
    base = digest(name, [_plain(a) for a in arguments])
    with _gate(base):
        traces = memo.get("reads " + base)
        if traces is None:
            traces = _Traces([])
            memo.put("reads " + base, traces, TRACED_S)
        for read in traces.fields:
            key = _key(base, read, roots)
            entry = memo.get(key)
            if entry is not None:
                return Known(entry[0], key)
        log: dict[str, None] = {}
        given = [_given(str(i), a, log) for i, a in enumerate(arguments)]
        start = perf_counter()
        value = make(*given)
        taken = perf_counter() - start
        read = tuple(sorted(log))
        if read not in traces.fields:
            traces.fields.insert(0, read)
            del traces.fields[MOST_TRACES:]
        key = _key(base, read, roots)
        memo.put(key, (value,), taken)
        return Known(value, key)


def _gate(base: str) -> RLock:
    """One lock for each computation, so that two threads that want the same wait for one another."""
    with _gates_lock:
        if len(_gates) > 10_000:
            for key in [k for k, lock in _gates.items() if lock.acquire(blocking=False)]:
                _gates.pop(key).release()
        return _gates.setdefault(base, RLock())


def _plain(argument: Any) -> Any:
    if isinstance(argument, (Known, Later)):
        return argument.key
    return "recorded" if isinstance(argument, (Build, Scene, Setup)) else argument


def _given(path: str, argument: Any, log: dict[str, None]) -> Any:
    if isinstance(argument, Known):
        return argument.value
    if isinstance(argument, Later):
        return argument.fetch()
    return _Recorder(argument, path, log) if isinstance(argument, (Build, Scene, Setup)) else argument


class _Recorder:
    """Stands for a build, scene or setup and notes which fields are read of it."""

    __slots__ = ("_log", "_of", "_path")

    def __init__(self, of: Any, path: str, log: dict[str, None]) -> None:
        object.__setattr__(self, "_of", of)
        object.__setattr__(self, "_path", path)
        object.__setattr__(self, "_log", log)

    def __getattr__(self, name: str) -> Any:
        value = getattr(self._of, name)
        if isinstance(value, (Scene, Setup)):
            return _Recorder(value, f"{self._path}.{name}", self._log)
        if callable(value):
            raise TypeError(f"{type(self._of).__name__}.{name} cannot be followed; read the fields instead")
        self._log[f"{self._path}.{name}"] = None
        return value

    def __getitem__(self, kind: type[Section]) -> Any:
        return getattr(self, name_of(kind))

    def __setattr__(self, name: str, value: Any) -> None:
        raise TypeError("what is recorded is not changed")


def _key(base: str, read: tuple[str, ...], roots: dict[str, Any]) -> str:
    values = []
    for path in read:
        root, *names = path.split(".")
        at = roots[root]
        for name in names[:-1]:
            at = getattr(at, name)
        values.append(_field_digest(at, names[-1]))
    return digest(base, read, values)


def _field_digest(owner: Any, name: str) -> str:
    """Content hash of one field of a scene, setup or build, remembered while it lives."""
    known = _field_digests.get(id(owner))
    if known is None:
        known = _field_digests[id(owner)] = {}
        weakref.finalize(owner, _field_digests.pop, id(owner), None)
    if name not in known:
        known[name] = digest(getattr(owner, name))
    return known[name]
