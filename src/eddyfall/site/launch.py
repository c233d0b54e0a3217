"""Starts everything on one machine: database, migrations, and the processes of the site, which fill the demo; restarts what dies; stops
all of it on Ctrl-C.

python -m eddyfall.site.launch demo | serve [--state DIR] [--port N] [--bind ADDRESS]
python -m eddyfall.site.launch first-user NAME   (asks for a password, or takes EDDYFALL_PASSWORD)
python -m eddyfall.site.launch backup | restore FILE
"""

import argparse
import fcntl
import hashlib
import ipaddress
import os
import secrets
import signal
import ssl
import stat
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from pathlib import Path
from types import FrameType

from eddyfall.site.backup import back_up, restore
from eddyfall.site.children import GRACE_S, Child, end_left_behind, leave
from eddyfall.site.cluster import Cluster, ClusterError, free_port
from eddyfall.site.front import Front

NAMES = ("studio", "web", "front", "worker", "keeper")
WEB_THREADS = 80  # most of them wait: for the studio, or for the database
LONGEST_FOLDER = 80  # characters of the folder of a socket, whose path may have 107
ROOT = Path(__file__).resolve().parents[3]
_STARTED = time.time()


def main() -> int:
    """Run until stopped."""
    parser = argparse.ArgumentParser("run")
    parser.add_argument("mode", choices=("demo", "serve", "first-user", "backup", "restore"))
    parser.add_argument("name", nargs="?", help="first-user: the name to sign in with; backup, restore: the file")
    parser.add_argument("--state", type=Path)
    parser.add_argument("--port", type=int, default=8000)
    parser.add_argument("--bind", default="127.0.0.1")
    args = parser.parse_args()
    args.state = args.state or ROOT / ".state" / ("demo" if args.mode == "demo" else "site")
    beside = args.mode in ("first-user", "backup")  # may be done while the site runs
    if args.mode not in ("demo", "serve") and not args.name:
        parser.error(f"{args.mode} needs a {'name' if args.mode == 'first-user' else 'file'}")
    if args.mode == "demo" and not _loopback(args.bind):
        print("The demo has a known password and is only served on loopback: leave --bind at 127.0.0.1.", file=sys.stderr)
        return 2
    # Set both: a process started in the background of a script has SIGINT ignored.
    signal.signal(signal.SIGTERM, _interrupt)
    signal.signal(signal.SIGINT, _interrupt)
    if args.mode == "backup" and "DATABASE_URL" not in os.environ and not args.state.is_dir():
        print(f"{args.state} is not there: say with --state which site to back up.", file=sys.stderr)
        return 1
    args.state.mkdir(parents=True, exist_ok=True)
    lock = (args.state / "launch.lock").open("w")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        if not beside:
            address = args.state / "address"
            where = address.read_text() if address.exists() else "starting"
            print(f"It runs already ({where}). Stop that one first, or give another --state.", file=sys.stderr)
            return 1
    if not beside:
        for name in ("address", "ready"):  # of a launcher that was killed
            (args.state / name).unlink(missing_ok=True)
    cluster = None if "DATABASE_URL" in os.environ else Cluster(args.state)
    if args.mode == "backup" and cluster and not (cluster.data / "PG_VERSION").exists():
        print(f"{args.state} holds no database: say with --state which site to back up.", file=sys.stderr)
        return 1
    try:
        if cluster:
            say("Starting PostgreSQL")
            os.environ["DATABASE_URL"] = cluster.start()
        _environment(args)
        if args.mode in ("backup", "restore"):
            return _copy(args)
        _prepare(args.mode)
        return _first_user(args.name) if args.mode == "first-user" else _serve(args, cluster)
    except ClusterError as error:
        print(error, file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 0
    finally:
        # A server that was running before a first user was made goes on running.
        if cluster and (not beside or cluster.started_here):
            cluster.stop()


def _copy(args: argparse.Namespace) -> int:
    """Back everything up into a file, or restore it from one."""
    work = back_up if args.mode == "backup" else restore
    work(os.environ["DATABASE_URL"], Path(os.environ["EDDYFALL_MEDIA_ROOT"]), Path(args.name), say)
    say(f"{args.name}: {'everything is in it' if args.mode == 'backup' else 'everything is restored'}")
    return 0


def say(text: str) -> None:
    print(text, flush=True)


def _loopback(address: str) -> bool:
    try:
        return ipaddress.ip_address(address).is_loopback
    except ValueError:
        return address == "localhost"


def _interrupt(number: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt


def _environment(args: argparse.Namespace) -> None:
    os.environ["DJANGO_SETTINGS_MODULE"] = "eddyfall.site.settings"
    os.environ.setdefault("EDDYFALL_MEDIA_ROOT", str(args.state / "media"))
    if args.mode == "demo":
        os.environ["EDDYFALL_DEMO"] = "1"
    if "EDDYFALL_SECRET_KEY" not in os.environ:
        path = args.state / "secret.key"
        if not path.exists():
            handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            os.write(handle, secrets.token_urlsafe(48).encode())
            os.close(handle)
        os.environ["EDDYFALL_SECRET_KEY"] = path.read_text()


def _prepare(mode: str) -> None:
    import django
    from django.core.management import call_command
    from django.db import connections

    django.setup()
    call_command("migrate", verbosity=0, interactive=False)
    if mode == "serve":
        _shut_out_demo_user()
    if mode == "demo":
        from eddyfall.site import demo_start

        demo_start.prepare()
    connections.close_all()


def _shut_out_demo_user() -> None:
    """A database that once held the demo has a user whose password everyone knows: where it is served they cannot sign in.

    Not when a first user is made, since the demo itself may be running beside that.
    """
    from django.contrib.auth import get_user_model

    from eddyfall.site.demo_start import PASSWORD, USER

    user = get_user_model().objects.filter(username=USER, is_active=True).first()
    if user is not None and user.check_password(PASSWORD):
        user.is_active = False
        user.save(update_fields=["is_active"])


def _first_user(name: str) -> int:
    import getpass

    from eddyfall.workbench.errors import Refused
    from eddyfall.workbench.services.accounts import make_user

    password = os.environ.get("EDDYFALL_PASSWORD") or getpass.getpass(f"Password for {name}: ")
    try:
        user = make_user(name, password)
    except Refused as error:
        print(error, file=sys.stderr)
        return 1
    say(f"{user.get_username()} can sign in now")
    return 0


def _serve(args: argparse.Namespace, cluster: Cluster | None) -> int:
    from django.conf import settings

    end_left_behind(args.state, NAMES, say)
    port = free_port(args.port, args.bind)
    if port != args.port:
        say(f"Port {args.port} is taken; {port} is used instead")
    front = Front(
        args.bind, port, run_folder(args.state), settings.UPLOAD_MAX_BYTES, settings.MEDIA_ROOT.resolve() / "files",
        tuple(settings.PROXIES), settings.HTTPS, settings.TLS_CERTIFICATE, settings.TLS_KEY,
    )  # fmt: skip
    children = _children(args.state, front)
    (args.state / "address").unlink(missing_ok=True)
    try:
        for child in children:
            child.start()
        threading.Thread(target=_announce, args=(args, front.address), daemon=True).start()
        while True:
            time.sleep(0.5)
            if cluster:
                cluster.look(say)
            for child in children:
                child.look(say)
    finally:
        (args.state / "address").unlink(missing_ok=True)
        for child in children:
            child.ask_to_end()
        until = time.monotonic() + GRACE_S
        for child in children:
            child.end(until)
        say("Stopped")


def _children(state: Path, front: Front) -> list[Child]:
    """What runs: the studio that draws, the web process, nginx before it, the worker for long jobs, and the keeper for what is quick."""
    python, studio = [sys.executable, "-m"], str(front.run / "studio.sock")
    web = [*python, "gunicorn", "eddyfall.site.wsgi", "--bind", f"unix:{front.web_socket}", "--workers", "1", "--threads", str(WEB_THREADS),
           "--worker-class", "gthread", "--timeout", "120", "--graceful-timeout", "5", "--log-level", "warning",
           "--no-control-socket"]  # fmt: skip
    worker = [*python, "eddyfall.site.worker", "long"]
    return [
        Child("studio", state, lambda: [*python, "eddyfall.site.studio", studio]),
        Child("web", state, lambda: web, {"EDDYFALL_STUDIO": studio, "EDDYFALL_FRONT": "1"}),
        Child("front", state, front.command),
        Child("worker", state, lambda: worker),
        Child("keeper", state, lambda: [*python, "eddyfall.site.worker", "quick"]),
    ]


def run_folder(state: Path) -> Path:
    """Where sockets lie: in the state folder, or, since a socket's path is short, in /tmp where that lies deep. Only its user may enter."""
    folder = state.resolve() / "run"
    if len(str(folder)) > LONGEST_FOLDER:
        name = hashlib.sha256(str(state.resolve()).encode()).hexdigest()[:12]
        folder = Path(tempfile.gettempdir()) / f"eddyfall-{os.getuid()}-{name}"
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    there = folder.lstat()
    if not stat.S_ISDIR(there.st_mode) or there.st_uid != os.getuid():
        raise ClusterError(f"{folder} belongs to someone else")
    folder.chmod(0o700)
    return folder


def _announce(args: argparse.Namespace, address: str) -> None:
    unchecked = ssl.create_default_context()
    unchecked.check_hostname, unchecked.verify_mode = (
        False,
        ssl.CERT_NONE,
    )  # it is ourselves, by address, whose certificate names a host
    while True:
        try:
            urllib.request.urlopen(address + "api/session", timeout=5, context=unchecked).close()
            break
        except (urllib.error.URLError, OSError):
            time.sleep(0.1)
    leave(args.state / "address", address)
    say(f"\nEddyfall is at {address} ({_since_start()})")
    if args.mode == "demo":
        _tell_of_the_demo(args.state)


def _since_start() -> str:
    """How long it is since the command was given; ./run says when that was."""
    seconds = time.time() - float(os.environ.get("EDDYFALL_STARTED") or _STARTED)
    return f"after {seconds:.0f} s" if seconds < 100 else f"after {seconds / 60:.1f} minutes"


def _tell_of_the_demo(state: Path) -> None:
    """Say how to sign in, and when the first build can be looked at and when all is there; `ready` in the state folder says the latter."""
    from django.db import connections

    from eddyfall.site.demo_start import PASSWORD, USER, standing

    say(f"Sign in as {USER} with the password {PASSWORD}. Ctrl-C stops everything.")
    first_told = False
    while True:
        try:
            first, all_done, failed = standing()
        except Exception:  # the database may be away for a moment; it is started again
            first, all_done, failed = False, False, []
        finally:
            connections.close_all()
        if first and not first_told:
            first_told = True
            say(f"The first build can be looked at ({_since_start()})")
        if all_done:
            for why in failed:
                say(f"Not filled, and asked for again at the next start: {why}")
            if not failed:
                say(f"All of the demo is ready ({_since_start()})")
            leave(state / "ready", "")
            return
        time.sleep(0.5)


if __name__ == "__main__":
    sys.exit(main())
