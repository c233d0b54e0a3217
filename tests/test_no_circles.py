"""No module needs itself by way of others, at import or later, in Python and in the front end."""

import re
from pathlib import Path

import grimp

WEB = Path(__file__).parents[1] / "web" / "src"


def circles(needs: dict[str, set[str]]) -> list[list[str]]:
    """Strongly connected components of more than one member (Tarjan 1972, from memory)."""
    number, low, stack, found = {}, {}, [], []

    def visit(name):
        number[name] = low[name] = len(number)
        stack.append(name)
        for other in needs.get(name, ()):
            if other not in number:
                visit(other)
                low[name] = min(low[name], low[other])
            elif other in stack:
                low[name] = min(low[name], number[other])
        if low[name] == number[name]:
            members = stack[stack.index(name) :]
            del stack[len(stack) - len(members) :]
            if len(members) > 1:
                found.append(sorted(members))

    for name in needs:
        if name not in number:
            visit(name)
    return found


def test_circles_are_found_where_there_are_some():
    assert circles({"a": {"b"}, "b": {"c"}, "c": {"a"}, "d": {"a"}}) == [["a", "b", "c"]]
    assert circles({"a": {"b", "c"}, "b": {"c"}, "c": set()}) == []


def test_no_circle_of_python_modules():
    graph = grimp.build_graph("eddyfall")
    assert circles({m: set(graph.find_modules_directly_imported_by(m)) for m in graph.modules}) == []


def test_no_circle_in_the_front_end():
    files = [p for p in WEB.rglob("*.ts*") if ".test." not in p.name and not p.name.endswith(".d.ts")]
    needs = {}
    for path in files:
        asked = re.findall(r'from "(\.[^"]+)"', path.read_text())
        ends = [(path.parent / a).resolve() for a in asked]
        needs[str(path)] = {
            str(q) for e in ends for q in (e.with_name(e.name + ".ts"), e.with_name(e.name + ".tsx")) if q in files
        }
    assert len(needs) > 50 and circles(needs) == []
