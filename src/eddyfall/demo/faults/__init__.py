"""Seeded defects, one module a family: each adds a defect, its healthy twin, and the row of the truth table that says so."""
