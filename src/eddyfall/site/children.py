"""The processes of a running site: started, watched, started again, ended; and those that a killed launcher left behind, found and ended.

Each child leads a session of its own, so that what it starts is found with it, and leaves a note NAME.pid: its process and when that
started, by which it is known again.
"""

import os
import signal
import subprocess
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

SHORT_LIFE_S = 10.0
LONGEST_PAUSE_S = 8.0
GRACE_S = 15.0
TAKEN_OVER_GRACE_S = 3.0  # what a killed launcher left is to run again soon; a job that is cut off starts anew


@dataclass
class Child:
    """One process. command: what it is started with, made anew for each start; env: added to the environment."""

    name: str
    state: Path
    command: Callable[[], Sequence[str]]
    env: dict[str, str] = field(default_factory=dict)
    process: subprocess.Popen[bytes] | None = None
    started: float = 0.0
    pause_s: float = 0.0
    resume_at: float = 0.0

    def start(self) -> None:
        """Start it and leave its note."""
        # MALLOC_ARENA_MAX: many threads do not each keep what others have freed.
        environment = {"MALLOC_ARENA_MAX": "2", **os.environ, "EDDYFALL_STATE": str(self.state), **self.env}
        self.process = subprocess.Popen(list(self.command()), env=environment, start_new_session=True, stdin=subprocess.DEVNULL)
        self.started = time.monotonic()
        leave(self.note, f"{self.process.pid} {started_at(self.process.pid)}")

    @property
    def note(self) -> Path:
        """Where its process is written down."""
        return self.state / f"{self.name}.pid"

    def look(self, say: Callable[[str], None]) -> None:
        """Start it again if it has ended: at once the first time, later the sooner it ended the last time."""
        if self.process is None or self.process.poll() is None:
            return
        now = time.monotonic()
        if not self.resume_at:
            lived = now - self.started
            self.pause_s = 0.0 if lived > SHORT_LIFE_S else min(max(self.pause_s * 2, 0.5), LONGEST_PAUSE_S)
            self.resume_at = now + self.pause_s
            say(f"The {self.name} ended ({self.process.returncode}); starting it again")
            end_session(self.process.pid, signal.SIGKILL)  # what it had started and left behind
        if now >= self.resume_at:
            self.resume_at = 0.0
            self.start()

    def ask_to_end(self) -> None:
        """SIGTERM."""
        if self.process is not None and self.process.poll() is None:
            self.process.terminate()

    def end(self, until: float) -> None:
        """Wait for its end until a moment, then make it end."""
        if self.process is None:
            return
        try:
            self.process.wait(max(until - time.monotonic(), 0.1))
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()
        end_session(self.process.pid, signal.SIGKILL)
        self.note.unlink(missing_ok=True)


def end_left_behind(state: Path, names: Sequence[str], say: Callable[[str], None]) -> list[str]:
    """End what a launcher that was killed has left running on a state folder; returns the names of what was found."""
    found: dict[str, set[int]] = {}
    for name in names:
        pid, start = read_note(state / f"{name}.pid")
        if pid and start:
            members = members_of(pid, start, state)
            if members:
                found[name] = members
        (state / f"{name}.pid").unlink(missing_ok=True)
    if not found:
        return []
    say(f"A launcher that was killed left running: {', '.join(found)}. Taking over.")
    everyone = set().union(*found.values())
    _signal(everyone, signal.SIGTERM)
    until = time.monotonic() + TAKEN_OVER_GRACE_S
    while time.monotonic() < until and any(alive(pid) for pid in everyone):
        time.sleep(0.1)
    _signal(everyone, signal.SIGKILL)
    return list(found)


def members_of(pid: int, start: str, state: Path) -> set[int]:
    """The processes of the session that a noted process leads or led. Empty if the number belongs to another process by now."""
    if alive(pid) and started_at(pid) != start:
        return set()
    members = set()
    for entry in Path("/proc").iterdir():
        if (
            entry.name.isdigit()
            and (fields := _stat(int(entry.name)))
            and int(fields[3]) == pid
            and int(fields[19]) >= int(start)
        ):
            number = int(entry.name)
            if number == pid or _is_ours(number, state):
                members.add(number)
    return members


def _is_ours(pid: int, state: Path) -> bool:
    """Started for this state folder: by its environment, or, for nginx, which writes over that, by its name and user."""
    try:
        environment = Path(f"/proc/{pid}/environ").read_bytes()
        name = Path(f"/proc/{pid}/comm").read_text().strip()
        owner = Path(f"/proc/{pid}").stat().st_uid
    except OSError:
        return False
    return f"EDDYFALL_STATE={state}".encode() in environment.split(b"\0") or (name == "nginx" and owner == os.getuid())


def end_session(leader: int, number: signal.Signals) -> None:
    """Signal all that is left of the session a child of ours led."""
    pids = [int(entry.name) for entry in Path("/proc").iterdir() if entry.name.isdigit()]
    _signal({pid for pid in pids if (fields := _stat(pid)) and int(fields[3]) == leader}, number)


def _signal(pids: set[int], number: signal.Signals) -> None:
    for pid in pids:
        try:
            os.kill(pid, number)
        except (ProcessLookupError, PermissionError):
            continue


def _stat(pid: int) -> list[str] | None:
    """Fields of /proc/PID/stat from the state on (after the name in brackets): 3 is the session, 19 the start in clock ticks."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return None
    return None if fields[0] == "Z" else fields


def alive(pid: int) -> bool:
    """Whether a process runs."""
    return _stat(pid) is not None


def started_at(pid: int) -> str:
    """When a process started, in clock ticks since the machine did; empty if it does not run."""
    fields = _stat(pid)
    return fields[19] if fields else ""


def read_note(path: Path) -> tuple[int, str]:
    """(process, when it started) of a note; (0, "") if there is none."""
    try:
        pid, _, start = path.read_text().strip().partition(" ")
        return int(pid), start
    except (OSError, ValueError):
        return 0, ""


def leave(path: Path, text: str) -> None:
    """Write a note for others, who never see half of it."""
    half = path.with_suffix(".half")
    half.write_text(text)
    half.replace(path)
