"""The targets that passes hold in memory as they are set, as a real-time renderer keeps them: exact bytes for a size of frame."""

from dataclasses import dataclass

from eddyfall.core.frame.schedule import schedule
from eddyfall.core.passes.contract import Stage, Target


@dataclass(frozen=True)
class Held:
    """A target that a pass holds, and the bytes it takes."""

    pass_name: str
    target: Target
    bytes: int


def held_at(stage: Stage, size: tuple[int, int]) -> tuple[Held, ...]:
    """All targets that passes hold at a stage, for a frame of a size (width, height) px, in the order of the passes."""
    return tuple(Held(p.name, t, t.bytes(*size)) for p in schedule() for t in p.held(p.section(stage)))
