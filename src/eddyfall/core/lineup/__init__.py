"""The line-up: single changes for one spot and symptom, each rendered from the same base, scored, ranked. Hands out `line_up`."""

from eddyfall.core.lineup.run import LineUp, Trial, line_up

__all__ = ["LineUp", "Trial", "line_up"]
