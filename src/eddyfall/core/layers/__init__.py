"""Layers that are blended: what each fragment keeps and lays, replayed in any order."""
