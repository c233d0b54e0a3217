"""What goes over the wire. Documents of the core (findings, trials, core samples) pass through as they are: see docs/formats.md."""

from datetime import datetime
from typing import Annotated, Any, Literal

from ninja import Schema
from pydantic import Field, StringConstraints

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


class BuildOut(BuildLine):
    has_own_setup: bool
    facts: dict[str, Any]
    files: list[FileOut]
    viewpoints: list[dict[str, Any]]
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
    id: int
    target: str | None
    head_version: int
    created: datetime
    findings: int
    job: JobOut


class FindingOut(Schema):
    id: int
    fingerprint: str
    standing: str
    case: int | None
    has_picture: bool
    document: dict[str, Any]


class SweepOut(SweepLine):
    tide: list[dict[str, Any]]
    codes: list[dict[str, str]]
    items: list[FindingOut]
    gone: list[dict[str, Any]]
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
    document: dict[str, Any]


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
    result: dict[str, Any] | None


class CaseLine(Schema):
    number: int
    title: str
    viewpoint: str
    symptom: str
    code: str | None
    stage: str
    version: int


class CaseOut(CaseLine):
    target: str | None
    spot: list[int] | None
    subject: str | None
    finding: FindingOut | None
    lineup: dict[str, Any] | None
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


class SetupField(Schema):
    path: str
    section: str
    field: str
    meaning: str
    unit: str
    affects: list[str]
    limits: str
    default: Any
    value: Any
    winner: str
    levels: dict[str, Any]
    edit: Any
    play: Any
    differs: bool


class SetupOut(Schema):
    viewpoint: str
    target: str | None
    role: str
    sections: list[str]
    fields: list[SetupField]
    shaders: list[dict[str, Any]]
    materials: list[dict[str, Any]]


class SetupTrial(Schema):
    path: str = Field(max_length=MAX_NAME)
    value: Any
    viewpoint: str = Field(max_length=MAX_NAME)
    target: str | None = Field(None, max_length=MAX_NAME)


class SetupEffect(Schema):
    title: str
    changed_share: float
    unchanged: bool
    overridden_by: str | None
    change: dict[str, Any]


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


class MapState(Schema):
    light_set: str | None
    state: Literal["missing", "stale", "fresh"]
    stale_texels: int
    why: list[str]


class Trouble(Schema):
    """One thing that is wrong with an asset's lightmap; the larger the weight, the worse."""

    words: str
    weight: float


class LightmapAsset(Schema):
    """A receiver: docs/formats.md, charts --json, with counts for charts and splits."""

    asset: str
    node: str
    mesh: str
    drawables: list[str]
    resolution: int
    uv_use: str
    triangles: int
    charts: int
    splits: int
    overlap: dict[str, Any]
    out_of_range_share: float
    degenerate: int
    page_texels_per_m: float
    density_spread: float
    stretch_l2: float | None
    skew_deg: float | None
    gutter_texels: float | None
    safe_mip: int | None
    memory_bytes: dict[str, int]
    copies: bool
    seen: dict[str, int]
    maps: list[MapState]
    troubles: list[Trouble]


class TargetBytes(Schema):
    target: str | None
    bytes: int


class ViewLight(Schema):
    viewpoint: str
    light_set: str | None


class LightmapsOut(Schema):
    light_sets: list[str | None]
    assets: list[LightmapAsset]
    memory: list[TargetBytes]
    viewpoints: list[ViewLight]
    bake: dict[str, Any]


class CopiesOut(Schema):
    """Copy rules of an asset's mesh by name, and every way tried to part its copies: docs/formats.md, charts --json, remedies."""

    rules: dict[str, dict[str, Any]]
    remedies: list[dict[str, Any]]
