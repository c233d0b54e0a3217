"""Fixtures several tests share. The demo is written and swept once for the whole run."""

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


@pytest.fixture
def run(capsys):
    """Runs a command as a user does: run(words ...) gives (exit code, what it says, its errors)."""

    def go(*args):
        code = cli.main([str(a) for a in args])
        out = capsys.readouterr()
        return code, out.out, out.err

    return go


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
