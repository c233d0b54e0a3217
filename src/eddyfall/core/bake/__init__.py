"""Lightmaps: which texels a chart owns, the light gathered for each, how maps are finished, stored, found stale, and explained.

Hands out `bake` (run), `stale` (stamps) and `explain` (provenance).
"""
