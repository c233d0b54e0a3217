"""What can be made of a frame alone: rays through its depth, horizons in it, and noise of few rays smoothed along its surfaces.

Kernels on arrays; the passes of occlusion, bounce and reflection are made of them, and the truth asks the same of its own rays."""
