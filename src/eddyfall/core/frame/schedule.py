"""The order of the passes, checked from what each says it reads and writes, and the pass table that follows from it."""

from typing import Any

from eddyfall.core.passes import blended, cull, direct, display, fog, indirect, opaque, prepass, shadow, sky, surface, triangles
from eddyfall.core.passes.contract import Pass

GIVEN = ("geometry", "caster_geometry", "textures", "cutouts", "lightmaps", "camera", "pixels")
SCHEDULE: tuple[Pass, ...] = tuple(
    sorted(
        (m.PASS for m in (cull, triangles, shadow, prepass, opaque, surface, direct, indirect, sky, fog, blended, display)),
        key=lambda p: p.number,
    )
)
BY_NAME = {p.name: p for p in SCHEDULE}
WRITER = {name: p for p in SCHEDULE for name in p.writes}


def check_schedule(schedule: tuple[Pass, ...]) -> None:
    """ValueError if a pass reads what nothing before it writes, or two passes write one buffer."""
    known = set(GIVEN)
    for p in schedule:
        missing = [name for name in p.reads if name not in known]
        if missing:
            raise ValueError(f"pass {p.name} reads {missing[0]}, which nothing before it writes")
        doubled = [name for name in p.writes if name in known]
        if doubled:
            raise ValueError(f"pass {p.name} writes {doubled[0]} a second time")
        known.update(p.writes)


check_schedule(SCHEDULE)


def passes_for(buffer: str) -> tuple[Pass, ...]:
    """The passes that buffer `buffer` needs, in order. KeyError if nothing writes it."""
    chosen, wanted = [WRITER[buffer]], set(WRITER[buffer].reads)
    for p in reversed(SCHEDULE[: SCHEDULE.index(chosen[0])]):
        if wanted & set(p.writes):
            chosen.append(p)
            wanted |= set(p.reads)
    return tuple(reversed(chosen))


def pass_table() -> list[dict[str, Any]]:
    """One row for each pass, in order: number, name, does, reads, writes, settings, support_px, off."""
    return [
        {
            "number": p.number, "name": p.name, "does": p.does, "reads": list(p.reads), "writes": list(p.writes),
            "settings": list(p.settings), "support_px": p.support_px, "off": [f"{o.leaf} = {o.value!r}" for o in p.off],
        }
        for p in SCHEDULE
    ]  # fmt: skip


def passes_after(name: str) -> list[str]:
    """Names of the passes that a change to pass `name` makes run again."""
    touched = set(BY_NAME[name].writes)
    result = [name]
    for p in SCHEDULE:
        if p.name != name and touched & set(p.reads):
            touched |= set(p.writes)
            result.append(p.name)
    return result
