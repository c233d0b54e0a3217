"""Files on disk by SHA-256: written to a temporary name, synced, renamed, and only then named in the database.

The same content may be stored by one transaction while another takes its last name away. Both therefore hold a lock of the database on
the content's hash: who stores, a shared one until its row is committed; who unlinks, the sole one, or it leaves the file to the sweeper.
"""

import contextlib
import hashlib
import os
import tempfile
import time
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import BinaryIO

from django.conf import settings
from django.db import connection, transaction
from django.db.models import Q

from eddyfall.workbench.arriving import incoming
from eddyfall.workbench.errors import NotThere, Refused
from eddyfall.workbench.models import Build, File, Intake, Job
from eddyfall.workbench.outages import FULL

UNNAMED_HOURS = 24


def path_of(sha256: str) -> Path:
    """Where the content with a hash lies."""
    return Path(settings.MEDIA_ROOT) / "files" / sha256[:2] / sha256


def temporary() -> Path:
    """A new empty file beside the store, for content on its way in."""
    handle, name = tempfile.mkstemp(dir=incoming())
    os.close(handle)
    return Path(name)


@contextlib.contextmanager
def room_on_disk() -> Iterator[None]:
    """Inside, a full disk is Refused(507) in plain words."""
    try:
        yield
    except OSError as error:
        if error.errno not in FULL:
            raise
        raise Refused(507, "the disk that holds the projects' files is full: nothing was stored") from None


def put_file(source: Path) -> tuple[str, int]:
    """Move a file on the same disk into the store, inside a transaction that will name it; returns (sha256, size)."""
    if not connection.in_atomic_block:
        raise RuntimeError("content is stored inside the transaction that names it")
    digest, size = hashlib.sha256(), 0
    with source.open("rb") as stream:
        while block := stream.read(1024 * 1024):
            digest.update(block)
            size += len(block)
        with room_on_disk():
            os.fsync(stream.fileno())
    sha256 = digest.hexdigest()
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock_shared(%s)", [_lock_of(sha256)])
    target = path_of(sha256)
    with room_on_disk():
        target.parent.mkdir(parents=True, exist_ok=True)
        source.replace(target)
        folder = os.open(target.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)
    return sha256, size


def put(data: bytes) -> tuple[str, int]:
    """Store bytes, inside a transaction that will name them; returns (sha256, size)."""
    source = temporary()
    try:
        with room_on_disk():
            source.write_bytes(data)
        return put_file(source)
    finally:
        source.unlink(missing_ok=True)


def add(build: Build, kind: str, name: str, data: bytes | Path) -> File:
    """Store content and name it as a file of a build (inside the caller's transaction)."""
    sha256, size = put(data) if isinstance(data, bytes) else put_file(data)
    return File.objects.create(build=build, kind=kind, name=name[:255], sha256=sha256, size=size)


def open_file(sha256: str, what: str) -> BinaryIO:
    """A stored file, open for reading. NotThere if it was deleted since it was looked up."""
    try:
        return path_of(sha256).open("rb")
    except FileNotFoundError:
        raise NotThere(what) from None


def unlink_unnamed(hashes: Iterable[str]) -> None:
    """After this transaction, take away content that no row names any more."""
    wanted = sorted(set(hashes))
    transaction.on_commit(lambda: _unlink(wanted))


def _unlink(hashes: Iterable[str], older_than: float | None = None) -> int:
    """Unlink what no row names, each under its lock; what someone is storing just now is left. Returns how many went."""
    gone = 0
    for sha256 in hashes:
        with transaction.atomic():
            with connection.cursor() as cursor:
                cursor.execute("SELECT pg_try_advisory_xact_lock(%s)", [_lock_of(sha256)])
                (sole,) = cursor.fetchone()
            if not sole or _named(sha256):
                continue
            path = path_of(sha256)
            with contextlib.suppress(FileNotFoundError):
                if older_than is None or path.stat().st_mtime < older_than:
                    path.unlink()
                    gone += 1
    return gone


def _named(sha256: str) -> bool:
    waiting = Intake.objects.filter(Q(scene_sha256=sha256) | Q(setup_sha256=sha256), job__state__in=Job.UNDER_WAY)
    return File.objects.filter(sha256=sha256).exists() or waiting.exists()


def _lock_of(sha256: str) -> int:
    """The key of a content's lock: the first 64 bits of its hash, as PostgreSQL's signed bigint."""
    return int.from_bytes(bytes.fromhex(sha256[:16]), "big", signed=True)


def remove_leftovers(now: float | None = None) -> int:
    """Take away content and half-arrived uploads that nothing has named for a day; returns how many."""
    limit = (now or time.time()) - UNNAMED_HOURS * 3600
    root = Path(settings.MEDIA_ROOT)

    def old(pattern: str) -> list[Path]:
        return [p for p in root.glob(pattern) if p.is_file() and p.stat().st_mtime < limit]

    halves = old("incoming/*")
    for path in halves:
        path.unlink(missing_ok=True)
    return len(halves) + _unlink([p.name for p in old("files/*/*")], older_than=limit)
