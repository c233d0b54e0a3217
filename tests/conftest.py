"""Fixtures several tests share. The demo is written and swept once for the whole run."""

import os
from pathlib import Path

import pytest

from eddyfall import cli
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer
from eddyfall.core.intake import open_build
from eddyfall.core.scene.build import Build
from eddyfall.core.sweep import SweepResult, sweep
from eddyfall.core.sweep.run import SWEEP_MEMO_BYTES
from eddyfall.demo.tiny import tiny_build
from eddyfall.demo.write import write_demo


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption(
        "--long", action="store_true", help="the long tests too, and random samples as large as what is claimed of them"
    )


def pytest_configure(config: pytest.Config) -> None:
    if config.getoption("--long"):
        os.environ["EDDYFALL_TEST_LONG"] = "1"  # what `sizes.of_many` goes by while tests are collected


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Leaves out what is marked `long`, but for a long run and for tests that are asked for by name."""
    if config.getoption("--long"):
        return
    named = [a for a in config.args if "::" in a]
    left_out = [i for i in items if i.get_closest_marker("long") and not any(a.split("::")[-1] in i.nodeid for a in named)]
    config.hook.pytest_deselected(items=left_out)
    items[:] = [i for i in items if i not in left_out]


@pytest.fixture
def run(capsys):
    """Runs a command as a user does: run(words ...) gives (exit code, what it says, its errors)."""

    def go(*args):
        code = cli.main([str(a) for a in args])
        out = capsys.readouterr()
        return code, out.out, out.err

    return go


@pytest.fixture(autouse=True, scope="module")
def renderers_forget(request):
    """What a module's own renderers remember is let go after it: half a gigabyte each, thirty of them."""
    yield
    for value in vars(request.module).values():
        if isinstance(value, Renderer):
            value.memo.clear()


@pytest.fixture(scope="session")
def renderer() -> Renderer:
    return Renderer(Memo(SWEEP_MEMO_BYTES))


@pytest.fixture(scope="session")
def tiny() -> Build:
    return tiny_build()


@pytest.fixture(scope="session")
def demo_files(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    return write_demo(tmp_path_factory.mktemp("demo"))


@pytest.fixture(scope="session")
def demo(demo_files: dict[str, Path]) -> Build:
    return open_build(demo_files["glb"])


@pytest.fixture(scope="session")
def demo_sweep(demo: Build, renderer: Renderer) -> SweepResult:
    return sweep(demo, renderer=renderer)
