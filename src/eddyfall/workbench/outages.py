"""Failures that are the machine's and not the program's: a database that is away, a disk that is full."""

import errno

from django.db import InterfaceError, OperationalError

FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)


def outage(error: BaseException) -> tuple[int, str, int] | None:
    """(status, words, seconds after which to ask again) of a failure that is the machine's and not the program's; None for others."""
    if isinstance(error, OperationalError | InterfaceError):
        if getattr(error.__cause__, "sqlstate", None) == "53100":
            return 507, "the disk of the database is full: nothing was stored", 60
        return 503, "the database does not answer; ask again shortly", 5
    if isinstance(error, OSError) and error.errno in FULL:
        return 507, "the server's disk is full: nothing was stored", 60
    return None
