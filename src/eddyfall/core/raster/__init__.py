"""Triangles to pixels: projection with clipping, visibility and depth, coverage. Kernels, each with a plain twin.

Hands out `project`, `rasterise`, `fragments_at` and the depth formats.
"""
