"""Reads uploads in a short-lived process of its own, with limits on memory, processor and time: whatever a file does, the server lives.

The process comes from a fork server that has the readers loaded but no compiled kernel: kernels start OpenMP's threads, and a
child of a process that has them is ended by OpenMP. A scene that brings its settings is read in tenths of a second; one without loads the
kernels in its own process, to meter its exposure.
"""

import multiprocessing
import resource
import time
from collections.abc import Callable
from functools import cache
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from eddyfall.workbench.errors import Refused

Progress = Callable[[str, float], None]
STEPS = {"reading the scene": 0.1, "fitting settings": 0.5, "checking the settings": 0.5, "counting what is in it": 0.8}
TELL_EVERY_S = 0.5
MEMORY_BYTES = 6 * 1024**3
PROCESSOR_S = 300
WALL_S = 300


@cache
def _context() -> Any:
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["eddyfall.core.intake", "eddyfall.core.handover.documents.facts"])
    return context


def start_early() -> None:
    """Have the fork server ready before the first upload."""
    process = _context().Process(target=_nothing)
    process.start()
    process.join()


def _nothing() -> None:
    pass


def read_upload(
    scene: Path, scene_name: str, setup: Path | None, setup_name: str, progress: Progress, fits: bool = True
) -> dict[str, Any]:  # fmt: skip
    """What is in an upload: {"setup", "facts", "open_bytes"}. Refused(422) with one line if it breaks a rule or its limits.
    fits: settings are fitted where none come along; else the scene alone is read then.

    progress is called every second while it is read; what it raises ends the reading.
    """
    return _answered(scene_name, progress, _child, scene, scene_name, setup, setup_name, fits)


def read_supply(scene: Path, scene_name: str, pictures: list[tuple[str, Path]], older: Path | None, out: Path) -> dict[str, Any]:
    """Which of the pictures, (name, file) each, is which that is missing in a scene: {"supply": as `SupplyDocument` has it}; the scene with
    them in their places is written to `out` if any has one. older: the scene of the build before. Refused(422) with one line."""
    return _answered(scene_name, lambda what, share: None, _supply_child, scene, scene_name, pictures, older, out)


def _answered(scene_name: str, progress: Progress, child: Callable[..., None], *args: Any) -> dict[str, Any]:
    """What a child answers that is held to its limits."""
    near, far = _context().Pipe(duplex=False)
    process = _context().Process(target=child, args=(far, *args))
    process.start()
    far.close()
    answer: Any = None
    end, step = time.monotonic() + WALL_S, "starting"
    try:
        while not isinstance(answer, dict) and time.monotonic() < end:
            if near.poll(TELL_EVERY_S):
                answer = near.recv()
                step = answer if isinstance(answer, str) else step
            progress(f"{scene_name}: {step}", STEPS.get(step, 0.0))
    except EOFError:
        answer = None
    finally:
        near.close()
        if process.is_alive() and not isinstance(answer, dict):
            process.kill()
        process.join()
    if not isinstance(answer, dict):
        raise Refused(422, f"{scene_name}: reading it took more memory or time than is allowed")
    if "error" in answer:
        raise Refused(422, answer["error"])
    return answer


def _limited() -> None:
    resource.setrlimit(resource.RLIMIT_DATA, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (PROCESSOR_S, PROCESSOR_S))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _supply_child(
    answer: Connection, scene: Path, scene_name: str, pictures: list[tuple[str, Path]], older: Path | None, out: Path
) -> None:
    _limited()
    from eddyfall.core.errors import EddyfallError
    from eddyfall.core.handover.documents.supply import SupplyDocument
    from eddyfall.core.intake.supply import matched, offered, supplied, taken
    from eddyfall.core.scene.images import ImageBudget
    from eddyfall.core.scene.read.gltf import read_scene

    try:
        budget = ImageBudget()
        came = [offered(name, path.read_bytes(), budget) for name, path in pictures]
        before = None if older is None else read_scene(older, beside_it=False)
        found = matched(read_scene(scene, beside_it=False), came, before)
        if found.found:
            out.write_bytes(supplied(scene, taken(found, came), beside_it=False))
        answer.send({"supply": SupplyDocument.from_core(found).model_dump(mode="json")})
    except EddyfallError as error:
        answer.send({"error": str(error).replace(scene.name, scene_name)})
    except MemoryError:
        answer.send({"error": f"{scene_name}: reading it took more memory than is allowed"})
    finally:
        answer.close()


def _child(answer: Connection, scene: Path, scene_name: str, setup: Path | None, setup_name: str, fits: bool) -> None:
    _limited()
    from eddyfall.core.errors import EddyfallError
    from eddyfall.core.frame.memo import size_of
    from eddyfall.core.handover.documents.facts import IntakeDocument
    from eddyfall.core.intake import open_build
    from eddyfall.core.scene.build import Build
    from eddyfall.core.scene.read.gltf import read_scene
    from eddyfall.core.scene.setup import empty_setup

    try:
        if fits or setup is not None:
            build = open_build(scene, setup, look_beside=False, on_step=answer.send)
        else:
            answer.send("reading the scene")
            build = Build(read_scene(scene, beside_it=False), empty_setup())
        answer.send("counting what is in it")
        facts = IntakeDocument.from_core(build).model_dump(mode="json")
        answer.send({"setup": build.raw_setup, "facts": facts, "open_bytes": size_of(build.scene)})
    except EddyfallError as error:
        text = str(error).replace(scene.name, scene_name)
        answer.send({"error": text.replace(setup.name, setup_name) if setup else text})
    except MemoryError:
        answer.send({"error": f"{scene_name}: reading it took more memory than is allowed"})
    finally:
        answer.close()
