"""Everything in one file, and back: a dump of the database and the folder of files, taken and laid down by PostgreSQL's own tools.

A backup may be taken while people work. Files are copied after the dump: what the dump names was stored before it, and what is deleted
meanwhile was not to be kept.
"""

import contextlib
import os
import re
import shutil
import subprocess
import tarfile
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import IO
from urllib.parse import urlsplit, urlunsplit

from eddyfall.site.cluster import ClusterError, tool

DUMP, FILES, LIGHT = "database.dump", "files", "bakes"
STORED = re.compile(rf"^({FILES}|{LIGHT})/[0-9a-f]{{2}}/[0-9a-f]+(\.npz)?$")


def back_up(url: str, media: Path, target: Path, say: Callable[[str], None]) -> None:
    """Write everything into one tar file. ClusterError if something cannot be read; nothing is left half written."""
    half = target.with_name(target.name + ".half")
    try:
        with tempfile.NamedTemporaryFile(dir=target.resolve().parent, suffix=".dump") as dump:
            say("Dumping the database")
            _run(url, "pg_dump", "--format=custom", "--no-owner", into=dump.file)
            with tarfile.open(half, "w") as archive:
                archive.add(dump.name, DUMP)
                for folder in (FILES, LIGHT):
                    say(f"Adding {folder}")
                    for path in sorted((media / folder).glob("*/*")):
                        with contextlib.suppress(FileNotFoundError):  # deleted since: nobody is to miss it
                            archive.add(path, str(path.relative_to(media)), recursive=False)
        half.replace(target)
    except OSError as error:
        raise ClusterError(f"the backup could not be written: {error.strerror or error}") from None
    finally:
        half.unlink(missing_ok=True)


def restore(url: str, media: Path, source: Path, say: Callable[[str], None]) -> None:
    """Lay a backup down on an empty database and folder. ClusterError if they are not empty, or the file is no backup."""
    if _answer(url, "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'") != "0":
        raise ClusterError("there is a database already: a backup is restored into a new --state folder or an empty database")
    if any((media / FILES).glob("*/*")):
        raise ClusterError(f"{media / FILES} is not empty")
    try:
        with tarfile.open(source, "r") as archive:
            dump = next((m for m in archive if m.name == DUMP), None)
            if dump is None:
                raise ClusterError(f"{source.name} is no backup: it holds no {DUMP}")
            with tempfile.TemporaryDirectory() as folder:
                _extract(archive, dump, Path(folder) / DUMP)
                say("Restoring the database")
                with (Path(folder) / DUMP).open("rb") as stream:
                    _run(url, "pg_restore", "--no-owner", "--exit-on-error", "--single-transaction", out_of=stream)
            say("Restoring files")
            for member in archive:
                if member.isfile() and STORED.match(member.name):
                    _extract(archive, member, media / member.name)
    except (tarfile.TarError, EOFError):
        raise ClusterError(f"{source.name} is no backup that can be read") from None
    except OSError as error:
        raise ClusterError(f"the backup could not be read: {error.strerror or error}") from None


def _extract(archive: tarfile.TarFile, member: tarfile.TarInfo, target: Path) -> None:
    target.parent.mkdir(parents=True, exist_ok=True)
    stream = archive.extractfile(member)
    if stream is None:
        raise ClusterError(f"{member.name} in the backup is no file")
    with stream, target.open("wb") as out:
        shutil.copyfileobj(stream, out, 1024 * 1024)


def _run(url: str, name: str, *args: str, into: IO[bytes] | None = None, out_of: IO[bytes] | None = None) -> bytes:
    """One of PostgreSQL's tools; the password goes by its environment, never where others can read it."""
    env = {**os.environ, "PGPASSWORD": urlsplit(url).password or ""}
    command = [str(tool(name)), *args, "--dbname", _without_password(url)]
    done = subprocess.run(command, stdout=into or subprocess.PIPE, stderr=subprocess.PIPE, stdin=out_of, env=env)
    if done.returncode != 0:
        raise ClusterError(f"{name} failed: {done.stderr.decode(errors='replace').strip()[-400:]}")
    return done.stdout or b""


def _answer(url: str, query: str) -> str:
    return _run(url, "psql", "--no-align", "--tuples-only", "--command", query).decode().strip()


def _without_password(url: str) -> str:
    parts = urlsplit(url)
    where = f"{parts.username or ''}@{parts.hostname or ''}" + (f":{parts.port}" if parts.port else "")
    return urlunsplit(parts._replace(netloc=where))
