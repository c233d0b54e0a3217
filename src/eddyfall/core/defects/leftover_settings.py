"""shadow.leftover, order.leftover: settings of earlier trials that change no pixel any more."""

from collections.abc import Callable
from weakref import WeakKeyDictionary

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Kind, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Renderer
from eddyfall.core.passes.draw_order import blended_in
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import apply_change, set_leaf, set_leaves
from eddyfall.core.truth.leftovers import (
    ORDER,
    SHADOW,
    Hints,
    Leftovers,
    Which,
    first_difference,
    leftovers,
    looks_of,
    non_default,
)

CODES = {SHADOW.name: "shadow.leftover", ORDER.name: "order.leftover"}
_hints: WeakKeyDictionary[Renderer, dict[str, Hints]] = WeakKeyDictionary()  # a sweep asks of builds that differ in one setting
IDLE_S = 1.0  # what it saves to know what nothing needs
SIZE = (480, 270)  # px at which frames are compared; the command compares full ones


def observe(survey: Survey, viewpoint: str) -> None:
    """Nothing: a setting is judged by all viewpoints together."""


def conclude(which: Which) -> Callable[[Survey, dict[str, None]], list[Suspicion]]:
    """One suspicion for each of these settings that nothing needs."""
    return lambda survey, seen: _left(survey, which)


def _left(survey: Survey, which: Which) -> list[Suspicion]:
    build = survey.build
    if not any(True for _ in non_default(build, which)):
        return []
    # Whoever asks, in whatever role: all of them are looked at.
    name = f"{which.name} leftovers {build.content_hash} {SIZE}"
    found: Leftovers = survey.renderer.memo.once(name, lambda: _found(survey, which))
    result = []
    for setting in (s for s in found.settings if not s.needed):
        name = ".".join(setting.path)
        change = set_leaves(
            build, {setting.path: setting.default}, scope="node" if setting.path[0] == "nodes" else "project", title=f"take out {name}",
            reason="it changes no pixel",
        )  # fmt: skip
        # What nothing needs changes nothing together: what of it is left once this one is taken out need not be looked at again.
        idle = frozenset(s.path for s in found.settings if not s.needed and s.path != setting.path)
        survey.renderer.memo.put(_idle(apply_change(build, change), which), idle, IDLE_S)
        evidence = Evidence(
            measure="pixels that it changes", value=0.0, unit="px", limit=1.0, at_least=True,
            source=f"{len(found.looked)} frames with and without it: every viewpoint, target and role{', moves' * which.moves}",
        )  # fmt: skip
        result.append(
            Suspicion(
                code=CODES[which.name],
                cause_kind="setting",
                cause=name,
                title=f"{name} = {setting.value} changes no pixel",
                subjects=(setting.path[1],) if setting.path[0] == "nodes" else (),
                value=0.0,
                limit=1.0,
                evidence=(evidence,),
                candidates=(Candidate(change=change, predicts="one setting less", costs=(Cost("memory", 0.0, "bytes"),)),),
            )
        )
    return result


def _idle(build: Build, which: Which) -> str:
    return f"idle {which.name} settings {build.content_hash} {SIZE}"


def _found(survey: Survey, which: Which) -> Leftovers:
    renderer, build = survey.renderer, survey.build
    if not _in_use(survey, which):
        return Leftovers((), None, ())  # nobody sees what they would change: they are not judged
    hints, idle = (
        _hints.setdefault(renderer, {}).setdefault(which.name, {}),
        renderer.memo.get(_idle(build, which)) or frozenset(),
    )
    return leftovers(renderer, build, which, size=SIZE, hints=hints, idle=idle)


def _in_use(survey: Survey, which: Which) -> bool:
    """Whether anybody sees a drawn shadow, or anything blended is drawn."""
    renderer, build = survey.renderer, survey.build
    if which is ORDER:
        return any(len(blended_in(survey.stage(viewpoint).state)) > 0 for viewpoint in build.setup.viewpoints)
    off = set_leaf(build, ("shadow", "enabled"), False, scope="project", title="shadows off")
    return bool(first_difference(renderer, build, apply_change(build, off), looks_of(build, SIZE))[1])


LIMIT = "a setting that is not at its default must change a pixel somewhere"


def _family(which: Which, words: str, kind: Kind, sheet: str) -> Family:
    code = Code(code=CODES[which.name], words=words, kind=kind, symptom="leftover setting", limit=LIMIT, sheet=sheet)
    return register(Family(f"{which.name} leftovers", (code,), observe, conclude(which)))


OF_SHADOWS = _family(SHADOW, "A shadow setting is left over: it changes no pixel", "Shadow", "shadow-reach")
OF_ORDER = _family(ORDER, "A setting of the draw order is left over: it changes no pixel", "Transparency", "draw-order")
