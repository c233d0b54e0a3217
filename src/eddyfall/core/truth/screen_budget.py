"""What passes that work from the frame alone hold in memory beside what the target may spend on it. Counted, not estimated."""

from dataclasses import dataclass

from eddyfall.core.frame.held import Held, held_at
from eddyfall.core.passes.contract import Stage
from eddyfall.core.scene.setup.sections.budget import Budget

MIB = 2**20


@dataclass(frozen=True)
class ScreenBudget:
    """The targets of a frame of size (width, height) px, all their bytes, and the limit in MiB, 0: none is set."""

    size: tuple[int, int]
    held: tuple[Held, ...]
    limit_mib: float

    @property
    def mib(self) -> float:
        """What all of them take."""
        return sum(h.bytes for h in self.held) / MIB

    @property
    def over(self) -> bool:
        """Whether that is more than the target allows."""
        return 0 < self.limit_mib < self.mib


def screen_budget(stage: Stage) -> ScreenBudget:
    """The targets that are held at a stage, at the size of frame that its budget is for."""
    budget = stage.resolved[Budget]
    size = (budget.width_px, budget.height_px)
    return ScreenBudget(size, held_at(stage, size), budget.screen_mib)
