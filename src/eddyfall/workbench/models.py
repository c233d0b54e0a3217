"""What is stored. Files themselves lie on disk by SHA-256 and are found only through these rows."""

from typing import Any

from django.conf import settings
from django.db import models

ROLES = ("viewer", "artist", "lead")


class Project(models.Model):
    """A build pipeline's worth of builds and the people who may see them."""

    name = models.CharField(max_length=120)
    created = models.DateTimeField(auto_now_add=True)


class Membership(models.Model):
    """A viewer reads, an artist keeps, a lead also invites and deletes."""

    project = models.ForeignKey(Project, models.CASCADE, related_name="memberships")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="memberships")
    role = models.CharField(max_length=10, choices=[(r, r) for r in ROLES])

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "user"], name="one_role_in_a_project")]


class Invitation(models.Model):
    """A role offered under a name, whether anyone has that name or not; who has it accepts or declines."""

    project = models.ForeignKey(Project, models.CASCADE, related_name="invitations")
    username = models.CharField(max_length=150, db_index=True)
    role = models.CharField(max_length=10, choices=[(r, r) for r in ROLES])
    invited_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "username"], name="one_invitation_a_name")]


class WrongSignIn(models.Model):
    """A name and password that did not fit, for the throttle: the name hashed, since people type passwords there by mistake."""

    name = models.CharField(max_length=64, db_index=True)
    address = models.CharField(max_length=64, db_index=True)
    at = models.DateTimeField(db_index=True)


class Build(models.Model):
    """An uploaded scene and setup with its ledger. `version` counts changes of the ledger; `patch` is what it comes to (null: not yet
    worked out)."""

    project = models.ForeignKey(Project, models.CASCADE, related_name="builds")
    number = models.PositiveIntegerField()
    name = models.CharField(max_length=200)
    parent = models.ForeignKey("self", models.SET_NULL, null=True, related_name="children")
    setup: Any = models.JSONField()
    has_own_setup = models.BooleanField()
    facts: Any = models.JSONField()
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    created = models.DateTimeField(auto_now_add=True)
    version = models.PositiveIntegerField(default=1)
    patch: Any = models.JSONField(null=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "number"], name="builds_are_numbered")]
        ordering = ["-number"]


class File(models.Model):
    """A file on disk by SHA-256, owned by one build."""

    build = models.ForeignKey(Build, models.CASCADE, related_name="files")
    kind = models.CharField(max_length=20)  # scene, setup, capture, evidence, trial, delivery
    name = models.CharField(max_length=255)
    sha256 = models.CharField(max_length=64, db_index=True)
    size = models.BigIntegerField()
    created = models.DateTimeField(auto_now_add=True)


class Capture(models.Model):
    """The user's own frame of a viewpoint, to wipe against."""

    build = models.ForeignKey(Build, models.CASCADE, related_name="captures")
    viewpoint = models.TextField()
    file = models.ForeignKey(File, models.CASCADE)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["build", "viewpoint"], name="one_capture_a_viewpoint")]


class Job(models.Model):
    """A long piece of work: progress, cancel, attempts. Its results are written in one transaction by the attempt that ends it."""

    WAITING, RUNNING, DONE, FAILED, CANCELLED = "waiting", "running", "done", "failed", "cancelled"
    UNDER_WAY = (WAITING, RUNNING)
    project = models.ForeignKey(Project, models.CASCADE, related_name="jobs")
    kind = models.CharField(max_length=20)
    state = models.CharField(max_length=10, default=WAITING)
    progress = models.FloatField(default=0.0)
    message = models.CharField(max_length=400, default="")
    attempts = models.PositiveIntegerField(default=0)
    cancel_asked = models.BooleanField(default=False)
    heartbeat = models.DateTimeField(null=True)
    held_by = models.CharField(max_length=200, default="")  # machine, process and its start, of the attempt under way
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    ended = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-id"]


class Sweep(models.Model):
    """A sweep of a build's head, with its result once it is done."""

    build = models.ForeignKey(Build, models.CASCADE, related_name="sweeps")
    job = models.OneToOneField(Job, models.CASCADE, related_name="sweep")
    target = models.TextField(null=True)
    head_version = models.PositiveIntegerField()
    result: Any = models.JSONField(null=True)
    underway: Any = models.JSONField(default=list)  # what it has found so far, while it runs
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]


class Finding(models.Model):
    """One cause that a sweep found, as the core reports it."""

    sweep = models.ForeignKey(Sweep, models.CASCADE, related_name="findings")
    position = models.PositiveIntegerField()
    fingerprint = models.CharField(max_length=64)
    document: Any = models.JSONField()
    picture = models.ForeignKey(File, models.SET_NULL, null=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["sweep", "fingerprint"], name="one_finding_a_cause")]
        ordering = ["position"]


class Case(models.Model):
    """A defect being worked: symptom, spot, trials, fix, proof. `version` counts writes, for If-Match."""

    build = models.ForeignKey(Build, models.CASCADE, related_name="cases")
    number = models.PositiveIntegerField()
    title = models.TextField()
    finding = models.ForeignKey(Finding, models.SET_NULL, null=True, related_name="cases")
    viewpoint = models.TextField()
    target = models.TextField(null=True)
    symptom = models.CharField(max_length=60)
    spot: Any = models.JSONField(null=True)
    subject = models.TextField(null=True)
    lineup: Any = models.JSONField(null=True)
    version = models.PositiveIntegerField(default=1)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["build", "number"], name="cases_are_numbered")]
        ordering = ["-id"]


class Trial(models.Model):
    """One single change of the last line-up of a case, by rank."""

    case = models.ForeignKey(Case, models.CASCADE, related_name="trials")
    rank = models.PositiveIntegerField()
    document: Any = models.JSONField()
    picture = models.ForeignKey(File, models.CASCADE)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["case", "rank"], name="trials_are_ranked")]
        ordering = ["rank"]


class Change(models.Model):
    """A kept change of a build's ledger, in order; dropped ones stay as history."""

    build = models.ForeignKey(Build, models.CASCADE, related_name="changes")
    case = models.ForeignKey(Case, models.SET_NULL, null=True, related_name="changes")
    position = models.PositiveIntegerField()
    key = models.CharField(max_length=220)
    document: Any = models.JSONField()
    evidence: Any = models.JSONField(default=dict)
    kept_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    kept = models.DateTimeField(auto_now_add=True)
    dropped = models.DateTimeField(null=True)
    dropped_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")

    class Meta:
        ordering = ["position"]


class Proof(models.Model):
    """A kept change looked at from every viewpoint at full size."""

    case = models.ForeignKey(Case, models.CASCADE, related_name="proofs")
    job = models.OneToOneField(Job, models.CASCADE, related_name="proof")
    head_version = models.PositiveIntegerField()
    result: Any = models.JSONField(null=True)

    class Meta:
        ordering = ["-id"]


class Event(models.Model):
    """Who did what. Signing in belongs to no project, and what was done outlives its project."""

    project = models.ForeignKey(Project, models.SET_NULL, null=True, related_name="events")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    what = models.CharField(max_length=60)
    about = models.CharField(max_length=400)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]


class Package(models.Model):
    """A hand over: its ZIP once it is made."""

    build = models.ForeignKey(Build, models.CASCADE, related_name="packages")
    job = models.OneToOneField(Job, models.CASCADE, related_name="package")
    head_version = models.PositiveIntegerField()
    file = models.ForeignKey(File, models.SET_NULL, null=True)

    class Meta:
        ordering = ["-id"]


class Bake(models.Model):
    """Lightmaps baked of a build's head. wanted, done: [receiver, light set or null]; what is done is kept in the ledger as `change`, even
    if the rest was cancelled."""

    build = models.ForeignKey(Build, models.CASCADE, related_name="bakes")
    job = models.OneToOneField(Job, models.CASCADE, related_name="bake")
    head_version = models.PositiveIntegerField()
    wanted: Any = models.JSONField()
    done: Any = models.JSONField(default=list)
    rays = models.BigIntegerField(default=0)
    change = models.ForeignKey(Change, models.SET_NULL, null=True)

    class Meta:
        ordering = ["-id"]


class Intake(models.Model):
    """An upload on its way in: its files by hash until they are read, then the build they became."""

    project = models.ForeignKey(Project, models.CASCADE, related_name="intakes")
    job = models.OneToOneField(Job, models.CASCADE, related_name="intake")
    scene_name = models.CharField(max_length=255)
    scene_sha256 = models.CharField(max_length=64, db_index=True)
    setup_name = models.CharField(max_length=255, default="")
    setup_sha256 = models.CharField(max_length=64, db_index=True, default="")
    build = models.ForeignKey(Build, models.SET_NULL, null=True)


class Delivery(models.Model):
    """A new delivery of a build, rehearsed: result as the core reports it, plan: what acceptance writes, of head_version and of the
    answers so far. accepted: the build it became."""

    build = models.ForeignKey(Build, models.CASCADE, related_name="deliveries")
    job = models.OneToOneField(Job, models.CASCADE, related_name="delivery")
    scene = models.ForeignKey(File, models.CASCADE, related_name="+")
    setup = models.ForeignKey(File, models.SET_NULL, null=True, related_name="+")
    answers: Any = models.JSONField(default=dict)
    head_version = models.PositiveIntegerField(default=0)
    result: Any = models.JSONField(null=True)
    plan: Any = models.JSONField(null=True)
    accepted = models.ForeignKey(Build, models.SET_NULL, null=True, related_name="+")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]
