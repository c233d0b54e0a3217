"""The whole path on the demo: write it, sweep it, line up its worst spot, apply the remedies, sweep again, write the sheet."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from eddyfall.core.frame.memo import Memo
from eddyfall.core.frame.render import Renderer, render
from eddyfall.core.handover.documents.findings import SweepDocument
from eddyfall.core.handover.documents.lineups import LineUpDocument
from eddyfall.core.handover.exr import png_bytes
from eddyfall.core.handover.html import html_sheet
from eddyfall.core.handover.package import changes_document, json_bytes, write_new, write_package
from eddyfall.core.handover.sarif import sarif
from eddyfall.core.intake import open_build
from eddyfall.core.lineup import line_up
from eddyfall.core.scene.changes import apply_changes
from eddyfall.core.sweep import best_changes, sweep
from eddyfall.core.sweep.findings import SweepResult
from eddyfall.core.sweep.run import SWEEP_MEMO_BYTES
from eddyfall.demo.write import NAME, write_demo

WORST_SYMPTOM = "see-through"


def worst_spot(result: SweepResult, code: str) -> tuple[str, tuple[int, int, int, int]]:
    """(viewpoint, spot x y w h) in the middle of the largest region of a finding."""
    finding = next(f for f in result.findings if f.code == code)
    view = max(finding.suspicion.pixels, key=lambda v: finding.suspicion.pixels[v])
    x, y, w, h = finding.suspicion.regions[view]
    wide, high = min(w, 110), min(h, 90)
    return view, (x + (w - wide) * 3 // 4, y + (h - high) // 2, wide, high)


def walk(folder: Path, say: Callable[[str], None], progress: Callable[[str, float], None], when: str) -> dict[str, Any]:
    """Do it all, saying each step. Returns files, findings before and what is left after."""
    say("1. Writing the demo build: Weirgate Pump Station")
    paths = write_demo(folder)
    for path in paths.values():
        say(f"   {path}")
    build = open_build(paths["glb"])
    renderer = Renderer(Memo(SWEEP_MEMO_BYTES))
    say("2. Sweeping it from every play viewpoint")
    before = sweep(build, progress=progress, renderer=renderer)
    for f in before.findings:
        share = f"{f.impact.share * 100:.2f} % of {f.impact.viewpoint} ({f.impact.kind})"
        say(f"   {f.severity:9s} {f.code:22s} {share:36s} {f.suspicion.title}")
    view, spot = worst_spot(before, "depth.missing-prepass")
    say(f"3. Line-up on the nets at {view}, spot {','.join(map(str, spot))}: what makes them see-through?")
    lineup = line_up(build, view, spot, WORST_SYMPTOM, renderer=renderer, progress=progress)
    for trial in lineup.trials[:5]:
        say(f"   {trial.verdict:38s} {trial.title} ({trial.before:.4g} -> {trial.after:.4g} {lineup.unit})")
    say(f"   and {max(len(lineup.trials) - 5, 0)} more trials, kept in the sheet")
    say("4. Applying the best remedy of each finding")
    changes = best_changes(build, before)
    for change in changes:
        say(f"   {change.title} [{change.scope}]")
    repaired = apply_changes(build, changes)
    package = write_package(build, repaired, changes, folder / "repaired", NAME, list(paths.values()))
    again = open_build(package["glb"])
    say("5. Sweeping the repaired build, read back from its files")
    after = sweep(again, progress=progress, renderer=renderer)
    say("   clean: no findings" if not after.findings else f"   left: {', '.join(f.code for f in after.findings)}")
    sheet = html_sheet(build, before, name=NAME, renderer=renderer, after=after, repaired=again, lineups=(lineup,), when=when)
    written = {
        "sheet": (folder / f"{NAME}.sheet.html", sheet.encode()),
        "sarif": (folder / f"{NAME}.sarif", json_bytes(sarif(before, paths["glb"].name))),
        "sweep": (folder / f"{NAME}.sweep.json", json_bytes(SweepDocument.from_core(before))),
        "lineup": (folder / f"{NAME}.lineup.json", json_bytes(LineUpDocument.from_core(lineup))),
        "changes": (folder / f"{NAME}.changes.json", json_bytes(changes_document(changes))),
        "frame": (folder / f"{NAME}.{view}.png", png_bytes(render(build, view, samples=4))),
    }
    for path, data in written.values():
        write_new(path, data, list(paths.values()))
    say("6. Hand-over files")
    files = {**{k: str(p) for k, p in paths.items()}, **{f"repaired_{k}": str(p) for k, p in package.items()},
             **{k: str(p) for k, (p, _) in written.items()}}  # fmt: skip
    for path in (*package.values(), *(p for p, _ in written.values())):
        say(f"   {path}")
    return {"files": files, "found": [f.code for f in before.findings], "left": [f.code for f in after.findings]}
