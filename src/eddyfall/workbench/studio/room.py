"""What a process has open: one renderer, and one memory for builds, passes, pictures and measurements."""

import threading
from collections.abc import Callable
from contextvars import ContextVar
from dataclasses import dataclass, field
from typing import Any

from django.conf import settings

from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer
from eddyfall.core.scene.build import Build as CoreBuild

# Called between the steps of long work: raises Dropped when whoever asked has gone.
STILL_WANTED: ContextVar[Callable[[], None]] = ContextVar("still_wanted", default=lambda: None)


@dataclass
class Studio:
    """The renderer of this process, its lock, and all that the process remembers, within one number of bytes."""

    memory: Memo = field(default_factory=lambda: Memo(settings.MEMORY_BYTES))
    lock: threading.RLock = field(default_factory=threading.RLock)
    measuring: threading.RLock = field(default_factory=threading.RLock)

    def __post_init__(self) -> None:
        self.renderer = Renderer(self.memory)

    def draw(self, action: Callable[[Renderer], Any]) -> Any:
        """Run an action with the renderer to itself, as long as it is wanted."""
        with self.lock:
            self.renderer.between = STILL_WANTED.get()
            self.renderer.ran.clear()
            return action(self.renderer)

    def build(self, key: str, make: Callable[[], CoreBuild]) -> CoreBuild:
        """The open build under a key that names its content; opened once, however many ask for it."""
        build: CoreBuild = self.memory.once(f"build {key}", make)
        return build

    def measure(self, key: str, make: Callable[[], Any]) -> Any:
        """What `make` gives, under a key that names all it depends on; one measurement at a time, frames are drawn meanwhile."""
        known = self.memory.get(key)
        if known is not None:
            return known
        with self.measuring:
            return self.memory.once(key, make)


STUDIO = Studio()
