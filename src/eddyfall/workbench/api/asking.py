"""Asks the studio for a request: by the person who asks, and no longer than their client waits for it."""

import select
from collections.abc import Callable, Iterator
from typing import Any

from eddyfall.workbench.studio import desk
from eddyfall.workbench.studio.turns import here


def ask(request: Any, lane: desk.Lane, work: Callable[..., Any], *args: Any, client: str = "", number: int = 0) -> Any:
    """What work(*args) gives. client, number: a larger number of the same client takes the place of one that still waits."""
    question = desk.Question(lane, str(request.user.pk), work, args, client=client, number=number)
    return desk.ask(question, gone_of(request))


def ask_along(request: Any, lane: desk.Lane, work: Callable[..., Any], *args: Any) -> Iterator[tuple[str, Any]]:
    """("item", ...) as it comes, then ("answer", ...)."""
    return desk.tell_all(desk.Question(lane, str(request.user.pk), work, args, stream=True), gone_of(request))


def gone_of(request: Any) -> Callable[[], bool]:
    """Whether the client of a request has closed its connection. Nothing else comes over it after the request's body, which was read."""
    socket = request.META.get("gunicorn.socket")
    if socket is None:
        return here
    poll = select.poll()
    poll.register(socket.fileno(), select.POLLRDHUP | select.POLLHUP | select.POLLERR)
    return lambda: bool(poll.poll(0))
