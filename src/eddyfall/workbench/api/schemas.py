"""What goes over the wire. Documents of the core (findings, trials, core samples) pass through as they are."""

from datetime import datetime
from typing import Annotated, Any, Literal

from ninja import Schema
from pydantic import Field, StringConstraints

from eddyfall.core.handover.documents.facts import BuildFacts
from eddyfall.core.handover.documents.findings import FindingDocument, ImpactDocument, UnderwayDocument
from eddyfall.core.handover.documents.lineups import LineUpSummary, TrialDocument
from eddyfall.core.handover.documents.proofs import ProofDocument
from eddyfall.core.handover.tide import TideColumn, TideRow
from eddyfall.core.sweep.findings import Severity

MAX_NAME = 400  # characters of any name: of viewpoints, targets, drawables
Line = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=120)]
Role = Literal["viewer", "artist", "lead"]
Px = Annotated[int, Field(ge=0, le=8192)]


class Problem(Schema):
    detail: str


class HealthOut(Schema):
    """Parts by name: docs/formats.md."""

    ok: bool
    parts: dict[str, dict[str, Any]]


class SignIn(Schema):
    username: str = Field(max_length=150)
    password: str = Field(max_length=500)


class Me(Schema):
    username: str | None
    demo: bool
    version: str


class ProjectIn(Schema):
    name: Line


class StandingOut(Schema):
    """Findings of the newest build's last sweep: those that block, those that are visible, and those that were not there before."""

    blocking: int
    visible: int
    new: int


class ProjectOut(Schema):
    """viewpoint: the first of the newest build. found: None before its first sweep. people: the first few. jobs: those under way."""

    id: int
    name: str
    role: Role
    builds: int
    newest: int | None
    created: datetime
    viewpoint: str | None
    found: StandingOut | None
    people: list[str]
    jobs: list["JobOut"]


class MemberIn(Schema):
    username: str = Field(min_length=1, max_length=150)
    role: Role


class MemberOut(Schema):
    """invited: has not accepted yet."""

    username: str
    role: Role
    invited: bool


class NewPassword(Schema):
    old: str = Field(max_length=500)
    new: str = Field(max_length=500)


class InvitationOut(Schema):
    id: int
    project: str
    role: Role
    invited_by: str | None
    created: datetime


class EventOut(Schema):
    at: datetime
    who: str | None
    what: str
    about: str


class FileOut(Schema):
    kind: str
    name: str
    size: int
    sha256: str


class BuildLine(Schema):
    number: int
    name: str
    created: datetime
    created_by: str | None
    kept: int
    version: int


class ViewpointOut(Schema):
    """camera: name of the node in the file, or None; capture: whether a picture of the target's own was brought along."""

    key: str
    role: str
    fov_y_deg: float | None
    camera: str | None
    capture: bool


class BuildOut(BuildLine):
    has_own_setup: bool
    settings_of: int | None  # the build whose settings went on, where a delivery was accepted without its own
    facts: BuildFacts
    files: list[FileOut]
    viewpoints: list["ViewpointOut"]
    targets: list[str]


class JobOut(Schema):
    id: int
    kind: str
    state: Literal["waiting", "running", "done", "failed", "cancelled"]
    progress: float
    message: str
    attempts: int
    about: str
    build: int | None
    created: datetime
    ended: datetime | None


class SweepIn(Schema):
    target: str | None = Field(None, max_length=MAX_NAME)


class SweepLine(Schema):
    """underway: what it has found so far, while it runs."""

    id: int
    target: str | None
    head_version: int
    created: datetime
    findings: int
    underway: list[UnderwayDocument]
    job: JobOut


class FindingOut(Schema):
    id: int
    fingerprint: str
    standing: str
    case: int | None
    has_picture: bool
    document: FindingDocument


class GoneOut(Schema):
    """A finding of the sweep before that is not there any more."""

    code: str
    title: str


class SweepOut(SweepLine):
    tide: list[TideRow]
    codes: list[TideColumn]
    items: list[FindingOut]
    gone: list[GoneOut]
    left_out: list[str]


class CaseIn(Schema):
    finding: int | None = None
    title: Line | None = None
    viewpoint: str | None = Field(None, max_length=MAX_NAME)
    symptom: str | None = Field(None, max_length=60)
    spot: tuple[Px, Px, Px, Px] | None = None
    target: str | None = Field(None, max_length=MAX_NAME)


class CaseEdit(Schema):
    title: Line | None = None
    viewpoint: str | None = Field(None, max_length=MAX_NAME)
    symptom: str | None = Field(None, max_length=60)
    spot: tuple[Px, Px, Px, Px] | None = None
    subject: str | None = Field(None, max_length=MAX_NAME)


class TrialOut(Schema):
    rank: int
    document: TrialDocument


class ChangeOut(Schema):
    id: int
    key: str
    title: str
    scope: str
    reason: str
    author: str
    case: int | None
    kept: datetime
    kept_by: str | None
    dropped: datetime | None
    dropped_by: str | None
    document: dict[str, Any]
    evidence: dict[str, Any]


class ProofOut(Schema):
    id: int
    fresh: bool
    job: JobOut
    result: ProofDocument | None


class CaseLine(Schema):
    """impact: of its finding; standing: what its trials, kept changes or proof have come to, in words; stamp: of its picture."""

    number: int
    title: str
    viewpoint: str
    symptom: str
    code: str | None
    stage: str
    version: int
    severity: Severity | None
    impact: ImpactDocument | None
    standing: str
    opened_by: str | None
    opened: datetime
    stamp: str


class CaseOut(CaseLine):
    target: str | None
    spot: list[int] | None
    subject: str | None
    finding: FindingOut | None
    lineup: LineUpSummary | None
    trials: list[TrialOut]
    kept: list[ChangeOut]
    proof: ProofOut | None
    build_version: int


class Keep(Schema):
    trial: int | None = Field(None, ge=0)
    remedy: int | None = Field(None, ge=0)
    reason: str = Field("", max_length=1000)


class LedgerOrder(Schema):
    """Ids of all kept changes, in the order they are to apply in."""

    order: list[int] = Field(max_length=10_000)


class LedgerOut(Schema):
    version: int
    changes: list[ChangeOut]
    patch: list[dict[str, Any]]


class PackageOut(Schema):
    id: int
    fresh: bool
    size: int | None
    job: JobOut


class SetupEdit(Schema):
    """path: section and field, or table, asset and field (shaders: also 'passes' and the pass)."""

    path: list[Annotated[str, StringConstraints(max_length=MAX_NAME)]] = Field(min_length=2, max_length=4)
    value: Any


class SetupTrial(Schema):
    """Edits that are tried together."""

    edits: list[SetupEdit] = Field(min_length=1, max_length=50)
    viewpoint: str = Field(max_length=MAX_NAME)
    target: str | None = Field(None, max_length=MAX_NAME)


class KeepChange(Schema):
    """A change as a change file holds it, with what was measured of it."""

    change: dict[str, Any]
    evidence: dict[str, Any] = Field(default_factory=dict)
    reason: str = Field("", max_length=1000)


class BakeIn(Schema):
    """What to bake of what is missing or stale; null: all."""

    assets: list[str] | None = Field(None, max_length=5000)
    light_sets: list[str | None] | None = Field(None, max_length=200)


class BakeOut(Schema):
    id: int
    wanted: list[tuple[str, str | None]]
    done: list[tuple[str, str | None]]
    rays: int
    change: int | None
    job: JobOut
