"""The guide's recipe of a code, run: a family from one module of its own shows up in sweep, line-up, JSON, SARIF and HTML."""

import json
import sys
from types import ModuleType

import pytest

from eddyfall.core.defects.registry import unregister
from eddyfall.core.defects.symptoms import symptoms, unregister_symptom
from eddyfall.core.frame.render import Renderer
from eddyfall.core.handover.documents.findings import FindingDocument, SweepDocument
from eddyfall.core.handover.documents.lineups import LineUpDocument
from eddyfall.core.handover.html import html_sheet
from eddyfall.core.handover.sarif import sarif
from eddyfall.core.handover.tide import kind_of, tide_columns, tide_row
from eddyfall.core.lineup import line_up
from eddyfall.core.sweep import sweep
from guide import recipe


@pytest.fixture
def toy():
    module = ModuleType("toy_family")
    sys.modules["toy_family"] = module
    exec(compile(recipe("python code"), "toy_family.py", "exec"), module.__dict__)
    yield module
    unregister("toys")
    unregister_symptom("greenness")
    del sys.modules["toy_family"]


def test_a_new_family_is_seen_everywhere(toy):
    from scenes import Thing, build_of, flat, wall

    build = build_of(Thing("leaf", wall(6, half=1), flat("green", (0.1, 0.8, 0.1))), Thing("wall", wall(9), flat("white", 0.7)))
    renderer = Renderer()
    result = sweep(build, size=(160, 90), renderer=renderer)
    found = next(f for f in result.findings if f.code == toy.CODE)
    assert found.impact.kind == "measured" and found.impact.share > 0
    assert found.best.change.title == "hide leaf" and found.best.verdict == "cures"
    document = json.loads(SweepDocument.from_core(result).model_dump_json())
    assert document["findings"][0]["evidence"][0]["measure"] == "green pixels"
    log = sarif(result, "a.glb")["runs"][0]
    assert {"toy.too-green"} == {r["ruleId"] for r in log["results"]}
    assert "Something is too green" in json.dumps(log["tool"])
    html = html_sheet(build, result, name="a", renderer=renderer)
    assert "leaf is &lt;too&gt; green" in html and "green pixels" in html and "hide leaf" in html
    told = document["findings"][0]
    assert (told["kind"], told["symptom"], told["sheet"]) == ("Surface", "greenness", "toybox")
    [rule] = [r for r in log["tool"]["driver"]["rules"] if r["id"] == toy.CODE]
    assert rule["fullDescription"]["text"] == "no pixel may be green"
    [column] = [c for c in tide_columns() if "toy.too-green" in c.words]
    assert column.code == "Surface" and "Surface" in tide_row([FindingDocument.model_validate(told)], "eye", kind_of).cells
    # Its own symptom scores a line-up, and its own lever belongs to that.
    result = line_up(build, "eye", (60, 30, 40, 30), "greenness", size=(160, 90))
    trials = {t.title: t for t in LineUpDocument.from_core(result).trials}
    assert result.unit == "code" and result.base_score > 20 and "the toy's lever" in trials


def test_and_is_gone_when_it_is_taken_out(tiny):
    assert all(not f.code.startswith("toy.") for f in sweep(tiny, size=(96, 54)).findings)
    assert "greenness" not in symptoms()
