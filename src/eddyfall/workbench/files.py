"""Files on disk by SHA-256: written to a temporary name, synced, renamed, and only then named in the database."""

import hashlib
import os
import tempfile
import time
from collections.abc import Iterable
from pathlib import Path

from django.conf import settings
from django.db import transaction

from eddyfall.workbench.models import Build, File

UNNAMED_HOURS = 24


def path_of(sha256: str) -> Path:
    """Where the content with a hash lies."""
    return Path(settings.MEDIA_ROOT) / "files" / sha256[:2] / sha256


def temporary() -> Path:
    """A new empty file beside the store, for content on its way in."""
    folder = Path(settings.MEDIA_ROOT) / "incoming"
    folder.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=folder)
    os.close(handle)
    return Path(name)


def put_file(source: Path) -> tuple[str, int]:
    """Move a file on the same disk into the store; returns (sha256, size)."""
    digest, size = hashlib.sha256(), 0
    with source.open("rb") as stream:
        while block := stream.read(1024 * 1024):
            digest.update(block)
            size += len(block)
        os.fsync(stream.fileno())
    target = path_of(digest.hexdigest())
    target.parent.mkdir(parents=True, exist_ok=True)
    source.replace(target)
    folder = os.open(target.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)
    return digest.hexdigest(), size


def put(data: bytes) -> tuple[str, int]:
    """Store bytes; returns (sha256, size)."""
    source = temporary()
    source.write_bytes(data)
    return put_file(source)


def add(build: Build, kind: str, name: str, data: bytes | Path) -> File:
    """Store content and name it as a file of a build (inside the caller's transaction)."""
    sha256, size = put(data) if isinstance(data, bytes) else put_file(data)
    return File.objects.create(build=build, kind=kind, name=name[:255], sha256=sha256, size=size)


def unlink_unnamed(hashes: Iterable[str]) -> None:
    """After this transaction, take away content that no row names any more."""
    wanted = set(hashes)

    def sweep() -> None:
        named = set(File.objects.filter(sha256__in=wanted).values_list("sha256", flat=True))
        for sha256 in wanted - named:
            path_of(sha256).unlink(missing_ok=True)

    transaction.on_commit(sweep)


def remove_leftovers(now: float | None = None) -> int:
    """Take away content and half-arrived uploads that nothing has named for a day; returns how many."""
    limit = (now or time.time()) - UNNAMED_HOURS * 3600
    root = Path(settings.MEDIA_ROOT)
    old = [p for p in (*root.glob("files/*/*"), *root.glob("incoming/*")) if p.is_file() and p.stat().st_mtime < limit]
    named = set(File.objects.filter(sha256__in=[p.name for p in old]).values_list("sha256", flat=True))
    gone = [p for p in old if p.name not in named]
    for path in gone:
        path.unlink(missing_ok=True)
    return len(gone)
