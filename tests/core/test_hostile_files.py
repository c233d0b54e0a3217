"""Files made to break a reader: one line, exit 2, bounded memory and time."""

import os
import resource
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.read.gltf import read_scene
from hostile_files import FILES, GIB, triangle


@pytest.mark.parametrize("name", FILES)
def test_is_refused_with_one_line_that_says_what_and_where(name, tmp_path):
    data, words = FILES[name]
    path = tmp_path / "bad.glb"
    path.write_bytes(data)
    with pytest.raises(SceneError) as caught:
        read_scene(path)
    line = str(caught.value)
    assert line.startswith("bad.glb: ") and words in line and "\n" not in line and len(line) < 400


@pytest.mark.parametrize(
    "name", ["4e9 vertices", "zeros from nothing", "zip bomb", "100k nested", "huge picture", "recursive nodes"]
)
def test_the_command_line_ends_with_2_within_a_gibibyte(name, tmp_path):
    path = tmp_path / "bad.glb"
    path.write_bytes(FILES[name][0])

    def limits():
        resource.setrlimit(resource.RLIMIT_DATA, (GIB, GIB))

    environment = {**os.environ, "PYTHONPATH": str(Path(__file__).parents[2] / "src"), "NUMBA_NUM_THREADS": "2"}
    run = subprocess.run(
        [sys.executable, "-m", "eddyfall.cli", "intake", str(path)],
        capture_output=True, text=True, env=environment, preexec_fn=limits, timeout=120,
    )  # fmt: skip
    assert run.returncode == 2, run.stderr
    assert run.stderr.startswith("eddyfall: bad.glb: ") and run.stderr.count("\n") == 1
    assert "Traceback" not in run.stderr


@pytest.mark.parametrize("seed", range(60))
def test_bytes_turned_at_random_never_do_more_than_be_refused(seed, tmp_path):
    rng = np.random.default_rng(seed)
    data = bytearray(triangle())
    for _ in range(rng.integers(1, 12)):
        data[rng.integers(0, len(data))] = rng.integers(0, 256)
    path = tmp_path / "bad.glb"
    path.write_bytes(bytes(data))
    try:
        read_scene(path)
    except SceneError as error:
        assert "\n" not in str(error)


def test_names_from_files_cannot_steer_a_terminal(tmp_path):
    path = tmp_path / "bad.glb"
    path.write_bytes(triangle(nodes=[{"name": "\x1b[2J\x07", "mesh": 9}]))
    with pytest.raises(SceneError) as caught:
        read_scene(path)
    assert "\x1b" not in str(caught.value)
