"""shadow.leftover: shadow settings of earlier trials that change no pixel any more."""

from weakref import WeakKeyDictionary

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey
from eddyfall.core.frame.render import Renderer
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import apply_change, set_leaf, set_leaves
from eddyfall.core.truth.leftovers import Hints, Leftovers, first_difference, leftovers, looks_of, non_default

CODE = "shadow.leftover"
_hints: WeakKeyDictionary[Renderer, Hints] = WeakKeyDictionary()  # a sweep asks again of builds that differ in one setting
IDLE_S = 1.0  # what it saves to know what nothing needs
SIZE = (480, 270)  # px at which frames are compared; the command compares full ones


def observe(survey: Survey, viewpoint: str) -> None:
    """Nothing: a setting is judged by all viewpoints together."""


def conclude(survey: Survey, seen: dict[str, None]) -> list[Suspicion]:
    """One suspicion for each setting that nothing needs."""
    build = survey.build
    if not any(True for _ in non_default(build)):
        return []
    # Whoever asks, in whatever role: all of them are looked at.
    found: Leftovers = survey.renderer.memo.once(f"leftovers {build.content_hash} {SIZE}", lambda: _found(survey.renderer, build))
    result = []
    for setting in (s for s in found.settings if not s.needed):
        name = ".".join(setting.path)
        change = set_leaves(
            build, {setting.path: setting.default}, scope="node" if setting.path[0] == "nodes" else "project", title=f"take out {name}",
            reason="it changes no pixel",
        )  # fmt: skip
        # What nothing needs changes nothing together: what of it is left once this one is taken out need not be looked at again.
        idle = frozenset(s.path for s in found.settings if not s.needed and s.path != setting.path)
        survey.renderer.memo.put(_idle(apply_change(build, change)), idle, IDLE_S)
        evidence = Evidence(
            measure="pixels that it changes", value=0.0, unit="px", limit=1.0, at_least=True,
            source=f"{len(found.looked)} frames with and without it: every viewpoint, target and role",
        )  # fmt: skip
        result.append(
            Suspicion(
                code=CODE,
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


def _idle(build: Build) -> str:
    return f"idle settings {build.content_hash} {SIZE}"


def _found(renderer: Renderer, build: Build) -> Leftovers:
    off = set_leaf(build, ("shadow", "enabled"), False, scope="project", title="shadows off")
    if not first_difference(renderer, build, apply_change(build, off), looks_of(build, SIZE))[1]:
        return Leftovers((), None, ())  # nobody sees a drawn shadow here: its settings are not judged
    idle = renderer.memo.get(_idle(build)) or frozenset()
    return leftovers(renderer, build, size=SIZE, hints=_hints.setdefault(renderer, {}), idle=idle)


FAMILY = register(
    Family(
        "shadow leftovers",
        (
            Code(
                code=CODE,
                words="A shadow setting is left over: it changes no pixel",
                kind="Shadow",
                symptom="leftover setting",
                limit="a setting that is not at its default must change a pixel somewhere",
                sheet="shadow-reach",
            ),
        ),
        observe,
        conclude,
    )
)
