"""The list of sections. A section registers itself when its module is imported; nothing else needs to know it."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from eddyfall.core.scene.setup.leaf import Section

S = TypeVar("S", bound=Section)


@dataclass(frozen=True)
class _Registered:
    kind: type[Section]
    place: float
    by_viewpoint: bool


_known: dict[str, _Registered] = {}


def register_section(name: str, *, place: float, by_viewpoint: bool = False) -> Callable[[type[S]], type[S]]:
    """Add a section of settings under a key of the setup document (or replace the one there).

    place: its place in the document and in the interface; by_viewpoint: whether a viewpoint may set it for itself alone."""

    def add(kind: type[S]) -> type[S]:
        _known[name] = _Registered(kind, place, by_viewpoint)
        return kind

    return add


def unregister_section(name: str) -> None:
    """Take a section out again."""
    _known.pop(name, None)


def sections() -> dict[str, type[Section]]:
    """All sections by name, in their order."""
    return {name: known.kind for name, known in sorted(_known.items(), key=lambda item: item[1].place)}


def set_by_viewpoints() -> tuple[str, ...]:
    """Names of the sections that a viewpoint may set for itself."""
    return tuple(name for name in sections() if _known[name].by_viewpoint)


def name_of(kind: type[Section]) -> str:
    """The key of a section in the document. KeyError if it is not registered."""
    for name, known in _known.items():
        if known.kind is kind:
            return name
    raise KeyError(kind.__name__)
