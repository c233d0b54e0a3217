"""What a process has open: one renderer, and one memory for builds, passes, pictures and measurements.

The number of bytes a process is given is for all of it: code, what is remembered, and what a frame takes while it is drawn. What is
remembered gives way when the process is larger than that.
"""

import contextlib
import os
import threading
from collections.abc import Callable, Iterator
from contextvars import ContextVar
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from django.conf import settings

from eddyfall.core.frame.memo import Memo, give_back
from eddyfall.core.frame.render import Renderer
from eddyfall.core.scene.build import Build as CoreBuild

# Called between the steps of long work: raises Dropped when whoever asked has gone.
STILL_WANTED: ContextVar[Callable[[], None]] = ContextVar("still_wanted", default=lambda: None)
CODE_SHARE = 0.2  # of the bytes given: code, kernels, and what a usual frame takes while it is drawn
LARGE_SHARE = 0.1  # a scene of more than this share of the bytes given is worked on one question at a time


def resident_bytes() -> int:
    """Memory this process takes of the machine."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


@dataclass
class Studio:
    """The renderer of this process, its lock, and all that the process remembers, within one number of bytes."""

    memory: Memo = field(default_factory=lambda: Memo(int(settings.MEMORY_BYTES * (1 - CODE_SHARE))))
    lock: threading.RLock = field(default_factory=threading.RLock)
    measuring: threading.RLock = field(default_factory=threading.RLock)
    heavy: threading.RLock = field(default_factory=threading.RLock)

    def __post_init__(self) -> None:
        self.renderer = Renderer(self.memory)

    @contextlib.contextmanager
    def alone_if_large(self, scene_bytes: int) -> Iterator[None]:
        """Inside, no other question works on a large scene: what each takes besides what is remembered does not add up."""
        if scene_bytes <= settings.MEMORY_BYTES * LARGE_SHARE:
            yield
            return
        with self.heavy:
            self.settle()
            yield
            self.settle()

    def settle(self) -> None:
        """Forget the oldest and give memory back to the machine while the process is larger than it was given."""
        over = resident_bytes() - settings.MEMORY_BYTES
        if over <= 0:
            return
        give_back()
        over = resident_bytes() - settings.MEMORY_BYTES
        if over > 0:
            self.memory.shrink(over)
            give_back()

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
