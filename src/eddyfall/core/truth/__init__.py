"""What the frame ought to look like. For now: which pixels the sun really reaches, by rays. Hands out `sun_visibility`."""
