"""Ray queries against the scene's triangles with embree, cutouts included. Hands out `RayScene`."""
