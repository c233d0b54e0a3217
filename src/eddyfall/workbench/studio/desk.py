"""Where the rest of the server asks for what takes the renderer or an open build.

In the web process the question goes to the studio's process over a socket (EDDYFALL_STUDIO names it); where there is none, in tests and
in the worker, it is answered here and now. A question is a function of the services with plain arguments; a `Ref` among them is opened
where it is answered, so that builds never travel.
"""

import contextlib
import os
import pickle
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from multiprocessing.connection import Client, Connection
from typing import Any, Literal

from django.db import connection

from eddyfall.core.errors import EddyfallError
from eddyfall.core.scene.build import Build as CoreBuild
from eddyfall.workbench.errors import Dropped, Refused
from eddyfall.workbench.studio.room import STILL_WANTED, STUDIO
from eddyfall.workbench.studio.turns import Turns, here

Lane = Literal["draw", "measure", "open"]
FRONT_DESK_MOST = (
    48  # questions of one web process at the studio; the rest of its threads stay free for pages, lists and pictures
)
START_S = 15.0  # how long a studio that is starting again is waited for
LOOK_EVERY_S = 0.2


class Ref:
    """Something large, by name: opened where the question is answered."""

    def open(self) -> Any:
        """The thing itself. NotThere if it was deleted."""
        raise NotImplementedError


@dataclass(frozen=True)
class Question:
    """work(*args, **named) in a lane, for a person; client and number: see Turns.turn. stream: `tell` is given to work, and what it is
    called with goes out as it comes."""

    lane: Lane
    person: str
    work: Callable[..., Any]
    args: tuple[Any, ...] = ()
    named: dict[str, Any] = field(default_factory=dict)
    client: str = ""
    number: int = 0
    stream: bool = False


TURNS: dict[Lane, Turns] = {"draw": Turns(1), "measure": Turns(1), "open": Turns(3)}
_places = threading.BoundedSemaphore(FRONT_DESK_MOST)


def ask(question: Question, gone: Callable[[], bool] = here) -> Any:
    """The answer. Refused with 429 when too much waits, 503 while the studio is away; Dropped when the client has gone."""
    answer = None
    for kind, value in tell_all(question, gone):
        if kind == "answer":
            answer = value
    return answer


def tell_all(question: Question, gone: Callable[[], bool] = here) -> Iterator[tuple[str, Any]]:
    """("item", what work told) as it comes, then ("answer", what it returned)."""
    address = os.environ.get("EDDYFALL_STUDIO")
    if not address:
        items: list[Any] = []
        value = answer_here(question, items.append, gone)
        yield from (("item", item) for item in items)
        yield "answer", value
        return
    if not _places.acquire(blocking=False):
        raise Refused(429, "too much is waiting to be drawn; ask again shortly", retry_after_s=5)
    try:
        if not connection.in_atomic_block:
            connection.close()  # nobody waits for a frame with a connection of the database in their hand
        yield from _from_studio(address, question, gone)
    finally:
        _places.release()


def answer_here(question: Question, tell: Callable[[Any], None], gone: Callable[[], bool] = here) -> Any:
    """Do a question in this thread, when its turn comes."""

    def wanted() -> None:
        if gone():
            raise Dropped

    token = STILL_WANTED.set(wanted)
    try:
        with TURNS["open"].turn(question.person, gone):
            args = [a.open() if isinstance(a, Ref) else a for a in question.args]
            if question.lane == "open":
                return question.work(*args, **question.named)
        large = max((scene_bytes(a) for a in args if isinstance(a, CoreBuild)), default=0)
        with TURNS[question.lane].turn(question.person, gone, question.client, question.number), STUDIO.alone_if_large(large):
            return question.work(*args, **question.named, **({"tell": tell} if question.stream else {}))
    finally:
        STILL_WANTED.reset(token)


def scene_bytes(build: CoreBuild) -> int:
    """Bytes of a build's meshes, each counted once."""
    return sum(array.nbytes for mesh in build.scene.meshes for part in mesh.primitives for array in part.attributes.values())


def _from_studio(address: str, question: Question, gone: Callable[[], bool]) -> Iterator[tuple[str, Any]]:
    tried = 0
    while True:
        tried += 1
        begun = False
        with contextlib.closing(_reach(address, gone)) as line:
            try:
                line.send(question)
                while True:
                    while not line.poll(LOOK_EVERY_S):
                        if gone():
                            raise Dropped
                    kind, value = line.recv()
                    if kind == "refused":
                        status, detail, after, more = value
                        raise Refused(status, detail, retry_after_s=after, **more)
                    if kind == "core":
                        raise value[0](*value[1:])
                    begun = begun or kind == "item"
                    yield kind, value
                    if kind == "answer":
                        return
            except (EOFError, ConnectionError, pickle.UnpicklingError):
                # It died at this question, or was ended: once more, unless part of the answer is out already.
                if begun or tried > 1:
                    raise Refused(503, "the renderer ended while it drew this; ask again", retry_after_s=3) from None


def _reach(address: str, gone: Callable[[], bool]) -> Connection:
    end = time.monotonic() + START_S
    while True:
        try:
            return Client(address, "AF_UNIX")
        except (FileNotFoundError, ConnectionError):
            if gone():
                raise Dropped from None
            if time.monotonic() > end:
                raise Refused(503, "the renderer is starting; ask again shortly", retry_after_s=3) from None
            time.sleep(LOOK_EVERY_S)


def as_message(error: Exception) -> tuple[str, Any]:
    """An expected failure, in a form that travels."""
    if isinstance(error, Refused):
        return "refused", (error.status, error.detail, error.retry_after_s, error.more)
    if isinstance(error, EddyfallError):
        return "core", (type(error), error.rule, error.where, error.file)
    raise TypeError(error)
