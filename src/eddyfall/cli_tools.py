"""What the commands share: reading their arguments, opening the build, saying results."""

import argparse
import contextlib
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

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


class Out:
    """Where a command's words go: standard output, or nowhere when JSON has it."""

    def __init__(self, args: Any) -> None:
        self.json = args.json
        stream = sys.stderr if self.json == "-" else sys.stdout
        self.console = Console(file=stream, highlight=False, width=None if stream.isatty() else 140)

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
            sys.stdout.write(json_bytes(value).decode())
        elif self.json:
            write_new(Path(self.json), json_bytes(value), inputs)

    @contextlib.contextmanager
    def progress(self) -> Iterator[Callable[[str, float], None]]:
        with Progress(
            TextColumn("{task.percentage:>3.0f} %"),
            BarColumn(30),
            TextColumn("{task.description}"),
            console=Console(stderr=True),
            transient=True,
        ) as bar:
            task = bar.add_task("", total=1.0)
            yield lambda what, share: bar.update(task, completed=share, description=escape(printable(what, 80)))


def inputs(args: Any) -> list[Path]:
    from eddyfall.core.frame.intake import default_setup_path

    return [args.file, args.setup or default_setup_path(args.file), *([args.changes] if hasattr(args, "changes") else [])]


def opened(args: Any) -> Any:
    from eddyfall.core.frame.intake import open_build
    from eddyfall.core.frame.render import MAX_EDGE
    from eddyfall.core.scene.resolve import resolve

    width, height = args.size
    if not (1 <= width <= MAX_EDGE and 1 <= height <= MAX_EDGE):
        raise RequestError(f"size {width} x {height} px is not within 1 to {MAX_EDGE}")
    build = open_build(args.file, args.setup)
    resolve(build.setup, args.target)
    return build
