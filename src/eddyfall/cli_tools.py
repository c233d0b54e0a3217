"""What the commands share: reading their arguments, opening the build, saying results."""

import argparse
import contextlib
import io
import os
import sys
import traceback
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, TextIO, cast

from rich.console import Console
from rich.markup import escape
from rich.progress import BarColumn, Progress, TextColumn
from rich.table import Table

from eddyfall.core.errors import RequestError, printable


def size(text: str) -> tuple[int, int]:
    parts = text.lower().split("x")
    if len(parts) != 2 or not all(p.isdigit() for p in parts):
        raise argparse.ArgumentTypeError(f"{printable(text)!r} is not WIDTHxHEIGHT")
    return int(parts[0]), int(parts[1])


def numbers(count: int) -> Callable[[str], tuple[int, ...]]:
    def parse(text: str) -> tuple[int, ...]:
        parts = text.split(",")
        if len(parts) != count or not all(p.strip().lstrip("-").isdigit() for p in parts):
            raise argparse.ArgumentTypeError(f"{printable(text)!r} is not {count} whole numbers with commas between")
        return tuple(int(p) for p in parts)

    return parse


UNFORESEEN = 3


def unforeseen(error: Exception, file: Path | None) -> str:
    """One line on an error that no rule foresaw: what, at which line of ours, and how to see more."""
    frames = [f for f in traceback.extract_tb(error.__traceback__) if "eddyfall" in f.filename]
    where = f" ({Path(frames[-1].filename).name} line {frames[-1].lineno})" if frames else ""
    about = f"{file.name}: " if file is not None else ""
    what = printable(f"{type(error).__name__}: {error}", 200)
    return f"{about}not foreseen: {what}{where}; this is a fault of Eddyfall, not a finding. EDDYFALL_TRACEBACK=1 shows where"


class Pipe(io.TextIOBase):
    """Standard output or error that may be closed at its other end: what is left to say then goes nowhere, and the work goes on."""

    def __init__(self, stream: TextIO) -> None:
        self.stream = stream

    def write(self, text: str) -> int:
        with contextlib.suppress(BrokenPipeError):
            self.stream.write(text)
        return len(text)

    def flush(self) -> None:
        with contextlib.suppress(BrokenPipeError):
            self.stream.flush()

    def isatty(self) -> bool:
        return self.stream.isatty()

    def fileno(self) -> int:
        return self.stream.fileno()

    @property
    def encoding(self) -> str:  # type: ignore[override]
        return self.stream.encoding


def end_quietly() -> None:
    """Flush the standard streams; one whose reader is gone is turned to nowhere, so that the interpreter ends without a word."""
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except BrokenPipeError:
            os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


class Out:
    """Where a command's words go: standard output, or nowhere when JSON has it."""

    def __init__(self, args: Any) -> None:
        self.json = args.json
        self.stdout = Pipe(sys.stdout)
        stream = Pipe(sys.stderr) if self.json == "-" else self.stdout
        self.console = Console(file=cast(TextIO, stream), highlight=False, width=None if stream.isatty() else 140)

    def say(self, text: str) -> None:
        self.console.print(escape(printable(text, 2000)), soft_wrap=True)

    def table(self, title: str, columns: list[str], rows: list[list[str]]) -> None:
        table = Table(title=escape(title) or None, title_justify="left", box=None, pad_edge=False, header_style="bold")
        for column in columns:
            table.add_column(column, overflow="fold", justify="right" if column in ("value", "limit", "impact") else "left")
        for row in rows:
            table.add_row(*(escape(printable(cell, 600)) for cell in row))
        self.console.print(table)

    def result(self, value: Any, inputs: list[Path]) -> None:
        from eddyfall.core.handover.package import json_bytes, write_new

        if self.json == "-":
            self.stdout.write(json_bytes(value).decode())
        elif self.json:
            write_new(Path(self.json), json_bytes(value), inputs)

    @contextlib.contextmanager
    def progress(self) -> Iterator[Callable[[str, float], None]]:
        with Progress(
            TextColumn("{task.percentage:>3.0f} %"),
            BarColumn(30),
            TextColumn("{task.description}"),
            console=Console(file=cast(TextIO, Pipe(sys.stderr))),
            transient=True,
            disable=not sys.stderr.isatty(),  # a log gets no bar, and no empty line for it
        ) as bar:
            task = bar.add_task("", total=1.0)
            yield lambda what, share: bar.update(task, completed=share, description=escape(printable(what, 80)))


def inputs(args: Any) -> list[Path]:
    from eddyfall.core.intake import default_setup_path

    return [args.file, args.setup or default_setup_path(args.file), *([args.changes] if getattr(args, "changes", None) else [])]


def opened(args: Any) -> Any:
    from eddyfall.core.frame.render import MAX_EDGE
    from eddyfall.core.intake import open_build
    from eddyfall.core.scene.resolve import resolve

    width, height = args.size
    if not (1 <= width <= MAX_EDGE and 1 <= height <= MAX_EDGE):
        raise RequestError(f"size {width} x {height} px is not within 1 to {MAX_EDGE}")
    build = open_build(args.file, args.setup)
    resolve(build.setup, args.target)
    return build
