"""Starts everything on one machine: database, migrations, demo data, web and worker; restarts what dies; stops all of it on Ctrl-C.

python -m eddyfall.site.launch demo | serve [--state DIR] [--port N] [--bind ADDRESS]
python -m eddyfall.site.launch first-user NAME   (asks for a password, or takes EDDYFALL_PASSWORD)
"""

import argparse
import fcntl
import ipaddress
import os
import secrets
import signal
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.request
from pathlib import Path
from types import FrameType

from eddyfall.site.cluster import Cluster, ClusterError, free_port

ROOT = Path(__file__).resolve().parents[3]
DEMO_USER, DEMO_PASSWORD = "demo", "weirgate"
LOAD_DEMO = """
import functools, sys, django
django.setup()
from eddyfall.site.demo_data import load
load(sys.argv[1], sys.argv[2], functools.partial(print, flush=True))
"""


def main() -> int:
    """Run until stopped."""
    parser = argparse.ArgumentParser("run")
    parser.add_argument("mode", choices=("demo", "serve", "first-user"))
    parser.add_argument("name", nargs="?", help="first-user: the name to sign in with")
    parser.add_argument("--state", type=Path)
    parser.add_argument("--port", type=int, default=8000)
    parser.add_argument("--bind", default="127.0.0.1")
    args = parser.parse_args()
    args.state = args.state or ROOT / ".state" / ("demo" if args.mode == "demo" else "site")
    if args.mode == "first-user" and not args.name:
        parser.error("first-user needs a name")
    if args.mode == "demo" and not _loopback(args.bind):
        print("The demo has a known password and is only served on loopback: leave --bind at 127.0.0.1.", file=sys.stderr)
        return 2
    # Set both: a process started in the background of a script has SIGINT ignored.
    signal.signal(signal.SIGTERM, _interrupt)
    signal.signal(signal.SIGINT, _interrupt)
    args.state.mkdir(parents=True, exist_ok=True)
    lock = (args.state / "launch.lock").open("w")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        if args.mode != "first-user":
            address = args.state / "address"
            where = address.read_text() if address.exists() else "starting"
            print(f"It runs already ({where}). Stop that one first, or give another --state.", file=sys.stderr)
            return 1
    cluster = None if "DATABASE_URL" in os.environ else Cluster(args.state)
    try:
        if cluster:
            say("Starting PostgreSQL")
            os.environ["DATABASE_URL"] = cluster.start()
        _environment(args)
        _prepare(args.mode)
        return _first_user(args.name) if args.mode == "first-user" else _serve(args)
    except ClusterError as error:
        print(error, file=sys.stderr)
        return 1
    except subprocess.CalledProcessError:
        print("The demo data could not be loaded; what is above says why.", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 0
    finally:
        # A server that was running before a first user was made goes on running.
        if cluster and (args.mode != "first-user" or cluster.started_here):
            cluster.stop()


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
    connections.close_all()
    if mode == "demo":
        # In a process of its own: what drawing it takes in memory goes with it.
        subprocess.run([sys.executable, "-c", LOAD_DEMO, DEMO_USER, DEMO_PASSWORD], check=True)


def _shut_out_demo_user() -> None:
    """A database that once held the demo has a user whose password everyone knows: where it is served they cannot sign in.

    Not when a first user is made, since the demo itself may be running beside that.
    """
    from django.contrib.auth import get_user_model

    user = get_user_model().objects.filter(username=DEMO_USER, is_active=True).first()
    if user is not None and user.check_password(DEMO_PASSWORD):
        user.is_active = False
        user.save(update_fields=["is_active"])


def _first_user(name: str) -> int:
    import getpass

    from django.contrib.auth import get_user_model
    from django.contrib.auth.password_validation import validate_password
    from django.core.exceptions import ValidationError

    password = os.environ.get("EDDYFALL_PASSWORD") or getpass.getpass(f"Password for {name}: ")
    users = get_user_model().objects
    if users.filter(username=name).exists():
        print(f"user {name!r} is there already", file=sys.stderr)
        return 1
    try:
        validate_password(password)
    except ValidationError as error:
        print(" ".join(error.messages), file=sys.stderr)
        return 1
    users.create_user(name, password=password)
    say(f"{name} can sign in now")
    return 0


def _serve(args: argparse.Namespace) -> int:
    port = free_port(args.port, args.bind)
    if port != args.port:
        say(f"Port {args.port} is taken; {port} is used instead")
    python = [sys.executable, "-m"]
    commands = {
        "web": [*python, "gunicorn", "eddyfall.site.wsgi", "--bind", f"{args.bind}:{port}", "--workers", "1", "--threads", "12",
                "--worker-class", "gthread", "--timeout", "120", "--graceful-timeout", "5", "--log-level", "warning"],
        "worker": [*python, "django", "procrastinate", "worker", "--concurrency", "1"],
    }  # fmt: skip
    running: dict[str, subprocess.Popen[bytes]] = {}
    started: dict[str, float] = {}
    (args.state / "address").unlink(missing_ok=True)
    try:
        for name, command in commands.items():
            running[name], started[name] = subprocess.Popen(command), time.monotonic()
            _leave(args.state / f"{name}.pid", str(running[name].pid))
        threading.Thread(target=_announce, args=(args, port), daemon=True).start()
        while True:
            time.sleep(0.5)
            for name, process in running.items():
                if process.poll() is None:
                    continue
                say(f"The {name} ended ({process.returncode}); starting it again")
                time.sleep(max(0.0, 2.0 - (time.monotonic() - started[name])))
                running[name], started[name] = subprocess.Popen(commands[name]), time.monotonic()
                _leave(args.state / f"{name}.pid", str(running[name].pid))
    finally:
        (args.state / "address").unlink(missing_ok=True)
        for process in running.values():
            process.terminate()
        for process in running.values():
            try:
                process.wait(15)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        say("Stopped")


def _leave(path: Path, text: str) -> None:
    """Write a note for others, who never see half of it."""
    half = path.with_suffix(".half")
    half.write_text(text)
    half.replace(path)


def _announce(args: argparse.Namespace, port: int) -> None:
    address = f"http://{args.bind}:{port}/"
    while True:
        try:
            urllib.request.urlopen(address + "api/session", timeout=5).close()
            break
        except (urllib.error.URLError, OSError):
            time.sleep(0.1)
    _leave(args.state / "address", address)
    say(f"\nEddyfall is at {address}")
    if args.mode == "demo":
        say(f"Sign in as {DEMO_USER} with the password {DEMO_PASSWORD}. Ctrl-C stops everything.")


if __name__ == "__main__":
    sys.exit(main())
