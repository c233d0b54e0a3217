"""Draws frames for the web process: one at a time, the newest request of a client wins, prepared builds kept up to a number of bytes."""

import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from eddyfall.core.frame.memo import Memo, size_of
from eddyfall.core.frame.render import Renderer
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.workbench.errors import Refused

MEMO_BYTES = 768 * 1024**2
BUILDS_BYTES = 1024 * 1024**2
MEASUREMENTS = 400


@dataclass
class Studio:
    """The one renderer of this process, its lock, and the builds it has open."""

    renderer: Renderer = field(default_factory=lambda: Renderer(Memo(MEMO_BYTES)))
    lock: threading.Lock = field(default_factory=threading.Lock)
    newest: dict[str, int] = field(default_factory=dict)
    builds: "OrderedDict[str, tuple[CoreBuild, int]]" = field(default_factory=OrderedDict)
    guard: threading.Lock = field(default_factory=threading.Lock)
    known: "OrderedDict[str, Any]" = field(default_factory=OrderedDict)
    measuring: threading.RLock = field(default_factory=threading.RLock)

    def draw(self, action: Callable[[Renderer], Any], client: str = "", turn: int = 0) -> Any:
        """Run an action with the renderer to itself. Refused(409) if the same client has asked for something newer meanwhile."""
        with self.guard:
            if client:
                if len(self.newest) > 1000:
                    self.newest.clear()
                self.newest[client] = max(turn, self.newest.get(client, 0))
        with self.lock:
            if client and self.newest.get(client, 0) > turn:
                raise Refused(409, "a newer request took its place")
            return action(self.renderer)

    def build(self, key: str, make: Callable[[], CoreBuild]) -> CoreBuild:
        """The open build under a content key, opened if it is not."""
        with self.guard:
            if key in self.builds:
                self.builds.move_to_end(key)
                return self.builds[key][0]
        build = make()
        size = size_of(build.scene)
        with self.guard:
            self.builds[key] = (build, size)
            while sum(n for _, n in self.builds.values()) > BUILDS_BYTES and len(self.builds) > 1:
                self.builds.popitem(last=False)
        return build

    def measure(self, key: str, make: Callable[[], Any]) -> Any:
        """What `make` gives, under a key that names all it depends on; one measurement at a time, frames are drawn meanwhile."""
        with self.guard:
            if key in self.known:
                self.known.move_to_end(key)
                return self.known[key]
        with self.measuring:
            if key not in self.known:
                value = make()
                with self.guard:
                    self.known[key] = value
                    while len(self.known) > MEASUREMENTS:
                        self.known.popitem(last=False)
            return self.known[key]


STUDIO = Studio()
