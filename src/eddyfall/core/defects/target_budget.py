"""target.over-budget: what occlusion, bounce and reflection hold in memory is more than the target allows.

A budget belongs to a target (section `budget`); where none is set nothing is found. Bytes are counted exactly, for the size of frame
that the budget is for."""

from collections.abc import Iterator

from eddyfall.core.defects.contract import Candidate, Code, Cost, Evidence, Family, Suspicion
from eddyfall.core.defects.registry import register
from eddyfall.core.defects.survey import Survey
from eddyfall.core.scene.changes import Change, apply_change, set_resolved
from eddyfall.core.scene.setup.sections.screen import FROM_FRAME
from eddyfall.core.truth.screen_budget import MIB, ScreenBudget, screen_budget

CODE = "target.over-budget"
DIVISORS = (2, 4)


def observe(survey: Survey, viewpoint: str) -> ScreenBudget | None:
    """What is held there, if it is more than is allowed."""
    found = screen_budget(survey.stage(viewpoint))
    return found if found.over else None


def conclude(survey: Survey, seen: dict[str, ScreenBudget | None]) -> list[Suspicion]:
    """One suspicion, of the viewpoint that holds most."""
    over = {v: found for v, found in seen.items() if found is not None}
    if not over:
        return []
    worst = max(over, key=lambda v: over[v].mib)
    most = over[worst]
    width, height = most.size
    evidence = [
        Evidence(
            measure=f"targets at {worst}, {width} x {height} px", value=most.mib, unit="MiB", limit=most.limit_mib,
            source="budget.screen_mib",
        ),
        *(Evidence(measure=f"of it {h.pass_name}: {h.target.name}", value=h.bytes / MIB, unit="MiB") for h in most.held),
    ]  # fmt: skip
    return [
        Suspicion(
            code=CODE,
            cause_kind="setting",
            cause="budget.screen_mib",
            title=f"Occlusion, bounce and reflection hold {most.mib:.4g} of {most.limit_mib:.4g} MiB",
            subjects=(),
            value=most.mib,
            limit=most.limit_mib,
            evidence=tuple(evidence),
            pixels=dict.fromkeys(over, survey.size[0] * survey.size[1]),
            candidates=tuple(_candidates(survey, worst, most)) if survey.pictures else (),
            facts={"target": survey.target or ""},
        )
    ]


def _candidates(survey: Survey, viewpoint: str, most: ScreenBudget) -> Iterator[Candidate]:
    """Coarser targets of one pass, of all of them, no margin: each that keeps the budget by itself, coarsest last."""
    for change, predicts in _ways(survey, viewpoint):
        after = screen_budget(survey.on(apply_change(survey.build, change)).stage(viewpoint))
        if not after.over:
            yield Candidate(change=change, predicts=predicts, costs=(Cost("memory", (after.mib - most.mib) * MIB, "bytes"),))


def _ways(survey: Survey, viewpoint: str) -> Iterator[tuple[Change, str]]:
    resolved = survey.resolved(viewpoint)
    on = {name: section for name, kind in FROM_FRAME.items() if (section := resolved[kind]).enabled}

    def change(title: str, leaves: dict[str, int]) -> Change:
        return set_resolved(survey.build, resolved, dict(leaves), title=title)

    margins = {f"{name}.margin_px": 0 for name, section in on.items() if section.margin_px}
    if margins:
        yield change("no margin beyond the frame", margins), "what lies beside the frame is lost again"
    for divisor in DIVISORS:
        finer = {f"{name}.divisor": divisor for name, section in on.items() if section.divisor < divisor}
        for leaf in finer if len(finer) > 1 else ():
            name = leaf.split(".")[0]
            yield change(f"{name} at one of {divisor} by {divisor} px", {leaf: divisor}), "coarser, spread along surfaces"
        if finer:
            yield (
                change(f"{', '.join(n.split('.')[0] for n in finer)} at one of {divisor} by {divisor} px", finer),
                "all of them coarser",
            )


FAMILY = register(
    Family(
        "target budget",
        (
            Code(
                code=CODE,
                words="What works from the frame alone holds more memory than the target allows",
                kind="Output",
                symptom="over budget",
                limit="the target's own: MiB",
                sheet="light",
            ),
        ),
        observe,
        conclude,
    )
)
