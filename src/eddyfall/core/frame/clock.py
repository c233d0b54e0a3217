"""Where time goes: seconds by name, what one thing spends inside another counted for the inner one alone."""

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager


class Clock:
    """Counts for as long as it lives. Threads have a stack of their own and add to the same sums."""

    def __init__(self) -> None:
        self.seconds: dict[str, float] = {}
        self._lock, self._own = threading.Lock(), threading.local()

    @contextmanager
    def timing(self, name: str) -> Iterator[None]:
        """Inside, time is spent for `name`, but for what is counted further inside."""
        stack: list[float] = self._own.__dict__.setdefault("stack", [])
        start = time.perf_counter()
        stack.append(0.0)
        try:
            yield
        finally:
            taken = time.perf_counter() - start
            inner = stack.pop()
            if stack:
                stack[-1] += taken
            with self._lock:
                self.seconds[name] = self.seconds.get(name, 0.0) + taken - inner

    def shares(self, prefix: str = "") -> list[tuple[str, float]]:
        """(name without the prefix, share 0..1 of all that is counted), largest first, of the names that begin with it."""
        total = sum(self.seconds.values()) or 1.0
        found = [(name[len(prefix) :], s / total) for name, s in self.seconds.items() if name.startswith(prefix)]
        return sorted(found, key=lambda f: -f[1])
