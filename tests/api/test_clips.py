"""Moments of clips over the API: told by the build, drawn as pictures, wrong ones refused."""

import io

import numpy as np
from PIL import Image

from api_helpers import bring
from test_clip_commands import gate


def white_rows(answer):
    """(first, last) row of a PNG that is white anywhere."""
    assert answer.status_code == 200, answer.content
    rows = np.flatnonzero((np.asarray(Image.open(io.BytesIO(answer.content)).convert("L")) > 250).any(axis=1))
    return int(rows[0]), int(rows[-1])


def test_a_moment_of_a_clip_is_drawn(people, tmp_path):
    built = bring(people, gate(tmp_path))
    told = built["viewer"].get(built["base"]).json()["facts"]
    assert told["clips"] == [{"name": "lift", "ends_s": 1.0, "moves": 1}] and told["skins"] == 0
    frame = f"{built['base']}/frames/eye?width=96&height=96"
    rest, begins, ends = (white_rows(built["viewer"].get(frame + more)) for more in ("", "&clip=lift", "&clip=lift&time_s=1"))
    assert rest == begins and ends[0] < rest[0]
    again = white_rows(built["viewer"].get(frame + "&state=built&clip=lift&time_s=1"))
    assert again == ends and white_rows(built["viewer"].get(frame)) == rest
    for more, code, says in (
        ("&clip=drop", 422, "there is no clip 'drop' (lift)"), ("&clip=lift&time_s=-1", 422, "time_s"),
        ("&clip=lift&time_s=nan", 422, "time_s"), ("&clip=%00", 422, "NUL character"),
    ):  # fmt: skip
        answer = built["viewer"].get(frame + more)
        assert answer.status_code == code and says in answer.content.decode()
