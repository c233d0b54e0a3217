"""Files of strangers: read or refused in one line; at fitted viewpoints nothing is cut, shadows are where rays say, what glows is seen."""

import copy
import json
import random
import struct
from pathlib import Path

import numpy as np
import pytest

from eddyfall.cli import main
from eddyfall.core.errors import EddyfallError
from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.intake import open_build
from eddyfall.core.sweep import sweep
from eddyfall.core.truth.visibility import caster_scene, sun_visibility, sunlit_candidates
from strangers import strangers

SIZE = (320, 180)
MUTANTS = 300
SWEPT = 25  # of those that can be read
RENDERER = Renderer(Memo(256 * 1024**2))


@pytest.fixture(scope="module")
def files(tmp_path_factory):
    found = strangers(tmp_path_factory.mktemp("packed"))
    assert len(found) > 100, "install assimp-testmodels, and npm packages in tests/tools: ./run test does"
    return found


@pytest.fixture(scope="module")
def builds(files):
    """Builds of those that can be read, every fifth of the many alike; the others refused in one line."""
    read, refused = {}, {}
    for path in [p for i, p in enumerate(files) if "@webxr" not in str(p) or i % 5 == 0]:
        try:
            read[path] = open_build(path)
        except EddyfallError as error:
            refused[path] = str(error)
    assert all("\n" not in words and words for words in refused.values())
    assert len(read) > 35 and len(refused) > 10
    return read


def drawn(builds):
    return {path: b for path, b in builds.items() if RENDERER.geometry(b).plate > 0}


def shots(build):
    """(viewpoint, frame) of the viewpoints that were fitted around everything."""
    for view, entry in build.setup.viewpoints.items():
        if view.startswith("fitted_") and entry.camera is None and not view.startswith(("fitted_near", "fitted_inside")):
            yield view, RENDERER.frame(build, Request(view, SIZE), "display")


def test_at_fitted_viewpoints_nothing_is_cut_and_shadows_are_where_rays_say(builds):
    looked = 0
    for path, build in drawn(builds).items():
        for view, frame in shots(build):
            met = frame.drawable >= 0
            where = f"{path.name} at {view}"
            assert met.any() or frame.draw_list, f"{where}: nothing is drawn"
            assert not (met[0].any() or met[-1].any() or met[:, 0].any() or met[:, -1].any()), f"{where}: cut by the border"
            mask = sunlit_candidates(frame)
            if mask.sum() > 100:
                truth = sun_visibility(frame, caster_scene(frame), np.argwhere(mask)[:, ::-1])
                wrong = float(((frame.buffers["sun_visibility"][mask] >= 0.5) != truth.lit).mean())
                said = "of sunlit pixels differ from rays" in "\n".join(build.notes)
                assert wrong < (0.03 if said else 0.02), f"{where}: {wrong * 100:.1f} % of sunlit pixels differ from rays"
            looked += 1
    assert looked > 40


def test_everything_is_seen_from_somewhere_or_said_to_be_hidden(builds):
    for path, build in drawn(builds).items():
        seen = set()
        for view in build.setup.viewpoints:
            frame = RENDERER.frame(build, Request(view, SIZE), "drawable")
            seen |= set(np.unique(frame.drawable).tolist()) | {frame.geometry.names[name] for name in frame.draw_list}
        hidden = len(frame.geometry.drawables) - 1 - len(seen - {-1})
        assert hidden == 0 or "hidden inside other things" in "\n".join(build.notes), f"{path.name}: {hidden} are never seen"


def test_what_is_unlit_or_glows_is_no_blacker_than_what_is_lit(builds):
    for path, build in drawn(builds).items():
        materials = build.scene.materials
        glowing = {i for i, m in enumerate(materials) if m.unlit and max(m.base_rgba[:3]) > 0.3 and m.base_texture is None}
        for view, frame in shots(build) if glowing else ():
            mine = np.isin(frame.drawable, [i for i, d in enumerate(frame.geometry.drawables) if d.material in glowing])
            assert not mine.any() or frame.display[mine].max() > 40, f"{path.name} at {view}"


def test_healthy_ones_have_no_finding_that_a_look_does_not_bear_out(builds):
    """What blocks or is visible must show in the frame: by pixels that change when it is cured."""
    for path, build in list(drawn(builds).items())[::4]:
        if RENDERER.geometry(build).plate > 20:
            continue
        for finding in sweep(build, size=SIZE, renderer=RENDERER).findings:
            if finding.severity != "latent":
                assert finding.impact.kind == "measured" and finding.impact.share > 0, f"{path.name}: {finding.suspicion.title}"


WILD = [
    None,
    True,
    -1,
    0,
    2**31,
    10**30,
    1e308,
    -1e308,
    0.5,
    "",
    "x",
    [],
    {},
    [[]],
    [None],
    {"a": 1},
    [0, 0, 0],
    [1e30] * 3,
    [0] * 16,
    "../x",
    1e6,
]


def mutant(path: Path, rng: random.Random) -> bytes:
    """The file with one to three values of its JSON changed or gone, bytes flipped, or its end cut off."""
    data, head = path.read_bytes(), b""
    rest = b""
    if data[:4] == b"glTF":
        length = struct.unpack("<I", data[12:16])[0]
        head, text, rest = data[:12], data[20 : 20 + length], data[20 + length :]
    else:
        text = data
    try:
        document = json.loads(text)
    except ValueError:
        return data[: rng.randrange(max(len(data), 1))]
    if rest and rng.random() < 0.25:
        damaged = bytearray(rest)
        for _ in range(rng.randint(1, 200)):
            damaged[rng.randrange(len(damaged))] = rng.randrange(256)
        rest = bytes(damaged)
    else:
        for _ in range(rng.choice([1, 1, 1, 2, 3])):
            _change(document, rng)
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    made = text
    if head:
        made = head[:8] + struct.pack("<III", 20 + len(text) + len(rest), len(text), 0x4E4F534A) + text + rest
    return made[: rng.randrange(len(made))] if rng.random() < 0.05 else made


def _change(document, rng):
    at, steps = document, rng.randint(1, 7)
    for _ in range(steps):
        keys = list(at) if isinstance(at, dict) else range(min(len(at), 40))
        if not keys:
            return
        key = rng.choice(list(keys))
        inner = at[key]
        if not isinstance(inner, (dict, list)) or not inner or rng.random() < 0.2:
            if isinstance(at, dict) and rng.random() < 0.15:
                del at[key]
            elif isinstance(inner, (int, float)) and not isinstance(inner, bool) and rng.random() < 0.5:
                at[key] = rng.choice([inner + 1, inner - 1, inner * 2, -inner, inner * 1e6, inner * 1e-6, 0])
            else:
                at[key] = copy.deepcopy(rng.choice(WILD))
            return
        at = inner


def test_mutants_are_read_or_refused_and_never_crash(files, tmp_path, capsys):
    rng, small = random.Random(11), [p for p in files if p.stat().st_size < 400_000]
    read = []
    for i in range(MUTANTS):
        source = rng.choice(small)
        path = tmp_path / f"{i}{source.suffix}"
        path.write_bytes(mutant(source, rng))
        if source.suffix == ".gltf":  # what it names stands beside it
            for beside in source.parent.iterdir():
                if beside.is_file() and not (tmp_path / beside.name).exists():
                    (tmp_path / beside.name).symlink_to(beside)
        code = main(["intake", str(path)])
        said = capsys.readouterr()
        assert code in (0, 2), f"mutant {i} of {source.name}: {said.err}"
        if code == 2:
            assert said.err.count("\n") == 1 and "Traceback" not in said.err
        else:
            read.append(path)
    assert len(read) > MUTANTS // 20
    for path in read[:: max(1, len(read) // SWEPT)]:
        code = main(["sweep", str(path), "--size", "160x90"])
        said = capsys.readouterr()
        assert code in (0, 1, 2), f"{path.name}: {said.err}"
        if code == 1:
            assert "cause" in said.out, "exit 1 means findings"
