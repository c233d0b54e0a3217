"""A build of an older release as this one draws it: what its set-up does not say, and what switching that on does to each surface."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import Change, apply_change, set_leaves, set_resolved
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup import Setup
from eddyfall.core.scene.setup.registry import sections
from eddyfall.core.scene.setup.sections.screen import FROM_FRAME
from eddyfall.core.shade.srgb import REC709_LUMA
from eddyfall.core.truth.older.fills import Fill, fills
from eddyfall.core.truth.older.reach import Reach, reaches

SIZE = (240, 135)
SURFACES = 6


@dataclass(frozen=True)
class Absent:
    """A section that the document does not have, or leaves that it leaves out of one it has; on: whether it does anything as it arrives."""

    section: str
    whole: bool
    leaves: tuple[tuple[str, Any], ...]
    on: bool


@dataclass(frozen=True)
class Step:
    """What a section does once it is switched on: change; by viewpoint stops of the whole frame, and of the surfaces it changes most."""

    section: str
    change: Change
    seen: tuple[tuple[str, float, tuple[tuple[str, float], ...]], ...]


@dataclass(frozen=True)
class Migration:
    """All of it: what is absent, what switching on brings, which lights then double, how far lamps have to reach."""

    absent: tuple[Absent, ...]
    steps: tuple[Step, ...]
    fills: tuple[Fill, ...]
    reaches: tuple[Reach, ...]


def absent_of(raw: dict[str, Any], setup: Setup) -> list[Absent]:
    """What a document does not say, section by section."""
    found = []
    for name, kind in sections().items():
        said = raw.get(name)
        default = kind()
        leaves = tuple(
            (leaf, getattr(default, leaf)) for leaf in kind.model_fields if not isinstance(said, dict) or leaf not in said
        )
        if leaves:
            enabled = getattr(setup[kind], "enabled", True)
            found.append(Absent(name, not isinstance(said, dict), leaves, bool(enabled)))
    return found


def migration(
    renderer: Renderer, build: Build, viewpoints: list[str], target: str | None = None,
    progress: Callable[[str, float], None] = lambda what, share: None,
) -> Migration:  # fmt: skip
    """What a build of an older release gets by what there is now, at some viewpoints."""
    absent = absent_of(build.raw_setup, build.setup)
    off = [a.section for a in absent if a.section in FROM_FRAME and not a.on]
    steps = []
    for number, section in enumerate(off):
        progress(f"switching {section} on", 0.5 * number / len(off))
        steps.append(_step(renderer, build, section, viewpoints, target))
    found: list[Fill] = []
    for number, view in enumerate(viewpoints):
        progress(f"lights one by one at {view}", 0.5 + 0.3 * number / len(viewpoints))
        found += fills(renderer, build, view, target)
    progress("how far lamps reach", 0.8)
    return Migration(tuple(absent), tuple(steps), tuple(found), tuple(reaches(renderer, build, viewpoints, target)))


def changes_of(build: Build, told: Migration) -> tuple[Change, ...]:
    """Changes that follow, in order: bounce on if it arrives off, fills that it doubles out, lamps reaching as far as they need."""
    bounce = [s.change for s in told.steps if s.section == "bounce"]
    doubled = {f.light: f.off for f in told.fills if f.doubles}
    shorter: dict[tuple[str, ...], Any] = {
        ("lights", r.light, "range_m"): round(r.least_m + 0.005, 2)
        for r in told.reaches
        if r.light not in doubled and 0 < r.least_m < (r.range_m or np.inf)
    }
    made = [*bounce, *doubled.values()]
    if shorter:
        made.append(set_leaves(build, shorter, scope="project", title="lamps reach as far as they need"))
    return tuple(made)


def _step(renderer: Renderer, build: Build, section: str, viewpoints: list[str], target: str | None) -> Step:
    seen = []
    change: Change | None = None
    for view in viewpoints:
        request = Request(view, SIZE, None, target)
        change = set_resolved(
            build, resolve(build.setup, target, None, view), {f"{section}.enabled": True}, title=f"{section} on"
        )
        before, after = (renderer.frame(b, request, "linear") for b in (build, apply_change(build, change)))
        old, new = (f.linear.astype(np.float64) @ REC709_LUMA for f in (before, after))
        names = [d.name for d in before.geometry.drawables]
        count = np.bincount(before.drawable[before.drawable >= 0], minlength=len(names))
        of_each = []
        for d in np.flatnonzero(count >= 16):
            mask = before.drawable == d
            of_each.append((names[d], _stops(old[mask].mean(), new[mask].mean())))
        of_each.sort(key=lambda s: -abs(s[1]))
        seen.append((view, _stops(old.mean(), new.mean()), tuple(of_each[:SURFACES])))
    assert change is not None
    return Step(section, change, tuple(seen))


def _stops(old: float, new: float) -> float:
    least = 1e-9 * max(old, new, 1e-30)
    return float(np.log2(max(new, least) / max(old, least)))
