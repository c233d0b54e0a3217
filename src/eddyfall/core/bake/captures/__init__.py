"""Reflection probes: captured by the reference's paths, stored and stamped as lightmaps are, and whether they still fit."""
