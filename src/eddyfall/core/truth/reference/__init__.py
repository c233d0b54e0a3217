"""The reference: the same build, camera and materials with light that goes where it goes, by following its paths, kept apart by part.

Hands out `path_scene`, `grow` and `Tally`; `noise` says how good it is, `account` what the stand-in's frame lacks against it."""
