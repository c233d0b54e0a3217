"""A log that can be read: the same line once a minute, with how often it came; an outage in one line, without its traceback."""

import logging
import threading
import time

from django.db import InterfaceError, OperationalError
from procrastinate.exceptions import ConnectorException

AGAIN_S = 60.0


class Calm(logging.Filter):
    """Lets a message through once a minute, and then says how many like it were left out."""

    def __init__(self) -> None:
        super().__init__()
        self.lock = threading.Lock()
        self.seen: dict[tuple[str, str], tuple[float, int]] = {}

    def filter(self, record: logging.LogRecord) -> bool:
        error = record.exc_info[1] if record.exc_info and not isinstance(record.exc_info, bool) else None
        if isinstance(error, OperationalError | InterfaceError | ConnectorException):
            words = (str(error).strip() or type(error).__name__).splitlines()[0]
            record.msg, record.args, record.exc_info, record.exc_text = f"the database does not answer: {words}", (), None, None
        key = (record.name, "the database does not answer" if "database does not answer" in str(record.msg) else str(record.msg))
        now = time.monotonic()
        with self.lock:
            last, left_out = self.seen.get(key, (-AGAIN_S, 0))
            if now - last < AGAIN_S and not (error is not None and record.exc_info):
                self.seen[key] = (last, left_out + 1)
                return False
            if len(self.seen) > 500:
                self.seen.clear()
            self.seen[key] = (now, 0)
        if left_out:
            record.msg = f"{record.msg} (and {left_out} like it in the last minute)"
        return True
