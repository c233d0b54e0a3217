"""Lightmaps as a build has them: baked, finished, stored, and found stale by what they were baked from."""
