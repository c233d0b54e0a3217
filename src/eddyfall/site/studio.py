"""The studio's process: answers the questions that come over its socket, one thread each, in turns.

python -m eddyfall.site.studio SOCKET
"""

import logging
import os
import resource
import select
import signal
import sys
import threading
from collections.abc import Callable
from multiprocessing.connection import Connection, Listener
from pathlib import Path
from types import FrameType
from typing import Any

log = logging.getLogger("eddyfall.studio")
# Of the machine's memory: beyond this an allocation fails, and the question is refused, not the machine stopped.
MACHINE_SHARE = 0.6


def main() -> None:
    """Listen until told to end."""
    import django

    django.setup()
    path = Path(sys.argv[1])
    path.unlink(missing_ok=True)
    signal.signal(signal.SIGTERM, _end)
    signal.signal(signal.SIGINT, _end)
    os.nice(10)  # pages come first
    pages = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    most = int(pages * MACHINE_SHARE)
    resource.setrlimit(resource.RLIMIT_DATA, (most, most))
    # The kernels are loaded before the first question.
    from eddyfall.workbench.services import bakes, cases, handover, ledger, lightmaps, settings_sheet, sweeps  # noqa: F401

    with Listener(str(path), "AF_UNIX", backlog=128) as listener:
        path.chmod(0o600)
        while True:
            try:
                line = listener.accept()
            except (OSError, EOFError):
                continue
            threading.Thread(target=serve, args=(line,), daemon=True, name="question").start()


def _end(number: int, frame: FrameType | None) -> None:
    os._exit(0)


def serve(line: Connection) -> None:
    """One question: answered, refused, or left when whoever asked has gone."""
    from django.db import DatabaseError, InterfaceError, OperationalError, close_old_connections, connections

    from eddyfall.core.errors import EddyfallError
    from eddyfall.workbench.errors import Dropped, Refused
    from eddyfall.workbench.studio.desk import Question, answer_here, as_message
    from eddyfall.workbench.studio.room import STUDIO

    with line:
        try:
            question = line.recv()
            if question == "state":
                line.send(("answer", state()))
                return
            assert isinstance(question, Question)
            close_old_connections()
            value = answer_here(question, lambda item: line.send(("item", item)), _gone(line))
            message: tuple[str, Any] = ("answer", value)
        except (Dropped, EOFError, ConnectionError):
            return
        except (Refused, EddyfallError) as error:
            message = as_message(error)
        except (OperationalError, InterfaceError):
            message = as_message(Refused(503, "the database does not answer; ask again shortly", retry_after_s=5))
        except (MemoryError, DatabaseError) as error:
            log.exception("a question failed")
            STUDIO.memory.clear()
            short = isinstance(error, MemoryError)
            why = "this takes more memory than the server has" if short else "the server's database refused this"
            message = as_message(Refused(507 if short else 500, why))
        except Exception:
            log.exception("a question failed")
            message = as_message(Refused(500, "it failed unexpectedly; the server's log says why"))
        finally:
            connections.close_all()
            STUDIO.settle()
        try:
            line.send(message)
        except (ConnectionError, OSError):
            return


def _gone(line: Connection) -> Callable[[], bool]:
    """Whether the other end of a line was closed; nothing else ever comes from there after the question."""
    poll = select.poll()
    poll.register(line.fileno(), select.POLLIN | select.POLLHUP | select.POLLRDHUP)
    return lambda: bool(poll.poll(0))


def state() -> dict[str, Any]:
    """What the health route tells of the studio."""
    from django.conf import settings

    from eddyfall.workbench.studio.desk import TURNS
    from eddyfall.workbench.studio.room import STUDIO, resident_bytes

    return {
        "remembered_bytes": STUDIO.memory.bytes, "budget_bytes": STUDIO.memory.limit_bytes,
        "resident_bytes": resident_bytes(), "given_bytes": settings.MEMORY_BYTES,
        "waiting": {lane: turns.waiting for lane, turns in TURNS.items()},
    }  # fmt: skip


if __name__ == "__main__":
    main()
