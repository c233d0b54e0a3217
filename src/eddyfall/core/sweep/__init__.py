"""The sweep: runs every family over every viewpoint, proves remedies, measures impact. Hands out `sweep`, `best_changes`, `SweepResult`."""

from eddyfall.core.sweep.best import best_changes
from eddyfall.core.sweep.findings import Finding, Impact, Remedy, SweepResult
from eddyfall.core.sweep.run import sweep

__all__ = ["Finding", "Impact", "Remedy", "SweepResult", "best_changes", "sweep"]
