"""A new delivery of a build: what in it is what was there before, what becomes of every edit, and how the frames differ."""
