"""Shadow faults seeded in the tow-path yard, each with its healthy twin and its row of the truth table; a module for each kind of cause."""

from eddyfall.demo.yard_faults import faces, far_hoist, flagstaff, frame_cull, grille, size_limits, slip, unsnapped

ALL = (far_hoist.sow, size_limits.sow, faces.sow, frame_cull.sow, slip.sow, unsnapped.sow, grille.sow, flagstaff.sow)
