"""What a sweep gives: findings with evidence, proven remedies, measured impact, computed severity."""

from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from eddyfall.core.defects.contract import LEAST_SHOWN, Cost, Evidence, Suspicion
from eddyfall.core.scene.changes import Change

Verdict = Literal["cures", "masks", "no effect", "not proved", "does not apply"]
Severity = Literal["blocking", "visible", "latent"]
SEVERITY_ORDER: tuple[Severity, ...] = ("blocking", "visible", "latent")


@dataclass(frozen=True)
class Impact:
    """How much of the picture the cause spoils: share of pixels (0..1), worst and mean over play viewpoints.

    measured: frames with and without the best remedy differ; exposed: share that shows the subjects, `why` it cannot be measured.
    """

    kind: Literal["measured", "exposed", "none"]
    share: float
    mean: float
    viewpoint: str | None
    why: str = ""
    by_view: dict[str, float] = field(default_factory=dict)  # measured shares, by viewpoint


@dataclass(frozen=True)
class Remedy:
    """A change that was applied and looked at. verdict is computed: cures (the finding's own measure is inside its limit), masks (the
    measure is not, but the look has come nearer to the cured one), no effect, not proved (the budget was spent), does not apply.

    collateral: share of pixels elsewhere that change. together: how many like remedies were proved at once."""

    change: Change
    verdict: Verdict
    predicts: str
    costs: tuple[Cost, ...]
    side_effects: tuple[str, ...]
    warnings: tuple[str, ...]
    collateral: float
    new_findings: tuple[str, ...] = ()
    together: int = 1


@dataclass(frozen=True)
class RoleView:
    """Whether a role sees the finding; if not, the leaf that makes the difference and its two values."""

    role: str
    seen: bool
    leaf: str | None = None
    play_value: Any = None
    role_value: Any = None


@dataclass(frozen=True)
class Finding:
    """One cause, proven: what was measured, what it spoils, what cures it."""

    suspicion: Suspicion
    severity: Severity
    impact: Impact
    remedies: tuple[Remedy, ...]
    roles: tuple[RoleView, ...] = ()
    outlined: np.ndarray | None = None

    @property
    def picture(self) -> np.ndarray | None:
        """(h, w, 3) uint8: the first picture of the evidence, else the frame with the subjects outlined; None if nothing shows it."""
        return next((e.picture for e in self.evidence if e.picture is not None), self.outlined)

    @property
    def code(self) -> str:
        return self.suspicion.code

    @property
    def fingerprint(self) -> str:
        return self.suspicion.fingerprint

    @property
    def evidence(self) -> tuple[Evidence, ...]:
        return self.suspicion.evidence

    @property
    def best(self) -> Remedy | None:
        """The remedy to take: the first that cures."""
        return next((r for r in self.remedies if r.verdict == "cures"), None)


@dataclass(frozen=True)
class Underway:
    """What a sweep tells while it runs: a suspicion as it was measured; `finding` once its remedies are proved (roles come at the end)."""

    suspicion: Suspicion
    finding: Finding | None = None


@dataclass(frozen=True)
class SweepResult:
    """Findings by impact (measured before exposed), what was left out, and what was looked at."""

    findings: tuple[Finding, ...]
    left_out: tuple[str, ...]
    viewpoints: tuple[str, ...]
    size: tuple[int, int]
    target: str | None = None
    facts: dict[str, Any] = field(default_factory=dict)

    def at_or_above(self, level: Severity) -> list[Finding]:
        """Findings of a severity or a worse one."""
        return [f for f in self.findings if SEVERITY_ORDER.index(f.severity) <= SEVERITY_ORDER.index(level)]


def severity_of(suspicion: Suspicion, impact: Impact, frame_pixels: int) -> Severity:
    """blocking: measured on more than 1 % of a play frame, or content is lost; visible: measured on 16 px of 960 x 540, or 16 px exposed
    with evidence beyond its limit; latent: the rest."""
    if suspicion.content_lost or (impact.kind == "measured" and impact.share > 0.01):
        return "blocking"
    if impact.kind == "measured" and impact.share >= LEAST_SHOWN:
        return "visible"
    beyond = any(e.beyond for e in suspicion.evidence)
    shown = max(suspicion.pixels.values(), default=0) / max(frame_pixels, 1)
    return "visible" if impact.kind == "exposed" and beyond and shown >= LEAST_SHOWN else "latent"
