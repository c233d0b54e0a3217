"""Whose turn it is: fair by person, bounded, and given up by who has gone.

People take turns, however much each has asked for; what one person asked for is done in order. A queue that is full refuses at once with a
time after which it is worth asking again.
"""

import contextlib
import math
import threading
import time
from collections import OrderedDict, deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from eddyfall.workbench.errors import Dropped, Refused

LOOK_EVERY_S = 0.2  # how often someone who waits looks whether their client is still there
NEWEST_KEPT = 2000


def here() -> bool:
    """Whoever asks is still there."""
    return False


@dataclass
class _Ticket:
    person: str
    client: str = ""
    number: int = 0
    called: threading.Event = field(default_factory=threading.Event)
    overtaken: bool = False


class Turns:
    """width: how many at once; a_person, in_all: how many may wait."""

    def __init__(self, width: int = 1, a_person: int = 24, in_all: int = 64) -> None:
        self.width, self.a_person, self.in_all = width, a_person, in_all
        self._lock = threading.Lock()
        self._waiting: OrderedDict[str, deque[_Ticket]] = OrderedDict()  # the person whose turn is next stands first
        self._newest: OrderedDict[tuple[str, str], int] = OrderedDict()
        self._busy = 0
        self._usual_s = 0.5

    @property
    def waiting(self) -> int:
        """How many wait."""
        with self._lock:
            return sum(map(len, self._waiting.values()))

    @contextlib.contextmanager
    def turn(self, person: str, gone: Callable[[], bool] = here, client: str = "", number: int = 0) -> Iterator[None]:
        """Wait for a turn and hold it.

        client, number: a request of the same client with a larger number takes the place of one that still waits, which is Refused(409).
        Refused(429) when too many wait; Dropped when `gone` says that nobody waits for the answer.
        """
        ticket = _Ticket(person, client, number)
        self._join(ticket)
        try:
            while not ticket.called.wait(LOOK_EVERY_S):
                if gone():
                    raise Dropped
            if ticket.overtaken:
                raise Refused(409, "a newer request took its place")
        except BaseException:
            self._leave(ticket)
            raise
        start = time.monotonic()
        try:
            yield
        finally:
            self._done(time.monotonic() - start)

    def _join(self, ticket: _Ticket) -> None:
        with self._lock:
            self._overtake(ticket)
            mine = self._waiting.get(ticket.person, ())
            in_all = sum(map(len, self._waiting.values()))
            if len(mine) >= self.a_person or in_all >= self.in_all:
                ahead = in_all if in_all >= self.in_all else len(mine)
                raise Refused(429, "too much is waiting to be drawn; ask again shortly",
                              retry_after_s=math.ceil(min(ahead * self._usual_s / self.width, 60)) or 1)  # fmt: skip
            self._waiting.setdefault(ticket.person, deque()).append(ticket)
            self._call()

    def _overtake(self, ticket: _Ticket) -> None:
        """The newest request of a client wins, whichever arrives first."""
        if not ticket.client:
            return
        key = (ticket.person, ticket.client)
        if self._newest.get(key, 0) > ticket.number:
            raise Refused(409, "a newer request took its place")
        self._newest[key] = ticket.number
        self._newest.move_to_end(key)
        if len(self._newest) > NEWEST_KEPT:
            self._newest.popitem(last=False)
        for other in list(self._waiting.get(ticket.person, ())):
            if other.client == ticket.client and other.number < ticket.number:
                self._remove(other)
                other.overtaken = True
                other.called.set()

    def _call(self) -> None:
        """Call who is next, as long as there is room."""
        while self._busy < self.width and self._waiting:
            person, tickets = self._waiting.popitem(last=False)
            ticket = tickets.popleft()
            if tickets:
                self._waiting[person] = tickets  # at the end: everybody else comes first
            self._busy += 1
            ticket.called.set()

    def _remove(self, ticket: _Ticket) -> bool:
        tickets = self._waiting.get(ticket.person)
        if tickets is None or ticket not in tickets:
            return False
        tickets.remove(ticket)
        if not tickets:
            del self._waiting[ticket.person]
        return True

    def _leave(self, ticket: _Ticket) -> None:
        """Give a place up; a turn that had just been called goes on to the next."""
        with self._lock:
            if not self._remove(ticket) and ticket.called.is_set() and not ticket.overtaken:
                self._busy -= 1
                self._call()

    def _done(self, took_s: float) -> None:
        with self._lock:
            self._usual_s += 0.2 * (took_s - self._usual_s)
            self._busy -= 1
            self._call()
