"""Defects seeded in the pump hall, each with its healthy twin and its row of the truth table; a module for each kind of cause."""

from eddyfall.demo.hall_faults import charts, copies, sides, texels

ALL = (copies.sow, charts.sow, texels.sow, sides.sow)
