"""What a defect family gives: suspicions from measurements, remedies as changes, levers for a line-up, scores for symptoms.

Evidence is generic (measure, value, unit, limit, source, picture), so screens and reports need nothing new for a family.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from eddyfall.core.hashing import digest
from eddyfall.core.scene.changes import Change

if TYPE_CHECKING:
    from eddyfall.core.defects.survey import Survey


LEAST_SHOWN = 16 / (960 * 540)  # share of a frame that has to look different before anyone sees it (common practice, no source)


Kind = Literal["Depth", "Shadow", "Lightmap", "Light", "Reflection", "Transparency", "Surface", "Output"]
KINDS: tuple[Kind, ...] = ("Depth", "Shadow", "Lightmap", "Light", "Reflection", "Transparency", "Surface", "Output")


@dataclass(frozen=True, kw_only=True)
class Code:
    """One thing that a family finds, and all that anything else needs to know of it. Nothing keeps a table of codes besides.

    words: what is wrong, in plain words. kind: its column of the tide table. symptom: what one sees of it, in a word or two; a case
    of it is filed under that. sheet: the sheet of the interface where it is worked on. limit: what a finding of it is held against.
    of_texel: its name as the cause of one texel's light, if it can be one. ends_with: what ends it once all changes are kept (for
    example "they are baked again"); a remedy that brings it on is not blamed for it, it is told as a side effect.
    """

    code: str
    words: str
    kind: Kind
    symptom: str
    limit: str
    sheet: str = "bench"
    of_texel: str = ""
    ends_with: str = ""


@dataclass(frozen=True, kw_only=True)
class Evidence:
    """One measured number against its limit. `source`: where the limit comes from. picture: uint8 (h, w, 3) sRGB or None.
    predicted says that a formula gave it, not a measurement; at_least that the limit is a lower one."""

    measure: str
    value: float
    unit: str
    limit: float | None = None
    source: str = ""
    picture: np.ndarray | None = None
    predicted: bool = False
    at_least: bool = False

    @property
    def beyond(self) -> bool:
        """Whether the value is past its limit."""
        if self.limit is None:
            return False
        return self.value < self.limit if self.at_least else self.value > self.limit


@dataclass(frozen=True)
class Cost:
    """What a remedy costs, counted exactly: memory in bytes, triangles, texels, draws."""

    name: str
    value: float
    unit: str


@dataclass(frozen=True, kw_only=True)
class Candidate:
    """A remedy a family proposes; the sweep applies it and finds out what it does."""

    change: Change
    predicts: str
    costs: tuple[Cost, ...] = ()
    side_effects: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()


@dataclass(frozen=True, kw_only=True)
class Suspicion:
    """One cause and all it spoils, as measured on one build and role. cause_kind is 'shader', 'setting', 'mesh', 'drawables' ...

    subjects: drawable names (nodes). pixels: viewpoint -> spoilt pixels of that frame. value: the family's own measure, `limit` its bound.
    """

    code: str
    cause_kind: str
    cause: str
    title: str
    subjects: tuple[str, ...]
    value: float
    limit: float
    evidence: tuple[Evidence, ...]
    pixels: dict[str, int] = field(default_factory=dict)
    regions: dict[str, tuple[int, int, int, int]] = field(default_factory=dict)
    candidates: tuple[Candidate, ...] = ()
    not_drawn_yet: str = ""
    facts: dict[str, Any] = field(default_factory=dict)
    content_lost: bool = False  # a whole frame or thing is not there: blocking, whatever the pixels say
    masked: bool = False  # it is there and does not show: told only of a build that a remedy is tried on
    restores: bool = False  # subjects are not drawn where they are: pixels that show them once they are put right are their own

    @property
    def fingerprint(self) -> str:
        """Hash of code, cause kind and cause: no numbers in it, so it survives a re-measurement."""
        return digest(self.code, self.cause_kind, self.cause)[:16]


@dataclass(frozen=True)
class Lever:
    """A single change worth trying in a line-up. pass_name: the pass it reaches. predicts, because: one line each."""

    pass_name: str
    change: Change
    predicts: str
    because: str


@dataclass(frozen=True)
class Family:
    """A defect family. It looks at one viewpoint at a time, so that a frame serves all families and can then be let go.

    observe(survey, viewpoint) -> a small observation or None; conclude(survey, observations by viewpoint) -> suspicions;
    levers(survey, subject drawable, viewpoint) -> single changes worth a trial. beyond_the_frame: what it finds may show elsewhere than at
    the viewpoint (along its moves), so that a trial that clears one of its symptoms is inspected for what it newly breaks. colours:
    leaves of a material that change no shape of anything, only its own colours, so that what is found of another does not hang on them.
    """

    name: str
    codes: tuple[Code, ...]
    observe: Callable[[Survey, str], Any]
    conclude: Callable[[Survey, dict[str, Any]], list[Suspicion]]
    levers: Callable[[Survey, int, str], list[Lever]] = lambda survey, subject, viewpoint: []
    symptoms: tuple[str, ...] = ()
    beyond_the_frame: bool = False
    colours: frozenset[str] = frozenset()

    def inspect(self, survey: Survey) -> list[Suspicion]:
        """Suspicions over all viewpoints of the survey."""
        with survey.renderer.clock.timing(f"family {self.name}"):
            return self.conclude(survey, {v: self.observe(survey, v) for v in survey.viewpoints})
