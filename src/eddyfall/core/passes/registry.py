"""The list of passes. A pass registers itself when its module is imported; nothing else needs to know it."""

from typing import Any

from eddyfall.core.passes.contract import Pass

_passes: dict[str, Pass[Any]] = {}


def register(new: Pass[Any]) -> Pass[Any]:
    """Add a pass (or replace one of the same name). ValueError if its targets are not among what it writes."""
    strange = [t.name for t in new.targets if t.name not in new.writes]
    if strange:
        raise ValueError(f"pass {new.name} has a target {strange[0]} that it does not write")
    _passes[new.name] = new
    return new


def unregister(name: str) -> None:
    """Take a pass out again."""
    _passes.pop(name, None)


def passes() -> tuple[Pass[Any], ...]:
    """All passes, in the order they are drawn."""
    return tuple(sorted(_passes.values(), key=lambda p: p.number))
