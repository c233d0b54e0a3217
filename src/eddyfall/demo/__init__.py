"""Writes the Weirgate Pump Station demo: GLB, setup and truth table, from a seed. faults/ holds the defects, each with a healthy twin."""
