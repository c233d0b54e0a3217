"""Charts: overlap (exact, by area and by texel), packing anew. Hands out `measure_overlap`, `repack_mesh`."""
